package tree_test

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/core/treetest"
)

var s = treetest.Schema()

func path(t *testing.T, text string) tree.Path {
	t.Helper()
	p, err := tree.ParsePath(s, text)
	require.NoError(t, err)
	return p
}

func put(t *testing.T, n *tree.Node, text, value string) *tree.Node {
	t.Helper()
	out, err := tree.Apply(n, tree.Put(path(t, text), value), tree.None)
	require.NoError(t, err, text)
	return out
}

func TestPaths(t *testing.T) {
	for _, c := range []struct{ in, short, full string }{
		{"/", "/", "/"},
		{"/harbour/berth=b1/lamp/colour", "/harbour/berth=b1/lamp/colour", "/quay:harbour/berth=b1/lamp/colour"},
		{"/quay:harbour/crane:name", "/harbour/crane:name", "/quay:harbour/crane:name"},
		{"/harbour/name", "/harbour/quay:name", "/quay:harbour/name"}, // without a prefix the parent's module is meant
		{"/harbour/crane/reach/", "/harbour/crane/reach", "/quay:harbour/crane:crane/reach"},
		{"/harbour/queue=3,a%2Cb%2F:", "/harbour/queue=3,a%2Cb%2F:", "/quay:harbour/queue=3,a%2Cb%2F%3A"},
		{"/harbour/queue=0x3,x", "/harbour/queue=3,x", "/quay:harbour/queue=3,x"}, // keys are canonical
		{"/harbour/words=two%20words", "/harbour/words=two%20words", "/quay:harbour/words=two%20words"},
		{"/harbour/berth", "/harbour/berth", "/quay:harbour/berth"},
	} {
		p := path(t, c.in)
		assert.Equal(t, c.short, p.String())
		assert.Equal(t, c.full, p.Full())
		for _, again := range []string{p.String(), p.Full()} {
			assert.Equal(t, p, path(t, again), "%s reads back as itself", again)
		}
	}
}

func TestPathErrors(t *testing.T) {
	for in, want := range map[string]string{
		"harbour":                   "starts with /",
		"/harbor":                   "harbor is not under the top; there is harbour",
		"/harbour/birth=b1":         "there is berth",
		"/harbour/colour":           "colour is not under harbour; there is berth=NAME/lamp/colour",
		"/berth=b1":                 "berth is not under the top; there is harbour/berth",
		"/harbour/queue=3":          "named by 2 values (lane,ship), got 1",
		"/harbour/queue=300,x":      "key lane of queue: 300 is out of range",
		"/harbour/name=x":           "takes no =key",
		"/harbour/name/more":        "has nothing below it",
		"/harbour/crane:depth":      "not of module crane; there is quay:depth",
		"/harbour/berth=%zz":        "percent-encoded",
		"/harbour/%zz":              "percent-encoded",
		"/harbour/berth=B!":         "not a valid berth-name",
		"/harbour/numbers=many":     "not a whole number",
		"/harbour/queue=1,2,3/note": "got 3",
	} {
		_, err := tree.ParsePath(s, in)
		require.ErrorContains(t, err, want, in)
	}
}

func TestPutAndDelete(t *testing.T) {
	n := put(t, tree.Empty, "/harbour/berth=b2/lamp/colour", "green")
	assert.Equal(t, "green", n.At(path(t, "/harbour/berth=b2/lamp/colour")).Value())
	assert.Equal(t, "b2", n.At(path(t, "/harbour/berth=b2/name")).Value(), "an entry gets its keys")
	n = put(t, n, "/harbour/berth=b10/magnet", "true")
	n = put(t, n, "/harbour/berth=b10/ropes", "4")
	assert.Nil(t, n.At(path(t, "/harbour/berth=b10/magnet")), "setting one case takes the other out")
	var order []string
	for _, b := range n.Known("harbour").All(path(t, "/harbour/berth").Last()) {
		order = append(order, b.Keys()[0])
	}
	assert.Equal(t, []string{"b2", "b10"}, order, "keys are in the order people expect")

	gone, err := tree.Apply(n, tree.DeleteAt(path(t, "/harbour/berth")), tree.None)
	require.NoError(t, err)
	assert.Equal(t, tree.Empty.Digest(), gone.Digest(), "all entries, and the containers that held nothing else")
	_, err = tree.Apply(gone, tree.DeleteAt(path(t, "/harbour/berth=b2")), tree.None)
	var refused *tree.Error
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, "data-missing", refused.Tag)
	assert.Equal(t, "green", n.At(path(t, "/harbour/berth=b2/lamp/colour")).Value(), "the old tree is untouched")
}

