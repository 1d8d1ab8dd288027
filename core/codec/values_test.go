package codec_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/markup"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

const kinds = `module kinds { yang-version 1.1; namespace "urn:k"; prefix k; import more { prefix m; }
  identity own { base m:kind; }
  container c {
    leaf id { type identityref { base m:kind; } }
    leaf either { type union { type identityref { base m:kind; } type uint8; type string { pattern "x.*"; } } }
    leaf where { type instance-identifier; }
    leaf same { type leafref { path "../id"; } }
    leaf bin { type binary; }
    leaf text { type string; }
    leaf-list ids { type identityref { base m:kind; } ordered-by user; }
    list by { key id; ordered-by user; leaf id { type identityref { base m:kind; } } leaf v { type string; } }
  } }`

const more = `module more { namespace "urn:m"; prefix m; identity kind; identity other { base kind; } }`

func kindsSchema(t *testing.T) *schema.Schema {
	t.Helper()
	s := schema.Compile([]schema.Source{{Name: "kinds", Text: kinds}, {Name: "more", Text: more}}, schema.Options{})
	require.Empty(t, s.Problems)
	return s
}

// Values whose meaning hangs on prefixes: whatever prefixes they come with, they
// are the same, and go out with prefixes that are declared.
func TestPrefixedValues(t *testing.T) {
	s := kindsSchema(t)
	for _, c := range []struct{ body, want string }{
		{`<id xmlns:a="urn:m">a:other</id>`, "id: more:other"},
		{`<id xmlns="urn:k">own</id>`, "id: kinds:own"},
		{`<either xmlns:zz="urn:m"> zz:other </either>`, "either: more:other"},
		{`<either>07</either>`, "either: 7"},
		{`<either>xyz</either>`, "either: xyz"},
		{`<same xmlns:q="urn:k">q:own</same>`, "same: kinds:own"},
		{
			`<where xmlns:b="urn:k">/b:c/b:by[b:id='m:other']/b:v</where>`,
			`where: "/kinds:c/kinds:by[kinds:id='m:other']/kinds:v"`,
		},
		{`<bin> aGFy
		     Ym91cg== </bin>`, "bin: aGFyYm91cg=="},
		{`<text>  two
 lines &amp; "quotes" </text>`, `text: "  two\n lines & \"quotes\" "`},
		{`<text/>`, `text: ""`},
	} {
		n, err := codec.Decoder{Schema: s, Strict: true}.ParseTree(
			[]byte(`<config><c xmlns="urn:k">` + c.body + `</c></config>`),
		)
		require.NoError(t, err, c.body)
		assert.Equal(t, "c\n  "+c.want+"\n", codec.OutlineText(n))
		text := codec.XML(s, n, outer)
		back, err := codec.Decoder{Schema: s, Strict: true}.ParseTree(text)
		require.NoError(t, err, "%s", text)
		assert.Equal(t, n.Digest(), back.Digest(), "%s", text)
	}
	for body, want := range map[string]string{
		`<id>nope</id>`: "not one of kinds:own, more:other", `<id xmlns:a="urn:none">a:other</id>`: "not one of",
		`<where xmlns:b="urn:none">/b:c</where>`: `prefix "b"`, `<where>c</where>`: "not an absolute path",
		`<bin>%%</bin>`: "not base64",
	} {
		_, err := codec.Decoder{Schema: s, Strict: true}.ParseTree(
			[]byte(`<config><c xmlns="urn:k">` + body + `</c></config>`),
		)
		require.ErrorContains(t, err, want, body)
	}
}

// Keys that are identities, in insertions too.
func TestPrefixedKeys(t *testing.T) {
	s := kindsSchema(t)
	c := s.Named("c")[0]
	by := c.Named("by")[0]
	doc := &tree.Edit{Children: []*tree.Edit{{Schema: c, Op: tree.Merge, Children: []*tree.Edit{
		{Schema: by, Keys: []string{"kinds:own"}},
		{Schema: by, Keys: []string{"more:other"}, Insert: "before", InsertKeys: []string{"kinds:own"}},
		{Schema: c.Named("ids")[0], Keys: []string{"kinds:own"}, Insert: "first"},
		{Schema: c.Named("ids")[0], Keys: []string{"more:other"}, Insert: "before", InsertKeys: []string{"kinds:own"}},
	}}}}
	w := &markup.Writer{}
	w.Start(outer)
	codec.EncodeEdit(w, s, doc)
	w.End()
	el, err := markup.Parse(w.Bytes(), markup.Limits{})
	require.NoError(t, err, "%s", w.Bytes())
	back, err := codec.Decoder{Schema: s, Strict: true}.Edit(el)
	require.NoError(t, err, "%s", w.Bytes())
	got, err := tree.Apply(tree.Empty, back, tree.None)
	require.NoError(t, err)
	assert.Equal(
		t, "c\n  ids: more:other\n  ids: kinds:own\n  by [more:other]\n  by [kinds:own]\n", codec.OutlineText(got),
	)
}

func TestQuote(t *testing.T) {
	for in, want := range map[string]string{
		"plain": "plain", "": `""`, "a b": `"a b"`, `q"`: `"q\""`, "?x": `"?x"`, "x?": "x?", "a,b": `"a,b"`,
		"tab\t": `"tab\t"`, "é/2001:db8::1": "é/2001:db8::1", "\u200b": `"\u200b"`,
	} {
		assert.Equal(t, want, codec.Quote(in))
	}
}
