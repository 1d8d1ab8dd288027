// Package records has new records at hand for tests: bringing them up to date takes longer than most tests do.
package records

import (
	"errors"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/alexedwards/argon2id"
	"github.com/stretchr/testify/require"

	"oakenlatch/service/store"
)

// Hashing is how the passwords of tests are hashed: quickly, for there is nothing to keep from anybody.
var Hashing = &argon2id.Params{Memory: 64, Iterations: 1, Parallelism: 1, SaltLength: 16, KeyLength: 32}

// fresh is a database as the first start of the service makes it.
var fresh = sync.OnceValues(func() (text []byte, err error) {
	dir, err := os.MkdirTemp("", "records-")
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	s, err := store.Open(dir)
	if err != nil {
		return nil, err
	}
	if err := s.Close(); err != nil {
		return nil, err
	}
	return os.ReadFile(filepath.Join(dir, store.File))
})

// Fresh puts new records into a folder that has none.
func Fresh(t testing.TB, dir string) {
	t.Helper()
	file := filepath.Join(dir, store.File)
	if _, err := os.Stat(file); err == nil {
		return
	}
	text, err := fresh()
	require.NoError(t, err)
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	require.NoError(t, err)
	_, err = f.Write(text)
	require.NoError(t, errors.Join(err, f.Sync(), f.Close())) // some of these disks fail next
}
