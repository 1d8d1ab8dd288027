package history_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/blame"
	"oakenlatch/core/diff"
	"oakenlatch/core/lifecycle"
	"oakenlatch/core/tree"
	"oakenlatch/service/history"
	"oakenlatch/service/store"
	"oakenlatch/test/servicetest"
)

// edited gives a configuration with another value at a path.
func edited(t *testing.T, r history.Reading, n *tree.Node, path, value string) *tree.Node {
	t.Helper()
	p, err := tree.ParsePath(r.Schema, path)
	require.NoError(t, err)
	next, err := tree.Apply(n, tree.Put(p, value), tree.None)
	require.NoError(t, err)
	return next
}

// However configurations follow each other, what is kept comes out as it went
// in, in whatever order it is asked for, also after a restart and by another
// service; and what differs little takes little.
func TestKeptConfigurations(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, quay)
	first, err := r.History.Read(t.Context(), store.Everything, quay, "mara")
	require.NoError(t, err)
	rnd := rand.New(rand.NewPCG(1, 6))
	kept := map[string]tree.Digest{}
	var order []string
	now := first.Running
	add := func(n *tree.Node, keep bool) {
		digest := history.Digest(n)
		err := r.Store.Write(t.Context(), func(tx *store.Tx) error {
			got, err := r.History.Add(tx, first.Device.ID, first.Device.ModuleSet, first.Schema, n)
			assert.Equal(t, digest, got)
			if err == nil && !keep {
				err = errors.New("the power went")
			}
			return err
		})
		if keep {
			require.NoError(t, err)
			kept[digest] = n.Digest()
			order = append(order, digest)
		}
	}
	for i := range 700 {
		next := edited(t, first, now, "/system/contact", fmt.Sprintf("person %d", rnd.IntN(1_000_000)))
		if i%5 == 0 {
			next = edited(
				t, first, next, fmt.Sprintf("/vlans/vlan=%d/name", 100+rnd.IntN(900)), fmt.Sprintf("lane-%d", i),
			)
		}
		if i%7 == 3 { // what came to nothing leaves nothing behind, neither there nor in memory
			add(edited(t, first, next, "/system/location", fmt.Sprint(i)), false)
			add(edited(t, first, next, "/system/location", fmt.Sprint(i, " more")), false)
		}
		if i == 350 {
			next = tree.Root(first.Running.Children()[:1]) // all at once another: kept whole
		}
		add(next, true)
		if now = next; i == 350 {
			now = first.Running
		}
	}
	check := func() {
		t.Helper()
		for range 400 {
			digest := order[rnd.IntN(len(order))]
			n, err := r.History.Tree(t.Context(), first.Schema, digest)
			require.NoError(t, err)
			require.Equal(t, kept[digest], n.Digest())
		}
	}
	check()
	r.Close()
	r.Open()
	first, err = r.History.Known(t.Context(), store.Everything, quay)
	require.NoError(t, err)
	check()
	s, n, err := r.History.Configuration(t.Context(), order[20], nil)
	require.NoError(t, err)
	assert.Same(t, first.Schema, s)
	assert.Equal(t, order[20], history.Digest(n))
	add(edited(t, first, now, "/system/contact", "after the restart"), true)
	check()
	run, err := r.Store.Configs(t.Context()).LastRun(first.Device.ID)
	require.NoError(t, err)
	assert.Less(t, run.Edits, 300*run.Length, "bytes before they are compressed")
	_, err = r.History.Tree(t.Context(), first.Schema, "00112233445566778899aabbccddeeff")
	require.ErrorIs(t, err, store.ErrNotFound)
}

// However revisions stand in runs, the trail is what each of them did: followed
// at once, or as they come.
func TestTrail(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, quay)
	first, err := r.History.Read(t.Context(), store.Everything, quay, "mara")
	require.NoError(t, err)
	now, trees := first.Running, []*tree.Node{first.Running}
	rnd := rand.New(rand.NewPCG(3, 6))
	for i := range 60 {
		now = edited(t, first, now, "/system/contact", fmt.Sprint(i))
		if rnd.IntN(3) == 0 {
			now = edited(t, first, now, fmt.Sprintf("/vlans/vlan=%d/name", 100+rnd.IntN(5)), fmt.Sprint("n", i))
		}
		switch i % 20 {
		case 10:
			now = tree.Root(now.Children()[len(now.Children())-1:])
		case 11: // so different that a run ends
			now = edited(t, first, first.Running, "/system/contact", fmt.Sprint(i))
		}
		trees = append(trees, now)
		require.NoError(t, r.Store.Write(t.Context(), func(tx *store.Tx) error {
			digest, err := r.History.Add(tx, first.Device.ID, first.Device.ModuleSet, first.Schema, now)
			if err == nil {
				_, err = tx.AddRevision(
					store.Revision{
						Device: first.Device.ID, Digest: digest, At: r.Log.Now(), Source: lifecycle.ByOutside,
					},
				)
			}
			return err
		}))
		if i%25 == 7 { // as they come
			require.NoError(t, r.History.Follow(t.Context(), first.Device, func(*history.Trail) error { return nil }))
		}
	}
	want := blame.New()
	for i := 1; i < len(trees); i++ {
		want.Add(int64(i+1), diff.Compare(trees[i-1], trees[i]))
	}
	for range 2 { // and at once, after a restart
		require.NoError(t, r.History.Follow(t.Context(), first.Device, func(got *history.Trail) error {
			assert.Equal(t, want.Events(), got.Events())
			assert.Equal(t, now.Digest(), got.Now.Digest())
			assert.Equal(t, int64(len(trees)), got.Last.Number)
			for i, l := range want.Lines(now, nil) {
				assert.Equal(t, l.Step, got.Lines(got.Now, nil)[i].Step, l.Path.String())
			}
			return nil
		}))
		runs, err := r.Store.RunsAfter(t.Context(), first.Device.ID, 0)
		require.NoError(t, err)
		assert.NotEqual(t, runs[0], runs[len(runs)-1])
		r.Close()
		r.Open()
	}
}
