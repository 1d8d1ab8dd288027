// Command oaken-latchd is the Oaken Latch service.
//
//	oaken-latchd serve --data DIR --listen ADDR
//	oaken-latchd demo  --data DIR --listen ADDR
//	oaken-latchd lab   --devices N
//	oaken-latchd backup  FILE --data DIR
//	oaken-latchd restore FILE --data DIR
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
	"time"

	"oakenlatch/console"
	"oakenlatch/service"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/syslog"
)

const usage = `oaken-latchd: the Oaken Latch service

  oaken-latchd serve --data DIR [--listen ADDR] [--admin-password-file F]
                     [--probe-programs DIR] [--watch=false] [--look-every 5m]
                     [--syslog RECEIVER]
        the service; its first start makes the account admin
  oaken-latchd demo  --data DIR [--listen ADDR]
        the same with the lab: four simulated devices of Tidewell Ferries
  oaken-latchd lab   [--devices N] [--dir DIR]
        simulated devices alone
  oaken-latchd backup  FILE --data DIR
        copies all records into a file, while the service runs or not
  oaken-latchd restore FILE --data DIR
        puts them into a folder that holds none

`

func main() {
	ctx, cancel := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer cancel()
	os.Exit(run(ctx, os.Args[1:], os.Stdout, os.Stderr))
}

// run gives the exit status: 0 done, 1 failed, 2 wrong use.
func run(ctx context.Context, args []string, out, errOut io.Writer) int {
	verbs := map[string]func(context.Context, []string, io.Writer, io.Writer) error{"serve": serve, "demo": demo, "lab": labOnly, "backup": backUp, "restore": restoreBackup}
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

func logger(w io.Writer) *slog.Logger { return slog.New(slog.NewTextHandler(w, nil)) }

func serve(ctx context.Context, args []string, out, errOut io.Writer) error {
	fs := flag.NewFlagSet("oaken-latchd serve", flag.ContinueOnError)
	data := fs.String("data", "", "folder of the records (made if it is not there)")
	listen := fs.String("listen", "127.0.0.1:8640", "address to listen on")
	passwordFile := fs.String("admin-password-file", "", "file with the password of the account admin, for the first start")
	programs := fs.String("probe-programs", "", "folder of the programs that may be run as probes; none may without it")
	watch := fs.Bool("watch", true, "keep an idle session to each device, to notice one that goes and to read it without a new connection")
	look := fs.Duration("look-every", 5*time.Minute, "how often devices are read for changes behind our back that tell of no events")
	logTo := fs.String("syslog", "", "receiver of a line for each copy and each archive's failure (RFC 5424): udp://HOST:PORT, tcp://HOST:PORT or unix:///dev/log")
	if err := parse(fs, args, errOut); err != nil {
		return err
	}
	if *data == "" {
		return &usageError{"serve needs --data DIR"}
	}
	if *look < 10*time.Second {
		return &usageError{"--look-every is at least 10s: a device that is asked more often may never get to its own work"}
	}
	tell, stop, err := sender(*logTo)
	if err != nil {
		return err
	}
	defer stop()
	if *programs != "" {
		if st, err := os.Stat(*programs); err != nil || !st.IsDir() {
			return &usageError{fmt.Sprintf("--probe-programs %s: there is no such folder", *programs)}
		}
	}
	s, err := service.Open(ctx, service.Options{Dir: *data, Console: console.Files(), Logger: logger(errOut), ProbePrograms: *programs, Unwatched: !*watch, LookEvery: *look, Syslog: tell})
	if err != nil {
		return err
	}
	if err := firstAccount(ctx, s, *passwordFile, out); err != nil {
		return errors.Join(err, s.Close())
	}
	l, err := net.Listen("tcp", *listen)
	if err != nil {
		return errors.Join(err, s.Close())
	}
	_, _ = fmt.Fprintf(out, "oaken-latchd listens on http://%s\n", l.Addr())
	return errors.Join(s.Serve(ctx, l), s.Close())
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

// firstAccount makes the account admin where there is no account yet.
func firstAccount(ctx context.Context, s *service.Service, passwordFile string, out io.Writer) error {
	empty, err := s.Accounts.Empty(ctx)
	if err != nil || !empty {
		return err
	}
	password := rand.Text()
	if passwordFile != "" {
		b, err := os.ReadFile(passwordFile)
		if err != nil {
			return fmt.Errorf("admin password: %w", err)
		}
		password = strings.TrimRight(string(b), "\r\n")
	}
	if err := s.Accounts.Add(ctx, audit.Service, "admin", password, access.Everywhere(access.Roles...)); err != nil {
		return err
	}
	if passwordFile == "" {
		_, _ = fmt.Fprintf(out, "first start: account admin with password %s (shown only now)\n", password)
	}
	return nil
}
