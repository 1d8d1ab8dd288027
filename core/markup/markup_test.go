package markup_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/markup"
)

func TestParse(t *testing.T) {
	e, err := markup.Parse(
		[]byte(
			`<?xml version="1.0"?><!-- c --><a xmlns="urn:a" xmlns:p="urn:p"><b p:k="v&amp;">x<![CDATA[<y>]]></b><p:c xmlns=""/></a>`,
		),
		markup.Limits{},
	)
	require.NoError(t, err)
	b := e.Child("urn:a", "b")
	assert.Equal(t, "x<y>", b.Text)
	v, ok := b.Attr("urn:p", "k")
	assert.True(t, ok)
	assert.Equal(t, "v&", v)
	c := e.Children[1]
	assert.Equal(t, markup.Name{Space: "urn:p", Local: "c"}, c.Name)
	space, ok := c.Resolve("")
	assert.True(t, ok)
	assert.Empty(t, space, "the default namespace was taken back")
	_, ok = c.Resolve("nope")
	assert.False(t, ok)
	assert.Nil(t, e.Find("b", "none"))
	assert.Empty(t, e.Find("b", "none").Value())
}

func TestRefused(t *testing.T) {
	for in, want := range map[string]string{
		"":                       "no element",
		"<a>":                    "ends inside <a>",
		"<a></b>":                "closes <a>",
		"</a>":                   "without a start",
		"<a/><b/>":               "second element",
		"<a/>tail":               "outside",
		"<p:a/>":                 `prefix "p"`,
		`<a p:x="1"/>`:           `prefix "p"`,
		`<a x="1" x="2"/>`:       "twice",
		"<!DOCTYPE a><a/>":       "document type",
		"<a>\n  <b>\n</a></b>":   "line 3, column 1",
		"<a>\xff</a>":            "UTF-8",
		"<a>&undefined;</a>":     "entity",
		strings.Repeat("<a>", 9): "deeper than 8",
		"<aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa/>": "at most 64",
	} {
		_, err := markup.Parse([]byte(in), markup.Limits{Depth: 8, Bytes: 64})
		require.ErrorContains(t, err, want, in)
	}
}

// A fragment taken out of its document means the same by itself.
func TestStandalone(t *testing.T) {
	doc := `<a xmlns="urn:a" xmlns:p="urn:p" xmlns:q="urn:q"><b xmlns:q="urn:other" ref="p:x"><p:c/><q:d/></b></a>`
	e, err := markup.Parse([]byte(doc), markup.Limits{})
	require.NoError(t, err)
	alone, err := markup.Parse(e.Children[0].Standalone(), markup.Limits{})
	require.NoError(t, err)
	for prefix, want := range map[string]string{"": "urn:a", "p": "urn:p", "q": "urn:other"} {
		got, ok := alone.Resolve(prefix)
		assert.True(t, ok)
		assert.Equal(t, want, got)
	}
	assert.Equal(t, "urn:p", alone.Children[0].Name.Space)
	assert.Equal(t, string(alone.Raw), string(alone.Standalone()), "nothing is added twice")
}

func TestWriter(t *testing.T) {
	w := &markup.Writer{Indent: "  "}
	w.Start(markup.Name{Space: "urn:a", Local: "a"}, "k", "1\n<\"")
	w.Leaf(markup.Name{Space: "urn:a", Local: "b"}, "x & <y>\r")
	w.Start(markup.Name{Local: "c"})
	w.End()
	w.End()
	want := "<a xmlns=\"urn:a\" k=\"1&#xA;&lt;&quot;\">\n  <b>x &amp; &lt;y&gt;&#xD;</b>\n  <c xmlns=\"\"/>\n</a>"
	assert.Equal(t, want, string(w.Bytes()))
	e, err := markup.Parse(w.Bytes(), markup.Limits{})
	require.NoError(t, err)
	assert.Equal(t, "x & <y>\r", e.Child("urn:a", "b").Text)
}

// Under 10,000 in a second: each document is held against the parser of the standard library.
func FuzzParse(f *testing.F) {
	f.Add([]byte(`<a xmlns="u" xmlns:p="v"><p:b q="1">t</p:b></a>`))
	f.Fuzz(func(t *testing.T, doc []byte) {
		e, err := markup.Parse(doc, markup.Limits{Bytes: 1 << 16, Depth: 32})
		if err != nil {
			return
		}
		for _, c := range e.Children {
			alone, err := markup.Parse(c.Standalone(), markup.Limits{})
			require.NoError(t, err, "%s", c.Standalone())
			require.Equal(t, c.Name, alone.Name)
		}
	})
}
