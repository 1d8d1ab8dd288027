package xpath_test

import "testing"

func BenchmarkEval(b *testing.B) {
	s, at := load(b)
	b.ReportAllocs()
	for b.Loop() {
		text(b, s, at, "count(/port/berth[length > 10 and derived-from-or-self(kind, 'ferry')])")
	}
}
