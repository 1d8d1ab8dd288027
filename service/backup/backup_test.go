package backup_test

import (
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/lab"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/backup"
	"oakenlatch/service/folder"
	"oakenlatch/service/store"
	"oakenlatch/test/servicetest"
)

const quay = "saltern-quay"

// records is a data folder with a device, a change and a ledger.
func records(t *testing.T) (dir string) {
	t.Helper()
	dir = t.TempDir()
	require.NoError(t, folder.Set(dir, folder.Closed))
	r := servicetest.NewAt(t, dir, func(*lab.Spec) {}, quay)
	c, err := r.Desk.Open(t.Context(), servicetest.Mara, "work", "TF-1")
	require.NoError(t, err)
	_, err = r.Put(servicetest.Mara, c.Number, quay, "/system/contact", "Quay office")
	require.NoError(t, err)
	r.Close()
	return dir
}

// left lists the files of a folder that hold something.
func left(t *testing.T, dir string) (names []string) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			names = append(names, d.Name())
		}
		return err
	}))
	return names
}

// TestThereAndBack: what is restored is what was backed up, with its key and a ledger that holds; nothing that is there
// is written over.
func TestThereAndBack(t *testing.T) {
	dir := records(t)
	file, now := filepath.Join(t.TempDir(), "records.tar"), time.Now
	about, err := backup.Write(t.Context(), dir, filepath.Join(dir, access.KeyFile), file, now())
	require.NoError(t, err)
	assert.Equal(t, 1, about.Devices)
	assert.Equal(t, 1, about.Changes)
	assert.Equal(t, []string{"records.tar"}, left(t, filepath.Dir(file)), "nothing is left beside it")
	st, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o600), st.Mode().Perm(), "it holds a key")

	_, err = backup.Write(t.Context(), dir, filepath.Join(dir, access.KeyFile), file, now())
	require.ErrorIs(t, err, os.ErrExist)
	_, _, err = backup.Restore(t.Context(), file, dir, now)
	require.ErrorContains(t, err, "holds records already")

	again := t.TempDir()
	_, restored, err := backup.Restore(t.Context(), file, again, now)
	require.NoError(t, err)
	assert.Equal(t, about, restored)
	was, err := os.ReadFile(filepath.Join(dir, access.KeyFile))
	require.NoError(t, err)
	is, err := os.ReadFile(filepath.Join(again, access.KeyFile))
	require.NoError(t, err)
	assert.Equal(t, was, is)
	s, err := store.Open(again)
	require.NoError(t, err)
	defer func() { _ = s.Close() }()
	c, err := s.Change(t.Context(), 1)
	require.NoError(t, err)
	assert.Equal(t, "work", c.Title)
	v, err := audit.New(s, audit.Options{}).Verify(t.Context(), nil)
	require.NoError(t, err)
	assert.Zero(t, v.Wrong)
	assert.Equal(t, int64(about.Ledger)+1, v.Entries, "that it was restored is on record")
}

// TestDamagedBackup: a backup that was cut or altered anywhere gives no records at all.
func TestDamagedBackup(t *testing.T) {
	dir := records(t)
	file := filepath.Join(t.TempDir(), "records.tar")
	about, err := backup.Write(t.Context(), dir, filepath.Join(dir, access.KeyFile), file, time.Now())
	require.NoError(t, err)
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	rnd := rand.New(rand.NewPCG(5, 6))
	refused := 0
	for i := range 60 {
		bad := append([]byte{}, whole...)
		if at := rnd.IntN(len(bad)); i%3 == 0 {
			bad = bad[:at]
		} else {
			bad[at] ^= byte(1 << rnd.IntN(8))
		}
		broken, into := filepath.Join(t.TempDir(), "broken.tar"), t.TempDir()
		require.NoError(t, os.WriteFile(broken, bad, 0o600))
		_, got, err := backup.Restore(t.Context(), broken, into, time.Now)
		if err == nil {
			require.Equal(t, about, got, "round %d: what was altered means nothing", i)
			continue
		}
		refused++
		require.Empty(t, left(t, into), "round %d: %v", i, err)
	}
	assert.Greater(t, refused, 40)
}

// TestNoBackup: without what belongs in it none is written, and nothing is left of the try.
func TestNoBackup(t *testing.T) {
	dir, into := records(t), t.TempDir()
	_, err := backup.Write(t.Context(), dir, filepath.Join(dir, "no.key"), filepath.Join(into, "b.tar"), time.Now())
	require.ErrorContains(t, err, "without the key")
	_, err = backup.Write(t.Context(), filepath.Join(dir, "none"), "", filepath.Join(into, "b.tar"), time.Now())
	require.Error(t, err)
	assert.Empty(t, left(t, into))
	require.NoError(t, os.WriteFile(filepath.Join(into, "b.tar"), []byte("not a tar"), 0o600))
	_, _, err = backup.Restore(t.Context(), filepath.Join(into, "b.tar"), filepath.Join(into, "new"), time.Now)
	require.Error(t, err)
	_, err = os.Stat(filepath.Join(into, "new"))
	require.ErrorIs(t, err, os.ErrNotExist)
}
