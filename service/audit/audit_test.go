package audit_test

import (
	"database/sql"
	"errors"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/ledger"
	"oakenlatch/service/audit"
	"oakenlatch/service/store"
)

func newLog(t *testing.T) (*audit.Log, *store.Store, string) {
	t.Helper()
	dir := t.TempDir()
	s, err := store.Open(dir)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	return audit.New(s, func() time.Time { return time.Date(2026, 11, 23, 3, 0, 0, 0, time.FixedZone("", 3600)) }), s, dir
}

// What is done and the entry that tells of it are there together, or neither
// is; who follows the ledger is woken by what was added, and by nothing else.
func TestTogetherOrNot(t *testing.T) {
	log, s, _ := newLog(t)
	added := log.Added()
	boom := errors.New("boom")
	err := log.Write(t.Context(), func(tx *audit.Tx) error {
		require.NoError(t, tx.AddAccount(store.Account{Name: "mara", Role: "viewer", Created: log.Now()}))
		require.NoError(t, tx.Record(ledger.Entry{Actor: "x", Action: "account.add"}))
		return boom
	})
	require.ErrorIs(t, err, boom)
	_, err = s.Account(t.Context(), "mara")
	require.ErrorIs(t, err, store.ErrNotFound)
	require.NoError(t, log.Write(t.Context(), func(*audit.Tx) error { return nil }))
	select {
	case <-added:
		t.Fatal("woken by nothing")
	default:
	}
	require.NoError(t, log.Write(t.Context(), func(tx *audit.Tx) error { return tx.Record(ledger.Entry{Actor: "x", Action: "login"}) }))
	select {
	case <-added:
	case <-time.After(time.Second):
		t.Fatal("not woken")
	}
	list, err := log.Entries(t.Context(), store.LedgerQuery{})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "2026-11-23T02:00:00Z", list[0].At.Format(time.RFC3339), "times are UTC")
	assert.Equal(t, int64(1), list[0].Seq, "what was rolled back leaves no gap")
}

// Someone with the database in their hands can take its rules away, and is
// found out all the same.
func TestTamperingIsFound(t *testing.T) {
	for name, stmt := range map[string]string{
		"ledger entry 2: its content does not match":     "UPDATE ledger SET actor = 'joss' WHERE seq = 2",
		"ledger entry 3: does not follow entry 1":        "DELETE FROM ledger WHERE seq = 2",
		"ledger entry 3: its content does not match its": "UPDATE ledger SET at = '2026-11-23T01:00:00.000Z' WHERE seq = 3",
	} {
		t.Run(name, func(t *testing.T) {
			log, _, dir := newLog(t)
			for range 4 {
				require.NoError(t, log.Write(t.Context(), func(tx *audit.Tx) error { return tx.Record(ledger.Entry{Actor: "mara", Action: "x"}) }))
			}
			n, err := log.Verify(t.Context())
			require.NoError(t, err)
			assert.Equal(t, 4, n)
			db, err := sql.Open("sqlite", filepath.Join(dir, "oaken-latch.db"))
			require.NoError(t, err)
			defer func() { _ = db.Close() }()
			for _, trigger := range []string{"ledger_no_update", "ledger_no_delete"} {
				_, err := db.Exec("DROP TRIGGER " + trigger)
				require.NoError(t, err)
			}
			_, err = db.Exec(stmt)
			require.NoError(t, err)
			_, err = log.Verify(t.Context())
			var broken *ledger.BrokenError
			require.ErrorAs(t, err, &broken)
			assert.ErrorContains(t, err, name)
		})
	}
}