func TestOperations(t *testing.T) {
	base := put(t, put(t, tree.Empty, "/harbour/berth=b1/ropes", "1"), "/harbour/berth=b1/knots", "2")
	berth := path(t, "/harbour/berth=b1")
	edit := func(op tree.Op, def tree.Op) (*tree.Node, error) {
		leaf := path(t, "/harbour/berth=b1/ropes")
		doc := &tree.Edit{Children: []*tree.Edit{{Schema: berth[0].Node, Children: []*tree.Edit{{
			Schema: berth[1].Node, Keys: berth[1].Keys, Op: op,
			Children: []*tree.Edit{{Schema: leaf.Last(), Value: "9"}},
		}}}}}
		return tree.Apply(base, doc, def)
	}
	has := func(n *tree.Node, name string) bool { return n.At(path(t, "/harbour/berth=b1/"+name)) != nil }
	n, err := edit(tree.Merge, tree.Merge)
	require.NoError(t, err)
	assert.True(t, has(n, "knots") && has(n, "ropes"))
	n, err = edit(tree.Replace, tree.Merge)
	require.NoError(t, err)
	assert.True(t, has(n, "ropes") && !has(n, "knots"))
	_, err = edit(tree.Create, tree.Merge)
	require.ErrorContains(t, err, "is there already")
	n, err = edit(tree.Delete, tree.Merge)
	require.NoError(t, err)
	assert.Nil(t, n.At(berth))
	n, err = edit(tree.Inherit, tree.None)
	require.NoError(t, err)
	assert.Equal(t, base.Digest(), n.Digest(), "none changes nothing by itself")
}

func TestUserOrder(t *testing.T) {
	words := func(n *tree.Node) (out []string) {
		for _, w := range n.Known("harbour").All(path(t, "/harbour/words").Last()) {
			out = append(out, w.Value())
		}
		return out
	}
	n := tree.Empty
	for _, w := range []string{"oak", "ash", "elm"} {
		n = put(t, n, "/harbour/words="+w, w)
	}
	assert.Equal(t, []string{"oak", "ash", "elm"}, words(n), "as they were given")
	insert := func(w, where string, beside ...string) (*tree.Node, error) {
		p := path(t, "/harbour/words="+w)
		doc := &tree.Edit{
			Children: []*tree.Edit{
				{
					Schema:   p[0].Node,
					Children: []*tree.Edit{{Schema: p[1].Node, Keys: p[1].Keys, Insert: where, InsertKeys: beside}},
				},
			},
		}
		return tree.Apply(n, doc, tree.Merge)
	}
	for _, c := range []struct {
		where  string
		beside []string
		want   []string
	}{
		{"first", nil, []string{"elm", "oak", "ash"}}, {"last", nil, []string{"oak", "ash", "elm"}},
		{"before", []string{"ash"}, []string{"oak", "elm", "ash"}},
		{"after", []string{"oak"}, []string{"oak", "elm", "ash"}},
	} {
		got, err := insert("elm", c.where, c.beside...)
		require.NoError(t, err)
		assert.Equal(t, c.want, words(got), c.where)
	}
	_, err := insert("elm", "after", "fir")
	require.ErrorContains(t, err, "not there")
}

func TestSharingAndDefaults(t *testing.T) {
	n := put(t, put(t, tree.Empty, "/harbour/berth=b1/ropes", "1"), "/harbour/berth=b2/ropes", "1")
	m := put(t, n, "/harbour/berth=b1/ropes", "2")
	assert.Same(
		t, n.At(path(t, "/harbour/berth=b2")), m.At(path(t, "/harbour/berth=b2")), "what is untouched is shared",
	)
	assert.NotEqual(t, n.Digest(), m.Digest())
	d := put(t, n, "/harbour/depth", "8.5")
	assert.NotEqual(t, n.Digest(), d.Digest())
	assert.Equal(t, n.Digest(), d.WithoutDefaults().Digest(), "a set default means what an unset leaf does")
	assert.Same(t, n, n.WithoutDefaults())
}

// Rebuilding a tree from its own leaves gives the same digest, in whatever
// order they come.
func TestDigestIgnoresSystemOrder(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 1))
		n := treetest.Tree(r, s)
		var shuffled func(*tree.Node) *tree.Node
		shuffled = func(n *tree.Node) *tree.Node {
			if n.Opaque() != nil || n.Schema() != nil && n.Schema().IsLeaf() {
				return n
			}
			fixed, free := []*tree.Node{}, []*tree.Node{}
			for _, c := range n.Children() {
				if c.Schema() == nil || c.Schema().UserOrdered {
					fixed = append(fixed, shuffled(c))
				} else {
					free = append(free, shuffled(c))
				}
			}
			r.Shuffle(len(free), func(i, j int) { free[i], free[j] = free[j], free[i] })
			return n.With(append(free, fixed...))
		}
		require.Equal(t, n.Digest(), shuffled(n).Digest(), "seed %d", seed)
	}
}

func TestCut(t *testing.T) {
	n := put(
		t, put(t, put(t, tree.Empty, "/harbour/berth=b1/ropes", "1"), "/harbour/berth=b2/ropes", "2"), "/harbour/depth",
		"9.0",
	)
	assert.Equal(
		t, "harbour\n  berth [b2]\n    ropes: 2\n", codec.OutlineText(n.Cut(path(t, "/harbour/berth=b2/ropes"))),
	)
	assert.Equal(t, "", codec.OutlineText(n.Cut(path(t, "/harbour/berth=b3"))))
}

func FuzzParsePath(f *testing.F) {
	for _, seed := range []string{
		"/harbour/queue=3,a%2C", "/quay:harbour/words=x", "//", "/harbour/berth=%", "/crane:harbour",
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		p, err := tree.ParsePath(s, text)
		if err != nil {
			return
		}
		again, err := tree.ParsePath(s, p.Full())
		require.NoError(t, err)
		require.Equal(t, p.Full(), again.Full())
		if last := p.Last(); last != nil && last.Kind == schema.Leaf {
			_, _ = tree.Apply(tree.Empty, tree.Put(p, "x"), tree.None)
		}
	})
}
