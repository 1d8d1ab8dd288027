// Package spare keeps some of the files that this process may have open for what takes back: once no more can be
// opened, they are given up for sessions to devices, and nobody else is let in until they could be had again.
//
// How many files may be open is a limit of the whole process (setrlimit(2)), so what is kept of them is too.
package spare

import (
	"errors"
	"os"
	"sync"
	"syscall"
	"time"
)

// Files is how many are kept.
const Files = 64

// pause is how long it waits before it tries to have them again.
const pause = 10 * time.Second

var kept struct {
	mu    sync.Mutex
	files []*os.File // all of them, or none
	given bool       // they were given up, and could not be had again yet
	next  time.Time  // when it is tried to have them again
}

// Keep takes the files, and reports whether it has them: all, or none, for whoever needs one goes first.
func Keep() bool {
	kept.mu.Lock()
	defer kept.mu.Unlock()
	if len(kept.files) > 0 {
		return true
	}
	if time.Now().Before(kept.next) {
		return false
	}
	for len(kept.files) < Files {
		f, err := os.Open(os.DevNull)
		if err != nil {
			give()
			return false
		}
		kept.files = append(kept.files, f)
	}
	kept.given = false
	return true
}

// Short reports whether the files were given up and could not be had again yet.
func Short() bool {
	kept.mu.Lock()
	defer kept.mu.Unlock()
	return kept.given
}

// Open does what opens a file for a device, once more if there was none left: then those that are kept are given up.
func Open[T any](open func() (T, error)) (T, error) {
	out, err := open()
	if !errors.Is(err, syscall.EMFILE) && !errors.Is(err, syscall.ENFILE) {
		return out, err
	}
	kept.mu.Lock()
	give()
	kept.given = true
	kept.mu.Unlock()
	return open()
}

// give gives them up; the lock is held.
func give() {
	for _, f := range kept.files {
		_ = f.Close()
	}
	kept.files, kept.next = nil, time.Now().Add(pause)
}
