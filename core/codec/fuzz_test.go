package codec_test

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/markup"
	"oakenlatch/core/tree"
	"oakenlatch/core/treetest"
)

// small keeps the fuzzer from measuring memory instead of looking for faults.
var small = markup.Limits{Bytes: 1 << 16, Depth: 40}

func documents(f *testing.F, write func(*tree.Node) []byte) {
	for seed := range uint64(6) {
		f.Add(write(treetest.Tree(rand.New(rand.NewPCG(seed, 5)), s)))
	}
}

// again checks that what was read is written and read back as itself, in every
// format.
func again(t *testing.T, n *tree.Node) {
	t.Helper()
	d := codec.Decoder{Schema: s, Limits: markup.Limits{Depth: 200}}
	for _, doc := range [][]byte{codec.XML(s, n, outer), codec.JSON(s, n), []byte(codec.OutlineText(n))} {
		if len(n.Children()) == 0 {
			return
		}
		back, err := d.Read(doc)
		require.NoError(t, err, "%s", doc)
		require.Equal(t, codec.OutlineText(n), codec.OutlineText(back.Content), "%s", doc)
	}
}

// Under 10,000 in a second: what is read is written in three forms and read back.
func FuzzJSON(f *testing.F) {
	documents(f, func(n *tree.Node) []byte { return codec.JSON(s, n) })
	f.Add([]byte(`{"quay:harbour": {"papers": {"a": [{}, null, 1.5e3, true]}, "@": {"quay-notes:inspected": 1}}}`))
	f.Fuzz(func(t *testing.T, doc []byte) {
		if n, err := (codec.Decoder{Schema: s, Limits: small}).ParseJSON(doc); err == nil {
			again(t, n)
		}
	})
}

// Under 10,000 in a second: what is read is written in three forms and read back.
func FuzzOutline(f *testing.F) {
	documents(f, func(n *tree.Node) []byte { return []byte(codec.OutlineText(n)) })
	f.Add([]byte("harbour # x\n  quay:name: |\n    | a\n  queue [1, \"b c\"] @quay-notes:inspected=\"2\"\n"))
	f.Fuzz(func(t *testing.T, doc []byte) {
		if n, err := (codec.Decoder{Schema: s, Limits: small}).ParseOutline(string(doc)); err == nil {
			again(t, n)
		}
	})
}

// An edit document that is accepted changes only the tree it gives.
//
// Under 10,000 in a second: each edit is applied to a tree, and written and read back.
func FuzzEdit(f *testing.F) {
	base := treetest.Tree(rand.New(rand.NewPCG(3, 5)), s)
	f.Add(
		[]byte(
			`<config xmlns:nc="` + codec.NetconfNS + `" xmlns:yang="` + codec.YangNS +
				`"><harbour xmlns="urn:example:quay"><words nc:operation="create" yang:insert="before" yang:value="oak">x</words><berth nc:operation="replace"><name>b1</name><magnet>true</magnet></berth></harbour></config>`,
		),
	)
	f.Fuzz(func(t *testing.T, doc []byte) {
		el, err := markup.Parse(doc, small)
		if err != nil {
			return
		}
		e, err := codec.Decoder{Schema: s}.Edit(el)
		if err != nil {
			return
		}
		before := base.Digest()
		if n, err := tree.Apply(base, e, tree.Merge); err == nil {
			require.Equal(t, n.Digest(), tree.Root(n.Children()).Digest(), "an edit leaves canonical order")
			require.Equal(t, codec.OutlineText(n), codec.OutlineText(tree.Root(n.Children())))
		}
		require.Equal(t, before, tree.Root(base.Children()).Digest())
	})
}

// What is read of a file, in whatever form it is recognised, is written and read back as
// itself; an instance data file says the same of itself again.
//
// Under 10,000 in a second: what is read is written in three forms and read back.
func FuzzDocument(f *testing.F) {
	n := treetest.Tree(rand.New(rand.NewPCG(1, 5)), s)
	about := codec.Instance{Name: "northmole", Content: n}
	d := codec.Decoder{Schema: s}
	f.Add(d.InstanceXML(&about))
	f.Add(d.InstanceJSON(&about))
	f.Add(codec.XML(s, n, outer))
	f.Add(codec.JSON(s, n))
	f.Add([]byte(codec.OutlineText(n)))
	f.Add([]byte("\xef\xbb\xbf<config/>"))
	f.Fuzz(func(t *testing.T, doc []byte) {
		got, err := (codec.Decoder{Schema: s, Limits: small}).Read(doc)
		if err != nil {
			return
		}
		again(t, got.Content)
		if got.Instance == nil {
			return
		}
		back, err := (codec.Decoder{Schema: s, Limits: markup.Limits{Depth: 200}}).Read(d.InstanceXML(got.Instance))
		require.NoError(t, err)
		require.NotNil(t, back.Instance)
		require.Equal(t, got.Instance.Name, back.Instance.Name)
	})
}
