package main

import (
	"cmp"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/peterbourgon/ff/v3"

	"oakenlatch/service"
	"oakenlatch/service/access"
	"oakenlatch/service/witness"
)

// settings are how the service runs. Each has one name: as a flag, in the file that
// --config names (a line each, NAME VALUE), and in the environment in capitals
// (OAKEN_LATCHD_ADMIN_PASSWORD_FILE). A flag goes before the environment, and that
// before the file.
type settings struct {
	fs *flag.FlagSet

	data, listen, config           string
	plain                          bool
	tlsCert, tlsKey, tlsNames      string
	keyFile, adminPasswordFile     string
	programs, syslog, proxies      string
	proxyNets                      []net.IPNet
	watch                          bool
	look, idle, life               time.Duration
	connections, spareRoom         int
	logFormat, logLevel, publicURL string
	oidc                           access.OIDC
	oidcSecretFile, oidcScopes     string
	secondFactor                   string
	second                         access.Needs
	oidcGrants                     repeated
	witnessList                    repeated
	archiveFolders                 repeated
	witnesses                      []witness.Outside
}

// repeated is a flag that may be given several times.
type repeated []string

func (r *repeated) String() string { return strings.Join(*r, "; ") }

func (r *repeated) Set(text string) error {
	*r = append(*r, text)
	return nil
}

const envPrefix = "OAKEN_LATCHD"

func newSettings(verb string) *settings {
	s := &settings{fs: flag.NewFlagSet("oaken-latchd "+verb, flag.ContinueOnError)}
	fs := s.fs
	fs.StringVar(&s.config, "config", "", "file with settings, a line each: NAME VALUE, as the flags are named")
	fs.StringVar(&s.data, "data", "", "folder of the records; init makes it")
	fs.StringVar(&s.listen, "listen", "127.0.0.1:8640", "address to listen on")
	fs.BoolVar(&s.plain, "plain", false, "answer in the clear, without TLS; on an address of this machine alone")
	fs.StringVar(
		&s.tlsCert, "tls-cert", "",
		"certificate to serve (PEM, with what leads to its root); one is made in the data folder if left out",
	)
	fs.StringVar(&s.tlsKey, "tls-key", "", "its key (PEM)")
	fs.StringVar(
		&s.tlsNames, "tls-names", "",
		"names and addresses that the certificate made here is for, with commas; this machine's if left out",
	)
	fs.StringVar(
		&s.keyFile, "key-file", "", "file of the key that seals secrets; seal.key in the data folder if left out",
	)
	fs.StringVar(
		&s.adminPasswordFile, "admin-password-file", "",
		"file with the password of the account admin, for init; one is made up if left out",
	)
	fs.StringVar(
		&s.programs, "probe-programs", "", "folder of the programs that may be run as probes; none may without it",
	)
	fs.BoolVar(
		&s.watch, "watch", true,
		"keep an idle session to each device, to notice one that goes and to read it without a new connection",
	)
	fs.DurationVar(
		&s.look, "look-every", 5*time.Minute,
		"how often devices are read for outside changes, on those that send no events",
	)
	fs.StringVar(
		&s.syslog, "syslog", "",
		"receiver of a line for each copy and each archive's failure (RFC 5424): udp://HOST:PORT, tcp://HOST:PORT or "+
			"unix:///dev/log",
	)
	fs.DurationVar(&s.idle, "session-idle", 2*time.Hour, "a session that is not used so long ends")
	fs.DurationVar(&s.life, "session-life", 12*time.Hour, "a session ends after so long")
	fs.IntVar(
		&s.connections, "connections", service.MostConnections,
		"connections that are open at once at most; an eighth of them of one address",
	)
	fs.IntVar(
		&s.spareRoom, "spare-room", 32,
		"MB that are kept free on the disk of the records, and given up when it is full, so that what is under way "+
			"can still be decided; 0 keeps none",
	)
	fs.StringVar(
		&s.secondFactor, "second-factor", "none",
		"who has to have a second factor (an app's code or a passkey) to sign in: none, all, or who holds one of "+
			"some roles, with commas: administer,commit",
	)
	fs.StringVar(
		&s.proxies, "proxy", "",
		"address or network of a proxy that stands before this service, with commas: it is believed where a request "+
			"comes from (X-Forwarded-For) and that it came over TLS (X-Forwarded-Proto)",
	)
	fs.StringVar(&s.logFormat, "log-format", "text", "text or json, on standard error")
	fs.StringVar(&s.logLevel, "log-level", "info", "debug, info, warn or error")
	fs.StringVar(
		&s.publicURL, "public-url", "",
		"where people reach the console, for signing in elsewhere (OpenID Connect): https://latch.example.net",
	)
	fs.StringVar(&s.oidc.Issuer, "oidc-issuer", "", "OpenID Connect: who vouches for people, https://id.example.net")
	fs.StringVar(&s.oidc.Client, "oidc-client", "", "OpenID Connect: this service's client id there")
	fs.StringVar(
		&s.oidcSecretFile, "oidc-secret-file", "",
		"OpenID Connect: file with its client secret; none with a public client",
	)
	fs.StringVar(
		&s.oidc.NameClaim, "oidc-name-claim", "preferred_username", "OpenID Connect: the claim with the account's name",
	)
	fs.StringVar(&s.oidc.GroupsClaim, "oidc-groups-claim", "groups", "OpenID Connect: the claim with a person's groups")
	fs.StringVar(
		&s.oidcScopes, "oidc-scopes", "profile", "OpenID Connect: what is asked for beside openid, with spaces",
	)
	fs.Var(
		&s.oidcGrants, "oidc-grant",
		"OpenID Connect: what a group may do: GROUP ROLES or GROUP ROLES@site=NAME; may be given several times",
	)
	fs.Var(
		&s.witnessList, "witness",
		"who vouches for the record from outside: KEY URL, as latch witness prints them; may be given several times",
	)
	fs.Var(
		&s.archiveFolders, "archive-folder",
		"folder of this machine that archives may be in, below it too; none may without it; may be given several times",
	)
	return s
}

