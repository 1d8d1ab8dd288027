package audit_test

import (
	"crypto/ed25519"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/ledger"
	"oakenlatch/core/lifecycle"
	"oakenlatch/service/audit"
	"oakenlatch/service/store"
	"oakenlatch/test/records"
)

func newLog(t *testing.T) (*audit.Log, *store.Store, string) { return newLogWith(t, false) }

// newLogBeside is one that puts its newest checkpoint beside the records.
func newLogBeside(t *testing.T) (*audit.Log, *store.Store, string) { return newLogWith(t, true) }

func newLogWith(t *testing.T, beside bool) (*audit.Log, *store.Store, string) {
	t.Helper()
	dir := t.TempDir()
	records.Fresh(t, dir)
	s, err := store.Open(dir)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	opt := audit.Options{Now: func() time.Time { return time.Date(2026, 11, 23, 3, 0, 0, 0, time.FixedZone("", 3600)) }}
	if beside {
		opt.Beside = dir
	}
	return audit.New(s, opt), s, dir
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
	require.NoError(
		t,
		log.Write(
			t.Context(), func(tx *audit.Tx) error { return tx.Record(ledger.Entry{Actor: "x", Action: "login"}) },
		),
	)
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
	for _, s := range append(
		[]string{"DROP TRIGGER IF EXISTS ledger_no_update", "DROP TRIGGER IF EXISTS ledger_no_delete"}, stmts...,
	) {
		_, err := db.Exec(s)
		require.NoError(t, err, s)
	}
}

func enter(t *testing.T, log *audit.Log, n int) {
	t.Helper()
	for range n {
		require.NoError(
			t,
			log.Write(
				t.Context(), func(tx *audit.Tx) error { return tx.Record(ledger.Entry{Actor: "mara", Action: "x"}) },
			),
		)
	}
}

func findings(t *testing.T, log *audit.Log, elsewhere ...string) []string {
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
		"entry 2: its content does not match":     "UPDATE ledger SET actor = 'joss' WHERE seq = 2",
		"entry 3: entry 2 before it is missing":   "DELETE FROM ledger WHERE seq = 2",
		"entry 3: its content does not match its": "UPDATE ledger SET at = '2026-11-23T01:00:00.000Z' WHERE seq = 3",
		"entry 4: its content does not match":     "UPDATE ledger SET outcome = 'failed' WHERE seq = 4",
		"entry 5: it is missing at the end: the":  "DELETE FROM ledger WHERE seq = 5",
		"among the kept checkpoints: it was alter": "UPDATE signed_trees SET note = replace(note, char(10) || '5' || " +
			"char(10), char(10) || '4' || char(10))",
		"the tree that is kept beside the entries": "UPDATE tree SET hashes = zeroblob(length(hashes))",
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
			require.Len(t, got, 1, "%q", got)
			assert.Contains(t, got[0], want)
		})
	}
}

func newKey(t *testing.T) ed25519.PrivateKey {
	_, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	return key
}

// rewrite gives the statements that alter an entry and seal all behind it anew, as one would who has
// the database and nothing else.
func rewrite(t *testing.T, s *store.Store, from int) (stmts []string) {
	list, err := s.Ledger(t.Context(), store.LedgerQuery{Oldest: true})
	require.NoError(t, err)
	list[from-1].Actor = "joss"
	for i := from - 1; i < len(list); i++ {
		prev := ""
		if i > 0 {
			prev = list[i-1].Hash
		}
		list[i] = ledger.Seal(list[i], prev)
		stmts = append(
			stmts,
			fmt.Sprintf(
				"UPDATE ledger SET actor = '%s', prev = '%s', hash = '%s' WHERE seq = %d", list[i].Actor, list[i].Prev,
				list[i].Hash, i+1,
			),
		)
	}
	return stmts
}

