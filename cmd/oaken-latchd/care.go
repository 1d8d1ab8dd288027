package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"path/filepath"
	"time"

	"oakenlatch/cli"
	"oakenlatch/service"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/doctor"
	"oakenlatch/service/folder"
	"oakenlatch/service/store"
)

// examine looks at all that the service rests on.
func examine(ctx context.Context, args []string, out, errOut io.Writer) error {
	set := newSettings("doctor")
	deep := set.fs.Bool("deep", false, "read every stored configuration and compare it with its digest, too")
	if err := set.parse(args, errOut); err != nil {
		return err
	}
	if err := set.check(); err != nil {
		return err
	}
	p := doctor.Patient{Dir: set.data, KeyFile: set.keyOf(), Listen: set.listen, Now: time.Now(), Deep: *deep}
	for _, w := range set.witnesses {
		p.Witnesses = append(p.Witnesses, w.Key)
	}
	if *deep {
		p.Progress = func(done, total int) {
			_, _ = fmt.Fprintf(errOut, "\rreading configurations: %d of %d ", done, total)
		}
	}
	slog.SetDefault(slog.New(slog.DiscardHandler)) // what is found is told below
	if !set.plain {
		p.CertFile, p.CertKey = cmp.Or(set.tlsCert, filepath.Join(set.data, service.CertFile)), cmp.Or(
			set.tlsKey, filepath.Join(set.data, service.CertKeyFile),
		)
	}
	wrong := 0
	list := doctor.Examine(ctx, p)
	if *deep {
		_, _ = fmt.Fprintln(errOut)
	}
	for _, f := range list {
		_, _ = fmt.Fprintf(out, "%-6s %-18s %s\n", f.Grade, f.What, f.Said)
		if len(f.Next) > 0 {
			_, _ = fmt.Fprintf(out, "%25s → %s\n", "", cli.InCommands(f.Next))
		}
		if f.Grade == doctor.Wrong {
			wrong++
		}
	}
	if wrong > 0 {
		return fmt.Errorf("%d of these are wrong", wrong)
	}
	return nil
}

// acceptLoss goes on with records of which the end is missing.
func acceptLoss(ctx context.Context, args []string, out, errOut io.Writer) error {
	set := newSettings("accept-loss")
	why := set.fs.String("note", "accepted by whoever runs the service", "why, for the record")
	if err := set.parse(args, errOut); err != nil {
		return err
	}
	if err := set.check(); err != nil {
		return err
	}
	told, err := service.AcceptLoss(ctx, set.data, set.keyOf(), *why)
	if err != nil {
		return err
	}
	_, _ = fmt.Fprintf(out, "%s: %s. That is entered.\n", set.data, told)
	holds, err := folder.Holds(set.data)
	for _, h := range holds {
		_, _ = fmt.Fprintf(out, "look at: %s\n", h)
	}
	_, _ = fmt.Fprintf(out, "Next: oaken-latchd serve --data %s\n", set.data)
	return err
}

// acceptKey goes on with another key that signs the record.
func acceptKey(ctx context.Context, args []string, out, errOut io.Writer) error {
	set := newSettings("accept-key")
	why := set.fs.String("note", "accepted by whoever runs the service", "why, for the record")
	if err := set.parse(args, errOut); err != nil {
		return err
	}
	if err := set.check(); err != nil {
		return err
	}
	key, err := service.AcceptKey(ctx, set.data, set.keyOf(), *why)
	if err != nil {
		return err
	}
	_, _ = fmt.Fprintf(out, `The record is signed with another key from here on, and says so:
  %s
To whoever checks it, and to its witnesses (latch witness --log), it is another record from here on: give them this key. Checkpoints of before still say what was; compare with one that was kept elsewhere: latch audit verify --checkpoint FILE
Next: oaken-latchd serve --data %s
`, key, set.data)
	return nil
}

