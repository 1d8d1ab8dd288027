package codec_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/treetest"
)

// Instance data files as others write them: the schema inline, in another
// order, with what we do not use.
func TestInstanceFilesOfOthers(t *testing.T) {
	d := codec.Decoder{Schema: treetest.Schema()}
	doc, err := d.Read([]byte(`<instance-data-set xmlns="urn:ietf:params:xml:ns:yang:ietf-yang-instance-data">
	  <name>quay</name>
	  <content-schema><inline-yang-library><yang-library xmlns="urn:ietf:params:xml:ns:yang:ietf-yang-library"><module-set><name>all</name>
	    <module><name>quay</name><revision>2026-02-02</revision></module><module><name>crane</name></module></module-set></yang-library></inline-yang-library></content-schema>
	  <revision><date>2026-11-23</date><description>first</description></revision>
	  <other xmlns="urn:else">x</other>
	  <content-data><harbour xmlns="urn:example:quay"><load>7</load></harbour></content-data>
	</instance-data-set>`))
	require.NoError(t, err)
	assert.Equal(t, []string{"quay@2026-02-02", "crane"}, doc.Instance.Modules)
	assert.Equal(t, []codec.InstanceRevision{{Date: "2026-11-23", Description: "first"}}, doc.Instance.Revisions)
	assert.Equal(t, "harbour\n  load: 7\n", codec.OutlineText(doc.Content))

	doc, err = d.Read(
		[]byte(
			`{"ietf-yang-instance-data:instance-data-set": {"content-data": {"quay:harbour": {"load": 7}}, "name": "n", "timestamp": "t", "x": [1], "revision": [{"date": "d"}], "content-schema": {"module": ["quay"]}, "organization": ["o"]}}`,
		),
	)
	require.NoError(t, err)
	assert.Equal(
		t, "n t quay o d",
		strings.Join(
			[]string{
				doc.Instance.Name, doc.Instance.Timestamp, doc.Instance.Modules[0], doc.Instance.Organization[0],
				doc.Instance.Revisions[0].Date,
			},
			" ",
		),
	)
	empty, err := d.Read(
		[]byte(
			`<instance-data-set xmlns="urn:ietf:params:xml:ns:yang:ietf-yang-instance-data"><name>n</name></instance-data-set>`,
		),
	)
	require.NoError(t, err)
	assert.Empty(t, empty.Content.Children())

	for in, want := range map[string]string{
		`<instance-data-set xmlns="urn:ietf:params:xml:ns:yang:ietf-yang-instance-data"><content-data><harbour xmlns="urn:example:quay"><berth/></harbour></content-data></instance-data-set>`: "an entry has no key name",
		`{"ietf-yang-instance-data:instance-data-set": {"content-data": {"quay:harbour": {"load": 700}}}}`:                                                                                     "700 is out of range",
		`{"ietf-yang-instance-data:instance-data-set": {"content-data": [1]}}`:                                                                                                                 "a configuration is an object",
		`<instance-data-set xmlns="urn:ietf:params:xml:ns:yang:ietf-yang-instance-data">`:                                                                                                      "the document ends inside",
	} {
		_, err := d.Read([]byte(in))
		require.ErrorContains(t, err, want, in)
	}
}

// Anydata is the JSON it stands for where JSON can say all there is of it, and
// its own XML where not; either way it comes back as it was.
func TestAnydataInJSON(t *testing.T) {
	d := codec.Decoder{Schema: treetest.Schema()}
	for papers, want := range map[string]string{
		`<papers xmlns="urn:example:quay"><a>1</a><a>2</a><b><c>x</c></b></papers>`:                                   `"a": [`,
		`<papers xmlns="urn:example:quay"><crew xmlns="urn:example:crane">x</crew></papers>`:                          `"crane:crew": "x"`,
		`<papers xmlns="urn:example:quay"><bare xmlns="">x</bare></papers>`:                                           `":bare": "x"`,
		`<papers xmlns="urn:example:quay"><a>1</a><b/><a>2</a></papers>`:                                              `"oaken-latch:unread"`,
		`<papers xmlns="urn:example:quay"><a k="1"/></papers>`:                                                        `"oaken-latch:unread"`,
		`<papers xmlns="urn:example:quay">text<a/></papers>`:                                                          `"oaken-latch:unread"`,
		`<papers xmlns="urn:example:quay"><a xmlns="urn:nobody"/></papers>`:                                           `"oaken-latch:unread"`,
		`<papers xmlns="urn:example:quay" xmlns:n="urn:ietf:params:xml:ns:yang:ietf-yang-metadata" n:inspected="3"/>`: `"oaken-latch:unread"`,
	} {
		n, err := d.ParseTree([]byte(`<config><harbour xmlns="urn:example:quay">` + papers + `</harbour></config>`))
		require.NoError(t, err, papers)
		doc := codec.JSON(d.Schema, n)
		assert.Contains(t, string(doc), want, papers)
		back, err := d.ParseJSON(doc)
		require.NoError(t, err, "%s", doc)
		assert.Equal(t, n.Digest(), back.Digest(), "%s\n%s", doc, codec.OutlineText(back))
	}
	n, err := d.ParseJSON(
		[]byte(`{"quay:harbour": {"papers": {"@": {"quay-notes:inspected": 3}, "n": 1.50, "yes": true, "no": null}}}`),
	)
	require.NoError(t, err)
	assert.Contains(
		t, codec.OutlineText(n),
		`xmlns:md0="urn:ietf:params:xml:ns:yang:ietf-yang-metadata" md0:inspected="3" xmlns="urn:example:quay"><n>1.50</n><yes>true</yes><no/></papers>`,
	)
	_, err = d.ParseJSON([]byte(`{"quay:harbour": {"papers": {"n": [[1]]}}}`))
	require.ErrorContains(t, err, "an array in an array has no form in XML")
}

// White space between the elements of anydata is no part of it; in what is not
// understood every byte is.
func TestWhiteSpaceThatMatters(t *testing.T) {
	d := codec.Decoder{Schema: treetest.Schema()}
	read := func(inner string) string {
		n, err := d.ParseTree([]byte(`<config><harbour xmlns="urn:example:quay">` + inner + `</harbour></config>`))
		require.NoError(t, err)
		return codec.OutlineText(n)
	}
	assert.Equal(t, read(`<papers><a>1</a><b/></papers>`), read("<papers>\n  <a>1</a>\n  <b/>\n</papers>"))
	assert.NotEqual(t, read(`<x xmlns="urn:x"><a/></x>`), read(`<x xmlns="urn:x"> <a/></x>`))
	assert.NotEqual(t, read(`<papers><a>1</a></papers>`), read(`<papers><a> 1</a></papers>`))
}
