package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/guard"
	"oakenlatch/core/ledger"
	"oakenlatch/core/lifecycle"
)

var now = time.Date(2026, 11, 23, 2, 0, 0, 5e6, time.UTC)

// fresh are records as the first start makes them, made once: that takes longer than most tests.
var fresh = sync.OnceValues(func() ([]byte, error) {
	dir, err := os.MkdirTemp("", "records-")
	if err != nil {
		return nil, err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	s, err := Open(dir)
	if err != nil {
		return nil, err
	}
	if err := s.Close(); err != nil {
		return nil, err
	}
	return os.ReadFile(filepath.Join(dir, File))
})

func open(t *testing.T, dir string) *Store {
	t.Helper()
	file := filepath.Join(dir, File)
	if _, err := os.Stat(file); err != nil {
		text, err := fresh()
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, text, 0o600))
	}
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
	t.Parallel()
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
		v.Next(e)
	}
	assert.True(t, v.End(), "what was read back is what was sealed")
	assert.Len(t, list, 3)
}

func TestLedgerQueries(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	for _, e := range []ledger.Entry{
		{Actor: "mara", Action: "edit.put", Change: 1, Device: "a"},
		{Actor: "joss", Action: "edit.put", Change: 2, Device: "a"}, {Actor: "joss", Action: "commit.start", Change: 2},
		{Actor: "service", Action: "device.seen", Change: 2, Device: "b"},
	} {
		e.At = now
		write(t, s, func(tx *Tx) error { _, err := tx.AppendLedger(e); return err })
	}
	for _, c := range []struct {
		q    LedgerQuery
		want []int64
	}{
		{LedgerQuery{}, []int64{4, 3, 2, 1}}, {LedgerQuery{Limit: 2}, []int64{4, 3}},
		{LedgerQuery{Before: 3}, []int64{2, 1}}, {LedgerQuery{After: 2, Oldest: true}, []int64{3, 4}},
		{LedgerQuery{Reader: "mara"}, []int64{4, 3, 1}},
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
	t.Parallel()
	s := open(t, t.TempDir())
	boom := errors.New("boom")
	err := s.Write(t.Context(), func(tx *Tx) error {
		require.NoError(t, tx.AddAccount(Account{Name: "x", Grants: []string{"read"}, Created: now}))
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
	t.Parallel()
	dir := t.TempDir()
	s := open(t, dir)
	plan := guard.Plan{Hold: time.Minute, Devices: []guard.PlannedDevice{{Name: "d", Keeper: guard.BySession, Wave: 2}}}
	body := []byte("<config>" + string(make([]byte, 4096)) + "</config>")
	write(t, s, func(tx *Tx) error {
		require.NoError(
			t,
			tx.AddAccount(
				Account{Name: "mara", Grants: []string{"read", "stage", "commit", "approve", "audit"}, Created: now},
			),
		)
		require.ErrorIs(
			t, tx.AddAccount(Account{Name: "mara", Grants: []string{"administer"}, Created: now}), ErrExists,
		)
		require.NoError(
			t,
			tx.AddToken(Token{Hash: "h", Account: "mara", Kind: "session", Created: now, Expires: now.Add(time.Hour)}),
		)
		require.NoError(
			t,
			tx.AddDevice(
				Device{
					Name: "d", Address: "a:1", Account: "u", Auth: "password", Secret: []byte{1}, Added: now,
					AddedBy: "mara",
				},
			),
		)
		require.NoError(t, tx.SetModules(1, "list", "set", []byte("modules"), []string{"urn:x"}))
		run, err := tx.AddRun(1, "set", "digest", body)
		require.NoError(t, err)
		require.NoError(t, tx.AddToRun(run, "next", 1, []byte("edits"), false, 5))
		require.Error(t, tx.AddToRun(run, "other", 1, nil, false, 0), "it grew meanwhile")
		for i := range int64(3) {
			r, err := tx.AddRevision(Revision{Device: 1, Digest: "digest", At: now, Source: lifecycle.FirstRead})
			require.NoError(t, err)
			require.Equal(t, i+1, r.Number)
		}
		c, err := tx.AddChange(Change{Title: "t", Author: "mara", State: "draft", Opened: now})
		require.NoError(t, err)
		require.NoError(t, tx.SetPart(Part{Change: c.Number, Device: 1, Base: 3}))
		_, err = tx.AddEdit(Edit{Change: c.Number, Device: 1, Op: "put", Path: "/a", Actor: "mara", At: now})
		require.NoError(t, err)
		cm, err := tx.AddCommit(
			Commit{
				Change: c.Number, Actor: "mara", Hold: time.Minute, Started: now, Plan: plan, State: guard.New(plan),
				Parts: []CommitPart{{Device: 1, Persist: "p"}},
			},
		)
		require.NoError(t, err)
		require.NoError(t, tx.SetCommitPart(cm.ID, 0, "digest", "digest"))
		state, _ := guard.Step(cm.State, guard.Event{Kind: guard.Start, At: now})
		return tx.Journal(cm.ID, []guard.Event{{Kind: guard.Start, At: now}}, state, time.Time{})
	})
	write(t, s, func(tx *Tx) error {
		require.NoError(t, tx.SetSave(1, false))
		require.NoError(t, tx.SetClock(1, Clock{Ahead: -90 * time.Second, Read: now}))
		v, err := tx.AddScheduled(
			Scheduled{
				Kind: "commit", Change: 1, At: now.Add(time.Hour), Zone: "Europe/Paris", Lateness: time.Minute,
				Actor: "mara", Made: now,
			},
		)
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
	assert.Equal(t, lifecycle.Cancelled, all[1].State)
	assert.Equal(t, time.Minute, all[1].Lateness)
	d, err := s.Device(t.Context(), Everything, "d")
	require.NoError(t, err)
	assert.Equal(t, []string{"urn:x"}, d.Capabilities)
	assert.True(t, d.NoSave)
	assert.Equal(t, -90*time.Second, d.Clock.Ahead)
	rec := s.Configs(t.Context())
	at, err := rec.Place("next")
	require.NoError(t, err)
	assert.Equal(t, 1, at.Place)
	run, err := rec.LastRun(1)
	require.NoError(t, err)
	assert.Equal(
		t,
		Run{
			ID: at.Run, Device: 1, Modules: "set", Length: 2, First: "digest", Last: "next", Whole: len(body), Edits: 5,
		},
		run,
	)
	whole, err := rec.Pack(run.ID, 0)
	require.NoError(t, err)
	assert.Equal(t, body, whole)
	_, err = s.db.Exec(
		"INSERT INTO configs (digest, body) VALUES ('old', ?)", s.compress([]byte("by an older release")),
	)
	require.NoError(t, err)
	at, err = rec.Place("old")
	require.NoError(t, err)
	assert.Equal(t, ConfigPlace{Body: []byte("by an older release")}, at)
	openCommits, err := s.OpenCommits(t.Context())
	require.NoError(t, err)
	require.Len(t, openCommits, 1)
	assert.Equal(t, guard.Preparing, openCommits[0].State.Phase)
	assert.Equal(t, plan, openCommits[0].Plan)
	_, err = s.db.Exec("UPDATE commits SET plan = ''")
	require.NoError(t, err)
	old, err := s.LastCommit(t.Context(), 1)
	require.NoError(t, err)
	assert.Equal(
		t, guard.Plan{Hold: time.Minute, Devices: []guard.PlannedDevice{{Name: "d", Keeper: guard.ByDevice}}}, old.Plan,
		"made by an older release",
	)
	assert.Equal(t, []CommitPart{{Device: 1, Persist: "p", Base: "digest", Result: "digest"}}, openCommits[0].Parts)
	events, err := s.JournalOf(t.Context(), openCommits[0].ID)
	require.NoError(t, err)
	assert.Equal(t, []guard.Event{{Kind: guard.Start, At: now}}, events)
	tok, acc, err := s.TokenAccount(t.Context(), "h")
	require.NoError(t, err)
	assert.Equal(t, []any{"mara", "mara", now.Add(time.Hour)}, []any{tok.Account, acc.Name, tok.Expires})
	write(t, s, func(tx *Tx) error { return tx.DropEnded(now.Add(time.Hour), now) })
	_, _, err = s.TokenAccount(t.Context(), "h")
	require.ErrorIs(t, err, ErrNotFound, "what has ended is forgotten")
	write(t, s, func(tx *Tx) error { return tx.DropEdit(1, 1) })
	parts, err := s.Parts(t.Context(), 1)
	require.NoError(t, err)
	assert.Empty(t, parts, "a part goes with its last edit")
}

// A folder may be called what it likes: nothing in its name is taken for more
// than a name.
func TestFolderNames(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"a#b", "a?b=c", "100%41", "two words", "a"} {
		dir := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.Mkdir(dir, 0o700))
		s, err := Open(dir)
		require.NoError(t, err, name)
		require.NoError(t, s.Close())
		assert.FileExists(t, filepath.Join(dir, "oaken-latch.db"))
	}
}

// staged fills a store with two devices, two people and a change each.
func staged(t *testing.T) *Store {
	t.Helper()
	s := open(t, t.TempDir())
	write(t, s, func(tx *Tx) error {
		for i, who := range []string{"mara", "joss"} {
			require.NoError(
				t,
				tx.AddAccount(
					Account{Name: who, Grants: []string{"read", "stage", "commit", "approve", "audit"}, Created: now},
				),
			)
			device := string(rune('a' + i))
			require.NoError(
				t,
				tx.AddDevice(
					Device{
						Name: device, Address: device + ":1", Account: "u", Auth: "password", Secret: []byte{1},
						Added: now, AddedBy: "mara",
					},
				),
			)
			if i == 0 {
				require.NoError(t, tx.SetModules(1, "list", "set", []byte("modules"), nil))
				_, err := tx.AddRun(1, "set", "digest", []byte("<config/>"))
				require.NoError(t, err)
			}
			r := Revision{Device: int64(i + 1), Digest: "digest", At: now, Source: lifecycle.FirstRead}
			_, err := tx.AddRevision(r)
			require.NoError(t, err)
		}
		for n, who := range []string{"mara", "joss"} {
			_, err := tx.AddChange(Change{Title: "t", Author: who, State: "draft", Opened: now})
			require.NoError(t, err)
			for d := int64(1); d <= 2; d++ {
				require.NoError(t, tx.SetPart(Part{Change: int64(n + 1), Device: d, Base: 1}))
			}
		}
		return nil
	})
	return s
}

// Whatever is staged, taken back, decided or moved, the change's stamp is
// another; what is not of it leaves it as it was.
func TestStamp(t *testing.T) {
	t.Parallel()
	s := staged(t)
	seen := map[string]string{}
	last := ""
	look := func(what string) {
		t.Helper()
		now, err := s.Stamp(t.Context(), 1)
		require.NoError(t, err)
		require.NotContains(t, seen, now, "%s gives the stamp of %q again", what, seen[now])
		seen[now], last = what, now
	}
	look("nothing")
	for _, step := range []struct {
		what string
		do   func(*Tx) error
	}{
		{"an edit", func(tx *Tx) error {
			_, err := tx.AddEdit(Edit{Change: 1, Device: 1, Op: "put", Path: "/a", Actor: "mara", At: now})
			return err
		}},
		{"a load", func(tx *Tx) error {
			_, err := tx.AddEdit(
				Edit{
					Change: 1, Device: 2, Op: "load", Path: "/", Mode: "merge", Body: []byte("<config/>"), Lines: 3,
					Actor: "mara", At: now,
				},
			)
			return err
		}},
		{"less of the load", func(tx *Tx) error { return tx.SetEditBody(2, 2, []byte("<config/>"), "") }},
		{"the load taken back", func(tx *Tx) error { return tx.DropEdit(1, 2) }},
		{"another in its place", func(tx *Tx) error {
			require.NoError(t, tx.SetPart(Part{Change: 1, Device: 2, Base: 1}), "the part went with it")
			_, err := tx.AddEdit(Edit{Change: 1, Device: 2, Op: "put", Path: "/b", Actor: "joss", At: now})
			return err
		}},
		{"another address", func(tx *Tx) error { return tx.MovePart(Part{Change: 1, Device: 1, MovesTo: "b:1"}) }},
		{"a decision", func(tx *Tx) error {
			return tx.Decide(Decision{Change: 1, Device: 1, Path: "/a", Keep: "mine", Actor: "mara", At: now})
		}},
		{"the other way", func(tx *Tx) error {
			return tx.Decide(Decision{Change: 1, Device: 1, Path: "/a", Keep: "theirs", Actor: "joss", At: now})
		}},
		{"another base", func(tx *Tx) error {
			r := Revision{Device: 1, Digest: "digest", At: now, Source: lifecycle.ByOutside}
			if _, err := tx.AddRevision(r); err != nil {
				return err
			}
			return tx.SetPart(Part{Change: 1, Device: 1, Base: 2})
		}},
	} {
		write(t, s, step.do)
		look(step.what)
	}
	write(t, s, func(tx *Tx) error {
		_, err := tx.AddEdit(Edit{Change: 2, Device: 1, Op: "put", Path: "/a", Actor: "joss", At: now})
		require.NoError(t, err)
		require.NoError(t, tx.SetTitle(1, "another", "TF-2", now))
		in, err := tx.Stamp(1)
		require.NoError(t, err)
		assert.Equal(t, last, in, "another change and another title are not staged here")
		return nil
	})
}

// A reservation is in force until it ends, runs out or is lifted, and hears so
// many asks.
func TestReservationsInForce(t *testing.T) {
	t.Parallel()
	s := staged(t)
	at := func(d time.Duration) time.Time { return now.Add(d) }
	write(t, s, func(tx *Tx) error {
		for _, v := range []Reservation{
			{Device: 1, Holder: "mara", Reason: "ran out", Made: now, Until: at(time.Hour)},
			{Device: 2, Holder: "joss", Reason: "fibre", Made: now, Until: at(3 * time.Hour)},
		} {
			_, err := tx.Reserve(v)
			require.NoError(t, err)
		}
		require.NoError(t, tx.AddAsk(2, Ask{"mara", "when?", now}, 2))
		require.NoError(t, tx.AddAsk(2, Ask{"mara", "and now?", at(time.Minute)}, 2))
		require.ErrorIs(t, tx.AddAsk(2, Ask{"mara", "now?", now}, 2), ErrExists)
		_, err := tx.Reserved(1, at(time.Hour-time.Millisecond))
		require.NoError(t, err)
		_, err = tx.Reserved(1, at(time.Hour))
		require.ErrorIs(t, err, ErrNotFound, "it ends with its last moment")
		return nil
	})
	list, err := s.Reservations(t.Context(), at(2*time.Hour))
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "fibre", list[0].Reason)
	assert.Equal(t, []Ask{{"mara", "when?", now}, {"mara", "and now?", at(time.Minute)}}, list[0].Asks)
	write(t, s, func(tx *Tx) error {
		require.NoError(t, tx.ExtendReservation(2, at(5*time.Hour), "more fibre"))
		v, err := tx.Reserved(2, at(4*time.Hour))
		require.NoError(t, err)
		assert.Equal(t, "more fibre", v.Reason)
		require.NoError(t, tx.EndReservation(2, "mara", at(time.Hour)))
		require.ErrorIs(t, tx.EndReservation(2, "joss", at(time.Hour)), ErrNotFound, "once")
		require.ErrorIs(t, tx.ExtendReservation(2, at(9*time.Hour), "x"), ErrNotFound)
		_, err = tx.Reserved(2, at(2*time.Hour))
		require.ErrorIs(t, err, ErrNotFound)
		return nil
	})
}

// What is staged in a draft is read by its author and those they added, by
// nobody else; once committed it is everybody's.
func TestLedgerOfDrafts(t *testing.T) {
	t.Parallel()
	s := staged(t)
	write(t, s, func(tx *Tx) error {
		for _, action := range []string{"change.open", "edit.put", "part.rebase", "commit.start"} {
			_, err := tx.AppendLedger(ledger.Entry{At: now, Actor: "mara", Action: action, Change: 1})
			require.NoError(t, err)
		}
		return nil
	})
	reads := func(who string) (told []string) {
		t.Helper()
		list, err := s.Ledger(t.Context(), LedgerQuery{Reader: who, Oldest: true})
		require.NoError(t, err)
		for _, e := range list {
			told = append(told, e.Action)
		}
		return told
	}
	all := []string{"change.open", "edit.put", "part.rebase", "commit.start"}
	assert.Equal(t, all, reads("mara"))
	assert.Equal(t, []string{"commit.start"}, reads("joss"), "what happens to the network is nobody's secret")
	write(t, s, func(tx *Tx) error {
		require.NoError(t, tx.AddCoworker(1, "joss", "mara", now))
		require.ErrorIs(t, tx.AddCoworker(1, "joss", "mara", now), ErrExists)
		return nil
	})
	assert.Equal(t, all, reads("joss"))
	of, err := s.SharedWith(t.Context(), "joss")
	require.NoError(t, err)
	assert.Equal(t, []int64{1}, of)
	write(t, s, func(tx *Tx) error {
		require.NoError(t, tx.DropCoworker(1, "joss"))
		require.ErrorIs(t, tx.DropCoworker(1, "joss"), ErrNotFound)
		return nil
	})
	assert.Equal(t, []string{"commit.start"}, reads("joss"))
	write(t, s, func(tx *Tx) error { return tx.SetState(1, lifecycle.Confirmed, "", now) })
	assert.Equal(t, all, reads("joss"))
}

// What a stencil set last by a kept change is in force; not what is only
// staged, nor what was taken off.
func TestBindingsInForce(t *testing.T) {
	t.Parallel()
	s := staged(t)
	bind := func(change, device, version int64, edit int64, filled string) {
		t.Helper()
		b := Binding{
			Stencil: "banner", Device: device, Change: change, Edit: edit, Version: version,
			Blanks: map[string]string{"name": fmt.Sprint(version)}, Actor: "mara", At: now,
		}
		if filled != "" {
			b.Filled = []byte(filled)
		}
		write(t, s, func(tx *Tx) error { return tx.AddBinding(b) })
	}
	inForce := func() (told []string) {
		t.Helper()
		list, err := s.InForce(t.Context(), "banner")
		require.NoError(t, err)
		for _, b := range list {
			told = append(
				told, fmt.Sprintf("%d: version %d, name %s, %s", b.Device, b.Version, b.Blanks["name"], b.Filled),
			)
		}
		return told
	}
	bind(1, 1, 1, 7, "<one/>")
	assert.Empty(t, inForce(), "it is only staged")
	bind(1, 2, 1, 0, "<there/>")
	assert.Equal(t, []string{"2: version 1, name 1, <there/>"}, inForce(), "nothing had to be staged")
	write(t, s, func(tx *Tx) error { return tx.SetState(1, lifecycle.Confirmed, "", now) })
	bind(2, 1, 2, 8, "<two/>")
	assert.Equal(t, []string{"1: version 1, name 1, <one/>", "2: version 1, name 1, <there/>"}, inForce())
	write(t, s, func(tx *Tx) error { return tx.SetState(2, lifecycle.Confirmed, "", now) })
	assert.Equal(t, []string{"1: version 2, name 2, <two/>", "2: version 1, name 1, <there/>"}, inForce())
	bind(2, 2, 2, 9, "")
	assert.Equal(t, []string{"1: version 2, name 2, <two/>"}, inForce())
	other, err := s.InForce(t.Context(), "other")
	require.NoError(t, err)
	assert.Empty(t, other)
	of, err := s.BindingsOf(t.Context(), 2)
	require.NoError(t, err)
	require.Len(t, of, 2)
	assert.Nil(t, of[1].Filled)
}

// A preview is found by its digest, and the newest is what a person saw last.
func TestPreviewsKept(t *testing.T) {
	t.Parallel()
	s := staged(t)
	for i, p := range []struct{ actor, digest string }{{"mara", "x"}, {"mara", "y"}, {"joss", "x"}, {"mara", "x"}} {
		write(t, s, func(tx *Tx) error {
			return tx.KeepPreview(
				Previewed{
					Change: 1, Actor: p.actor, Digest: p.digest, At: now.Add(time.Duration(i) * time.Minute),
					Parts: fmt.Sprintf(`["%d"]`, i),
				},
			)
		})
	}
	last, err := s.LastPreview(t.Context(), 1, "mara")
	require.NoError(t, err)
	assert.Equal(t, "x", last.Digest, "seen again, it is the newest")
	assert.Equal(t, now.Add(3*time.Minute), last.At)
	of, err := s.PreviewOf(t.Context(), 1, "y")
	require.NoError(t, err)
	assert.Equal(t, `["1"]`, of.Parts)
	_, err = s.PreviewOf(t.Context(), 2, "x")
	require.ErrorIs(t, err, ErrNotFound)
	_, err = s.LastPreview(t.Context(), 1, "wren")
	require.ErrorIs(t, err, ErrNotFound)
}

// Who asks for a device says within whose reach; to say nothing is to be given none.
func TestReach(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	require.NoError(t, s.Write(t.Context(), func(tx *Tx) error {
		return errors.Join(
			tx.AddDevice(Device{Name: "hall", Auth: "password", Secret: []byte{1}, Site: "saltern"}),
			tx.AddDevice(Device{Name: "quay", Auth: "password", Secret: []byte{1}, Site: "northmole"}),
		)
	}))
	saltern := Reaching(func(d Device) error {
		if d.Site != "saltern" {
			return errors.New("not there")
		}
		return nil
	})
	for _, c := range []struct {
		reach Reach
		sees  []string
	}{{Reach{}, nil}, {saltern, []string{"hall"}}, {Everything, []string{"hall", "quay"}}} {
		list, err := s.Devices(t.Context(), c.reach)
		require.NoError(t, err)
		var names []string
		for _, d := range list {
			names = append(names, d.Name)
		}
		assert.Equal(t, c.sees, names)
		for id, name := range []string{"hall", "quay"} {
			_, err := s.Device(t.Context(), c.reach, name)
			_, ierr := s.DeviceByID(t.Context(), c.reach, int64(id+1))
			seen := slices.Contains(c.sees, name)
			assert.Equal(t, []bool{seen, seen}, []bool{err == nil, ierr == nil}, name)
			assert.Equal(t, []bool{!seen, !seen}, []bool{OutOfReach(err), OutOfReach(ierr)}, name)
		}
	}
}
