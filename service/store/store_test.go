package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/guard"
	"oakenlatch/core/ledger"
)

var now = time.Date(2026, 11, 23, 2, 0, 0, 5e6, time.UTC)

func open(t *testing.T, dir string) *Store {
	t.Helper()
	s, err := Open(dir)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	return s
}

func write(t *testing.T, s *Store, f func(*Tx) error) {
	t.Helper()
	require.NoError(t, s.Write(t.Context(), f))
}

// The ledger can be added to and nothing else, even by someone who holds the
// database open.
func TestLedgerIsAppendOnly(t *testing.T) {
	s := open(t, t.TempDir())
	for i := range 3 {
		write(t, s, func(tx *Tx) error {
			_, err := tx.AppendLedger(ledger.Entry{At: now, Actor: "mara", Action: "edit.put", Path: fmt.Sprint(i)})
			return err
		})
	}
	for _, stmt := range []string{"UPDATE ledger SET actor = 'joss'", "DELETE FROM ledger WHERE seq = 2"} {
		_, err := s.db.Exec(stmt)
		require.ErrorContains(t, err, "append-only")
	}
	list, err := s.Ledger(t.Context(), LedgerQuery{Oldest: true})
	require.NoError(t, err)
	var v ledger.Verifier
	for _, e := range list {
		require.NoError(t, v.Next(e), "what was read back is what was sealed")
	}
	assert.Len(t, list, 3)
}

func TestLedgerQueries(t *testing.T) {
	s := open(t, t.TempDir())
	for _, e := range []ledger.Entry{
		{Actor: "mara", Action: "edit.put", Change: 1, Device: "a"}, {Actor: "joss", Action: "edit.put", Change: 2, Device: "a"},
		{Actor: "joss", Action: "commit.start", Change: 2}, {Actor: "service", Action: "device.seen", Change: 2, Device: "b"},
	} {
		e.At = now
		write(t, s, func(tx *Tx) error { _, err := tx.AppendLedger(e); return err })
	}
	for _, c := range []struct {
		q    LedgerQuery
		want []int64
	}{
		{LedgerQuery{}, []int64{4, 3, 2, 1}}, {LedgerQuery{Limit: 2}, []int64{4, 3}}, {LedgerQuery{Before: 3}, []int64{2, 1}},
		{LedgerQuery{After: 2, Oldest: true}, []int64{3, 4}}, {LedgerQuery{Device: "a"}, []int64{2, 1}},
		{LedgerQuery{Change: 2, Actor: "joss"}, []int64{3, 2}}, {LedgerQuery{Reader: "mara"}, []int64{4, 3, 1}},
	} {
		list, err := s.Ledger(t.Context(), c.q)
		require.NoError(t, err)
		var got []int64
		for _, e := range list {
			got = append(got, e.Seq)
		}
		assert.Equal(t, c.want, got, "%+v", c.q)
	}
}

// A transaction is all or nothing, and writers wait for each other.
func TestTransactions(t *testing.T) {
	s := open(t, t.TempDir())
	boom := errors.New("boom")
	err := s.Write(t.Context(), func(tx *Tx) error {
		require.NoError(t, tx.AddAccount(Account{Name: "x", Role: "viewer", Created: now}))
		return boom
	})
	require.ErrorIs(t, err, boom)
	_, err = s.Account(t.Context(), "x")
	require.ErrorIs(t, err, ErrNotFound)
	// Many at once share transactions, and the failure of one is its own.
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			for i := range 10 {
				err := s.Write(context.Background(), func(tx *Tx) error {
					_, err := tx.AppendLedger(ledger.Entry{At: now})
					if i%2 == 1 {
						return boom
					}
					return err
				})
				if i%2 == 0 {
					assert.NoError(t, err)
				} else {
					assert.ErrorIs(t, err, boom)
				}
			}
		})
	}
	wg.Go(func() {
		_ = s.Write(context.Background(), func(*Tx) error { runtime.Goexit(); return nil })
	})
	wg.Wait()
	list, err := s.Ledger(t.Context(), LedgerQuery{})
	require.NoError(t, err)
	assert.Len(t, list, 40)
}

