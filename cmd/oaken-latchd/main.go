// Command oaken-latchd is the Oaken Latch service.
//
//	oaken-latchd init  --data DIR
//	oaken-latchd serve --data DIR --listen ADDR
//	oaken-latchd demo  --data DIR --listen ADDR
//	oaken-latchd lab   --devices N
//	oaken-latchd backup  FILE --data DIR
//	oaken-latchd restore FILE --data DIR
//	oaken-latchd config | doctor | rotate-key | accept-loss | accept-key
package main

import (
	"context"
	"crypto/rand"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"

	"oakenlatch/console"
	"oakenlatch/service"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/syslog"
	"oakenlatch/wire"
)

const usage = `oaken-latchd: the Oaken Latch service

  oaken-latchd init  --data DIR [--admin-password-file F]
        makes the records of a new service, once, with the account admin
  oaken-latchd serve --data DIR [--listen ADDR] [--config FILE] [...]
        the service
  oaken-latchd config [...]
        every setting as it holds with the same flags, file and environment,
        where it comes from, and whether they make sense together
  oaken-latchd doctor --data DIR [--deep] [...]
        looks at all that the service rests on, and at the service while it
        runs, and says what is wrong; deep reads everything that is kept
  oaken-latchd demo  --data DIR [--listen ADDR]
        the same with the lab: four simulated devices of Tidewell Ferries
  oaken-latchd lab   [--devices N] [--dir DIR]
        simulated devices alone
  oaken-latchd backup  FILE --data DIR
        copies all records into a file, while the service runs or not
  oaken-latchd restore FILE --data DIR
        puts them into a folder that holds none
  oaken-latchd rotate-key --data DIR [--lost]
        seals all secrets with a new key, and has another key sign the record,
        while the service does not run

  oaken-latchd accept-loss --data DIR
        goes on with records of which the end is missing, and says so in them;
        restore is better
  oaken-latchd accept-key --data DIR
        has another key sign the record, where the one before is missing or is
        not the one that the record names, and says so in it
  oaken-latchd reset-factors --data DIR --account NAME
        takes the second factors of an account away that were lost, while the
        service does not run; its sessions end
  oaken-latchd --version

Every setting of serve is a flag, a line NAME VALUE in the file that --config
names, and an environment variable (OAKEN_LATCHD_LISTEN): see oaken-latchd config.

`

func main() {
	ctx, cancel := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer cancel()
	syscall.Umask(0o077) // what it keeps is nobody else's to read
	os.Exit(run(ctx, os.Args[1:], os.Stdout, os.Stderr))
}

// run gives the exit status: 0 done, 1 failed, 2 wrong use.
func run(ctx context.Context, args []string, out, errOut io.Writer) int {
	verbs := map[string]func(ctx context.Context, args []string, out, errOut io.Writer) error{
		"serve": serve, "init": initFolder, "accept-loss": acceptLoss, "accept-key": acceptKey,
		"reset-factors": resetFactors, "demo": demo, "lab": labOnly, "backup": backUp, "restore": restoreBackup,
		"rotate-key": rotateKey, "doctor": examine,
		"config": func(_ context.Context, args []string, out, errOut io.Writer) error {
			return printConfig(args, out, errOut)
		},
	}
	if len(args) == 2 && args[0] == "help" && args[1] == "--man" {
		_, _ = fmt.Fprint(out, manual().Roff())
		return 0
	}
	if len(args) == 0 || verbs[args[0]] == nil {
		if len(args) > 0 && (args[0] == "help" || args[0] == "--help" || args[0] == "-h") {
			_, _ = fmt.Fprint(out, usage)
			return 0
		}
		if len(args) > 0 && (args[0] == "--version" || args[0] == "version") {
			_, _ = fmt.Fprintln(out, "oaken-latchd", wire.VersionText())
			return 0
		}
		_, _ = fmt.Fprint(errOut, usage)
		return 2
	}
	err := verbs[args[0]](ctx, args[1:], out, errOut)
	if os.Geteuid() == 0 {
		err = errors.Join(err, handOver(args[1:]))
	}
	switch {
	case err == nil, errors.Is(err, flag.ErrHelp):
		return 0
	case errors.As(err, new(*usageError)):
		_, _ = fmt.Fprintln(errOut, "oaken-latchd:", err)
		return 2
	}
	_, _ = fmt.Fprintln(errOut, "oaken-latchd:", err)
	return 1
}

// handOver gives what root made in a data folder to whom the folder belongs: the service's
// own account, which could not use it otherwise.
func handOver(args []string) error {
	dir := ""
	for i, arg := range args {
		if name, value, given := strings.Cut(
			strings.TrimLeft(arg, "-"), "=",
		); name == "data" && strings.HasPrefix(arg, "-") {
			if dir = value; !given && i+1 < len(args) {
				dir = args[i+1]
			}
		}
	}
	st, err := os.Stat(dir)
	if err != nil {
		return nil
	}
	owner, ok := st.Sys().(*syscall.Stat_t)
	if !ok || owner.Uid == 0 {
		return nil
	}
	list, err := os.ReadDir(dir)
	for _, e := range list {
		if info, ierr := e.Info(); ierr == nil && info.Mode().IsRegular() {
			err = errors.Join(err, os.Lchown(filepath.Join(dir, e.Name()), int(owner.Uid), int(owner.Gid)))
		}
	}
	return err
}