// Who has the database and nothing else is found out, whatever they take out beside what they
// rewrite: by what lies beside it, or by who saw it from outside. Nothing of it is signed again.
func TestRewritten(t *testing.T) {
	const gone = "DELETE FROM signed_trees"
	for name, attack := range map[string]func(*testing.T, *store.Store) []string{
		"all sealed anew":      func(t *testing.T, s *store.Store) []string { return rewrite(t, s, 3) },
		"its checkpoints gone": func(t *testing.T, s *store.Store) []string { return append(rewrite(t, s, 3), gone) },
		"its tree gone, too": func(t *testing.T, s *store.Store) []string {
			return append(rewrite(t, s, 3), gone, "DELETE FROM tree")
		},
		"the end cut off, checkpoints, too": func(*testing.T, *store.Store) []string {
			return []string{
				"DELETE FROM ledger WHERE seq > 4", "DELETE FROM signed_trees WHERE size > 4", "DELETE FROM tree",
			}
		},
		"the end cut off, and the tree stays": func(*testing.T, *store.Store) []string {
			return []string{"DELETE FROM ledger WHERE seq > 4", gone}
		},
	} {
		t.Run(name, func(t *testing.T) {
			log, s, dir := newLogBeside(t)
			require.NoError(t, log.UseKey(t.Context(), newKey(t)))
			enter(t, log, 5)
			first, err := log.Checkpoint(t.Context())
			require.NoError(t, err)
			again, err := log.Checkpoint(t.Context())
			require.NoError(t, err)
			assert.Equal(t, first, again, "nothing came since")
			assert.Empty(t, findings(t, log, first.Note))
			altered(t, dir, attack(t, s)...)
			assert.NotEmpty(t, findings(t, log), "by what lies beside the database")
			if again, err := log.Checkpoint(t.Context()); err == nil {
				claim, err := ledger.Claim([]byte(again.Note))
				require.NoError(t, err)
				assert.Equal(
					t, first.Note[:strings.Index(first.Note, "\n\n")], again.Note[:strings.Index(again.Note, "\n\n")],
					"what is signed is what was: %d", claim.Size,
				)
			} else {
				require.ErrorIs(t, err, audit.ErrRewritten)
			}
			require.NoError(t, audit.ForgetBeside(dir))
			assert.NotEmpty(t, findings(t, log, first.Note), "by who kept a checkpoint elsewhere")
		})
	}
}

// A key that somebody planted signs nothing that counts, and none is believed that the record does
// not name.
func TestPlantedKey(t *testing.T) {
	log, _, dir := newLog(t)
	key, other := newKey(t), newKey(t)
	require.NoError(t, log.UseKey(t.Context(), key))
	enter(t, log, 3)
	_, err := log.Checkpoint(t.Context())
	require.NoError(t, err)
	require.ErrorIs(t, log.UseKey(t.Context(), other), audit.ErrOtherKey)
	// They enter a key of theirs, and sign with it what they made of the record.
	planted := ledger.NewSigner(other, "oaken-latch/of-theirs")
	require.NoError(t, log.Write(t.Context(), func(tx *audit.Tx) error {
		return tx.Record(ledger.Entry{Actor: audit.Service, Action: ledger.KeyAction, After: planted.Key()})
	}))
	require.ErrorIs(t, log.UseKey(t.Context(), key), audit.ErrOtherKey, "the service does not start as if nothing was")
	forged, err := planted.Sign(5, [32]byte{1})
	require.NoError(t, err)
	altered(
		t, dir,
		fmt.Sprintf(
			"INSERT INTO signed_trees VALUES ('oaken-latch/of-theirs', 5, '2026-11-23T02:00:00.000Z', '%s')", forged,
		),
	)
	v, err := log.Verify(t.Context(), nil)
	require.NoError(t, err)
	require.Len(t, v.Findings, 1)
	assert.Contains(t, v.Findings[0].String(), "entry 5: it names another key than the one that signs the record")
	assert.Contains(t, v.Notes[0], "1 kept checkpoints are signed with keys that do not lead")
	assert.Equal(t, int64(4), v.Held().Size)
	stranger, err := ledger.NewSigner(newKey(t), "").Sign(3, [32]byte{})
	require.NoError(t, err)
	_, err = log.Verify(t.Context(), []string{string(stranger)})
	require.ErrorContains(t, err, "that this service never signed with")
	_, err = log.Verify(t.Context(), []string{strings.Replace(string(forged), "\n5\n", "\n4\n", 1)})
	require.ErrorContains(t, err, "was altered")
}

