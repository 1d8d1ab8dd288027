// Package backup copies the service's own records into one file while it runs,
// and puts them back.
package backup

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"oakenlatch/core/ledger"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/control"
	"oakenlatch/service/folder"
	"oakenlatch/service/store"
	"oakenlatch/wire/bundle"
)

// keyFile is the key that sealed secrets are opened with; see service/access.
const keyFile = access.KeyFile

// signFile is the key that signs the ledger's checkpoints, in backups of earlier
// releases. It is sealed in the records now, and taken over on the next start.
const signFile = access.PlainKeyFile

// About is what a backup tells of itself.
type About struct {
	Release int64  `json:"release"` // of the records
	Ledger  int    `json:"ledger"`  // entries
	Head    string `json:"head"`    // hash of the last one
	Devices int    `json:"devices"`
	Changes int    `json:"changes"`
}

// Write copies the records in a data folder into a file, for its owner alone:
// it also holds the key of the sealed secrets, which is in a file of its own. The service may run meanwhile.
// The copy is checked, written, read back and compared before it counts.
func Write(ctx context.Context, dir, keyAt, file string, now time.Time) (about About, err error) {
	tmp, err := os.MkdirTemp(filepath.Dir(file), ".oaken-latch-backup-")
	if err != nil {
		return about, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(tmp)) }()
	copied := filepath.Join(tmp, store.File)
	key, err := Copy(ctx, dir, copied)
	if err != nil {
		return about, err
	}
	if key == nil {
		if key, err = os.ReadFile(keyAt); err != nil {
			return about, fmt.Errorf("without the key the sealed secrets in the backup could not be read: %w", err)
		}
	}
	if about, err = look(ctx, tmp); err != nil {
		return about, err
	}
	part := filepath.Join(tmp, "part")
	sign, err := os.ReadFile(filepath.Join(dir, signFile))
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return about, err
	}
	if err := write(part, copied, key, sign, about, now); err != nil {
		return about, err
	}
	if err := verify(part); err != nil {
		return about, err
	}
	if err := place(part, file); err != nil {
		return about, err
	}
	return about, syncDir(filepath.Dir(file))
}

// Copy copies the records of a data folder into a file, as they are at one moment. A service
// that runs with them writes the copy itself, also where the folder is gone from under it, and gives the key
// that belongs to them; without one, key is nil.
func Copy(ctx context.Context, dir, file string) (key []byte, err error) {
	if key, err = control.Copy(ctx, dir, file); !errors.Is(err, control.ErrNobody) {
		return key, err
	}
	if _, err := folder.Look(dir); err != nil {
		return nil, err
	}
	lock, err := folder.Take(dir)
	if err != nil {
		return nil, err
	}
	return nil, errors.Join(store.CopyTo(ctx, dir, file), lock.Close())
}

// place gives a file its name, never over another.
func place(part, file string) error {
	err := os.Link(part, file)
	if err == nil || errors.Is(err, os.ErrExist) {
		return err
	}
	if _, serr := os.Lstat(file); !errors.Is(serr, os.ErrNotExist) {
		return errors.Join(err, serr)
	}
	return os.Rename(part, file) // a file system without links
}

// look opens a copy of the records, checks all of it, and tells what it holds.
func look(ctx context.Context, dir string) (about About, err error) {
	s, err := store.Open(dir)
	if err != nil {
		return about, err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	if err := s.Sound(ctx); err != nil {
		return about, err
	}
	log := audit.New(s, audit.Options{})
	v, err := log.Verify(ctx, nil)
	if err != nil {
		return about, err
	}
	if v.Wrong > 0 {
		return about, fmt.Errorf("the ledger does not hold: %s", v.Findings[0])
	}
	about.Ledger = int(v.Entries)
	last, err := s.Ledger(ctx, store.LedgerQuery{Limit: 1})
	if err != nil {
		return about, err
	}
	if len(last) > 0 {
		about.Head = last[0].Hash
	}
	devices, err := s.Devices(ctx, store.Everything)
	if err != nil {
		return about, err
	}
	changes, err := s.Changes(ctx)
	about.Devices, about.Changes = len(devices), len(changes)
	if err == nil {
		about.Release, err = s.Release(ctx)
	}
	return about, err
}

func write(file, db string, key, sign []byte, about About, now time.Time) error {
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	err = func() error {
		w, err := bundle.NewWriter(f, "backup", "", now, about)
		if err != nil {
			return err
		}
		if err := addFile(w, db); err != nil {
			return err
		}
		if err := w.Add(keyFile, int64(len(key)), bytes.NewReader(key), nil); err != nil {
			return err
		}
		if len(sign) > 0 {
			if err := w.Add(signFile, int64(len(sign)), bytes.NewReader(sign), nil); err != nil {
				return err
			}
		}
		return w.Close()
	}()
	return errors.Join(err, f.Sync(), f.Close())
}

func addFile(w *bundle.Writer, file string) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	st, err := f.Stat()
	if err != nil {
		return err
	}
	return w.Add(filepath.Base(file), st.Size(), f, nil)
}

