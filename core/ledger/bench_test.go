package ledger_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"oakenlatch/core/ledger"
)

func BenchmarkSeal(b *testing.B) {
	e := chain(1)[0]
	e.After, e.Note = "a value of some length, such as people put", "and what they say about it"
	b.ReportAllocs()
	for b.Loop() {
		ledger.Seal(e, e.Hash)
	}
}

func BenchmarkVerify(b *testing.B) {
	list := chain(1000)
	b.ReportAllocs()
	for b.Loop() {
		var v ledger.Verifier
		for _, e := range list {
			v.Next(e)
		}
		require.True(b, v.End())
	}
}