// keyOf is the file of the key that seals secrets.
func (s *settings) keyOf() string { return cmp.Or(s.keyFile, filepath.Join(s.data, access.KeyFile)) }

// parse reads flags, environment and file, and checks what they say.
func (s *settings) parse(args []string, errOut io.Writer) error {
	s.fs.SetOutput(errOut)
	err := ff.Parse(
		s.fs, args, ff.WithEnvVarPrefix(envPrefix), ff.WithConfigFileFlag("config"),
		ff.WithConfigFileParser(ff.PlainParser),
	)
	if errors.Is(err, flag.ErrHelp) {
		return err
	}
	if err != nil {
		return &usageError{err.Error()}
	}
	if s.fs.NArg() > 0 {
		return &usageError{fmt.Sprintf("%s takes no argument %q", s.fs.Name(), s.fs.Arg(0))}
	}
	return nil
}

// check says what of the settings makes no sense together.
func (s *settings) check() error {
	var wrong []string
	no := func(bad bool, format string, args ...any) {
		if bad {
			wrong = append(wrong, fmt.Sprintf(format, args...))
		}
	}
	no(s.data == "", "%s needs --data DIR", strings.TrimPrefix(s.fs.Name(), "oaken-latchd "))
	here, err := service.OnlyHere(s.listen)
	no(err != nil, "--listen: %v", err)
	no(
		err == nil && s.plain && !here,
		"--plain goes with an address of this machine alone, such as 127.0.0.1:8640: on %s passwords would go over "+
			"the network in the clear",
		s.listen,
	)
	no(s.plain && s.tlsCert != "", "--plain and --tls-cert do not go together")
	no((s.tlsCert == "") != (s.tlsKey == ""), "--tls-cert and --tls-key go together")
	for _, text := range strings.FieldsFunc(s.proxies, func(r rune) bool { return r == ',' || r == ' ' }) {
		p, err := netip.ParsePrefix(text)
		if a, aerr := netip.ParseAddr(text); aerr == nil {
			p, err = netip.PrefixFrom(a, a.BitLen()), nil
		}
		no(err != nil, "--proxy %q is no address and no network", text)
		if err == nil {
			s.proxyNets = append(
				s.proxyNets, net.IPNet{IP: p.Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())},
			)
		}
	}
	s.second, err = access.ParseNeeds(s.secondFactor)
	no(err != nil, "--second-factor: %v", err)
	no(
		s.look < 10*time.Second,
		"--look-every is at least 10s: a device that is asked more often may never get to its own work",
	)
	no(s.idle < time.Minute || s.life < s.idle, "--session-idle is at least 1m, and at most --session-life")
	no(s.connections < 16 || s.connections > 100_000, "--connections is a number from 16 to 100000")
	no(s.spareRoom < 0 || s.spareRoom > 10_000, "--spare-room is a number of MB from 0 to 10000")
	no(s.logFormat != "text" && s.logFormat != "json", "--log-format is text or json, not %q", s.logFormat)
	_, err = s.level()
	no(err != nil, "--log-level is debug, info, warn or error, not %q", s.logLevel)
	for _, dir := range s.archiveFolders {
		no(!filepath.IsAbs(dir), "--archive-folder %s: give it from the root on", dir)
	}
	for _, text := range s.witnessList {
		w, err := witness.Parse(text)
		no(err != nil, "--witness %v", err)
		no(
			slices.ContainsFunc(s.witnesses, func(o witness.Outside) bool { return o.Name() == w.Name() }),
			"--witness: two are called %s", w.Name(),
		)
		s.witnesses = append(s.witnesses, w)
	}
	if s.programs != "" {
		st, err := os.Stat(s.programs)
		no(err != nil || !st.IsDir(), "--probe-programs %s: there is no such folder", s.programs)
	}
	if s.oidc.Issuer != "" {
		no(s.oidc.Client == "", "--oidc-issuer needs --oidc-client")
		no(len(s.oidcGrants) == 0, "--oidc-issuer needs --oidc-grant: nobody could do anything")
		u, err := url.Parse(s.publicURL)
		no(
			err != nil || u.Host == "" || u.Path != "" || u.Scheme != "https" && u.Scheme != "http",
			"--oidc-issuer needs --public-url, like https://latch.example.net",
		)
		s.oidc.Grants = map[string]access.Grants{}
		for _, line := range s.oidcGrants {
			group, may, ok := strings.Cut(strings.TrimSpace(line), " ")
			grants, err := access.ParseGrants(strings.Fields(may))
			no(!ok || err != nil, "--oidc-grant %q: write GROUP ROLES or GROUP ROLES@site=NAME (%v)", line, err)
			s.oidc.Grants[group] = append(s.oidc.Grants[group], grants...)
		}
		s.oidc.Scopes = strings.Fields(s.oidcScopes)
		s.oidc.Redirect = strings.TrimRight(s.publicURL, "/") + "/api/v1/login/elsewhere/back"
		if s.oidcSecretFile != "" {
			text, err := os.ReadFile(s.oidcSecretFile)
			no(err != nil, "--oidc-secret-file: %v", err)
			s.oidc.Secret = strings.TrimSpace(string(text))
		}
	} else {
		no(s.oidc.Client != "" || len(s.oidcGrants) > 0, "--oidc-client and --oidc-grant go with --oidc-issuer")
	}
	if len(wrong) > 0 {
		return &usageError{strings.Join(wrong, "\noaken-latchd: ")}
	}
	return nil
}

