package store

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"
)

// The disk of the records is looked at every second, whether anybody asks or not. What
// is wrong with it is told by Check: nothing new is begun then. What is under way goes on
// as far as it only takes back; see service/engine.

// SpareFile keeps room on the disk of the records. When that is full the file is given up, so
// that what is decided about commits under way can be kept for hours; nothing new is begun
// then, until there is room for it again.
const SpareFile = "spare-room"

// What can be wrong with where the records are kept, beside those in upgrade.go.
var (
	ErrShort = errors.New(
		"the disk of the records is full, and lives on the room that was kept for that: what is under way can be " +
			"decided, nothing new is begun; make room",
	)
	ErrSick = errors.New(
		"the disk of the records fails: nothing of this was stored. What is on hold reverts by itself; have the " +
			"disk repaired, then start the service again",
	)
	ErrSlow = errors.New(
		"the disk of the records does not answer: whether this was stored is not known yet. What is on hold reverts " +
			"by itself; see what the disk waits for",
	)
	ErrGone = errors.New(
		"the folder of the records is gone, or something else stands in its place: the service still holds them " +
			"open; save them now, before it is stopped, with oaken-latchd backup FILE --data DIR",
	)
)

// Sick reports whether an error tells of the disk, or of what stands on it.
func Sick(err error) bool {
	for _, is := range []error{ErrSick, ErrSlow, ErrGone, ErrDamaged, ErrFull} {
		if errors.Is(err, is) {
			return true
		}
	}
	return false
}

const (
	lookEvery  = time.Second
	pulseEvery = 3 * time.Second // while all is well
	lateAfter  = 4 * time.Second // without anything getting on: what takes back waits no longer, and it is told
	// likewise: nobody waits for it any longer. A storage that changes over takes some seconds
	hungAfter  = 15 * time.Second
	nearlyFull = 90 // percent of the disk
)

// health is how the disk of the records is.
type health struct {
	mu      sync.Mutex
	file    string      // of the database; "" where nobody looks after it
	folder  os.FileInfo // as it was at the start
	base    os.FileInfo // the database, likewise
	size    int64       // of the room that is kept
	given   bool        // it was given up
	warned  bool        // that the disk is nearly full
	last    time.Time   // when the records were last tried
	found   error       // what that came to
	failed  time.Time   // when the disk said last that it cannot
	unreads error       // why something could not be read
	trying  sync.Mutex  // one at a time

	late signal // it has not answered for a while: nothing that takes back waits for it
	hung signal // nor for long: nobody waits for it
}

// signal is a state that one can wait for.
type signal struct {
	mu sync.Mutex
	c  chan struct{} // closed while it is so
}

// is gives a channel that is closed while it is so.
func (g *signal) is() <-chan struct{} {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.c == nil {
		g.c = make(chan struct{})
	}
	return g.c
}

func (g *signal) set(is bool) {
	c := g.is()
	g.mu.Lock()
	defer g.mu.Unlock()
	select {
	case <-c:
		if !is {
			g.c = make(chan struct{})
		}
	default:
		if is {
			close(g.c)
		}
	}
}

// Late gives a channel that is closed while the disk of the records has not answered for
// some seconds: what takes back goes on without it then.
func (s *Store) Late() <-chan struct{} { return s.health.late.is() }

// Hung gives a channel that is closed while the disk of the records has not answered for so
// long that nobody is to wait for it.
func (s *Store) Hung() <-chan struct{} { return s.health.hung.is() }

// Watch looks after the disk of the records from now on, and keeps room there. Where
// there is none for it the service goes on without, and Check says so.
func (s *Store) Watch(dir string, spareRoom int64) error {
	h := &s.health
	folder, err := os.Stat(dir)
	if err != nil {
		return err
	}
	base, err := os.Stat(filepath.Join(dir, File))
	if err != nil {
		return err
	}
	h.file, h.folder, h.base, h.size = filepath.Join(dir, File), folder, base, spareRoom
	h.given = spareRoom > 0 && !h.keepRoom()
	s.done.Go(func() {
		tick := time.NewTicker(lookEvery)
		defer tick.Stop()
		for {
			select {
			case <-s.quit:
				return
			case <-tick.C:
				s.look()
			}
		}
	})
	return nil
}

