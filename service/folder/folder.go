// Package folder looks after the data folder: whether it is one, whose it is, what must be
// in it, and what was on hold when it was used last. It knows nothing of what the records say.
package folder

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"oakenlatch/service/store"
)

// The files of a data folder beside the database.
const (
	KeyFile   = "seal.key"           // the key that seals, unless another file is named
	MarkFile  = "oaken-latch.folder" // says that it is one
	HoldsFile = "holds-under-way"    // which devices are on hold
	lockFile  = "lock"
)

// Mark is what makes a folder a data folder. It is put there once, at the first start, and
// says whether the last one ended in good form.
type Mark struct {
	Format int       `json:"format"`
	ID     string    `json:"id"`
	Made   time.Time `json:"made"`
	Use    Use       `json:"use"`
}

// Use is how a folder is used.
type Use string

// The uses. What was not closed has the tail of its records in a file of its own, which SQLite
// needs to make them whole (its write-ahead log).
const (
	Making Use = "being made"
	Open   Use = "in use"
	Closed Use = "closed"
)

// ErrNone is wrapped where a folder holds nothing of ours, and ErrLost where what must be in it
// is not.
var (
	ErrNone = errors.New("holds no records")
	ErrLost = errors.New("the records are gone, or a part of them")
)

// Look says what a folder holds: its mark where all that must be there is; ErrNone where
// nothing of ours is, or what a first start that was broken off left; ErrLost where something is missing,
// in words. A folder of an earlier release has no mark.
func Look(dir string) (Mark, error) {
	m, err := readMark(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return m, err
	}
	marked := err == nil && m.Use != Making
	base, berr := os.Stat(filepath.Join(dir, store.File))
	if berr != nil && !errors.Is(berr, fs.ErrNotExist) {
		return m, berr
	}
	wal, werr := os.Stat(filepath.Join(dir, store.File+"-wal"))
	switch {
	case berr == nil && m.Use == Open && (werr != nil || wal.Size() == 0):
		return m, fmt.Errorf(
			"%w: %s was not closed in good form, and %s-wal, which then holds what was recorded last, is not there",
			ErrLost, filepath.Join(dir, store.File), store.File,
		)
	case berr == nil && base.Size() > 0 && m.Use != Making:
		return m, nil
	}
	var left []string
	for _, name := range []string{MarkFile, KeyFile, lockFile, HoldsFile, store.File, store.File + "-wal"} {
		if _, err := os.Stat(filepath.Join(dir, name)); err == nil {
			left = append(left, name)
		}
	}
	if len(left) == 0 || !marked && m.Use == Making {
		return m, fmt.Errorf("%s %w", dir, ErrNone)
	}
	what := store.File + " is not there"
	if berr == nil {
		what = store.File + " is empty"
	}
	return m, fmt.Errorf("%w: %s held some (%s is there), and %s", ErrLost, dir, strings.Join(left, ", "), what)
}

// Advice is what to do where the records are lost.
const Advice = `this is no first start, so that no new records are begun here. What can be done:
  put back what was moved or is not mounted, and start again;
  or restore the newest backup into another folder: oaken-latchd restore FILE --data OTHER;
  or, without one, make a new folder (oaken-latchd init --data OTHER) and rebuild from an archive (docs/runbook.md);
  or, where the records are there and only their end is missing: oaken-latchd accept-loss --data DIR goes on with what is left, and says so in the record`

