package cli

import (
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"

	"oakenlatch/witness"
)

// runWitness watches over the records of services, on a machine that is none of theirs.
func runWitness(a *app, fs *flag.FlagSet) func([]string) error {
	dir := fs.String("dir", "", "folder of what was seen, and of the key; made as needed")
	listen := fs.String("listen", "127.0.0.1:8660", "address to listen on")
	name := fs.String("name", "", "what it signs as, where its key is made; this machine's name if left out")
	logs := keyFlag(fs, "log", "a record to watch over, by what signs it (latch audit key)")
	return func([]string) error {
		if *dir == "" {
			return wrongUse("witness needs --dir DIR")
		}
		if *name == "" {
			host, err := os.Hostname()
			if err != nil {
				return err
			}
			*name = host + "/witness"
		}
		given, err := keys(*logs, func(string) error { return nil })
		if err != nil {
			return err
		}
		w, err := witness.Open(*dir, *name)
		if err != nil {
			return &exit{Refused, err}
		}
		defer func() { _ = w.Close() }()
		for _, key := range given {
			if _, err := w.Trust(key); err != nil {
				return wrongUse("--log: %v", err)
			}
		}
		l, err := net.Listen("tcp", *listen)
		if err != nil {
			return &exit{Refused, err}
		}
		a.printf("%s http://%s\n", w.Key(), l.Addr())
		watched := w.Watched()
		for _, text := range watched {
			_, _ = fmt.Fprintf(a.err, "watches over %s\n", text)
		}
		if len(watched) == 0 {
			_, _ = fmt.Fprintln(a.err, "it watches over no record yet: start it with --log KEY")
		}
		_, _ = fmt.Fprintf(
			a.err, "give the service what stands above: oaken-latchd serve --witness; its key stands in %s, too\n",
			filepath.Join(*dir, witness.PublicFile),
		)
		if err := w.Serve(
			a.ctx, l, slog.New(slog.NewTextHandler(a.err, nil)),
		); err != nil && !errors.Is(err, net.ErrClosed) {
			return err
		}
		return nil
	}
}
