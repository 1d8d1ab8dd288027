package search_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"oakenlatch/core/search"
)

func BenchmarkParse(b *testing.B) {
	b.ReportAllocs()
	for b.Loop() {
		_, err := search.Parse(`device:saltern-quay who:mara,joss -kind:login since:7d "berth seven"`, time.Unix(1_800_000_000, 0))
		require.NoError(b, err)
	}
}