// Begin marks a folder as being made. What an earlier try left is taken away.
func Begin(dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	for _, name := range []string{store.File, store.File + "-wal", store.File + "-shm"} {
		if err := os.Remove(filepath.Join(dir, name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return writeMark(dir, Mark{1, rand.Text(), time.Now().UTC(), Making})
}

// Set says how a folder is used from now on; one of an earlier release gets a mark by that.
func Set(dir string, use Use) error {
	m, err := readMark(dir)
	if errors.Is(err, fs.ErrNotExist) {
		m, err = Mark{Format: 1, ID: rand.Text(), Made: time.Now().UTC()}, nil
	}
	if err != nil || m.Use == use {
		return err
	}
	m.Use = use
	return writeMark(dir, m)
}

func readMark(dir string) (m Mark, err error) {
	text, err := os.ReadFile(filepath.Join(dir, MarkFile))
	if err != nil {
		return m, err
	}
	if err := json.Unmarshal(text, &m); err != nil {
		return m, fmt.Errorf("%s cannot be read: %w", filepath.Join(dir, MarkFile), err)
	}
	if m.Format != 1 {
		return m, fmt.Errorf("%s is of a newer release (%d): start that one", filepath.Join(dir, MarkFile), m.Format)
	}
	return m, nil
}

func writeMark(dir string, m Mark) error {
	return write(filepath.Join(dir, MarkFile), m)
}

// write puts a file in place whole, on the disk when it returns.
func write(file string, v any) (err error) {
	text, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	next := file + ".next"
	f, err := os.OpenFile(next, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(append(text, '\n'))
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(next, file)
	}
	if err != nil {
		return errors.Join(err, os.Remove(next))
	}
	dir, err := os.Open(filepath.Dir(file))
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}

// Private closes a folder to others on this machine, or says why it stays open.
func Private(dir string) error {
	st, err := os.Stat(dir)
	if err != nil || st.Mode().Perm()&0o077 == 0 {
		return err
	}
	if err := os.Chmod(dir, st.Mode().Perm()&^0o077); err != nil {
		return fmt.Errorf(
			"%s may be read by others on this machine (%s), and cannot be closed to them: %w", dir, st.Mode().Perm(),
			err,
		)
	}
	return nil
}

// Lock makes sure that no second service uses a data folder. The lock ends with the
// process, however it ends. It is on the folder itself, too: that the file is taken away lets
// nobody in.
func Lock(dir string) (*Locked, error) {
	d, err := os.Open(dir)
	if err != nil {
		return nil, fmt.Errorf("data folder: %w", err)
	}
	l := &Locked{files: []*os.File{d}}
	f, err := os.OpenFile(filepath.Join(dir, lockFile), os.O_RDWR|os.O_CREATE, 0o600)
	if errors.Is(err, syscall.EROFS) || errors.Is(err, syscall.ENOSPC) {
		f, err = os.Open(filepath.Join(dir, lockFile)) // one that is there does
		if errors.Is(err, fs.ErrNotExist) {
			err = nil
		}
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("data folder: %w", err), l.Close())
	}
	if f != nil {
		l.files = append(l.files, f)
	}
	for _, f := range l.files {
		if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
			return nil, errors.Join(
				fmt.Errorf(
					"data folder %s is in use by another oaken-latchd; stop it or give another folder with --data", dir,
				),
				l.Close(),
			)
		}
	}
	return l, nil
}

// Take locks a folder that Look found whole. From then on it is not marked as in use: who opens the
// database and closes it writes its log into it, and takes that away.
func Take(dir string) (*Locked, error) {
	l, err := Lock(dir)
	if err != nil {
		return nil, err
	}
	if err := Set(dir, Closed); err != nil && !errors.Is(err, syscall.EROFS) && !errors.Is(err, syscall.ENOSPC) &&
		!errors.Is(err, syscall.EIO) {
		return nil, errors.Join(fmt.Errorf("data folder: %w", err), l.Close())
	}
	return l, nil
}

// Locked is a lock that is held.
type Locked struct{ files []*os.File }

// Close ends it.
func (l *Locked) Close() error {
	var errs []error
	for _, f := range l.files {
		errs = append(errs, f.Close())
	}
	return errors.Join(errs...)
}

// Hold is a commit under way, as it is noted beside the records: for when those are lost.
type Hold struct {
	Change  int64        `json:"change"`
	Title   string       `json:"title"`
	By      string       `json:"by"`
	Began   time.Time    `json:"began"`
	Until   time.Time    `json:"until"`          // as it was at the beginning
	Entries int64        `json:"ledgerEntries"`  // that records which know of it have at least
	Lost    bool         `json:"lost,omitempty"` // the records know nothing of how it went on
	Devices []HeldDevice `json:"devices"`
}

// HeldDevice is a device of a hold.
type HeldDevice struct {
	Name    string `json:"name"`
	Address string `json:"address"`
	Guard   string `json:"guard"`             // what takes it back
	Persist string `json:"persist,omitempty"` // token of its confirmed commit (RFC 6241 section 8.4)
}

// Holds reads what was on hold.
func Holds(dir string) ([]Hold, error) {
	text, err := os.ReadFile(filepath.Join(dir, HoldsFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var list []Hold
	d := json.NewDecoder(bytes.NewReader(text))
	if err := d.Decode(&list); err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", filepath.Join(dir, HoldsFile), err)
	}
	return list, nil
}

// Reaches says with ErrLost that records whose ledger has so many entries do not reach as far
// as what is noted beside them.
func Reaches(dir string, entries int64) error {
	list, err := Holds(dir)
	for _, h := range list {
		if entries < h.Entries {
			return fmt.Errorf(
				"%w: they end at entry %d of the ledger, and when change %d was committed it had %d: another file "+
					"stands here, or its end was cut off",
				ErrLost, entries, h.Change, h.Entries,
			)
		}
	}
	return err
}

// SetHolds notes what is on hold; it is on the disk when it returns.
func SetHolds(dir string, list []Hold) error {
	if list == nil {
		list = []Hold{}
	}
	return write(filepath.Join(dir, HoldsFile), list)
}

// String tells a hold for a person.
func (h Hold) String() string {
	var devices []string
	for _, d := range h.Devices {
		devices = append(devices, fmt.Sprintf("%s (%s; reverted by %s)", d.Name, d.Address, d.Guard))
	}
	slices.Sort(devices)
	return fmt.Sprintf(
		"change %d %q by %s, begun %s, on hold until %s: %s", h.Change, h.Title, h.By,
		h.Began.UTC().Format("2006-01-02 15:04:05 UTC"), h.Until.UTC().Format("2006-01-02 15:04:05 UTC"),
		strings.Join(devices, ", "),
	)
}

// Notes are what is on hold, kept in a data folder. Its methods may be used from many
// goroutines.
type Notes struct {
	dir  string
	mu   sync.Mutex
	list []Hold
}

// OpenNotes reads what is noted in a folder.
func OpenNotes(dir string) (*Notes, error) {
	list, err := Holds(dir)
	return &Notes{dir: dir, list: list}, err
}

// Add notes a hold; it is on the disk when it returns nil.
func (n *Notes) Add(h Hold) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	list := append(slices.Clone(n.list), h)
	if err := SetHolds(n.dir, list); err != nil {
		return err
	}
	n.list = list
	return nil
}

// Reached notes how long the ledger is when a hold is about to be put onto its devices: records
// that end before know nothing of what these hold. It is on the disk when it returns nil.
func (n *Notes) Reached(change int64, began time.Time, entries int64) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	list := slices.Clone(n.list)
	for i, h := range list {
		if h.Change == change && h.Began.Equal(began) {
			list[i].Entries = entries
		}
	}
	if err := SetHolds(n.dir, list); err != nil {
		return err
	}
	n.list = list
	return nil
}

// Drop forgets a hold that is over. Where that cannot be noted it is with the next that can.
func (n *Notes) Drop(change int64, began time.Time) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.list = slices.DeleteFunc(
		slices.Clone(n.list), func(h Hold) bool { return h.Change == change && h.Began.Equal(began) },
	)
	return SetHolds(n.dir, n.list)
}

// Unknown marks as lost what the records know nothing of, and drops what they say is over.
// known says which of the two, or neither.
func (n *Notes) Unknown(known func(Hold) (over, lost bool)) (lost []Hold, err error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	var list []Hold
	changed := false
	for _, h := range n.list {
		over, gone := known(h)
		if over {
			changed = true
			continue
		}
		changed = changed || gone != h.Lost
		if h.Lost = gone; gone {
			lost = append(lost, h)
		}
		list = append(list, h)
	}
	n.list = list
	if changed {
		err = SetHolds(n.dir, list)
	}
	return lost, err
}

// List gives what is noted.
func (n *Notes) List() []Hold {
	n.mu.Lock()
	defer n.mu.Unlock()
	return slices.Clone(n.list)
}