// manual is the manual page: what the program says of itself, and all settings.
func manual() wire.Manual {
	m := wire.Manual{
		Name: "oaken-latchd", Section: "8",
		Summary:  "the Oaken Latch service: network changes that revert by themselves unless confirmed",
		Synopsis: []string{"oaken-latchd VERB [--FLAG]..."}, Parts: []wire.ManualPart{{Title: "VERBS", Text: usage}},
	}
	settings := wire.ManualCommand{
		Usage:   "settings",
		Summary: "Each is a flag, a line in the file that --config names, and an environment variable.",
	}
	newSettings("serve").fs.VisitAll(func(f *flag.Flag) {
		text := f.Usage
		if f.DefValue != "" {
			text += "; " + f.DefValue + " if left out"
		}
		settings.Flags = append(settings.Flags, [2]string{"--" + f.Name, text})
	})
	m.Commands = append(m.Commands, settings)
	return m
}

type usageError struct{ msg string }

func (e *usageError) Error() string { return e.msg }

// parse reads a verb's flags.
func parse(fs *flag.FlagSet, args []string, errOut io.Writer) error {
	fs.SetOutput(errOut)
	if err := fs.Parse(args); err != nil {
		if errors.Is(err, flag.ErrHelp) {
			return err
		}
		return &usageError{err.Error()}
	}
	if fs.NArg() > 0 {
		return &usageError{fmt.Sprintf("%s takes no argument %q", fs.Name(), fs.Arg(0))}
	}
	return nil
}

func serve(ctx context.Context, args []string, out, errOut io.Writer) error {
	set := newSettings("serve")
	if err := set.parse(args, errOut); err != nil {
		return err
	}
	if err := set.check(); err != nil {
		return err
	}
	log := set.logger(errOut)
	slog.SetDefault(log)
	tell, err := sender(set.syslog, log)
	if err != nil {
		return err
	}
	if tell != nil {
		defer tell.Close()
	}
	if err := set.fit(log); err != nil {
		return err
	}
	s, err := service.Open(ctx, set.options(log, tell))
	if err != nil {
		return err
	}
	cert, err := set.certificate(log)
	if err != nil {
		return errors.Join(err, s.Close())
	}
	l, err := net.Listen("tcp", set.listen)
	if err != nil {
		return errors.Join(err, s.Close())
	}
	scheme := "http"
	if cert != nil {
		leaf, err := cert.Load()
		if err != nil {
			return errors.Join(err, l.Close(), s.Close())
		}
		scheme = "https"
		_, _ = fmt.Fprintf(
			out, "certificate until %s, its key: %s\n", leaf.NotAfter.UTC().Format("2006-01-02"), cert.Pin(),
		)
	}
	_, _ = fmt.Fprintf(out, "oaken-latchd listens on %s://%s\n", scheme, l.Addr())
	return errors.Join(s.Serve(ctx, l, cert), s.Close())
}

// options are the settings as the service takes them.
func (set *settings) options(log *slog.Logger, tell *syslog.Sender) service.Options {
	opt := service.Options{
		Version: wire.VersionText(), Dir: set.data, KeyFile: set.keyFile, Console: console.Files(), Logger: log,
		ProbePrograms: set.programs, Unwatched: !set.watch, LookEvery: set.look, Syslog: tell,
		SpareRoom: int64(set.spareRoom) << 20, Connections: set.connections, Proxies: set.proxyNets, Idle: set.idle,
		Second: set.second, Life: set.life, Witnesses: set.witnesses, Names: set.called(),
		ArchivesBelow: append([]string{}, set.archiveFolders...),
	}
	if set.oidc.Issuer != "" {
		opt.OIDC = &set.oidc
	}
	return opt
}

// sender gives what sends lines to a syslog receiver; nil for none.
func sender(to string, log *slog.Logger) (*syslog.Sender, error) {
	if to == "" {
		return nil, nil
	}
	s, err := syslog.New(to, func(dropped int64, why error) {
		log.Warn(
			"lines about copies are lost: the syslog receiver does not take them; the copies go on",
			"receiver", to, "lost", dropped, "error", why,
		)
	})
	if err != nil {
		return nil, &usageError{"--syslog: " + err.Error()}
	}
	return s, nil
}

// initFolder makes the records of a new service, with an account that may do everything.
// It is asked for by itself: that a folder is empty may as well mean that its disk is not there.
func initFolder(ctx context.Context, args []string, out, errOut io.Writer) error {
	set := newSettings("init")
	if err := set.parse(args, errOut); err != nil {
		return err
	}
	if err := set.check(); err != nil {
		return err
	}
	password := rand.Text()
	if set.adminPasswordFile != "" {
		b, err := os.ReadFile(set.adminPasswordFile)
		if err != nil {
			return fmt.Errorf("admin password: %w", err)
		}
		password = strings.TrimRight(string(b), "\r\n")
	}
	opt := set.options(slog.New(slog.DiscardHandler), nil)
	opt.Make, opt.Unwatched = true, true
	s, err := service.Open(ctx, opt)
	if err != nil {
		return err
	}
	empty, err := s.Accounts.Empty(ctx) // one that was broken off goes on
	if err == nil && !empty {
		err = fmt.Errorf(
			"%s holds records already: start the service with oaken-latchd serve --data %s", set.data, set.data,
		)
	}
	if err != nil {
		return errors.Join(err, s.Close())
	}
	if err := errors.Join(
		s.Accounts.Add(ctx, audit.Service, "admin", password, access.Everywhere(access.Roles...)), s.Close(),
	); err != nil {
		return err
	}
	_, _ = fmt.Fprintf(out, "%s holds the records of a new service.\n", set.data)
	if set.adminPasswordFile == "" {
		_, _ = fmt.Fprintf(out, "account admin with password %s (shown only now)\n", password)
	} else {
		_, _ = fmt.Fprintf(out, "account admin with the password in %s\n", set.adminPasswordFile)
	}
	_, _ = fmt.Fprintf(
		out, "Next: oaken-latchd serve --data %s, then latch login --server URL --user admin\n", set.data,
	)
	return nil
}
