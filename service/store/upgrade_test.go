package store

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// old makes the records of an earlier release.
func old(t *testing.T, dir string, release int64) {
	t.Helper()
	db, err := connect(filepath.Join(dir, File))
	require.NoError(t, err)
	p, err := provider(db)
	require.NoError(t, err)
	_, err = p.UpTo(t.Context(), release)
	require.NoError(t, err)
	for name, role := range map[string]string{"abel": "admin", "mara": "operator", "wren": "viewer"} {
		_, err = db.Exec(
			"INSERT INTO accounts (name, hash, role, created_at) VALUES (?, 'h', ?, ?)", name, role, timeText(now),
		)
		require.NoError(t, err)
	}
	require.NoError(t, db.Close())
}

// Records of an earlier release are brought up to date on a copy; the former ones
// stay beside it, and where that fails, in their place.
func TestUpgrade(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	file := filepath.Join(dir, File)
	old(t, dir, 8)
	s := open(t, dir)
	list, err := s.Accounts(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"read", "stage", "commit", "approve", "audit", "administer", "reveal"}, list[0].Grants)
	assert.Equal(t, []string{"read", "stage", "commit", "approve", "audit"}, list[1].Grants)
	assert.Equal(t, []string{"read", "audit"}, list[2].Grants)
	_, err = s.db.Exec(
		"INSERT INTO changes (title, author, state, opened_at, updated_at) VALUES ('t', 'mara', 'partly', ?1, ?1)",
		timeText(now),
	)
	require.NoError(t, err, "a state that came later")
	_, err = s.db.Exec(
		"INSERT INTO changes (title, author, state, opened_at, updated_at) VALUES ('t', 'mara', 'adrift', ?1, ?1)",
		timeText(now),
	)
	require.ErrorContains(t, err, "CHECK")
	kept, err := sql.Open("sqlite", file+".release-8")
	require.NoError(t, err)
	var role string
	require.NoError(t, kept.QueryRow("SELECT role FROM accounts WHERE name = 'mara'").Scan(&role), "as they were")
	assert.Equal(t, "operator", role)
	require.NoError(t, kept.Close())
	assert.NoFileExists(t, file+".upgrade")

	// A copy on which it fails: the records stay as they are.
	broken := t.TempDir()
	old(t, broken, 8)
	db, err := connect(filepath.Join(broken, File))
	require.NoError(t, err)
	_, err = db.Exec("CREATE TABLE sealed (in_the_way TEXT)")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, err = Open(broken)
	require.ErrorContains(t, err, "they were left as they are")
	db, err = connect(filepath.Join(broken, File))
	require.NoError(t, err)
	require.NoError(t, db.QueryRow("SELECT role FROM accounts WHERE name = 'mara'").Scan(&role))
	_, err = db.Exec("DROP TABLE sealed")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	again, err := Open(broken)
	require.NoError(t, err, "once that is out of the way it goes on")
	require.NoError(t, again.Close())

	// Of a newer release, or no database at all.
	db, err = connect(filepath.Join(broken, File))
	require.NoError(t, err)
	_, err = db.Exec("INSERT INTO goose_db_version (version_id, is_applied) VALUES (9999, 1)")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, err = Open(broken)
	require.ErrorContains(t, err, "newer release (9999)")
	text := t.TempDir()
	require.NoError(
		t, os.WriteFile(filepath.Join(text, File), []byte(strings.Repeat("these are no records", 500)), 0o600),
	)
	_, err = Open(text)
	require.ErrorIs(t, err, ErrDamaged)
	torn := t.TempDir()
	old(t, torn, 8)
	body, err := os.ReadFile(filepath.Join(torn, File))
	require.NoError(t, err)
	copy(body[4096:], make([]byte, 8*4096))
	require.NoError(t, os.WriteFile(filepath.Join(torn, File), body, 0o600))
	_, err = Open(torn)
	require.ErrorIs(t, err, ErrDamaged)
}

// A disk without room: what does not fit is refused and says so, nothing of it is
// kept, and what fits goes on.
func TestFullDisk(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	add := func(name string, hash string) error {
		return s.Write(
			context.Background(),
			func(tx *Tx) error { return tx.AddAccount(Account{Name: name, Hash: hash, Created: now}) },
		)
	}
	require.NoError(t, add("mara", "h")) // what it takes is prepared from here on, and one connection enough
	s.db.SetMaxOpenConns(1)
	var pages int
	require.NoError(t, s.db.QueryRow("PRAGMA page_count").Scan(&pages))
	_, err := s.db.Exec("PRAGMA max_page_count = " + strconv.Itoa(pages+2))
	require.NoError(t, err)
	require.ErrorIs(t, add("joss", strings.Repeat("long", 100_000)), ErrFull)
	list, err := s.Accounts(t.Context())
	require.NoError(t, err)
	assert.Len(t, list, 1)
	require.NoError(t, add("joss", "short"))
}

// Something that has the database for itself is named.
func TestLockedDatabase(t *testing.T) {
	t.Parallel()
	err := explain(os.ErrClosed)
	assert.Equal(t, os.ErrClosed, err)
	dir := t.TempDir()
	s := open(t, dir)
	require.NoError(
		t, s.Write(t.Context(), func(tx *Tx) error { return tx.AddAccount(Account{Name: "w", Created: now}) }),
	)
	other, err := sql.Open("sqlite", filepath.Join(dir, File))
	require.NoError(t, err)
	defer func() { _ = other.Close() }()
	other.SetMaxOpenConns(1)
	_, err = other.Exec("BEGIN EXCLUSIVE")
	require.NoError(t, err)
	s.db.SetMaxOpenConns(1)
	_, err = s.db.Exec("PRAGMA busy_timeout = 50")
	require.NoError(t, err)
	require.ErrorIs(
		t, s.Write(t.Context(), func(tx *Tx) error { return tx.AddAccount(Account{Name: "x", Created: now}) }),
		ErrLocked,
	)
	_, err = other.Exec("ROLLBACK")
	require.NoError(t, err)
	require.NoError(
		t, s.Write(t.Context(), func(tx *Tx) error { return tx.AddAccount(Account{Name: "x", Created: now}) }),
	)
}
