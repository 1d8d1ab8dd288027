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

// Whatever a configuration holds, each format brings back just that, and is
// recognised by its content.
func TestFormatsRoundTrip(t *testing.T) {
	s := treetest.Schema()
	require.Empty(t, s.Problems)
	d := codec.Decoder{Schema: s}
	for seed := range uint64(300) {
		n := treetest.Tree(rand.New(rand.NewPCG(seed, 7)), s)
		in := &codec.Instance{
			Name: "quay <1>", Description: "all of it", Contact: "harbour office",
			Organization: []string{"Tidewell", "Ferries"}, Datastore: "ietf-datastores:running",
			Timestamp: "2026-11-23T10:00:00Z", Modules: []string{"quay@2026-02-02"},
			Revisions: []codec.InstanceRevision{{Date: "2026-11-22", Description: "first"}, {Date: "2026-11-23"}},
			Content:   n,
		}
		for _, c := range []struct {
			name   string
			format codec.Format
			doc    []byte
		}{
			{"XML", codec.FormatXML, codec.XML(s, n, markup.Name{Space: codec.NetconfNS, Local: "config"})},
			{"JSON", codec.FormatJSON, codec.JSON(s, n)},
			{"outline", codec.FormatOutline, []byte(codec.OutlineText(n))},
			{"instance in XML", codec.FormatXML, d.InstanceXML(in)},
			{"instance in JSON", codec.FormatJSON, d.InstanceJSON(in)},
		} {
			got, err := d.Read(c.doc)
			require.NoError(t, err, "seed %d, %s:\n%s", seed, c.name, c.doc)
			require.Equal(t, c.format, got.Format)
			require.Equal(
				t, n.Digest(), got.Content.Digest(), "seed %d, %s:\n%s\nread as\n%s", seed, c.name, c.doc,
				codec.OutlineText(got.Content),
			)
			if got.Instance != nil {
				got.Instance.Content = n
				require.Equal(t, in, got.Instance)
			}
		}
	}
}

// The encodings of RFC 7951 section 6, one of each kind.
func TestJSONValues(t *testing.T) {
	s := treetest.Schema()
	d := codec.Decoder{Schema: s}
	doc := `{"quay:harbour": {
	  "quay:name": "n", "crane:name": "c", "depth": "8.50", "load": 7, "lit": [null], "flags": "dry wet", "limit": 64,
	  "words": ["b", "a"], "@words": [null, {"quay-notes:inspected": 3}], "numbers": [3, 2],
	  "berth": [{"name": "b1", "cargo": "crane:timber", "lamp": {}, "magnet": true}],
	  "papers": {"sheet": ["one", "two"], "crane:stamp": {}},
	  "crane:crane": {"hook": "/quay:harbour/berth[name='b1']"}, "strict": -3}}`
	n, err := d.ParseJSON([]byte(doc))
	require.NoError(t, err)
	assert.Equal(t, `harbour
  quay:name: n
  depth: 8.5
  load: 7
  lit:
  flags: "wet dry"
  limit: 64
  words: b
  words: a @quay-notes:inspected="3"
  numbers: 2
  numbers: 3
  berth [b1]
    cargo: crane:timber
    lamp
    magnet: true
  ? papers (carried unread, namespace urn:example:quay)
    | <papers xmlns="urn:example:quay"><sheet>one</sheet><sheet>two</sheet><stamp xmlns="urn:example:crane"/></papers>
  strict: -3
  crane:name: c
  crane
    hook: "/quay:harbour/quay:berth[quay:name='b1']"
`, codec.OutlineText(n))
	out := codec.JSON(s, n)
	assert.Contains(t, string(out), `"hook": "/quay:harbour/berth[name='b1']"`)
	assert.Contains(t, string(out), `"sheet": [`, "anydata as the JSON it stands for")
	assert.JSONEq(t, `{"quay:strict": -3}`, string(codec.JSONNode(s, n.Known("harbour").Known("strict"))))
}

func TestJSONErrors(t *testing.T) {
	d := codec.Decoder{Schema: treetest.Schema()}
	for doc, want := range map[string]string{
		`{"quay:harbour": {"load": "7"}}`:  `line 1, column 27: /harbour/load: is a percent, which JSON writes as a number, not as a string`,
		`{"quay:harbour": {"depth": 8.5}}`: "which JSON writes as a string, not as a number",
		`{"quay:harbour": {"lit": true}}`:  "takes no value",
		`{"quay:harbour": {"words": "a"}}`: "written as an array",
		`{"quay:harbour": [1]}`:            "written as an object",
		`{"quay:harbour": {"dept": "1"}}`:  "dept is not under harbour; there is depth",
		"{\"quay:harbour\": {\n \"load\": 101}}": "line 2, column 10: /harbour/load: 101 is " +
			"out of range",
		`{"quay:harbour": {"words": ["a", "a"]}}`:               "/harbour/words=a: stands twice",
		`{"quay:harbour": {"load": 1, "load": 2}}`:              `member "load" stands twice`,
		`{"quay:harbour": {"berth": [{"magnet": true}]}}`:       "an entry has not all its keys (name)",
		`{"quay:harbour": {"@load": {"quay-notes:x": 1}}}`:      "metadata @load is of a value that is not there",
		`{"quay:harbour": {"load": 1, "@load": {"x": 1}}}`:      "has no module's name before it",
		`{"quay:harbour": {"papers": {"x:y": 1}}}`:              `module "x" of x:y is not known`,
		`{"quay:harbour": {"papers": {"a b": 1}}}`:              `"a b" is not a name`,
		`{"quay:harbour": {"load": }`:                           "not JSON",
		`{"quay:harbour": {"load": 1`:                           "ends",
		`{} {}`:                                                 "something follows",
		`{"quay:harbour": {"oaken-latch:unread": ["<a><b/>"]}}`: "the XML in oaken-latch:unread",
	} {
		_, err := d.Read([]byte(doc))
		require.ErrorContains(t, err, want, doc)
	}
}