func verify(file string) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	_, err = bundle.Check(f, nil)
	return err
}

func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// Restore puts the records of a backup into a data folder that holds none. All
// of it is checked first; what was under way when it was taken is ended in the
// records, for how it went on is not known.
func Restore(ctx context.Context, file, dir string, now func() time.Time) (made time.Time, about About, err error) {
	if st, err := os.Stat(filepath.Join(dir, store.File)); err == nil && st.Size() > 0 {
		return made, about, fmt.Errorf("%s holds records already; give another folder, or move them away first", dir)
	}
	if _, err := control.Ask(ctx, dir); !errors.Is(err, control.ErrNobody) {
		return made, about, fmt.Errorf("a service runs with %s; stop it first", dir)
	}
	f, err := os.Open(file)
	if err != nil {
		return made, about, err
	}
	defer func() { _ = f.Close() }()
	m, err := bundle.Check(f, nil)
	if err != nil {
		return made, about, fmt.Errorf("%s: %w", file, err)
	}
	if m.Kind != "backup" {
		return made, about, fmt.Errorf("%s is no backup of the service, but a bundle of kind %q", file, m.Kind)
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return made, about, err
	}
	made = m.Made
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return made, about, err
	}
	tmp, err := os.MkdirTemp(dir, ".restore-")
	if err != nil {
		return made, about, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(tmp)) }()
	if err := bundle.Each(
		f, func(name string, _ int64, content io.Reader) error { return unpack(tmp, name, content) },
	); err != nil {
		return made, about, err
	}
	if about, err = look(ctx, tmp); err != nil {
		return made, about, err
	}
	if err := settle(ctx, tmp, m.Made, now); err != nil {
		return made, about, err
	}
	if err := aside(tmp, dir); err != nil {
		return made, about, err
	}
	// The database last: a folder without one holds nothing.
	for _, name := range []string{keyFile, signFile, store.File} {
		if _, err := os.Stat(filepath.Join(tmp, name)); name == signFile && errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err := os.Rename(filepath.Join(tmp, name), filepath.Join(dir, name)); err != nil {
			return made, about, err
		}
	}
	return made, about, errors.Join(syncDir(dir), olderThanNoted(dir), folder.Set(dir, folder.Closed))
}

// olderThanNoted says of what is noted as on hold that the records may not reach as far: they
// come from a backup. The next start finds out which of it they know.
func olderThanNoted(dir string) error {
	list, err := folder.Holds(dir)
	if err != nil || len(list) == 0 {
		return err
	}
	for i := range list {
		list[i].Entries = 0
	}
	return folder.SetHolds(dir, list)
}

// aside keeps what is in the way of a restore and may be needed yet: another key, and what
// was left of records.
func aside(tmp, dir string) error {
	for _, name := range []string{store.File, store.File + "-wal", store.File + "-shm"} {
		if err := os.Rename(
			filepath.Join(dir, name), filepath.Join(dir, name+".before-restore"),
		); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	was, err := os.ReadFile(filepath.Join(dir, keyFile))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	is, rerr := os.ReadFile(filepath.Join(tmp, keyFile))
	if err = errors.Join(err, rerr); err != nil || bytes.Equal(was, is) {
		return err
	}
	return os.Rename(filepath.Join(dir, keyFile), filepath.Join(dir, keyFile+".before-restore"))
}

func unpack(dir, name string, content io.Reader) error {
	if name != store.File && name != keyFile && name != signFile {
		return fmt.Errorf("a backup does not hold %q", name)
	}
	f, err := os.OpenFile(filepath.Join(dir, name), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, content)
	return errors.Join(err, f.Sync(), f.Close())
}

func settle(ctx context.Context, dir string, made time.Time, now func() time.Time) error {
	s, err := store.Open(dir)
	if err != nil {
		return err
	}
	err = s.Settle(ctx, now(), func(tx *store.Tx, e ledger.Entry) error {
		e.At, e.Actor = now().UTC(), audit.Service
		if e.Action == "service.restored" {
			e.Note = "from a backup taken " + made.Format(time.RFC3339) + "; " + e.Note
		}
		_, err := tx.AppendLedger(e)
		return err
	})
	return errors.Join(err, s.Close())
}