// Another key signs from some time on, and the one before signs it in: what that signed counts as
// before, and so does what a witness of it saw. Without that it is another record from there.
func TestRotatedKey(t *testing.T) {
	for _, signedIn := range []bool{true, false} {
		t.Run(fmt.Sprint(signedIn), func(t *testing.T) {
			log, _, _ := newLog(t)
			old, next := newKey(t), newKey(t)
			require.NoError(t, log.UseKey(t.Context(), old))
			enter(t, log, 1)
			before, err := log.Checkpoint(t.Context())
			require.NoError(t, err)
			entries, err := log.KeyEntries(t.Context())
			require.NoError(t, err)
			require.NoError(t, log.Write(t.Context(), func(tx *audit.Tx) error {
				if signedIn {
					return tx.NextKey(entries, old, next)
				}
				return tx.AcceptKey(entries, next, "the one before is lost")
			}))
			require.ErrorIs(t, log.UseKey(t.Context(), old), audit.ErrOtherKey)
			require.NoError(t, log.UseKey(t.Context(), next))
			enter(t, log, 1)
			after, err := log.Checkpoint(t.Context())
			require.NoError(t, err)
			assert.Equal(t, signedIn, before.Origin == after.Origin)
			v, err := log.Verify(t.Context(), []string{before.Note, after.Note})
			require.NoError(t, err)
			assert.Zero(t, v.Wrong, v.Findings)
			assert.Equal(t, after.Size, v.Held().Size)
			assert.Equal(t, !signedIn, len(v.Notes) > 0, "%q", v.Notes)
			keys, err := log.Keys(t.Context())
			require.NoError(t, err)
			require.Len(t, keys, 2)
			assert.Equal(t, signedIn, keys[0].Trusted)
			handovers, err := log.Handovers(t.Context())
			require.NoError(t, err)
			assert.Len(t, handovers, map[bool]int{true: 1}[signedIn])
		})
	}
}

// A record that was rewritten before its key was rotated is not signed by the next key: what the one
// before signed counts.
func TestRewrittenBeforeRotation(t *testing.T) {
	log, s, dir := newLog(t)
	old, next := newKey(t), newKey(t)
	require.NoError(t, log.UseKey(t.Context(), old))
	enter(t, log, 5)
	_, err := log.Checkpoint(t.Context())
	require.NoError(t, err)
	altered(t, dir, append(rewrite(t, s, 3), "DELETE FROM tree")...)
	entries, err := log.KeyEntries(t.Context())
	require.NoError(t, err)
	require.NoError(t, log.Write(t.Context(), func(tx *audit.Tx) error { return tx.NextKey(entries, old, next) }))
	require.NoError(t, log.UseKey(t.Context(), next))
	_, err = log.Checkpoint(t.Context())
	require.ErrorIs(t, err, audit.ErrRewritten)
}

// Many who sign and verify while others enter: none takes it for a record that was cut off.
func TestSignedAtOnce(t *testing.T) {
	log, _, _ := newLogBeside(t)
	require.NoError(t, log.UseKey(t.Context(), newKey(t)))
	var all sync.WaitGroup
	for range 6 {
		all.Go(func() {
			for range 15 {
				assert.NoError(
					t,
					log.Write(
						t.Context(),
						func(tx *audit.Tx) error { return tx.Record(ledger.Entry{Actor: "mara", Action: "x"}) },
					),
				)
				_, err := log.Checkpoint(t.Context())
				assert.NoError(t, err)
			}
		})
	}
	all.Wait()
	assert.Empty(t, findings(t, log))
}

// A ledger of a release before the tree is taken over: its key goes on, its checkpoints count, and
// the tree is of all its entries.
func TestTakenOver(t *testing.T) {
	log, s, dir := newLog(t)
	key := newKey(t)
	public, _ := key.Public().(ed25519.PublicKey)
	require.NoError(t, log.Write(t.Context(), func(tx *audit.Tx) error {
		return tx.Record(ledger.Entry{Actor: audit.Service, Action: ledger.KeyAction, After: ledger.KeyText(public)})
	}))
	enter(t, log, 4)
	list, err := s.Ledger(t.Context(), store.LedgerQuery{Limit: 1})
	require.NoError(t, err)
	c := ledger.Chained{
		Format: "oaken-latch-checkpoint", Version: 1, Seq: 5, At: log.Now(), Hash: list[0].Hash,
		Key: ledger.KeyText(public),
	}
	c.Signature = base64.StdEncoding.EncodeToString(ed25519.Sign(key, c.Text()))
	body, err := json.Marshal(c)
	require.NoError(t, err)
	altered(t, dir, fmt.Sprintf("INSERT INTO checkpoints VALUES (5, '2026-11-23T02:00:00.000Z', '%s')", body))

	require.NoError(t, log.UseKey(t.Context(), key))
	require.NoError(t, log.UseKey(t.Context(), key))
	enter(t, log, 1)
	v, err := log.Verify(t.Context(), []string{string(body)})
	require.NoError(t, err)
	assert.Zero(t, v.Wrong, v.Findings)
	assert.Equal(
		t, []any{int64(7), int64(5), int64(5)}, []any{v.Entries, v.Held().Size, v.Outside().Size},
		"entered once in the new form",
	)
	signed, err := log.Checkpoint(t.Context())
	require.NoError(t, err)
	assert.Equal(t, int64(7), signed.Size)
	assert.Equal(t, ledger.Origin(public), signed.Origin)
	altered(t, dir, rewrite(t, s, 3)[:3]...)
	assert.NotEmpty(t, findings(t, log, string(body)))
}

