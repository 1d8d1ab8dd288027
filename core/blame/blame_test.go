package blame_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/blame"
	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/core/treetest"
)

// rows makes random configurations, each of the one before.
func rows(r *rand.Rand, s *schema.Schema, n int) ([]*tree.Node, *blame.Trail) {
	trees := []*tree.Node{treetest.Tree(r, s)}
	trail := blame.New()
	for i := 1; i < n; i++ {
		next := trees[i-1]
		for range 1 + r.IntN(4) {
			next = treetest.Mutate(r, s, next)
		}
		trail.Add(int64(i), diff.Compare(trees[i-1], next))
		trees = append(trees, next)
	}
	return trees, trail
}

// A leaf was last set by the step before which it was not there, or another.
func lastSet(trees []*tree.Node, p tree.Path) int64 {
	for i := len(trees) - 1; i > 0; i-- {
		was, is := trees[i-1].At(p), trees[i].At(p)
		if was == nil || !tree.Same(was, is) {
			return int64(i)
		}
	}
	return 0
}

func TestLines(t *testing.T) {
	s := treetest.Schema()
	leaves := 0
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 7))
		trees, trail := rows(r, s, 12)
		now := trees[len(trees)-1]
		lines := trail.Lines(now, nil)
		require.Len(t, lines, len(codec.Outline(now, nil)))
		for _, l := range lines {
			if n := l.Node.Schema(); n == nil || n.Kind != schema.Leaf {
				continue
			}
			leaves++
			require.Equal(t, lastSet(trees, l.Path), l.Step, "seed %d: %s", seed, l.Path.Full())
		}
		// The blame of a part is the part of the blame.
		for _, l := range lines {
			if l.Node.Len() == 0 {
				continue
			}
			for _, part := range trail.Lines(l.Node, l.Path) {
				if n := part.Node.Schema(); n != nil && n.Kind == schema.Leaf {
					require.Equal(t, lastSet(trees, part.Path), part.Step)
				}
			}
		}
	}
	assert.Greater(t, leaves, 3000)
}

// What is gone was there once, and its last end is the step that is told; the
// life of a leaf is every step that made it another.
func TestGoneAndLife(t *testing.T) {
	s := treetest.Schema()
	gone, lived := 0, 0
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 8))
		trees, trail := rows(r, s, 12)
		now := trees[len(trees)-1]
		for _, e := range trail.Gone(now, nil) {
			gone++
			if e.Path.Last() == nil {
				continue // carried unread: no path tells two of a name apart
			}
			require.Nil(t, now.At(e.Path))
			require.NotNil(t, trees[e.Step-1].At(e.Path), "seed %d: %s", seed, e.Path)
			for i := int(e.Step); i < len(trees); i++ {
				require.Nil(t, trees[i].At(e.Path), "seed %d: %s", seed, e.Path)
			}
		}
		seen := map[string]tree.Path{}
		for _, n := range trees {
			for _, l := range codec.Outline(n, nil) {
				if n := l.Node.Schema(); n != nil && n.Kind == schema.Leaf {
					seen[l.Path.Full()] = l.Path
				}
			}
		}
		for _, p := range seen {
			var want, have []string
			for i := 1; i < len(trees); i++ {
				if was, is := trees[i-1].At(p), trees[i].At(p); (was != nil || is != nil) && (was == nil || is == nil ||
					!tree.Same(was, is)) {
					want = append(want, fmt.Sprintf("%d %q %q", i, codec.Text(was), codec.Text(is)))
				}
			}
			for _, e := range trail.Life(p) {
				have = append(have, fmt.Sprintf("%d %q %q", e.Step, codec.Text(e.Old), codec.Text(e.New)))
			}
			require.Equal(t, want, have, "seed %d: %s", seed, p)
			lived += len(have)
			if len(want) > 0 && now.At(p) != nil {
				require.Equal(t, lastSet(trees, p), trail.Set(p))
			}
		}
	}
	assert.Greater(t, gone, 500)
	assert.Greater(t, lived, 2000)
}