func (s *settings) level() (slog.Level, error) {
	var l slog.Level
	return l, l.UnmarshalText([]byte(s.logLevel))
}

func (s *settings) logger(w io.Writer) *slog.Logger {
	level, err := s.level()
	if err != nil {
		level = slog.LevelInfo
	}
	opt := &slog.HandlerOptions{Level: level}
	if s.logFormat == "json" {
		return slog.New(slog.NewJSONHandler(w, opt))
	}
	return slog.New(slog.NewTextHandler(w, opt))
}

// certificate gives what is served; nil is in the clear.
func (s *settings) certificate(log *slog.Logger) (*service.Certificate, error) {
	if s.plain {
		return nil, nil
	}
	c := &service.Certificate{CertFile: s.tlsCert, KeyFile: s.tlsKey, Logger: log}
	if c.CertFile == "" {
		var err error
		if c.CertFile, c.KeyFile, err = service.OwnCertificate(s.data, s.names(), time.Now()); err != nil {
			return nil, err
		}
	}
	_, err := c.Load()
	return c, err
}

// names are those of this machine that a certificate of our own is for.
func (s *settings) names() []string {
	if s.tlsNames != "" {
		return strings.FieldsFunc(s.tlsNames, func(r rune) bool { return r == ',' || r == ' ' })
	}
	out := []string{"localhost", "127.0.0.1", "::1"}
	if name, err := os.Hostname(); err == nil {
		out = append(out, name)
	}
	if host, _, err := net.SplitHostPort(s.listen); err == nil && net.ParseIP(host) != nil &&
		!net.ParseIP(host).IsUnspecified() {
		out = append(out, host)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// called are the names that the service is asked by, beside addresses.
func (s *settings) called() []string {
	out := []string{"localhost"}
	for _, name := range s.names() {
		out = append(out, strings.ToLower(name))
	}
	if u, err := url.Parse(s.publicURL); err == nil && u.Hostname() != "" {
		out = append(out, strings.ToLower(u.Hostname()))
	}
	if host, _, err := net.SplitHostPort(s.listen); err == nil {
		out = append(out, strings.ToLower(host))
	}
	return out
}

// sources tells where each setting comes from.
func (s *settings) sources(args []string) map[string]string {
	out := map[string]string{}
	flags := newSettings("config")
	flags.fs.SetOutput(io.Discard)
	if err := flags.fs.Parse(args); err == nil {
		flags.fs.Visit(func(f *flag.Flag) { out[f.Name] = "flag" })
	}
	file := map[string]bool{}
	if s.config != "" {
		if f, err := os.Open(s.config); err == nil {
			_ = ff.PlainParser(f, func(name, _ string) error { file[name] = true; return nil })
			_ = f.Close()
		}
	}
	s.fs.VisitAll(func(f *flag.Flag) {
		env := envPrefix + "_" + strings.ToUpper(strings.ReplaceAll(f.Name, "-", "_"))
		switch {
		case out[f.Name] != "":
		case os.Getenv(env) != "":
			out[f.Name] = "environment"
		case file[f.Name]:
			out[f.Name] = "file"
		}
	})
	return out
}

// printConfig prints the settings as they hold, and checks them.
func printConfig(args []string, out, errOut io.Writer) error {
	s := newSettings("config")
	if err := s.parse(args, errOut); err != nil {
		return err
	}
	from := s.sources(args)
	s.fs.VisitAll(func(f *flag.Flag) {
		source := from[f.Name]
		if source == "" {
			source = "as it is"
		}
		value := f.Value.String()
		if value == "" {
			value = "-"
		}
		_, _ = fmt.Fprintf(out, "%-20s %-30s %s\n", f.Name, value, source)
	})
	return s.check()
}

// fit fits the settings to what this process is allowed.
func (s *settings) fit(log *slog.Logger) (err error) {
	s.connections, err = service.Fit(s.connections, log)
	return err
}
