package main

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"oakenlatch/service/access"
	"oakenlatch/service/backup"
)

func backUp(ctx context.Context, args []string, out, errOut io.Writer) error {
	fs := flag.NewFlagSet("oaken-latchd backup", flag.ContinueOnError)
	data := fs.String("data", "", "folder of the records; the service may be running")
	key := fs.String("key-file", "", "file of the key that seals secrets; seal.key in the data folder if left out")
	file, err := parseFile(fs, args, errOut, data)
	if err != nil {
		return err
	}
	about, err := backup.Write(ctx, *data, cmp.Or(*key, filepath.Join(*data, access.KeyFile)), file, time.Now())
	if err != nil {
		return fmt.Errorf("no backup was made: %w", err)
	}
	st, err := os.Stat(file)
	if err != nil {
		return err
	}
	_, _ = fmt.Fprintf(
		out,
		"%s: %d bytes, read back and compared: %d devices, %d changes, %d ledger entries, the last %.12s.\nIt holds "+
			"the key of the sealed secrets: keep it where only administrators can read it, and not on this machine.\n",
		file, st.Size(), about.Devices, about.Changes, about.Ledger, about.Head,
	)
	return nil
}

func restoreBackup(ctx context.Context, args []string, out, errOut io.Writer) error {
	fs := flag.NewFlagSet("oaken-latchd restore", flag.ContinueOnError)
	data := fs.String("data", "", "folder to put the records in; it must not hold any")
	file, err := parseFile(fs, args, errOut, data)
	if err != nil {
		return err
	}
	made, about, err := backup.Restore(ctx, file, *data, time.Now)
	if err != nil {
		return fmt.Errorf("nothing was restored: %w", err)
	}
	_, _ = fmt.Fprintf(
		out,
		"%s holds the records as of %s: %d devices, %d changes, %d ledger entries, all checked.\nWhat was under way "+
			"then is for a person to settle (latch settle), and nothing is left on the schedule. Next: oaken-latchd "+
			"serve --data %s\n",
		*data, made.UTC().Format("2006-01-02 15:04:05 UTC"), about.Devices, about.Changes, about.Ledger, *data,
	)
	return nil
}

// parseFile reads the flags of a verb that takes one file, before or behind it.
func parseFile(fs *flag.FlagSet, args []string, errOut io.Writer, data *string) (string, error) {
	fs.SetOutput(errOut)
	file := ""
	for len(args) > 0 {
		if err := fs.Parse(args); err != nil {
			if err == flag.ErrHelp {
				return "", err
			}
			return "", &usageError{err.Error()}
		}
		args = fs.Args()
		if len(args) > 0 {
			if file != "" {
				return "", &usageError{fmt.Sprintf("%s takes one file, not %q too", fs.Name(), args[0])}
			}
			file, args = args[0], args[1:]
		}
	}
	if file == "" || *data == "" {
		return "", &usageError{fs.Name() + " needs FILE and --data DIR"}
	}
	return file, nil
}