// stopped opens the records of a service that does not run, and keeps it from starting until end.
func stopped(dir string) (s *store.Store, end func() error, err error) {
	if _, err := folder.Look(dir); err != nil {
		return nil, nil, err
	}
	lock, err := folder.Take(dir)
	if err != nil {
		return nil, nil, err
	}
	if s, err = store.Open(dir); err != nil {
		return nil, nil, errors.Join(err, lock.Close())
	}
	return s, func() error { return errors.Join(s.Close(), lock.Close()) }, nil
}

// resetFactors takes the second factors of an account away, where nobody is left who could in the service.
func resetFactors(ctx context.Context, args []string, out, errOut io.Writer) (err error) {
	set := newSettings("reset-factors")
	account := set.fs.String("account", "", "whose they are")
	if err := set.parse(args, errOut); err != nil {
		return err
	}
	if err := set.check(); err != nil {
		return err
	}
	if *account == "" {
		return &usageError{"reset-factors needs --account NAME"}
	}
	s, end, err := stopped(set.data)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, end()) }()
	accounts, err := access.NewAccounts(s, audit.New(s, audit.Options{}), access.Options{})
	if err != nil {
		return err
	}
	if err := accounts.ResetFactors(ctx, audit.Service, *account); err != nil {
		return err
	}
	_, _ = fmt.Fprintf(
		out,
		"Account %s has no second factor any more, and its sessions have ended. That is entered.\nNext: oaken-latchd "+
			"serve --data %s\n",
		*account, set.data,
	)
	return nil
}

// rotateKey seals all secrets with a new key, and has another sign the record.
func rotateKey(ctx context.Context, args []string, out, errOut io.Writer) error {
	set := newSettings("rotate-key")
	lost := set.fs.Bool(
		"lost", false, "the key is lost: what was sealed with it is taken out, and has to be given again",
	)
	if err := set.parse(args, errOut); err != nil {
		return err
	}
	if err := set.check(); err != nil {
		return err
	}
	file := set.keyOf()
	s, end, err := stopped(set.data)
	if err != nil {
		return err
	}
	log := audit.New(s, audit.Options{Beside: set.data})
	n, next := 0, "Checkpoints of the record are signed with another key, too. Copy the new key file to where the "+
		"old one was kept, and take a backup: older ones hold the old key with the old records."
	if *lost {
		n, err = access.Forget(ctx, log, file)
		next = "Give the devices' secrets again with: latch device replace NAME, and those of archives and receivers."
	} else {
		if err := access.Missing(ctx, s, file); err != nil { // or another would be made
			return errors.Join(err, end())
		}
		n, err = rotate(ctx, s, log, file, set.data)
	}
	if err = errors.Join(err, end()); err != nil {
		return fmt.Errorf(
			"the key was not rotated to its end; what is there opens all that it opened, and rotate-key may be "+
				"run again: %w",
			err,
		)
	}
	_, _ = fmt.Fprintf(out, "%s holds a new key; %d secrets were sealed with the old one. %s\n", file, n, next)
	return nil
}

// rotate has the new key sign what stands, too: from then on that holds the whole
// record.
func rotate(ctx context.Context, s *store.Store, log *audit.Log, file, dir string) (int, error) {
	sealer, err := access.OpenSealer(file)
	if err != nil {
		return 0, err
	}
	now, err := sealer.SigningKey(ctx, s, dir) // one that is plain still is taken over, and goes
	if err != nil {
		return 0, err
	}
	// One that the record does not name signs no other in.
	if err := log.UseKey(ctx, now); err != nil {
		return 0, err
	}
	n, err := access.Rotate(ctx, log, file)
	if err != nil {
		return n, err
	}
	if sealer, err = access.OpenSealer(file); err != nil {
		return n, err
	}
	key, err := sealer.SigningKey(ctx, s, dir)
	if err != nil {
		return n, err
	}
	if err := log.UseKey(ctx, key); err != nil {
		return n, err
	}
	_, err = log.Checkpoint(ctx)
	return n, err
}
