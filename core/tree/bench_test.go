package tree_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"oakenlatch/core/tree"
)

// pier has 10,000 lamps.
func pier() *tree.Node {
	var b strings.Builder
	b.WriteString("lamps\n")
	for i := range 10_000 {
		_, _ = fmt.Fprintf(&b, "  lamp [l%d]\n    lit: true\n", i)
	}
	return quay(b.String())
}

func BenchmarkApply(b *testing.B) {
	n := pier()
	path, err := tree.ParsePath(lamps, "/lamps/lamp=l5000/lit")
	require.NoError(b, err)
	edit := tree.Put(path, "false")
	b.ReportAllocs()
	for b.Loop() {
		_, err := tree.Apply(n, edit, tree.None)
		require.NoError(b, err)
	}
}

func BenchmarkParsePath(b *testing.B) {
	b.ReportAllocs()
	for b.Loop() {
		_, err := tree.ParsePath(lamps, "/lamps/lamp=l5000/lit")
		require.NoError(b, err)
	}
}

func BenchmarkAt(b *testing.B) {
	n := pier()
	path, err := tree.ParsePath(lamps, "/lamps/lamp=l5000/lit")
	require.NoError(b, err)
	b.ReportAllocs()
	for b.Loop() {
		if n.At(path) == nil {
			b.Fatal("it is there")
		}
	}
}
