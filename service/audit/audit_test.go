package audit_test

import (
	"crypto/ed25519"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
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
		require.NoError(t, tx.AddAccount(store.Account{Name: "mara", Grants: []string{"read"}, Created: log.Now()}))
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

// altered runs statements on the database beside the service, its rules taken
// away.
func altered(t *testing.T, dir string, stmts ...string) {
	t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(dir, "oaken-latch.db"))
	require.NoError(t, err)
	defer func() { _ = db.Close() }()
	for _, s := range append([]string{"DROP TRIGGER IF EXISTS ledger_no_update", "DROP TRIGGER IF EXISTS ledger_no_delete"}, stmts...) {
		_, err := db.Exec(s)
		require.NoError(t, err, s)
	}
}

func enter(t *testing.T, log *audit.Log, n int) {
	t.Helper()
	for range n {
		require.NoError(t, log.Write(t.Context(), func(tx *audit.Tx) error { return tx.Record(ledger.Entry{Actor: "mara", Action: "x"}) }))
	}
}

func findings(t *testing.T, log *audit.Log, elsewhere ...ledger.Checkpoint) []string {
	t.Helper()
	v, err := log.Verify(t.Context(), elsewhere)
	require.NoError(t, err)
	out := []string{}
	for _, f := range v.Findings {
		out = append(out, f.String())
	}
	return out
}

// Someone with the database in their hands can take its rules away, and is
// found out all the same.
func TestTamperingIsFound(t *testing.T) {
	for want, stmt := range map[string]string{
		"entry 2: its content does not match":      "UPDATE ledger SET actor = 'joss' WHERE seq = 2",
		"entry 3: entry 2 before it is missing":    "DELETE FROM ledger WHERE seq = 2",
		"entry 3: its content does not match its":  "UPDATE ledger SET at = '2026-11-23T01:00:00.000Z' WHERE seq = 3",
		"entry 4: its content does not match":      "UPDATE ledger SET outcome = 'failed' WHERE seq = 4",
		"entry 5: it is missing at the end: the":   "DELETE FROM ledger WHERE seq = 5",
		"among the kept checkpoints: the checkpoi": "UPDATE checkpoints SET body = replace(body, 'seq\":5', 'seq\":4')",
	} {
		t.Run(want, func(t *testing.T) {
			log, _, dir := newLog(t)
			require.NoError(t, log.UseKey(t.Context(), newKey(t)))
			enter(t, log, 4)
			_, err := log.Checkpoint(t.Context())
			require.NoError(t, err)
			assert.Empty(t, findings(t, log))
			altered(t, dir, stmt)
			got := findings(t, log)
			require.Len(t, got, 1)
			assert.Contains(t, got[0], want)
		})
	}
}

func newKey(t *testing.T) ed25519.PrivateKey {
	_, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	return key
}

