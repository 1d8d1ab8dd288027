package schema_test

import (
	"testing"

	"oakenlatch/core/schema"
	"oakenlatch/core/treetest"
)

func BenchmarkCompile(b *testing.B) {
	b.ReportAllocs()
	for b.Loop() {
		schema.Compile(treetest.Modules, schema.Options{})
	}
}