// look looks at the disk, and does not wait for it.
func (s *Store) look() {
	h := &s.health
	h.mu.Lock()
	due := h.found != nil || time.Since(h.last) >= pulseEvery
	h.mu.Unlock()
	done := make(chan struct{})
	go func() {
		defer close(done)
		if tight := s.tight(); due || tight || s.stands() != nil {
			_ = s.try()
		}
	}()
	// What waits its turn behind others is no sign: that none of them gets on is.
	beat := time.NewTicker(lookEvery)
	defer beat.Stop()
	for moves, still := s.moves.Load(), time.Now(); ; {
		select {
		case <-done:
			h.late.set(false)
			h.hung.set(false)
			return
		case <-s.quit:
			return
		case <-beat.C:
		}
		if now := s.moves.Load(); now != moves {
			moves, still = now, time.Now()
		}
		quiet := time.Since(still)
		h.late.set(quiet >= lateAfter)
		h.hung.set(quiet >= hungAfter)
		if quiet >= lateAfter {
			s.tell(ErrSlow)
		}
	}
}

// stands looks whether the folder and the database are the ones that were opened.
func (s *Store) stands() error {
	h := &s.health
	if h.file == "" {
		return nil
	}
	folder, ferr := os.Stat(filepath.Dir(h.file))
	base, berr := os.Stat(h.file)
	if errors.Is(ferr, os.ErrNotExist) || errors.Is(berr, os.ErrNotExist) {
		return ErrGone
	}
	if err := errors.Join(ferr, berr); err != nil {
		return fmt.Errorf("%w (%w)", ErrSick, err)
	}
	if !os.SameFile(folder, h.folder) || !os.SameFile(base, h.base) {
		return ErrGone
	}
	return nil
}

// tight reports whether the disk has next to no room, and says when it begins to.
func (s *Store) tight() bool {
	h := &s.health
	var fs syscall.Statfs_t
	if err := syscall.Statfs(filepath.Dir(h.file), &fs); err != nil || fs.Blocks == 0 {
		return err != nil
	}
	used := int(100 - fs.Bavail*100/fs.Blocks)
	h.mu.Lock()
	defer h.mu.Unlock()
	if used >= nearlyFull && !h.warned {
		slog.Warn(
			"the disk of the records is nearly full: make room, before nothing new can be begun", "folder",
			filepath.Dir(h.file), "percent", used, "megabytes left", fs.Bavail*uint64(fs.Bsize)>>20,
		)
	}
	h.warned = used >= nearlyFull
	return int64(fs.Bavail)*fs.Bsize < 1<<20
}

// try tries whether something can be put on record.
func (s *Store) try() error {
	h := &s.health
	h.trying.Lock()
	defer h.trying.Unlock()
	err := s.stands()
	if err == nil {
		err = s.WriteSure(func(tx *Tx) error {
			_, err := tx.exec("INSERT OR REPLACE INTO pulse (id, at) VALUES (1, ?)", timeText(time.Now()))
			return err
		})
	}
	h.mu.Lock()
	given := h.given
	h.mu.Unlock()
	if given && err == nil {
		var fs syscall.Statfs_t
		given = syscall.Statfs(
			filepath.Dir(h.file), &fs,
		) != nil || int64(fs.Bavail)*fs.Bsize < 2*h.size || !h.keepRoom()
		if given {
			err = ErrShort
		}
	}
	h.mu.Lock()
	if h.given = given; err == nil {
		h.failed, h.unreads = time.Time{}, nil
	}
	h.mu.Unlock()
	s.tell(err)
	return err
}

// tell keeps what was found, and says what is new of it.
func (s *Store) tell(err error) {
	h := &s.health
	h.mu.Lock()
	defer h.mu.Unlock()
	switch {
	case err != nil && (h.found == nil || kind(err) != kind(h.found)):
		slog.Error("nothing new can be begun", "error", err)
	case err == nil && h.found != nil:
		slog.Warn("the records can be written again: changes can be begun")
	}
	h.last, h.found = time.Now(), err
}

// kind is which of the troubles an error is.
func kind(err error) error {
	for _, is := range []error{ErrGone, ErrSlow, ErrSick, ErrFull, ErrShort, ErrDamaged, ErrLocked} {
		if errors.Is(err, is) {
			return is
		}
	}
	return err
}

