package diff_test

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/markup"
	"oakenlatch/core/tree"
	"oakenlatch/core/treetest"
)

// Whatever three configurations are merged: it ends, the result is canonical,
// and conflicts do not depend on who is called mine.
//
// Under 10,000 in a second: each input makes three trees, and merges them both ways.
func FuzzMerge(f *testing.F) {
	for seed := range uint64(5) {
		r := rand.New(rand.NewPCG(seed, 6))
		base := treetest.Tree(r, s)
		f.Add(
			codec.OutlineText(base), codec.OutlineText(treetest.Mutate(r, s, base)),
			codec.OutlineText(treetest.Mutate(r, s, base)),
		)
	}
	f.Fuzz(func(t *testing.T, a, b, c string) {
		var trees [3]*tree.Node
		for i, text := range []string{a, b, c} {
			var err error
			if trees[i], err = (codec.Decoder{
				Schema: s, Limits: markup.Limits{Bytes: 1 << 14, Depth: 40},
			}).ParseOutline(text); err != nil {
				return
			}
		}
		merged, conflicts := diff.Merge(trees[0], trees[1], trees[2])
		require.Equal(t, merged.Digest(), tree.Root(merged.Children()).Digest())
		other, mirrored := diff.Merge(trees[0], trees[2], trees[1])
		require.Equal(t, len(conflicts), len(mirrored))
		if len(conflicts) == 0 {
			require.Equal(t, merged.Digest(), other.Digest())
		}
		d := diff.Compare(trees[0], merged)
		got, err := tree.Apply(trees[0], d.Edits(), tree.None)
		require.NoError(t, err)
		require.Equal(t, merged.Digest(), got.Digest())
	})
}

// Under 10,000 in a second: each patch is applied, and compared with what it says.
func FuzzYangPatch(f *testing.F) {
	r := rand.New(rand.NewPCG(9, 6))
	base := treetest.Tree(r, s)
	for range 4 {
		d := diff.Compare(base, treetest.Mutate(r, s, base))
		f.Add(d.YangPatchXML(s, "p"))
		f.Add(d.YangPatchJSON(s, "p"))
	}
	f.Fuzz(func(t *testing.T, doc []byte) {
		if n, err := diff.ApplyYangPatch(s, base, doc); err == nil {
			require.Equal(t, n.Digest(), tree.Root(n.Children()).Digest())
		}
	})
}
