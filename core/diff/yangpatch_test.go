package diff_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/tree"
)

// Every operation of RFC 8072 section 2.5, as somebody else would write it.
func TestYangPatchOperations(t *testing.T) {
	base := parse(t, `<depth>8</depth><words>a</words><words>b</words><berth><name>b1</name><ropes>1</ropes></berth>`)
	edit := func(op, target, rest string) string {
		return fmt.Sprintf(
			`{"ietf-yang-patch:yang-patch": {"patch-id": "1", "comment": "by hand", "edit": [{"edit-id": "e", "operation": %q, "target": %q%s}]}}`,
			op, target, rest,
		)
	}
	for _, c := range []struct{ name, doc, want, fails string }{
		{
			"create",
			edit("create", "/quay:harbour/berth=b2", `, "value": {"quay:berth": [{"name": "b2", "magnet": true}]}`),
			"berth [b2]\n    magnet: true", "",
		},
		{
			"create what is there", edit("create", "/quay:harbour/depth", `, "value": {"quay:depth": "9.0"}`), "",
			"is there already",
		},
		{"delete", edit("delete", "/quay:harbour/berth=b1", ""), "!berth", ""},
		{"delete what is not there", edit("delete", "/quay:harbour/berth=b9", ""), "", "cannot be deleted"},
		{"delete a list", edit("delete", "/quay:harbour/berth", ""), "", "names no entry"},
		{"remove", edit("remove", "/quay:harbour/berth=b9", ""), "berth [b1]", ""},
		{
			"merge", edit("merge", "/quay:harbour/berth=b1", `, "value": {"quay:berth": [{"name": "b1", "knots": 3}]}`),
			"ropes: 1\n    knots: 3", "",
		},
		{
			"replace",
			edit("replace", "/quay:harbour/berth=b1", `, "value": {"quay:berth": [{"name": "b1", "knots": 3}]}`),
			"berth [b1]\n    knots: 3", "",
		},
		{
			"insert first",
			edit("insert", "/quay:harbour/words=c", `, "where": "first", "value": {"quay:words": ["c"]}`),
			"words: c\n  words: a\n  words: b", "",
		},
		{
			"insert last by default", edit("insert", "/quay:harbour/words=c", `, "value": {"quay:words": ["c"]}`),
			"words: a\n  words: b\n  words: c", "",
		},
		{
			"insert before",
			edit(
				"insert", "/quay:harbour/words=c",
				`, "where": "before", "point": "/quay:harbour/words=b", "value": {"quay:words": ["c"]}`,
			),
			"words: a\n  words: c\n  words: b", "",
		},
		{
			"insert beside nothing",
			edit(
				"insert", "/quay:harbour/words=c",
				`, "where": "after", "point": "/quay:harbour/words=z", "value": {"quay:words": ["c"]}`,
			),
			"", "that entry is not there",
		},
		{
			"insert where order is the system's",
			edit("insert", "/quay:harbour/berth=b2", `, "where": "first", "value": {"quay:berth": [{"name": "b2"}]}`),
			"", "its order is the system's",
		},
		{"move", edit("move", "/quay:harbour/words=b", `, "where": "first"`), "words: b\n  words: a", ""},
		{"move what is not there", edit("move", "/quay:harbour/words=z", `, "where": "first"`), "", "is not there"},
		{"no value", edit("create", "/quay:harbour/berth=b2", ""), "", "needs a value"},
		{
			"another's value", edit("merge", "/quay:harbour/berth=b2", `, "value": {"quay:berth": [{"name": "b3"}]}`),
			"", "not what the target names",
		},
		{
			"two values", edit("merge", "/quay:harbour/depth", `, "value": {"quay:depth": "1.0", "quay:load": 1}`), "",
			"holds 2 nodes where one belongs",
		},
		{"the root", edit("merge", "/", `, "value": {"quay:harbour": {}}`), "", "name what is to be changed"},
		{"nowhere", edit("delete", "/quay:harbor", ""), "", "there is harbour"},
		{
			"a bad point", edit("move", "/quay:harbour/words=b", `, "where": "after", "point": "/quay:harbor"`), "",
			"its point",
		},
		{"an operation of nobody's", edit("swap", "/quay:harbour/depth", ""), "", `operation "swap" is not one of`},
		{"not a patch", `{"quay:harbour": {}}`, "", "not a YANG Patch"}, {"not JSON", `{"quay`, "", "not a YANG Patch"},
		{"another document", `<config/>`, "", "not a YANG Patch: the document is config"},
	} {
		got, err := diff.ApplyYangPatch(s, base, []byte(c.doc))
		if c.fails != "" {
			require.ErrorContains(t, err, c.fails, c.name)
			continue
		}
		require.NoError(t, err, c.name)
		if gone, ok := strings.CutPrefix(c.want, "!"); ok {
			assert.NotContains(t, codec.OutlineText(got), gone, c.name)
			continue
		}
		assert.Contains(t, codec.OutlineText(got), c.want, c.name)
	}
	xml := `<yang-patch xmlns="urn:ietf:params:xml:ns:yang:ietf-yang-patch"><patch-id>1</patch-id>
	  <edit><edit-id>a</edit-id><operation>replace</operation><target>/quay:harbour/depth</target><value><depth xmlns="urn:example:quay">9</depth></value></edit>
	  <edit><edit-id>b</edit-id><operation>delete</operation><target>/quay:harbour/nothing</target></edit></yang-patch>`
	_, err := diff.ApplyYangPatch(s, base, []byte(xml))
	require.ErrorContains(t, err, "edit b, delete /quay:harbour/nothing", "all of it, or nothing")
}

