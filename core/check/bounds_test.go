package check_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/check"
	"oakenlatch/core/codec"
	"oakenlatch/core/schema"
	"oakenlatch/core/treetest"
	"oakenlatch/test/pace"
)

// Conditions that a module makes expensive on purpose end: what they would
// still say is left to the device, and that is told.
func TestExpensiveConditionsEnd(t *testing.T) {
	pace.Long(t)
	s := schema.Compile(
		[]schema.Source{
			{
				Name: "e",
				Text: `module e { namespace "urn:e"; prefix e; list l { key k; leaf k { type uint32; } must "count(//*[count(//*) > 0]) > 0"; } leaf last { must "count(../l) > 5"; type string; } }`,
			},
		},
		schema.Options{},
	)
	require.Empty(t, s.Problems)
	var b strings.Builder
	for i := range 3000 {
		fmt.Fprintf(&b, "<l xmlns='urn:e'><k>%d</k></l>", i)
	}
	n, err := codec.Decoder{Schema: s}.ParseTree(
		[]byte("<config>" + b.String() + "<last xmlns='urn:e'>x</last></config>"),
	)
	require.NoError(t, err)
	start := time.Now()
	res := check.Tree(s, n)
	assert.Less(t, time.Since(start), 4*time.Minute, "it ends")
	assert.Empty(t, res.Findings)
	assert.Greater(t, res.Unchecked, 2000)
	assert.Equal(t, []string{"the conditions take more work than is spent on them"}, res.Reasons)
}

// However much is wrong, the list stays one that can be read.
func TestFindingsAreBounded(t *testing.T) {
	s := treetest.Schema()
	n, err := codec.Decoder{Schema: s}.ParseTree(many(3000))
	require.NoError(t, err)
	res := check.Tree(s, n)
	assert.Len(t, res.Findings, 1000)
}

// many writes berths that all refer to what is not there.
func many(n int) []byte {
	var b strings.Builder
	b.WriteString(`<config><harbour xmlns="urn:example:quay"><strict>1</strict>`)
	for i := range n {
		fmt.Fprintf(&b, "<berth><name>b%d</name><beside>nowhere</beside></berth>", i)
	}
	b.WriteString("</harbour></config>")
	return []byte(b.String())
}

// Checking grows with the list, not with its square: every entry refers to
// another by key, by a leaf that is no key, and through a leafref.
func TestChecksUseIndexes(t *testing.T) {
	s := schema.Compile([]schema.Source{{Name: "i",
		Text: `module i { namespace "urn:i"; prefix i; container c { list l { key k; leaf k { type uint32; } leaf other { type string; } leaf to { type leafref { path "../../l/other"; } }
	  must "not(next) or ../l[k = current()/next]"; must "count(../l[other = current()/other]) = 1"; leaf next { type uint32; } } } }`}},
		schema.Options{})
	require.Empty(t, s.Problems)
	var b strings.Builder
	const n = 20_000
	for i := range n {
		fmt.Fprintf(&b, "<l><k>%d</k><other>o%d</other><to>o%d</to><next>%d</next></l>", i, i, (i+7)%n, (i*3)%n)
	}
	root, err := codec.Decoder{Schema: s}.ParseTree([]byte(`<config><c xmlns="urn:i">` + b.String() + `</c></config>`))
	require.NoError(t, err)
	res := check.Tree(s, root)
	assert.Empty(t, res.Findings)
	assert.Zero(t, res.Unchecked, "without the indexes the work would not be spent")
}