// Who rewrites all of it, with the whole chain sealed anew, with checkpoints
// signed by a key of their own, is found by the key beside the database and by
// a checkpoint that was kept elsewhere.
func TestRewritten(t *testing.T) {
	log, s, dir := newLog(t)
	key := newKey(t)
	require.NoError(t, log.UseKey(t.Context(), key))
	enter(t, log, 5)
	first, err := log.Checkpoint(t.Context())
	require.NoError(t, err)
	again, err := log.Checkpoint(t.Context())
	require.NoError(t, err)
	assert.Equal(t, first, again, "nothing came since")
	enter(t, log, 2)
	require.NoError(t, log.UseKey(t.Context(), key))
	v, err := log.Verify(t.Context(), []ledger.Checkpoint{first})
	require.NoError(t, err)
	assert.Equal(t, []any{int64(8), int64(6), first.Key}, []any{v.Entries, v.Held().Seq, v.Held().Key})

	list, err := s.Ledger(t.Context(), store.LedgerQuery{Oldest: true})
	require.NoError(t, err)
	list[2].Actor = "joss"
	stmts := []string{}
	for i := 2; i < len(list); i++ {
		list[i] = ledger.Seal(list[i], list[i-1].Hash)
		stmts = append(stmts, fmt.Sprintf("UPDATE ledger SET actor = '%s', prev = '%s', hash = '%s' WHERE seq = %d", list[i].Actor, list[i].Prev, list[i].Hash, i+1))
	}
	altered(t, dir, stmts...)
	got := findings(t, log)
	require.Len(t, got, 1)
	assert.Contains(t, got[0], "entry 6: it is not what the checkpoint signed at 2026-11-23T02:00:00Z says: entries from the first on were rewritten")

	forged, err := json.Marshal(ledger.Sign(newKey(t), list[5], log.Now()))
	require.NoError(t, err)
	altered(t, dir, fmt.Sprintf("UPDATE checkpoints SET body = '%s'", forged))
	v, err = log.Verify(t.Context(), nil)
	require.NoError(t, err)
	assert.Empty(t, v.Findings)
	assert.Zero(t, v.Held().Seq, "what another signed holds nothing")
	assert.Contains(t, v.Notes[0], "1 kept checkpoints are signed with another key")
	assert.Len(t, findings(t, log, first), 1, "the one kept elsewhere tells")
	var forgery ledger.Checkpoint
	require.NoError(t, json.Unmarshal(forged, &forgery))
	_, err = log.Verify(t.Context(), []ledger.Checkpoint{forgery})
	require.ErrorContains(t, err, "which this service never signed with")
	forgery.Seq = 2
	_, err = log.Verify(t.Context(), []ledger.Checkpoint{forgery})
	require.ErrorContains(t, err, "was altered")
}

// Another key signs from some time on: what the former one signed is verified as
// before, and what neither of them signed is not.
func TestRotatedKey(t *testing.T) {
	dir := t.TempDir()
	s, err := store.Open(dir)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	log := audit.New(s, time.Now)
	require.NoError(t, log.UseKey(t.Context(), newKey(t)))
	enter(t, log, 1)
	before, err := log.Checkpoint(t.Context())
	require.NoError(t, err)
	require.NoError(t, log.UseKey(t.Context(), newKey(t)))
	enter(t, log, 1)
	after, err := log.Checkpoint(t.Context())
	require.NoError(t, err)
	assert.NotEqual(t, before.Key, after.Key)
	v, err := log.Verify(t.Context(), []ledger.Checkpoint{before, after})
	require.NoError(t, err)
	assert.Zero(t, v.Wrong, v.Findings)
	assert.Equal(t, after.Seq, v.Held().Seq)
	keys, err := log.Keys(t.Context())
	require.NoError(t, err)
	assert.Len(t, keys, 2)
}

// What a person does is recorded with the way they came in; what the service
// does by itself is not.
func TestWay(t *testing.T) {
	log, s, _ := newLog(t)
	ctx := audit.By(t.Context(), audit.Way{Kind: "console", Address: "198.51.100.7", Session: "ab12"})
	require.NoError(t, log.Write(ctx, func(tx *audit.Tx) error {
		require.NoError(t, tx.AddAccount(store.Account{Name: "mara", Grants: []string{"read"}, Created: log.Now()}))
		n, err := tx.AddChange(store.Change{Title: "t", Ticket: "TF-9", Author: "mara", State: "draft", Opened: log.Now(), Updated: log.Now()})
		require.NoError(t, err)
		return errors.Join(tx.Record(ledger.Entry{Actor: "mara", Action: "change.open", Change: n.Number}), tx.Record(ledger.Entry{Actor: audit.Service, Action: "x"}))
	}))
	list, err := s.Ledger(t.Context(), store.LedgerQuery{Oldest: true})
	require.NoError(t, err)
	assert.Equal(t, []string{"console", "198.51.100.7", "ab12", "TF-9"}, []string{list[0].Way, list[0].Address, list[0].Session, list[0].Ticket})
	assert.Empty(t, list[1].Way+list[1].Address)
}