func TestOutlineComfort(t *testing.T) {
	d := codec.Decoder{Schema: treetest.Schema()}
	n, err := d.Read(
		[]byte(
			"# the north quay\n\nharbour   # all of it\n      load: 0x10\n      berth [b1]\n         name: b1\n      " +
				"   cargo: grain\n      words: \"a # b\"\n      quay:name: |\n          | first\n          |\n       " +
				"   |   third\n",
		),
	)
	require.NoError(t, err)
	assert.Equal(
		t,
		"harbour\n  quay:name: |\n    | first\n    |\n    |   third\n  load: 16\n  words: \"a # b\"\n  berth [b1]\n  "+
			"  cargo: quay-types:grain\n",
		codec.OutlineText(n.Content),
	)
}

func TestOutlineErrors(t *testing.T) {
	d := codec.Decoder{Schema: treetest.Schema()}
	for text, want := range map[string]string{
		"harbor": "line 1, column 1: harbor is not under the top; " +
			"there is harbour",
		"harbour\n  birth [b1]": "line 2, column 3: birth is not under harbour; there is berth",
		"harbour\n  load: 101":  "line 2, column 9: /harbour/load: 101 is out of range",
		"harbour\n  load 7": "load is a leaf and needs a colon and its value; write " +
			"load: VALUE",
		"harbour\n  berth":                             "an entry is named by its keys in brackets; write berth [NAME]",
		"harbour\n  berth [b1":                         "the brackets are not closed",
		"harbour\n  queue [1]":                         "has 2 keys, got 1; write queue [LANE, SHIP]",
		"harbour\n  berth [B!]":                        `"B!" is not a valid berth-name`,
		"harbour: x":                                   "is a container and holds no value",
		"harbour\n  words: a b":                        `"b" is left over; put a value with white space in double quotes`,
		"harbour\n  words: \"a":                        "the quotes are not closed",
		"harbour\n  words:":                            `a value belongs here; write "" for an empty one`,
		"harbour\n\twords: a":                          "the line begins with a tab",
		"harbour\n    load: 1\n   words: a":            "line 3, column 4",
		"harbour\n  load: 1\n    words: a":             "stands below load, which is a leaf",
		"harbour\n  words: a\n  words: a":              "/harbour: holds words: a twice; keep one of them",
		"harbour\n  | text":                            "a line of text belongs to no value",
		"harbour\n  ? x\n    | <a>":                    "the content is not XML",
		"harbour\n  ? x\n    | <a/>\n  load: 1 @b":     "metadata has a name and a value",
		"harbour\n  berth [b1]\n    name: b2":          "its key name is b1 in the brackets and b2 below",
		"harbour\n  load: 1 @a:b=\"1\"":                "there is no module a here",
		"harbour\n  load: 1 @{}b=\"1\"":                "is not a name",
		"harbour\n  load: 1 @quay-notes:inspected=300": "300 is out of range",
		"harbour\n  load: 1 @{urn:x}b=1 @{urn:x}b=2":   "stands twice",
		"quay:harbour\n  load:7": "load:7 is not under harbour; put a space behind the " +
			"colon: load: 7",
	} {
		_, err := d.Read([]byte(text))
		require.ErrorContains(t, err, want, text)
	}
}

