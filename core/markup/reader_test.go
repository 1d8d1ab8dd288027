package markup_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/markup"
)

// The events of a document, with names, attributes and text as they come.
func TestReader(t *testing.T) {
	r, err := markup.NewReader(
		[]byte(
			"<?xml version='1.0'?><!-- c --><a xmlns='urn:a' xmlns:p='urn:p' p:k='1' k='2'>x<p:b xmlns='urn:b' "+
				"xmlns:q='urn:q'><c>&lt;<![CDATA[&]]></c></p:b>y<d/></a>\n",
		),
		markup.Limits{},
	)
	require.NoError(t, err)
	var got []string
	for {
		ev, err := r.Next()
		require.NoError(t, err)
		if ev == markup.Done {
			break
		}
		line := fmt.Sprintf("%d {%s}%s %q", ev, r.Name().Space, r.Name().Local, r.Text())
		if ev == markup.Start {
			for _, a := range r.Attrs() {
				line += fmt.Sprintf(" {%s}%s=%s", a.Name.Space, a.Name.Local, a.Value)
			}
		}
		q, ok := r.Resolve("q")
		if ok {
			line += " q=" + q
		}
		got = append(got, line)
	}
	assert.Equal(t, []string{
		`1 {urn:a}a "" {urn:p}k=1 {}k=2`, `1 {urn:p}b "x" q=urn:q`, `1 {urn:b}c "" q=urn:q`, `2 {urn:b}c "<&" q=urn:q`,
		`2 {urn:p}b "" q=urn:q`, `1 {urn:a}d "y"`, `2 {urn:a}d ""`, `2 {urn:a}a ""`,
	}, got)
}

// The same declaration in another place is another scope.
func TestScopesAreNotConfused(t *testing.T) {
	el, err := markup.Parse(
		[]byte(
			`<a xmlns:x="urn:1"><b xmlns:p="urn:p"/><c xmlns:x="urn:2"><b xmlns:p="urn:p"/></c><b xmlns:p="urn:p"/></a>`,
		),
		markup.Limits{},
	)
	require.NoError(t, err)
	for i, want := range []string{"urn:1", "urn:2", "urn:1"} {
		b := []*markup.Element{el.Children[0], el.Children[1].Children[0], el.Children[2]}[i]
		x, _ := b.Resolve("x")
		p, _ := b.Resolve("p")
		assert.Equal(t, []string{want, "urn:p"}, []string{x, p})
		r := b.Reader()
		_, err := r.Next()
		require.NoError(t, err)
		again, _ := r.Resolve("x")
		assert.Equal(t, want, again, "read anew, an element has what is in scope where it stands")
	}
}

func TestCompact(t *testing.T) {
	for in, want := range map[string]string{
		"<r xmlns:q='urn:q'><a>\n  <b> x </b>\n  <q:c/>\n</a></r>": `<a xmlns="" xmlns:q="urn:q"><b> x </b><q:c/></a>`,
		"<r><a/></r>":                         `<a xmlns=""/>`,
		"<r><a> <!-- kept -->  <b/> </a></r>": `<a xmlns=""> <!-- kept --><b/></a>`,
		"<r><a> text <b/> more </a></r>":      `<a xmlns=""> text <b/> more </a>`,
	} {
		el, err := markup.Parse([]byte(in), markup.Limits{})
		require.NoError(t, err)
		assert.Equal(t, want, string(el.Children[0].Compact()), in)
	}
}

func TestReaderErrors(t *testing.T) {
	for doc, want := range map[string]string{
		"":                         "no element in the document",
		"<a>":                      "the document ends inside <a>",
		"<a/><b/>":                 "a second element <b>",
		"<a/>x":                    "text outside",
		"<a></b>":                  "end tag </b> closes <a>",
		"<p:a/>":                   `prefix "p" of a is not declared`,
		"<a p:k='1'/>":             `prefix "p" of k is not declared`,
		"<a k='' k=''/>":           "attribute k twice",
		"<!DOCTYPE a []><a/>":      "document type declarations are not accepted",
		"<a>\n <b></c></a>":        "line 2, column 5",
		"<a>\xff</a>":              "invalid UTF-8",
		strings.Repeat("<a>", 200): "nested deeper than 128",
	} {
		_, err := markup.Parse([]byte(doc), markup.Limits{})
		require.ErrorContains(t, err, want, "%.40s", doc)
	}
	_, err := markup.NewReader(make([]byte, 11), markup.Limits{Bytes: 10})
	require.ErrorIs(t, err, markup.ErrTooLarge)
}

// Of a closed element only the bytes are kept; opened, or read, it has all.
func TestClosed(t *testing.T) {
	el, err := markup.Parse(
		[]byte(
			`<r xmlns="urn:r" xmlns:p="urn:p"><data k="1"><a><p:b/></a>text</data><data xmlns="urn:other"><c/></data></r>`,
		),
		markup.Limits{Closed: markup.Name{Space: "urn:r", Local: "data"}},
	)
	require.NoError(t, err)
	closed := el.Children[0]
	assert.Empty(t, closed.Children)
	assert.Equal(t, "1", closed.Attrs[0].Value)
	assert.Len(t, el.Children[1].Children, 1, "another namespace's is not meant")
	open, err := closed.Open()
	require.NoError(t, err)
	assert.Equal(t, markup.Name{Space: "urn:p", Local: "b"}, open.Find("a", "b").Name)
	assert.Equal(t, "text", open.Text)
	_, err = markup.Parse([]byte(`<data><a></data>`), markup.Limits{Closed: markup.Name{Local: "data"}})
	require.ErrorContains(t, err, "closes <a>")
}

// However many attributes and namespaces somebody sends, no more work is done than the
// document is long.
func TestManyAttributes(t *testing.T) {
	many := func(n int, format string) string {
		var b strings.Builder
		for i := range n {
			_, _ = fmt.Fprintf(&b, format, i)
		}
		return b.String()
	}
	_, err := markup.Parse([]byte("<a"+many(markup.MostAttributes, ` b%d=""`)+"/>"), markup.Limits{})
	require.NoError(t, err)
	_, err = markup.Parse([]byte("<a"+many(20_000, ` b%d=""`)+"/>"), markup.Limits{})
	require.ErrorIs(t, err, markup.ErrTooLarge)
	require.ErrorContains(t, err, "<a> has 20000 attributes, at most 256 are read")
	nested := func(deep int) string {
		text := ""
		for d := range deep {
			text += "<e" + many(200, fmt.Sprintf(` xmlns:p%dn%%d="urn:x:%%[1]d"`, d)) + ">"
		}
		return text + strings.Repeat("</e>", deep)
	}
	_, err = markup.Parse([]byte(nested(5)), markup.Limits{})
	require.NoError(t, err)
	_, err = markup.Parse([]byte(nested(6)), markup.Limits{})
	require.ErrorIs(t, err, markup.ErrTooLarge)
	root, err := markup.Parse(
		[]byte(`<p:a xmlns:p="urn:one" p:x="1"><p:b xmlns:p="urn:two" p:x="2"/><p:c p:x="3"/></p:a>`), markup.Limits{},
	)
	require.NoError(t, err)
	for i, space := range []string{"urn:two", "urn:one"} {
		require.Equal(t, space, root.Children[i].Name.Space, "a prefix is looked up where it stands")
		_, ok := root.Children[i].Attr(space, "x")
		require.True(t, ok)
	}
}
