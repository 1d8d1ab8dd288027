package tree_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

func outline(t *testing.T, text string) *tree.Node {
	t.Helper()
	n, err := codec.Decoder{Schema: s}.ParseOutline(text)
	require.NoError(t, err)
	return n
}

func bird(name, body string) *tree.Opaque {
	return &tree.Opaque{
		Space: "urn:b", Local: name, XML: []byte("<" + name + ` xmlns="urn:b">` + body + "</" + name + ">"),
	}
}

// Content that no module describes is told apart by its bytes: an edit is of
// the very same, else of the only one of its name, and never of one of several.
func TestEditsOfUnknownContent(t *testing.T) {
	apply := func(n *tree.Node, op tree.Op, o *tree.Opaque) (*tree.Node, error) {
		return tree.Apply(n, &tree.Edit{Children: []*tree.Edit{{Op: op, Opaque: o}}}, tree.Merge)
	}
	one, err := apply(tree.Empty, tree.Merge, bird("gull", "1"))
	require.NoError(t, err)
	changed, err := apply(one, tree.Merge, bird("gull", "2"))
	require.NoError(t, err)
	assert.Equal(t, 1, changed.Len(), "the only one of its name becomes the other")
	two, err := apply(one, tree.Create, bird("gull", "2"))
	require.NoError(t, err)
	assert.Equal(t, 2, two.Len())
	_, err = apply(two, tree.Create, bird("gull", "1"))
	require.ErrorContains(t, err, "is there already")
	three, err := apply(two, tree.Merge, bird("gull", "3"))
	require.NoError(t, err)
	assert.Equal(t, 3, three.Len(), "nobody can say which of two is meant")
	_, err = apply(two, tree.Delete, bird("gull", "9"))
	require.ErrorContains(t, err, "is not there")
	left, err := apply(two, tree.Delete, bird("gull", "1"))
	require.NoError(t, err)
	assert.Equal(t, "<gull xmlns=\"urn:b\">2</gull>", string(left.Children()[0].Opaque().XML))
	assert.Len(t, two.Unknown(bird("gull", "")), 2)
	assert.Empty(t, two.Unknown(bird("heron", "")))
}

// The edits of one document see what those before them did.
func TestEditsSeeEachOther(t *testing.T) {
	base := outline(t, "harbour\n  words: a\n  words: b\n  berth [b1]\n    magnet: true\n")
	p := func(text string) tree.Path { return path(t, text) }
	word := func(w string, op tree.Op, insert string, beside ...string) *tree.Edit {
		return &tree.Edit{
			Schema: p("/harbour/words").Last(), Keys: []string{w}, Op: op, Insert: insert, InsertKeys: beside,
		}
	}
	apply := func(edits ...*tree.Edit) (string, error) {
		n, err := tree.Apply(
			base, &tree.Edit{Children: []*tree.Edit{{Schema: p("/harbour").Last(), Children: edits}}}, tree.Merge,
		)
		if err != nil {
			return "", err
		}
		return codec.OutlineText(n), nil
	}
	got, err := apply(
		word("c", tree.Merge, "first"), word("d", tree.Merge, "after", "c"), word("b", tree.Delete, ""),
		word("b", tree.Create, "before", "c"),
	)
	require.NoError(t, err)
	assert.Contains(t, got, "  words: b\n  words: c\n  words: d\n  words: a\n")
	_, err = apply(word("a", tree.Delete, ""), word("c", tree.Merge, "after", "a"))
	require.ErrorContains(t, err, "that entry is not there")
	_, err = apply(word("a", tree.Merge, "sideways"))
	require.ErrorContains(t, err, "it is first, last, before or after")

	berth := func(name string, op tree.Op, kids ...*tree.Edit) *tree.Edit {
		return &tree.Edit{Schema: p("/harbour/berth").Last(), Keys: []string{name}, Op: op, Children: kids}
	}
	leaf := func(where, value string) *tree.Edit {
		return &tree.Edit{Schema: p("/harbour/berth=b1/" + where).Last(), Value: value}
	}
	got, err = apply(
		berth("b2", tree.Create, leaf("ropes", "1")), berth("b2", tree.Merge, leaf("knots", "2")),
		berth("b1", tree.Delete), berth("b1", tree.Create),
	)
	require.NoError(t, err)
	assert.Contains(t, got, "  berth [b1]\n  berth [b2]\n    ropes: 1\n    knots: 2\n")
	got, err = apply(
		berth("b1", tree.Merge, leaf("ropes", "1"), leaf("glue", "x"), leaf("magnet", "false"), leaf("ropes", "3")),
	)
	require.NoError(t, err)
	assert.Contains(t, got, "  berth [b1]\n    ropes: 3\n", "of a choice the case set last is left")
	assert.NotContains(t, got, "magnet")
	_, err = apply(&tree.Edit{Schema: p("/harbour/berth").Last(), Op: tree.Merge})
	require.ErrorContains(t, err, "names no entry")
	got, err = apply(
		&tree.Edit{Schema: p("/harbour/berth").Last(), Op: tree.Remove},
		&tree.Edit{Schema: p("/harbour/words").Last(), Op: tree.Delete, Keys: []string{"a"}},
	)
	require.NoError(t, err)
	assert.Equal(t, "harbour\n  words: b\n", got)
}

