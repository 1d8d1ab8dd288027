package codec_test

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
	"oakenlatch/test/pace"
)

var packable = treetest.Schema()

// What was packed does the same as before, and takes less than XML.
func TestPacked(t *testing.T) {
	for seed := range uint64(pace.Rounds(600)) {
		r := rand.New(rand.NewPCG(seed, 21))
		old := treetest.Tree(r, packable)
		want := treetest.Mutate(r, packable, treetest.Mutate(r, packable, old))
		text := codec.PackEdit(diff.Compare(old, want).Edits())
		e, err := codec.UnpackEdit(packable, text)
		require.NoError(t, err, "seed %d", seed)
		got, err := tree.Apply(old, e, tree.None)
		require.NoError(t, err, "seed %d", seed)
		require.Equal(t, want.Digest(), got.Digest(), "seed %d", seed)
		require.Equal(t, text, codec.PackEdit(e), "seed %d: packed again it is the same", seed)
		for cut := range len(text) {
			_, err := codec.UnpackEdit(packable, text[:cut])
			require.Error(t, err, "seed %d, cut at %d of %d", seed, cut, len(text))
		}
	}
	refused := 0
	for seed := range uint64(20) {
		whole := diff.Compare(tree.Empty, treetest.Tree(rand.New(rand.NewPCG(seed, 1)), packable)).Edits()
		if _, err := codec.UnpackEdit(schema.Compile(nil, schema.Options{}), codec.PackEdit(whole)); err != nil {
			require.ErrorContains(t, err, "where the modules have none")
			refused++
		}
	}
	assert.Greater(t, refused, 10)
}

// Damaged, it is an error.
func FuzzUnpack(f *testing.F) {
	for seed := range uint64(8) {
		r := rand.New(rand.NewPCG(seed, 21))
		old := treetest.Tree(r, packable)
		f.Add(codec.PackEdit(diff.Compare(old, treetest.Mutate(r, packable, old)).Edits()))
	}
	f.Add([]byte("\x01\xff\xff\xff\xff\x0f"))
	f.Fuzz(func(t *testing.T, text []byte) {
		e, err := codec.UnpackEdit(packable, text)
		if err != nil {
			return
		}
		_, _ = tree.Apply(tree.Empty, e, tree.None)
		again, err := codec.UnpackEdit(packable, codec.PackEdit(e))
		require.NoError(t, err)
		require.Equal(t, codec.PackEdit(e), codec.PackEdit(again))
	})
}
