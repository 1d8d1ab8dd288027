package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"oakenlatch/service"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/doctor"
	"oakenlatch/service/store"
)

// examine looks at all that the service rests on.
func examine(ctx context.Context, args []string, out, errOut io.Writer) error {
	set := newSettings("doctor")
	if err := set.parse(args, errOut); err != nil {
		return err
	}
	if err := set.check(); err != nil {
		return err
	}
	p := doctor.Patient{Dir: set.data, KeyFile: cmp.Or(set.keyFile, filepath.Join(set.data, access.KeyFile)), Listen: set.listen, Now: time.Now()}
	if !set.plain {
		p.CertFile, p.CertKey = cmp.Or(set.tlsCert, filepath.Join(set.data, service.CertFile)), cmp.Or(set.tlsKey, filepath.Join(set.data, service.CertKeyFile))
	}
	wrong := 0
	for _, f := range doctor.Examine(ctx, p) {
		_, _ = fmt.Fprintf(out, "%-6s %-18s %s\n", f.Grade, f.What, f.Said)
		if f.Next != "" {
			_, _ = fmt.Fprintf(out, "%25s → %s\n", "", f.Next)
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

// rotateKey seals all secrets with a new key, and has another sign the record.
func rotateKey(ctx context.Context, args []string, out, errOut io.Writer) error {
	set := newSettings("rotate-key")
	lost := set.fs.Bool("lost", false, "the key is lost for good: what was sealed with it is taken out, and has to be given anew")
	if err := set.parse(args, errOut); err != nil {
		return err
	}
	if err := set.check(); err != nil {
		return err
	}
	file := cmp.Or(set.keyFile, filepath.Join(set.data, access.KeyFile))
	lock, err := service.Lock(set.data)
	if err != nil {
		return err
	}
	defer func() { _ = lock.Close() }()
	if _, err := os.Stat(filepath.Join(set.data, store.File)); err != nil {
		return fmt.Errorf("there are no records in %s: %w", set.data, err)
	}
	s, err := store.Open(set.data)
	if err != nil {
		return err
	}
	log := audit.New(s, time.Now)
	n, next := 0, "Checkpoints of the record are signed with another key, too. Copy the new key file to where the old one was kept, and take a backup: older ones hold the old key with the old records."
	if *lost {
		n, err = access.Forget(ctx, log, file)
		next = "Give the devices' secrets anew with: latch device replace NAME, and those of archives and receivers."
	} else {
		if err := access.Missing(ctx, s, file); err != nil { // or another would be made
			return errors.Join(err, s.Close())
		}
		n, err = rotate(ctx, s, log, file, set.data)
	}
	if err = errors.Join(err, s.Close()); err != nil {
		return fmt.Errorf("the key was not rotated to its end; what is there opens all that it opened, and rotate-key may be run again: %w", err)
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
	if _, err := sealer.SigningKey(ctx, s, dir); err != nil { // one that is plain still is taken over, and goes
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