// Patched puts single instances and whole runs in place and shares the rest.
func TestPatched(t *testing.T) {
	base := outline(t, "harbour\n  load: 1\n  words: a\n  words: b\n  berth [b1]\n  berth [b3]\n")
	h := base.Known("harbour")
	berth, words := path(t, "/harbour/berth").Last(), path(t, "/harbour/words").Last()
	other := outline(t, "harbour\n  words: z\n  berth [b2]\n").Known("harbour")
	old, place := h.Locate(berth, []string{"b1"})
	require.NotNil(t, old)
	none, nowhere := h.Locate(berth, []string{"b2"})
	assert.Nil(t, none)
	assert.Equal(t, 1, h.Position(berth, []string{"b3"}))
	assert.Equal(t, -1, h.Position(berth, []string{"b2"}))
	got := h.Patched([]tree.Patch{
		{Schema: berth, Place: place}, {Schema: berth, Node: other.All(berth)[0], Place: nowhere},
		{Schema: words, All: true, List: other.All(words)},
	}, nil)
	assert.Equal(
		t, "harbour\n  load: 1\n  words: z\n  berth [b2]\n  berth [b3]\n",
		codec.OutlineText(tree.Root([]*tree.Node{got})),
	)
	assert.Same(t, h.All(berth)[1], got.All(berth)[1])
	assert.Equal(t, got.Digest(), tree.New(got.Schema(), got.Children()).Digest())
}

func TestModulesOf(t *testing.T) {
	var names []string
	for _, m := range outline(t, "harbour\n  load: 1\n  crane:name: x\n").Modules() {
		names = append(names, m.Name)
	}
	assert.Equal(t, []string{"crane", "quay"}, names)
}

// A leaf-list that holds just its defaults means what one that is not set does.
func TestDefaultsOfLeafLists(t *testing.T) {
	s := schema.Compile([]schema.Source{{Name: "l",
		Text: `module l { yang-version 1.1; namespace "urn:l"; prefix l; leaf-list any { type string; default b; default a; } leaf-list first { type string; ordered-by user; default b; default a; }
	  choice c { default one; case one { leaf o { type uint8; default 1; } } case two { leaf t { type uint8; default 2; } leaf u { type string; } } } }`}},
		schema.Options{})
	require.Empty(t, s.Problems)
	read := func(text string) *tree.Node {
		n, err := codec.Decoder{Schema: s}.ParseOutline(text)
		require.NoError(t, err)
		return n
	}
	assert.Equal(
		t, "first: a\nfirst: b\n",
		codec.OutlineText(read("any: a\nany: b\nfirst: a\nfirst: b\no: 1\n").WithoutDefaults()),
	)
	assert.Equal(
		t, "any: a\nany: b\nany: c\n",
		codec.OutlineText(read("any: a\nany: b\nany: c\nfirst: b\nfirst: a\n").WithoutDefaults()),
	)
	assert.Equal(
		t, "any: a\nany: b\nfirst: b\nfirst: a\no: 1\n", codec.OutlineText(tree.Empty.WithDefaults(s, tree.ReportAll)),
		"the default case is in use",
	)
	assert.Equal(
		t, "any: a\nany: b\nfirst: b\nfirst: a\nt: 2\nu: x\n",
		codec.OutlineText(read("u: x\n").WithDefaults(s, tree.ReportAll)), "and not where another one is",
	)
}
