package store

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"
)

// A file in the folder of the records keeps room on their disk. When the disk is full it
// is given up, so that what is decided about commits under way can be kept for hours;
// nothing new is begun then, until there is room for it again.

// SpareFile is the file that keeps the room.
const SpareFile = "spare-room"

type spare struct {
	mu    sync.Mutex
	file  string
	size  int64 // 0: none is kept
	given bool
	last  time.Time // when the records were last tried
	found error     // what that came to
}

// KeepSpare has room kept beside the records. Where there is none for it the service goes
// on without, and Check says so.
func (s *Store) KeepSpare(dir string, size int64) {
	r := &s.spare
	r.mu.Lock()
	defer r.mu.Unlock()
	r.file, r.size = filepath.Join(dir, SpareFile), size
	r.take()
}

// take makes the file, if it is not there.
func (r *spare) take() {
	if st, err := os.Stat(r.file); err == nil && st.Size() >= r.size {
		r.given = false
		return
	}
	err := fill(r.file, r.size)
	if err != nil {
		_ = os.Remove(r.file)
	}
	r.given = err != nil
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
func (r *spare) giveUp() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.last = time.Time{}
	if r.size == 0 || r.given {
		return
	}
	r.given = true
	if err := os.Remove(r.file); err == nil {
		slog.Error("the disk of the records is full: the room that was kept for this is given up, so that what is under way can be decided; make room now, nothing new is begun until then", "file", r.file, "bytes", r.size)
	}
}

// ErrShort is given where what is under way can still be put on record, and nothing new
// may be begun.
var ErrShort = errors.New("the disk of the records is full, and lives on the room that was kept for that: what is under way can be decided, nothing new is begun; make room")

// checkedFor is how long the answer of Check holds.
const checkedFor = time.Second

// Check tries whether something can be put on record, and whether there is room for more:
// nil, ErrShort, or why not. Room that was given up is taken again once there is
// room for it twice over.
func (s *Store) Check(ctx context.Context) error {
	r := &s.spare
	r.mu.Lock()
	if time.Since(r.last) < checkedFor {
		defer r.mu.Unlock()
		return r.found
	}
	r.mu.Unlock()
	err := s.Write(ctx, func(tx *Tx) error {
		_, err := tx.exec("INSERT OR REPLACE INTO pulse (id, at) VALUES (1, ?)", timeText(time.Now()))
		return err
	})
	r.mu.Lock()
	defer r.mu.Unlock()
	if err == nil && r.size > 0 {
		if r.given {
			var fs syscall.Statfs_t
			if syscall.Statfs(filepath.Dir(r.file), &fs) == nil && int64(fs.Bavail)*fs.Bsize >= 2*r.size {
				r.take()
			}
		}
		if r.given {
			err = ErrShort
		}
	}
	switch {
	case err != nil && r.found == nil:
		slog.Error("nothing new can be begun", "error", err)
	case err == nil && r.found != nil:
		slog.Warn("there is room again: changes can be begun")
	}
	r.last, r.found = time.Now(), err
	return err
}
