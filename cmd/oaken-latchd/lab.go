package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"slices"

	"oakenlatch/lab"
)

// labOnly runs simulated devices alone, for a service in another process.
func labOnly(ctx context.Context, args []string, out, errOut io.Writer) error {
	fs := flag.NewFlagSet("oaken-latchd lab", flag.ContinueOnError)
	devices := fs.Int("devices", 3, "how many devices; they take turns at being router, switch and firewall")
	dir := fs.String("dir", "", "folder where their startup and host keys are kept (default: in memory)")
	if err := parse(fs, args, errOut); err != nil {
		return err
	}
	if *devices < 1 || *devices > 5000 {
		return &usageError{fmt.Sprintf("--devices %d: 1 to 5000 can be simulated", *devices)}
	}
	if *dir != "" {
		if err := os.MkdirAll(*dir, 0o700); err != nil {
			return err
		}
	}
	sites, err := lab.Tidewell(*dir)
	if err != nil {
		return err
	}
	sites = slices.DeleteFunc(sites, func(s lab.Site) bool { return s.Spec.Kind != lab.Full })
	for i := range *devices {
		spec := sites[i%len(sites)].Spec
		if i >= len(sites) {
			spec.Name = fmt.Sprintf("%s-%d", spec.Name, i/len(sites)+1)
		}
		spec.Listen = "127.0.0.1:0"
		d, err := lab.Start(spec)
		if err != nil {
			return err
		}
		defer d.Stop()
		_, _ = fmt.Fprintf(out, "%s %s %s %s\n", spec.Name, d.Address, lab.User, lab.Password)
	}
	_, _ = fmt.Fprintln(out, "ready")
	<-ctx.Done()
	return nil
}