// checkedFor is how long an answer of Check holds.
const checkedFor = time.Second

// Check says whether something can be put on record, and whether there is room for more:
// nil, ErrShort, or why not. It does not wait for a disk that is late.
func (s *Store) Check(ctx context.Context) error { return s.check(ctx, s.Late()) }

// CheckSure is Check for who is about to begin something: one that is merely late is waited for.
func (s *Store) CheckSure(ctx context.Context) error { return s.check(ctx, s.Hung()) }

func (s *Store) check(ctx context.Context, until <-chan struct{}) error {
	select {
	case <-until:
		return ErrSlow
	default:
	}
	h := &s.health
	h.mu.Lock()
	fresh, found := time.Since(h.last) < checkedFor, h.found
	h.mu.Unlock()
	if fresh && !errors.Is(found, ErrSlow) {
		return found
	}
	done := make(chan error, 1)
	go func() { done <- s.try() }()
	select {
	case err := <-done:
		return err
	case <-until:
		return ErrSlow
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Frozen says why nothing can be put on record until the next start, nil where it can.
func (s *Store) Frozen() error { return s.frozen }

// Unread says why something could not be read, nil where all is well. What was read last
// is given meanwhile.
func (s *Store) Unread() error {
	h := &s.health
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.unreads
}

// unread keeps why something could not be read.
func (h *health) unread(err error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.unreads = err
}

// ill explains an error, and makes room where that is what it wants.
func (s *Store) ill(err error) error {
	h := &s.health
	err = explain(err)
	switch {
	case errors.Is(err, ErrFull):
		h.giveUp()
	case errors.Is(err, ErrSick):
		h.mu.Lock()
		h.failed, h.last = time.Now(), time.Time{}
		h.mu.Unlock()
	case errors.Is(err, ErrDamaged):
		// What could not be read is not damaged for that: SQLite calls it so, too.
		h.mu.Lock()
		ill := !h.failed.IsZero()
		h.mu.Unlock()
		if ill = ill || h.file != "" && unreadable(filepath.Dir(h.file)); ill {
			h.mu.Lock()
			h.failed = time.Now()
			h.mu.Unlock()
			return fmt.Errorf(
				"%w (%s)", ErrSick, strings.Trim(strings.TrimPrefix(err.Error(), ErrDamaged.Error()), " ()"),
			)
		}
	}
	return err
}

// unreadable reports whether a disk gives errors by itself, at other files than the database: to
// close that a second time would give up its lock (fcntl(2)).
func unreadable(dir string) bool {
	list, err := os.ReadDir(dir)
	for _, e := range list {
		info, ierr := e.Info()
		if ierr != nil || !info.Mode().IsRegular() || info.Size() > 1<<20 || strings.HasPrefix(e.Name(), File) {
			err = errors.Join(err, ierr)
			continue
		}
		_, rerr := os.ReadFile(filepath.Join(dir, e.Name()))
		err = errors.Join(err, rerr)
	}
	return errors.Is(err, syscall.EIO)
}

// keepRoom makes the file that keeps room, if it is not there.
func (h *health) keepRoom() bool {
	name := filepath.Join(filepath.Dir(h.file), SpareFile)
	if st, err := os.Stat(name); err == nil && st.Size() >= h.size {
		return true
	}
	err := fill(name, h.size)
	if err != nil {
		_ = os.Remove(name)
	}
	return err == nil
}

// fill writes a file whole: a hole would keep no room.
func fill(name string, size int64) (err error) {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	block := make([]byte, 1<<20)
	for left := size; left > 0 && err == nil; left -= int64(len(block)) {
		_, err = f.Write(block[:min(left, int64(len(block)))])
	}
	if err == nil {
		err = f.Sync()
	}
	return err
}

// giveUp makes room on a full disk.
func (h *health) giveUp() {
	h.mu.Lock()
	h.last = time.Time{}
	again := h.size == 0 || h.given
	h.given = h.size > 0
	h.mu.Unlock()
	name := filepath.Join(filepath.Dir(h.file), SpareFile)
	if again || os.Remove(name) != nil {
		return
	}
	slog.Error(
		"the disk of the records is full: the room that was kept for this is given up, so that what is under way can "+
			"be decided; make room now, nothing new is begun until then",
		"file", name, "bytes", h.size,
	)
}
