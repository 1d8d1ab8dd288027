package check_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"oakenlatch/core/check"
	"oakenlatch/core/codec"
	"oakenlatch/core/treetest"
)

// BenchmarkTree checks 1,000 interfaces.
func BenchmarkTree(b *testing.B) {
	s, err := treetest.InterfaceSchema(func(module string) ([]byte, error) {
		return os.ReadFile("../../lab/modules/" + module + ".yang")
	})
	require.NoError(b, err)
	n, err := codec.Decoder{Schema: s}.ParseTree(treetest.Interfaces(1000))
	require.NoError(b, err)
	b.ReportAllocs()
	for b.Loop() {
		check.Tree(s, n)
	}
}
