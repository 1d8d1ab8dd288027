package flow_test

import (
	"math/rand/v2"
	"testing"

	"oakenlatch/core/flow"
	"oakenlatch/core/treetest"
)

// filters are two of 500 rules, of which the second has some changed.
func filters() (was, is flow.Filter) {
	rnd := rand.New(rand.NewPCG(1, 2))
	nets := treetest.Networks(rnd, 200)
	rules := treetest.Filter(rnd, nets, 500)
	return flow.Filter{Name: "f", Rules: rules}, flow.Filter{Name: "f", Rules: treetest.Touched(rnd, nets, rules, 5)}
}

func BenchmarkPermitted(b *testing.B) {
	was, _ := filters()
	b.ReportAllocs()
	for b.Loop() {
		flow.NewSpace(flow.Limits{}).Permitted(was.Rules)
	}
}

func BenchmarkDiffer(b *testing.B) {
	was, is := filters()
	b.ReportAllocs()
	for b.Loop() {
		flow.Differ(was, is)
	}
}