func TestRecordsOutlastTheProcess(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	plan := guard.Plan{Hold: time.Minute, Devices: []guard.PlannedDevice{{Name: "d", Keeper: guard.BySession, Wave: 2}}}
	body := []byte("<config>" + string(make([]byte, 4096)) + "</config>")
	write(t, s, func(tx *Tx) error {
		require.NoError(t, tx.AddAccount(Account{Name: "mara", Role: "operator", Created: now}))
		require.ErrorIs(t, tx.AddAccount(Account{Name: "mara", Role: "admin", Created: now}), ErrExists)
		require.NoError(t, tx.AddToken("h", "mara", now, now.Add(time.Hour)))
		require.NoError(t, tx.AddDevice(Device{Name: "d", Address: "a:1", Account: "u", Auth: "password", Secret: []byte{1}, Added: now, AddedBy: "mara"}))
		require.NoError(t, tx.SetModules(1, "list", "set", []byte("modules"), []string{"urn:x"}))
		require.NoError(t, tx.AddConfig("digest", func() []byte { return body }))
		require.NoError(t, tx.AddConfig("digest", func() []byte { panic("asked again") }), "a configuration is kept once")
		for i := range int64(3) {
			r, err := tx.AddRevision(Revision{Device: 1, Digest: "digest", At: now, Source: "first"})
			require.NoError(t, err)
			require.Equal(t, i+1, r.Number)
		}
		c, err := tx.AddChange(Change{Title: "t", Author: "mara", State: "draft", Opened: now})
		require.NoError(t, err)
		require.NoError(t, tx.SetPart(Part{Change: c.Number, Device: 1, Base: 3}))
		_, err = tx.AddEdit(Edit{Change: c.Number, Device: 1, Op: "put", Path: "/a", Actor: "mara", At: now})
		require.NoError(t, err)
		cm, err := tx.AddCommit(Commit{Change: c.Number, Actor: "mara", Hold: time.Minute, Started: now, Plan: plan, State: guard.New(plan), Parts: []CommitPart{{Device: 1, Persist: "p"}}})
		require.NoError(t, err)
		require.NoError(t, tx.SetCommitPart(cm.ID, 0, "digest", "digest"))
		state, _ := guard.Step(cm.State, guard.Event{Kind: guard.Start, At: now})
		return tx.Journal(cm.ID, []guard.Event{{Kind: guard.Start, At: now}}, state, time.Time{})
	})
	write(t, s, func(tx *Tx) error {
		require.NoError(t, tx.SetSave(1, false))
		require.NoError(t, tx.SetClock(1, Clock{Ahead: -90 * time.Second, Read: now}))
		v, err := tx.AddScheduled(Scheduled{Kind: "commit", Change: 1, At: now.Add(time.Hour), Zone: "Europe/Paris", Lateness: time.Minute, Actor: "mara", Made: now})
		require.NoError(t, err)
		_, err = tx.AddScheduled(Scheduled{Kind: "restart", Device: 1, At: now, Zone: "UTC", Actor: "mara", Made: now})
		require.NoError(t, err)
		require.NoError(t, tx.EndScheduled(v.ID, "cancelled", "by mara", now))
		require.ErrorIs(t, tx.EndScheduled(v.ID, "begun", "", now), ErrNotFound, "it waits no more")
		return nil
	})
	require.NoError(t, s.Close())
	require.ErrorIs(t, s.Write(t.Context(), func(*Tx) error { return nil }), errClosed)

	s = open(t, dir)
	waiting, err := s.Waiting(t.Context())
	require.NoError(t, err)
	require.Len(t, waiting, 1)
	assert.Equal(t, int64(1), waiting[0].Device)
	all, err := s.Schedule(t.Context(), 10)
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, "cancelled", all[1].State)
	assert.Equal(t, time.Minute, all[1].Lateness)
	d, err := s.Device(t.Context(), "d")
	require.NoError(t, err)
	assert.Equal(t, []string{"urn:x"}, d.Capabilities)
	assert.True(t, d.NoSave)
	assert.Equal(t, -90*time.Second, d.Clock.Ahead)
	got, err := s.Config(t.Context(), "digest")
	require.NoError(t, err)
	assert.Equal(t, body, got)
	openCommits, err := s.OpenCommits(t.Context())
	require.NoError(t, err)
	require.Len(t, openCommits, 1)
	assert.Equal(t, guard.Preparing, openCommits[0].State.Phase)
	assert.Equal(t, plan, openCommits[0].Plan)
	_, err = s.db.Exec("UPDATE commits SET plan = ''")
	require.NoError(t, err)
	old, err := s.LastCommit(t.Context(), 1)
	require.NoError(t, err)
	assert.Equal(t, guard.Plan{Hold: time.Minute, Devices: []guard.PlannedDevice{{Name: "d", Keeper: guard.ByDevice}}}, old.Plan, "made by an older release")
	assert.Equal(t, []CommitPart{{Device: 1, Persist: "p", Base: "digest", Result: "digest"}}, openCommits[0].Parts)
	events, err := s.JournalOf(t.Context(), openCommits[0].ID)
	require.NoError(t, err)
	assert.Equal(t, []guard.Event{{Kind: guard.Start, At: now}}, events)
	_, err = s.TokenAccount(t.Context(), "h", now.Add(59*time.Minute))
	require.NoError(t, err)
	_, err = s.TokenAccount(t.Context(), "h", now.Add(time.Hour))
	require.ErrorIs(t, err, ErrNotFound, "an expired token is none")
	write(t, s, func(tx *Tx) error { return tx.DropEdit(1, 1) })
	parts, err := s.Parts(t.Context(), 1)
	require.NoError(t, err)
	assert.Empty(t, parts, "a part goes with its last edit")
}

// A folder may be called what it likes: nothing in its name is taken for more
// than a name.
func TestFolderNames(t *testing.T) {
	for _, name := range []string{"a#b", "a?b=c", "100%41", "two words", "a"} {
		dir := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.Mkdir(dir, 0o700))
		s, err := Open(dir)
		require.NoError(t, err, name)
		require.NoError(t, s.Close())
		assert.FileExists(t, filepath.Join(dir, "oaken-latch.db"))
	}
}
