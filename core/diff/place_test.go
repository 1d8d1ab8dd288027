package diff_test

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/core/treetest"
)

// Decided for mine at each of its conflicts, a merge is the one in which mine
// has the last word.
func TestDecided(t *testing.T) {
	mine, same := 0, 0
	for seed := range uint64(1000) {
		r := rand.New(rand.NewPCG(seed, 11))
		base := treetest.Tree(r, s)
		x, y := treetest.Mutate(r, s, base), treetest.Mutate(r, s, base)
		for range r.IntN(3) {
			x, y = treetest.Mutate(r, s, x), treetest.Mutate(r, s, y)
		}
		result, conflicts := diff.Merge(base, x, y)
		if len(conflicts) == 0 {
			continue
		}
		mine++
		got, err := diff.Decided(result, x, conflicts)
		require.NoError(t, err, "seed %d", seed)
		for _, c := range conflicts {
			if c.Path.Last() == nil || c.Mine != nil && c.Theirs != nil && !c.Path.Last().IsLeaf() ||
				c.Path[len(c.Path)-1].Keys == nil && c.Path.Last().Kind != schema.Leaf {
				continue
			}
			require.True(t, tree.Same(c.Mine, at(got, c.Path)), "seed %d at %s", seed, c.Path)
		}
		want, _ := diff.Merge(base, y, x)
		// who comes first where both put something new is anybody's guess
		if d := diff.Compare(want, got); d.Empty() || diff.OrderOnly(d) {
			same++
		}
	}
	assert.Greater(t, mine, 300)
	t.Logf("%d of %d with conflicts are the same but for order", same, mine)
	assert.Greater(
		t, float64(same)/float64(mine), 0.8, "metadata of what both sides made anew has no base to be merged by",
	)
}

func at(n *tree.Node, p tree.Path) *tree.Node {
	if m := n.At(p); m != nil {
		return m
	}
	return nil
}

// What is taken out of an edit document is not done, and all else is.
func TestWithout(t *testing.T) {
	tried, whole := 0, 0
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 12))
		old := treetest.Tree(r, s)
		d := diff.Compare(old, treetest.Mutate(r, s, treetest.Mutate(r, s, old)))
		w := d.Edits()
		d.Walk(func(c *diff.Change) {
			if c.Path().Last() == nil {
				return // of content that is not understood only the whole has a path
			}
			rest, cut, above := w.Without(c.Path())
			if above != nil {
				whole++
				return
			}
			require.Positive(t, cut, "seed %d: %s", seed, c.Path())
			got, err := tree.Apply(old, tree.Fitted(old, rest), tree.None)
			require.NoError(t, err, "seed %d: without %s", seed, c.Path())
			if c.Kind != diff.Moved && !(c.New != nil && c.Path().Last().UserOrdered) {
				require.True(
					t, tree.Same(at(old, c.Path()), at(got, c.Path())) || inChoice(c), "seed %d: %s", seed, c.Path(),
				)
			}
			tried++
		})
	}
	assert.Greater(t, tried, 1000)
	assert.Less(t, whole, tried/4)
}

// inChoice reports whether another case may have taken the place of a node.
func inChoice(c *diff.Change) bool {
	for n := c.Path().Last(); n != nil; n = n.Parent {
		if n.Parent != nil && n.Parent.Kind.String() == "case" {
			return true
		}
	}
	return false
}

// An edit document that was made for another configuration does what it can.
func TestFitted(t *testing.T) {
	for seed := range uint64(500) {
		r := rand.New(rand.NewPCG(seed, 13))
		old := treetest.Tree(r, s)
		e := diff.Compare(old, treetest.Mutate(r, s, old)).Edits()
		other := treetest.Mutate(r, s, treetest.Mutate(r, s, old))
		_, err := tree.Apply(other, tree.Fitted(other, e), tree.None)
		require.NoError(t, err, "seed %d", seed)
		same, err := tree.Apply(old, tree.Fitted(old, e), tree.None)
		require.NoError(t, err)
		plain, err := tree.Apply(old, e, tree.None)
		require.NoError(t, err)
		require.Equal(t, plain.Digest(), same.Digest(), "where all fits, nothing is left out")
	}
}

func TestPlaceAndTrace(t *testing.T) {
	read := func(text string) *tree.Node {
		n, err := codec.Decoder{Schema: depotSchema}.ParseOutline(text)
		require.NoError(t, err)
		return n
	}
	path := func(text string) tree.Path {
		p, err := tree.ParsePath(depotSchema, text)
		require.NoError(t, err)
		return p
	}
	do := func(n *tree.Node, e *tree.Edit) *tree.Node {
		out, err := tree.Apply(n, e, tree.None)
		require.NoError(t, err)
		return out
	}
	zero := read("depot\n  crate [1]\n    label: a\n  word: x\n  word: y\n")
	other := read("depot\n  crate [1]\n    seal\n      by: b\n  word: z\n")
	one := do(zero, diff.Place(path("/depot/crate=1"), other.At(path("/depot/crate=1"))))
	assert.Equal(t, "depot\n  crate [1]\n    seal\n      by: b\n  word: x\n  word: y\n", codec.OutlineText(one))
	two := do(one, diff.PlaceAll(path("/depot/word"), other.At(path("/depot")).All(path("/depot/word").Last())))
	assert.Equal(t, "depot\n  crate [1]\n    seal\n      by: b\n  word: z\n", codec.OutlineText(two))
	three := do(two, diff.Place(path("/depot/crate=1"), nil))
	assert.Equal(t, "depot\n  word: z\n", codec.OutlineText(three))
	four := do(three, diff.Onto(read("depot\n  crate [7]\n    label: new\n")))
	assert.Equal(t, "depot\n  crate [7]\n    label: new\n  word: z\n", codec.OutlineText(four))
	who := diff.Trace([]*tree.Node{zero, one, two, three, four}).Last
	for p, step := range map[string]int{
		"/depot/word=z": 1, "/depot/word=x": 1, "/depot/crate=1": 2, "/depot/crate=7/label": 3,
		"/depot/crate=1/seal/by": 2,
	} {
		got, ok := who[p]
		assert.True(t, ok, p)
		assert.Equal(t, step, got, p)
	}
	moved := do(
		read("depot\n  word: x\n  word: y\n  word: z\n"), tree.MoveTo(path("/depot/word=z"), "before", []string{"y"}),
	)
	assert.Equal(t, "depot\n  word: x\n  word: z\n  word: y\n", codec.OutlineText(moved))
}
