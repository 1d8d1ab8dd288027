package history_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

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
	first, err := r.History.Read(t.Context(), quay, "mara")
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
			next = edited(t, first, next, fmt.Sprintf("/vlans/vlan=%d/name", 100+rnd.IntN(900)), fmt.Sprintf("lane-%d", i))
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
	first, err = r.History.Known(t.Context(), quay)
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