// Thousands of changes are read as what they are: a few things done to many.
func TestGroupsOfLikeChanges(t *testing.T) {
	var before, after strings.Builder
	for i := range 500 {
		fmt.Fprintf(&before, "<berth><name>b%d</name><ropes>1</ropes></berth>", i)
		fmt.Fprintf(&after, "<berth><name>b%d</name><ropes>%d</ropes></berth>", i, 2+i/499)
	}
	d := diff.Compare(
		parse(t, before.String()),
		parse(t, after.String()+"<depth>9</depth><berth><name>c1</name></berth><berth><name>c2</name></berth>"),
	)
	assert.Equal(t, []diff.Group{
		{Kind: diff.Added, Place: "/harbour/depth", New: "9.0", Count: 1, Examples: []string{"/harbour/depth"}},
		{
			Kind: diff.Changed, Place: "/harbour/berth=*/ropes", Old: "1", New: "2", Count: 499,
			Examples: []string{"/harbour/berth=b0/ropes", "/harbour/berth=b1/ropes", "/harbour/berth=b2/ropes"},
		},
		{
			Kind: diff.Changed, Place: "/harbour/berth=*/ropes", Old: "1", New: "3", Count: 1,
			Examples: []string{"/harbour/berth=b499/ropes"},
		},
		{
			Kind: diff.Added, Place: "/harbour/berth=*", Count: 2,
			Examples: []string{"/harbour/berth=c1", "/harbour/berth=c2"},
		},
	}, d.Groups())
}

// A change of metadata is a change, shown as one.
func TestChangesOfMetadata(t *testing.T) {
	read := func(text string) *diff.Difference {
		a, err := codec.Decoder{Schema: s}.ParseOutline("harbour\n  load: 1\n  berth [b1]\n    ropes: 1\n")
		require.NoError(t, err)
		b, err := codec.Decoder{Schema: s}.ParseOutline(text)
		require.NoError(t, err)
		return diff.Compare(a, b)
	}
	d := read("harbour\n  load: 1 @quay-notes:inspected=2\n  berth [b1] @quay-notes:inspected=3\n    ropes: 2\n")
	assert.Equal(t, `  harbour
~   load: 1 → 1 @quay-notes:inspected="2"
~   berth [b1] → berth [b1] @quay-notes:inspected="3"
~     ropes: 1 → 2
`, d.Text(0))
	assert.Equal(t, 3, d.Count())
	items := d.Items()
	require.Len(t, items, 2, "an entry with other metadata is put there whole")
	assert.True(t, items[0].Outline)
	assert.Equal(t, `load: 1 @quay-notes:inspected="2"`, items[0].New)
	assert.Contains(
		t, d.Unified("a", "b", 0),
		"-  berth [b1]\n+  berth [b1] @quay-notes:inspected=\"3\"\n-    ropes: 1\n+    ropes: 2\n",
	)
}

// A unified diff from nothing, and to nothing, counts its lines as POSIX has it.
func TestUnifiedAtTheEdges(t *testing.T) {
	some := parse(t, `<depth>8</depth><load>1</load>`)
	assert.Equal(
		t, "--- a\n+++ b\n@@ -0,0 +1,3 @@\n+harbour\n+  depth: 8.0\n+  load: 1\n",
		diff.Compare(tree.Empty, some).Unified("a", "b", 3),
	)
	assert.Equal(
		t, "--- a\n+++ b\n@@ -1,3 +0,0 @@\n-harbour\n-  depth: 8.0\n-  load: 1\n",
		diff.Compare(some, tree.Empty).Unified("a", "b", 3),
	)
	assert.Equal(
		t, "--- a\n+++ b\n@@ -3,1 +3,1 @@\n-  load: 1\n+  load: 2\n",
		diff.Compare(some, parse(t, `<depth>8</depth><load>2</load>`)).Unified("a", "b", 0),
	)
	assert.Empty(t, diff.Compare(some, some).Unified("a", "b", 3))
	assert.Empty(t, diff.Compare(some, some).Lines(3))
	p, err := tree.ParsePath(s, "/harbour/load")
	require.NoError(t, err)
	other := parse(t, `<depth>9</depth><load>2</load>`)
	assert.Equal(t, 1, diff.Compare(some.Cut(p), other.Cut(p)).Count(), "restricted to a path")
}
