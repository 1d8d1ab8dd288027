package tree_test

import (
	"sort"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// Keys stand as people count: a total order, digits by their number.
func TestCompareKeys(t *testing.T) {
	want := []string{"", "01", "1", "2", "10", "a", "eth02", "eth2", "eth10", "eth10/1", "eth10/12", "ethA"}
	got := append([]string(nil), want...)
	sort.Slice(got, func(i, j int) bool { return got[i] > got[j] })
	sort.Slice(got, func(i, j int) bool { return tree.CompareKeys([]string{got[i]}, []string{got[j]}) < 0 })
	assert.Equal(t, want, got)
	for _, a := range want {
		for _, b := range want {
			ab, ba := tree.CompareKeys([]string{a}, []string{b}), tree.CompareKeys([]string{b}, []string{a})
			assert.Equal(t, ab < 0, ba > 0, "%q %q", a, b)
			assert.Equal(t, a == b, ab == 0, "%q %q", a, b)
		}
	}
	assert.Negative(t, tree.CompareKeys([]string{"1", "9"}, []string{"1", "10"}))
	assert.Negative(t, tree.CompareKeys([]string{"1"}, []string{"1", "0"}))
}

// State is told apart from configuration; counting counts what carries meaning.
func TestConfigOnly(t *testing.T) {
	mod := schema.Compile([]schema.Source{{Name: "m", Text: `module m { namespace "urn:m"; prefix m; container c {
		leaf a { type string; } container there { presence "x"; } leaf-list l { type string; }
		container st { config false; leaf s { type string; } list log { leaf line { type string; } } } } }`}},
		schema.Options{})
	require.Empty(t, mod.Problems)
	n, err := codec.Decoder{Schema: mod}.ParseTree([]byte(`<config><c xmlns="urn:m"><a>1</a><there/><l>x</l><l>y</l><odd xmlns="urn:o"/>
		<st><s>2</s><log><line>p</line></log><log><line>p</line></log></st></c></config>`))
	require.NoError(t, err, "entries without keys may be alike")
	assert.Equal(t, 8, n.Count())
	config := n.ConfigOnly()
	assert.Equal(t, 5, config.Count())
	assert.Nil(t, config.Known("c").Known("st"))
	assert.Same(t, config, config.ConfigOnly())
	assert.Nil(t, (*tree.Node)(nil).Known("x"))
}