// The four with-defaults modes of RFC 6243 mean one configuration.
func TestDefaultsOfADevice(t *testing.T) {
	d := codec.Decoder{Schema: treetest.Schema()}
	tagged, err := d.ParseTree(
		[]byte(
			`<data xmlns:wd="` + codec.WithDefaultsNS +
				`"><harbour xmlns="urn:example:quay"><depth wd:default="true">8.5</depth><load wd:default="true">7</load><strict>1</strict></harbour></data>`,
		),
	)
	require.NoError(t, err)
	assert.Equal(
		t, "harbour\n  load: 7\n  strict: 1\n", codec.OutlineText(tagged),
		"only what is the schema's default is left out",
	)
	explicit, err := d.ParseOutline("harbour\n  depth: 8.50\n  strict: 1\n  berth [b1]\n    lamp\n")
	require.NoError(t, err)
	all := explicit.WithDefaults(d.Schema, tree.ReportAll)
	assert.Equal(
		t,
		"harbour\n  depth: 8.5\n  load: 50\n  berth [b1]\n    lamp\n      colour: red\n      housing\n        "+
			"sealed: false\n  strict: 1\n",
		codec.OutlineText(all),
	)
	trimmed := explicit.WithDefaults(d.Schema, tree.Trim)
	assert.Equal(t, "harbour\n  berth [b1]\n    lamp\n  strict: 1\n", codec.OutlineText(trimmed))
	assert.Equal(t, trimmed.Digest(), all.WithDefaults(d.Schema, tree.Trim).Digest())
	assert.Same(t, explicit, explicit.WithDefaults(d.Schema, tree.Explicit))
	doc := codec.XML(d.Schema, explicit.WithDefaults(d.Schema, tree.ReportAllTagged), markup.Name{Local: "data"})
	assert.Contains(t, string(doc), `:default="true">50</load>`)
	back, err := d.ParseTree(doc)
	require.NoError(t, err)
	assert.Equal(t, explicit.Digest(), back.Digest(), "what is tagged was set by nobody")
	tags := explicit.WithDefaults(d.Schema, tree.ReportAllTagged)
	for _, doc := range [][]byte{codec.JSON(d.Schema, tags), []byte(codec.OutlineText(tags))} {
		back, err := d.Read(doc)
		require.NoError(t, err, "%s", doc)
		assert.Equal(t, explicit.Digest(), back.Content.Digest(), "%s", doc)
	}
	assert.Equal(t, trimmed.WithoutDefaults().Digest(), explicit.WithoutDefaults().Digest())
}

// What looks like a configuration in an envelope, or in none.
func TestEnvelopes(t *testing.T) {
	d := codec.Decoder{Schema: treetest.Schema()}
	body := `<harbour xmlns="urn:example:quay"><load>7</load></harbour>`
	for _, doc := range []string{
		body, `<?xml version="1.0"?>` + "\n" + body, "\ufeff<config>" + body + "</config>",
		`<rpc-reply xmlns="urn:ietf:params:xml:ns:netconf:base:1.0" message-id="1"><data>` + body +
			`</data></rpc-reply>`,
		`{"ietf-restconf:data": {"quay:harbour": {"load": 7}}}`, `{"quay:harbour": {"load": 7}}`,
		`{"ietf-yang-instance-data:instance-data-set": {"name": "x", "content-data": {"quay:harbour": {"load": 7}}}}`,
	} {
		got, err := d.Read([]byte(doc))
		require.NoError(t, err, doc)
		assert.Equal(t, "harbour\n  load: 7\n", codec.OutlineText(got.Content), doc)
	}
	_, err := d.Read([]byte(body + "<x>"))
	require.ErrorContains(t, err, "line 1, column 62")
}

// A leaf stands once, whatever its values; a container too, and an entry.
func TestWhatStandsTwice(t *testing.T) {
	d := codec.Decoder{Schema: treetest.Schema()}
	for _, doc := range []string{
		`<harbour xmlns="urn:example:quay"><load>1</load><load>2</load></harbour>`,
		`<harbour xmlns="urn:example:quay"/><harbour xmlns="urn:example:quay"><load>1</load></harbour><harbour xmlns="urn:example:quay"><load>1</load></harbour>`,
		`<harbour xmlns="urn:example:quay"><berth><name>b1</name></berth><berth><name>b1</name><ropes>1</ropes></berth></harbour>`,
		`<harbour xmlns="urn:example:quay"><berth><name>b1</name><name>b2</name></berth></harbour>`,
		`<harbour xmlns="urn:example:quay"><queue><lane>1</lane><ship>a</ship></queue><queue><lane>2</lane><ship>a</ship></queue><queue><lane>01</lane><ship>a</ship></queue></harbour>`,
		"harbour\n  load: 1\n  load: 2\n", "harbour\n  load: 1\nharbour\n  load: 1\n",
		"harbour\n  numbers: 1\n  numbers: 2\n  numbers: 0x1\n", `{"quay:harbour": {"words": ["a", "b", "a"]}}`,
		`{"quay:harbour": {"berth": [{"name": "b1"}, {"name": "b1", "ropes": 1}]}}`,
	} {
		_, err := d.Read([]byte(doc))
		require.ErrorContains(t, err, "twice", doc)
	}
}

// Documents that say little with much, or much with little, are cut off.
func TestDocumentsOutOfProportion(t *testing.T) {
	d := codec.Decoder{Schema: treetest.Schema(), Limits: markup.Limits{Nodes: 1000, Depth: 20, Bytes: 1 << 20}}
	many := func(s string) string { return strings.Repeat(s, 2000) }
	for name, doc := range map[string]string{
		"elements": "<config>" + many("<x/>") + "</config>", "values": `{"a": [` + many("1,") + "1]}",
		"lines": "harbour\n" + many("  words: a\n"), "depth of elements": strings.Repeat("<a>", 30),
		"depth of values": strings.Repeat(`{"a":`, 30), "bytes": strings.Repeat(" ", 1<<20+1),
	} {
		_, err := d.Read([]byte(doc))
		require.ErrorIs(t, err, markup.ErrTooLarge, name)
	}
}
