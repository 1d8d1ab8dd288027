package doctor_test

import (
	"database/sql"
	"net"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/lab"
	"oakenlatch/service/access"
	"oakenlatch/service/doctor"
	"oakenlatch/service/folder"
	"oakenlatch/service/store"
	"oakenlatch/test/servicetest"
)

// records is a data folder of a service that is stopped.
func records(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.Chmod(dir, 0o700))
	require.NoError(t, folder.Set(dir, folder.Closed))
	r := servicetest.NewAt(t, dir, func(*lab.Spec) {}, "saltern-quay")
	_, err := r.History.Read(t.Context(), store.Everything, "saltern-quay", "mara")
	require.NoError(t, err)
	require.NoError(t, r.Accounts.Add(t.Context(), "x", "admin", "a long enough password", servicetest.Admin))
	r.Close()
	return dir
}

func examine(t *testing.T, dir string) []doctor.Finding {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	free := l.Addr().String()
	require.NoError(t, l.Close())
	return doctor.Examine(t.Context(), doctor.Patient{
		Dir: dir, KeyFile: filepath.Join(dir, access.KeyFile), Listen: free, Now: time.Now(), Deep: true,
	})
}

// within does something to the database of a folder, as somebody would who can write there.
func within(t *testing.T, dir string, statements ...string) {
	t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(dir, store.File))
	require.NoError(t, err)
	for _, text := range statements {
		_, err := db.Exec(text)
		require.NoError(t, err, text)
	}
	require.NoError(t, db.Close())
}

// TestWhatIsWrongIsFound spoils one thing at a time: it is found, graded, and told with a next step, and the rest is
// looked at all the same.
func TestWhatIsWrongIsFound(t *testing.T) {
	good := examine(t, records(t))
	for _, f := range good {
		// The rooms of the tests sign nothing, which is found as well.
		assert.Equal(t, f.What == "signing key", f.Grade == doctor.Wrong, "%+v", f)
	}
	require.Greater(t, len(good), 8)
	for name, c := range map[string]struct {
		spoil func(t *testing.T, dir string)
		grade doctor.Grade
		says  string
	}{
		"the key is gone": {func(t *testing.T, dir string) {
			require.NoError(t, os.Remove(filepath.Join(dir, access.KeyFile)))
		}, doctor.Wrong, access.KeyFile},
		"another key": {func(t *testing.T, dir string) {
			require.NoError(t, os.Remove(filepath.Join(dir, access.KeyFile)))
			_, err := access.OpenSealer(filepath.Join(dir, access.KeyFile))
			require.NoError(t, err)
		}, doctor.Wrong, "does not open with this key file"},
		"others may read the key": {func(t *testing.T, dir string) {
			require.NoError(t, os.Chmod(filepath.Join(dir, access.KeyFile), 0o644))
		}, doctor.Look, "may be read by others"},
		"an entry was altered": {func(t *testing.T, dir string) {
			var triggers []string
			db, err := sql.Open("sqlite", filepath.Join(dir, store.File))
			require.NoError(t, err)
			rows, err := db.Query("SELECT name FROM sqlite_master WHERE type = 'trigger' AND tbl_name = 'ledger'")
			require.NoError(t, err)
			for rows.Next() {
				var name string
				require.NoError(t, rows.Scan(&name))
				triggers = append(triggers, "DROP TRIGGER "+name)
			}
			require.NoError(t, rows.Err())
			require.NoError(t, db.Close())
			within(t, dir, append(triggers, "UPDATE ledger SET actor = 'joss' WHERE seq = 1")...)
		}, doctor.Wrong, "entry 1"},
		"the records are gone": {func(t *testing.T, dir string) {
			require.NoError(t, os.Remove(filepath.Join(dir, store.File)))
		}, doctor.Wrong, ""},
		"the records are no database": {func(t *testing.T, dir string) {
			text := strings.Repeat("no database ", 999)
			require.NoError(t, os.WriteFile(filepath.Join(dir, store.File), []byte(text), 0o600))
		}, doctor.Wrong, ""},
	} {
		t.Run(name, func(t *testing.T) {
			dir := records(t)
			c.spoil(t, dir)
			found := examine(t, dir)
			i := slices.IndexFunc(found, func(f doctor.Finding) bool {
				return f.Grade == c.grade && strings.Contains(f.Said, c.says) &&
					!slices.ContainsFunc(good, func(g doctor.Finding) bool { return reflect.DeepEqual(f, g) })
			})
			require.GreaterOrEqual(t, i, 0, "%+v", found)
			assert.NotEmpty(t, found[i].Next, "%+v", found[i])
		})
	}
}
