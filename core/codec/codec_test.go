package codec_test

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/markup"
	"oakenlatch/core/tree"
	"oakenlatch/core/treetest"
)

var (
	s     = treetest.Schema()
	outer = markup.Name{Space: codec.NetconfNS, Local: "config"}
)

func config(body string) []byte {
	return []byte(
		`<config xmlns="` + codec.NetconfNS + `" xmlns:nc="` + codec.NetconfNS + `" xmlns:yang="` + codec.YangNS +
			`"><harbour xmlns="urn:example:quay" xmlns:qt="urn:example:quay-types" xmlns:cr="urn:example:crane">` +
			body + `</harbour></config>`,
	)
}

func TestXMLRoundTrip(t *testing.T) {
	for seed := range uint64(200) {
		n := treetest.Tree(rand.New(rand.NewPCG(seed, 2)), s)
		strict := !strings.Contains(codec.OutlineText(n), "carried unread, namespace urn:example:birds")
		back, err := codec.Decoder{Schema: s, Strict: strict}.ParseTree(codec.XML(s, n, outer))
		require.NoError(t, err, "seed %d", seed)
		require.Equal(
			t, n.Digest(), back.Digest(), "seed %d:\n%s\n%s", seed, codec.OutlineText(n), codec.OutlineText(back),
		)
	}
}

func TestOutline(t *testing.T) {
	n, err := codec.Decoder{Schema: s}.ParseTree(config(`
		<words>two words</words><words>oak</words><lit/><cr:name>boom</cr:name>
		<berth><name>b1</name><cargo>cr:timber</cargo><lamp/></berth>
		<queue><lane>01</lane><ship>Gannet, Star</ship></queue>
		<stranger xmlns="urn:who" ref="qt:x">1<x/></stranger>`))
	require.NoError(t, err)
	assert.Equal(t, `harbour
  lit:
  words: "two words"
  words: oak
  berth [b1]
    cargo: crane:timber
    lamp
  queue [1, "Gannet, Star"]
  crane:name: boom
  ? stranger (carried unread, namespace urn:who)
    | <stranger xmlns:qt="urn:example:quay-types" xmlns="urn:who" ref="qt:x">1<x/></stranger>
`, codec.OutlineText(n))
	back, err := codec.Decoder{Schema: s}.ParseTree(codec.XML(s, n, outer))
	require.NoError(t, err)
	assert.Equal(t, n.Digest(), back.Digest(), "what is not understood travels on unchanged")
}

func TestStrictDecoding(t *testing.T) {
	for body, want := range map[string]struct{ tag, msg string }{
		`<nope/>`:                         {"unknown-element", "nope"},
		`<x xmlns="urn:who"/>`:            {"unknown-namespace", "urn:who"},
		`<depth>deep</depth>`:             {"invalid-value", "/harbour/depth"},
		`<depth><x/></depth>`:             {"bad-element", "cannot hold element x"},
		`<berth><ropes>1</ropes></berth>`: {"missing-element", "no key name"},
		`<berth><name>b</name></berth><berth><name>b</name></berth>`: {"data-exists", "berth=b: stands twice"},
		`<words>a</words><words>a</words>`:                           {"data-exists", "stands twice"},
		`text<depth>9</depth>`:                                       {"bad-element", "holds text"},
	} {
		_, err := codec.Decoder{Schema: s, Strict: true}.ParseTree(config(body))
		var bad *codec.Error
		require.ErrorAs(t, err, &bad, body)
		assert.Equal(t, want.tag, bad.Tag, body)
		assert.ErrorContains(t, err, want.msg, body)
	}
	n, err := codec.Decoder{Schema: s}.ParseTree(config(`<depth>deep</depth>`))
	require.NoError(t, err, "what a device sent is carried as it came")
	assert.Equal(t, "harbour\n  depth: deep\n", codec.OutlineText(n))
}

func TestEditDocuments(t *testing.T) {
	base, err := codec.Decoder{Schema: s}.ParseTree(
		config(
			`<words>oak</words><words>ash</words><berth><name>b1</name><ropes>1</ropes></berth><queue><lane>1</lane><ship>a</ship></queue>`,
		),
	)
	require.NoError(t, err)
	for _, c := range []struct{ body, want, fails string }{
		{
			`<berth nc:operation="delete"><name>b1</name></berth>`,
			"harbour\n  words: oak\n  words: ash\n  queue [1, a]\n", "",
		},
		{`<words yang:insert="before" yang:value="oak">elm</words>`, "", ""},
		{
			`<queue yang:insert="after" yang:key="[q:lane='1'][q:ship=&quot;a&quot;]" xmlns:q="urn:example:quay"><lane>2</lane><ship>b</ship></queue>`,
			"", "",
		},
		{
			`<queue yang:insert="after" yang:key="[lane='1']"><lane>2</lane><ship>b</ship></queue>`, "",
			"does not name all of lane, ship",
		},
		{`<queue yang:insert="beside"><lane>2</lane><ship>b</ship></queue>`, "", "not one of first"},
		{`<berth yang:insert="first"><name>b2</name></berth>`, "", "whose order the user gives"},
		{`<depth nc:operation="explode">1</depth>`, "", `operation "explode"`},
		{`<depth nc:operation="delete"/>`, "", "is not there"}, {`<nope nc:operation="delete"/>`, "", "not known here"},
	} {
		el, err := markup.Parse(config(c.body), markup.Limits{})
		require.NoError(t, err)
		doc, err := codec.Decoder{Schema: s, Strict: true}.Edit(el)
		var got *tree.Node
		if err == nil {
			got, err = tree.Apply(base, doc, tree.Merge)
		}
		if c.fails != "" {
			require.ErrorContains(t, err, c.fails, c.body)
			continue
		}
		require.NoError(t, err, c.body)
		if c.want != "" {
			assert.Equal(t, c.want, codec.OutlineText(got))
		}
		assert.NotEqual(t, base.Digest(), got.Digest())
	}
}

// Under 10,000 in a second: what is read is written in three forms and read back.
func FuzzDecode(f *testing.F) {
	f.Add(config(`<words>oak</words><berth nc:operation="delete"><name>b1</name></berth>`))
	f.Add(codec.XML(s, treetest.Tree(rand.New(rand.NewPCG(7, 7)), s), outer))
	f.Fuzz(func(t *testing.T, doc []byte) {
		el, err := markup.Parse(doc, markup.Limits{Bytes: 1 << 16, Depth: 32})
		if err != nil {
			return
		}
		if n, err := (codec.Decoder{Schema: s}).Tree(el); err == nil {
			back, err := codec.Decoder{Schema: s}.ParseTree(codec.XML(s, n, outer))
			require.NoError(t, err)
			require.Equal(t, codec.OutlineText(n), codec.OutlineText(back))
		}
		if doc, err := (codec.Decoder{Schema: s, Strict: true}).Edit(el); err == nil {
			_, _ = tree.Apply(tree.Empty, doc, tree.Merge)
		}
	})
}
