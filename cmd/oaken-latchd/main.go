// Command oaken-latchd is the Oaken Latch service.
//
//	oaken-latchd serve --data DIR --listen ADDR
//	oaken-latchd demo  --data DIR --listen ADDR
//	oaken-latchd lab   --devices N
//	oaken-latchd backup  FILE --data DIR
//	oaken-latchd restore FILE --data DIR
//	oaken-latchd config | doctor | rotate-key
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
	"strings"
	"syscall"

	"oakenlatch/console"
	"oakenlatch/service"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/syslog"
)

const usage = `oaken-latchd: the Oaken Latch service

  oaken-latchd serve --data DIR [--listen ADDR] [--config FILE] [...]
        the service; its first start makes the account admin
  oaken-latchd config [...]
        every setting as it holds with the same flags, file and environment,
        where it comes from, and whether they make sense together
  oaken-latchd doctor --data DIR [...]
        looks at all that the service rests on, and says what is wrong
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
	verbs := map[string]func(context.Context, []string, io.Writer, io.Writer) error{"serve": serve, "demo": demo, "lab": labOnly, "backup": backUp, "restore": restoreBackup,
		"rotate-key": rotateKey, "doctor": examine, "config": func(_ context.Context, args []string, out, errOut io.Writer) error {
			return printConfig(args, out, errOut)
		}}
	if len(args) == 0 || verbs[args[0]] == nil {
		if len(args) > 0 && (args[0] == "help" || args[0] == "--help" || args[0] == "-h") {
			_, _ = fmt.Fprint(out, usage)
			return 0
		}
		_, _ = fmt.Fprint(errOut, usage)
		return 2
	}
	err := verbs[args[0]](ctx, args[1:], out, errOut)
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
	tell, stop, err := sender(set.syslog)
	if err != nil {
		return err
	}
	defer stop()
	log := set.logger(errOut)
	s, err := service.Open(ctx, set.options(log, tell))
	if err != nil {
		return err
	}
	first, err := firstAccount(ctx, s, set.adminPasswordFile, out)
	if err != nil {
		return errors.Join(err, s.Close())
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
		_, _ = fmt.Fprintf(out, "certificate until %s, its key: %s\n", leaf.NotAfter.UTC().Format("2006-01-02"), cert.Pin())
	}
	if first {
		_, _ = fmt.Fprintf(out, "sign in with: latch login --server %s://%s --user admin\n", scheme, l.Addr())
	}
	_, _ = fmt.Fprintf(out, "oaken-latchd listens on %s://%s\n", scheme, l.Addr())
	return errors.Join(s.Serve(ctx, l, cert), s.Close())
}

// options are the settings as the service takes them.
func (set *settings) options(log *slog.Logger, tell func(int, string)) service.Options {
	opt := service.Options{
		Dir: set.data, KeyFile: set.keyFile, Console: console.Files(), Logger: log, ProbePrograms: set.programs, Unwatched: !set.watch, LookEvery: set.look, Syslog: tell,
		SpareRoom: int64(set.spareRoom) << 20, Connections: set.connections, Proxies: set.proxyNets, Idle: set.idle, Life: set.life,
	}
	if set.oidc.Issuer != "" {
		opt.OIDC = &set.oidc
	}
	return opt
}

// sender gives what sends lines to a syslog receiver; nil for none.
func sender(to string) (send func(int, string), stop func(), err error) {
	if to == "" {
		return nil, func() {}, nil
	}
	s, err := syslog.New(to)
	if err != nil {
		return nil, nil, &usageError{"--syslog: " + err.Error()}
	}
	return s.Send, s.Close, nil
}

// firstAccount makes the account admin where there is no account yet, and reports
// whether it did.
func firstAccount(ctx context.Context, s *service.Service, passwordFile string, out io.Writer) (bool, error) {
	empty, err := s.Accounts.Empty(ctx)
	if err != nil || !empty {
		return false, err
	}
	password := rand.Text()
	if passwordFile != "" {
		b, err := os.ReadFile(passwordFile)
		if err != nil {
			return false, fmt.Errorf("admin password: %w", err)
		}
		password = strings.TrimRight(string(b), "\r\n")
	}
	if err := s.Accounts.Add(ctx, audit.Service, "admin", password, access.Everywhere(access.Roles...)); err != nil {
		return false, err
	}
	if passwordFile == "" {
		_, _ = fmt.Fprintf(out, "first start: account admin with password %s (shown only now)\n", password)
	}
	return true, nil
}