// The tree grows over many entries, in steps, and a proof of any of them holds against the newest
// checkpoint; of one that was altered since there is none.
func TestProof(t *testing.T) {
	log, s, dir := newLog(t)
	require.NoError(t, log.UseKey(t.Context(), newKey(t)))
	for _, n := range []int{1, 254, 1, 300, 700} {
		require.NoError(t, log.Write(t.Context(), func(tx *audit.Tx) error {
			for range n {
				if err := tx.Record(ledger.Entry{Actor: "mara", Action: "x"}); err != nil {
					return err
				}
			}
			return nil
		}))
		signed, err := log.Checkpoint(t.Context())
		require.NoError(t, err)
		list, err := s.Ledger(t.Context(), store.LedgerQuery{Oldest: true})
		require.NoError(t, err)
		require.Len(t, list, int(signed.Size))
		for i := 0; i < len(list); i += 1 + len(list)/7 {
			text, err := log.Prove(t.Context(), list[i], signed)
			require.NoError(t, err)
			p, err := ledger.CheckProof(text)
			require.NoError(t, err)
			assert.Equal(t, list[i].Seq, p.Entry.Seq)
		}
		bad := list[len(list)/2]
		bad.Note = "it was not me"
		text, err := log.Prove(t.Context(), bad, signed)
		require.NoError(t, err)
		_, err = ledger.CheckProof(text)
		require.ErrorIs(t, err, ledger.ErrAltered)
	}
	altered(t, dir, "DELETE FROM tree WHERE level = 0 AND n = 1")
	_, err := log.Extends(t.Context(), 300, store.SignedTree{Size: 1257, Note: "x"})
	require.ErrorContains(t, err, "is not whole")
}

// Checkpoints that later ones make needless are forgotten: an hour's, and later a day's last one stays.
func TestThinned(t *testing.T) {
	log, s, _ := newLog(t)
	now := log.Now()
	require.NoError(t, s.Write(t.Context(), func(tx *store.Tx) error {
		for i, ago := range []time.Duration{
			1900 * time.Hour, 1899 * time.Hour, 30 * time.Hour, 30*time.Hour - time.Minute, 28 * time.Hour, time.Hour,
			time.Minute,
		} {
			if err := tx.SetSignedTree(
				store.SignedTree{Origin: "a", Size: int64(i + 1), At: now.Add(-ago), Note: "x"},
			); err != nil {
				return err
			}
		}
		return tx.ThinSignedTrees(now)
	}))
	list, err := s.SignedTrees(t.Context())
	require.NoError(t, err)
	sizes := []int64{}
	for _, x := range list {
		sizes = append(sizes, x.Size)
	}
	assert.Equal(t, []int64{2, 4, 5, 6, 7}, sizes)
}

// What a person does is recorded with the way they came in; what the service
// does by itself is not.
func TestWay(t *testing.T) {
	log, s, _ := newLog(t)
	ctx := audit.By(t.Context(), audit.Origin{Kind: "console", Address: "198.51.100.7", Session: "ab12"})
	require.NoError(t, log.Write(ctx, func(tx *audit.Tx) error {
		require.NoError(t, tx.AddAccount(store.Account{Name: "mara", Grants: []string{"read"}, Created: log.Now()}))
		n, err := tx.AddChange(
			store.Change{
				Title: "t", Ticket: "TF-9", Author: "mara", State: lifecycle.Draft, Opened: log.Now(),
				Updated: log.Now(),
			},
		)
		require.NoError(t, err)
		return errors.Join(
			tx.Record(ledger.Entry{Actor: "mara", Action: "change.open", Change: n.Number}),
			tx.Record(ledger.Entry{Actor: audit.Service, Action: "x"}),
		)
	}))
	list, err := s.Ledger(t.Context(), store.LedgerQuery{Oldest: true})
	require.NoError(t, err)
	assert.Equal(
		t, []string{"console", "198.51.100.7", "ab12", "TF-9"},
		[]string{list[0].Way, list[0].Address, list[0].Session, list[0].Ticket},
	)
	assert.Empty(t, list[1].Way+list[1].Address)
}
