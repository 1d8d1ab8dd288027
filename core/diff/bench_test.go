package diff_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/core/treetest"
)

// sides are two configurations of 1,000 interfaces, of which the second has some changed.
func sides(b *testing.B) (s *schema.Schema, was, is *tree.Node) {
	b.Helper()
	s, err := treetest.InterfaceSchema(func(module string) ([]byte, error) {
		return os.ReadFile("../../lab/modules/" + module + ".yang")
	})
	require.NoError(b, err)
	was, err = codec.Decoder{Schema: s}.ParseTree(treetest.Interfaces(1000))
	require.NoError(b, err)
	is, err = codec.Decoder{Schema: s}.ParseTree(treetest.InterfacesChanged(1000))
	require.NoError(b, err)
	return s, was, is
}

func BenchmarkCompare(b *testing.B) {
	_, was, is := sides(b)
	b.ReportAllocs()
	for b.Loop() {
		diff.Compare(was, is)
	}
}

func BenchmarkMerge(b *testing.B) {
	s, was, is := sides(b)
	theirs, err := codec.Decoder{Schema: s}.ParseTree(treetest.Interfaces(1001))
	require.NoError(b, err)
	b.ReportAllocs()
	for b.Loop() {
		diff.Merge(was, is, theirs)
	}
}

func BenchmarkText(b *testing.B) {
	_, was, is := sides(b)
	d := diff.Compare(was, is)
	require.Greater(b, d.Count(), 10)
	b.ReportAllocs()
	for b.Loop() {
		_ = d.Text(2)
	}
}

func BenchmarkEdits(b *testing.B) {
	_, was, is := sides(b)
	d := diff.Compare(was, is)
	b.ReportAllocs()
	for b.Loop() {
		_, err := tree.Apply(was, d.Edits(), tree.None)
		require.NoError(b, err)
	}
}
