package check_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/check"
	"oakenlatch/core/codec"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

const module = `module m { yang-version 1.1; namespace "urn:m"; prefix m;
  identity ship; identity ferry { base ship; } identity fast { base ferry; }
  container c {
    presence "there";
    leaf must-be { type string; mandatory true; }
    leaf-list some { type string; min-elements 1; max-elements 2; }
    list entry { key k; unique "u v"; leaf k { type string; }
      leaf other { type leafref { path "../../entry/k"; } }
      leaf loose { type leafref { path "../../entry/k"; require-instance false; } }
      leaf u { type string; } leaf v { type uint8; default 7; }
      leaf its-v { type leafref { path "../../entry[k=current()/../other]/v"; } }
      leaf via { type leafref { path "deref(../other)/../u"; } }
      leaf local { type leafref { path "../u"; } } }
    choice way { case a { leaf a1 { type string; } leaf a2 { type string; mandatory true; } } leaf b { type string; } }
    choice needed { when "../m:c/m:strict"; mandatory true; leaf n1 { type empty; } leaf n2 { type empty; } }
    leaf odd { when "../b"; type string; mandatory true; }
    leaf strict { type empty; }
    container inner { leaf deep { type string; default d; } must "deep != 'x'" { error-message "not x"; } }
    leaf kind { type identityref { base ship; } }
    leaf quick { when "derived-from-or-self(../kind, 'm:ferry')"; type uint8; must ". >= 2 and . <= count(../entry)"; }
    leaf at { type instance-identifier; }
    leaf either { type union { type leafref { path "../entry/k"; } type enumeration { enum none; } } }
    leaf guess { must "unheard-of(.)"; type string; }
    leaf size { type uint8 { range "1..10"; } }
  } }`

// findings lists what the checks say, as path: message.
func findings(t *testing.T, s *schema.Schema, n *tree.Node) []string {
	t.Helper()
	var got []string
	for _, f := range check.Tree(s, n).Findings {
		assert.Equal(t, check.Error, f.Severity)
		got = append(got, f.Path+": "+f.Message)
	}
	return got
}

func TestFindings(t *testing.T) {
	s := schema.Compile([]schema.Source{{Name: "m", Text: module}}, schema.Options{})
	require.Empty(t, s.Problems)
	const ok = `<must-be>x</must-be><some>1</some>`
	for _, c := range []struct {
		name, body string
		want       []string
	}{
		{"valid", ok, nil},
		{"mandatory", `<some>1</some>`, []string{"/c/must-be: is mandatory and not set"}},
		{"too few", `<must-be>x</must-be>`, []string{"/c/some: has no entries, at least 1 are needed"}},
		{"too many", ok + `<some>2</some><some>3</some>`, []string{"/c/some: has 3 entries, at most 2 are allowed"}},
		{
			"a value the device should not have", ok + `<size>11</size>`,
			[]string{"/c/size: 11 is out of range, allowed is 1 to 10"},
		},
		{"dangling reference", ok + `<entry><k>1</k><other>2</other><loose>3</loose></entry>`,
			[]string{`/c/entry=1/other: refers to "2", which is not among /m:c/entry/k`}},
		{
			"reference within an entry",
			ok + `<entry><k>1</k><u>a</u><local>b</local></entry><entry><k>2</k><u>b</u><local>b</local></entry>`,
			[]string{`/c/entry=1/local: refers to "b", which is not among /m:c/entry/u`},
		},
		{
			"reference with a predicate",
			ok + `<entry><k>1</k><u>a</u><other>2</other><its-v>7</its-v></entry><entry><k>2</k><u>b</u><other>1</other><its-v>8</its-v></entry>`,
			[]string{`/c/entry=2/its-v: refers to "8", which is not among /m:c/entry/v`},
		},
		{
			"reference through another",
			ok + `<entry><k>1</k><other>2</other><via>b</via><u>a</u></entry><entry><k>2</k><u>b</u><other>1</other><via>b</via></entry>`,
			[]string{`/c/entry=2/via: refers to "b", which is not among deref(../other)/../u`},
		},
		{"union with a reference", ok + `<either>none</either>`, nil},
		{
			"unique, with a default",
			ok + `<entry><k>1</k><u>a</u></entry><entry><k>2</k><u>a</u><v>7</v></entry><entry><k>3</k><u>a</u><v>8</v></entry><entry><k>4</k></entry><entry><k>5</k></entry>`,
			[]string{"/c/entry=2: has the same u and v as /c/entry=1"},
		},
		{"the case in use", ok + `<a1>z</a1>`, []string{"/c/a2: is mandatory and not set"}},
		{"a condition that holds", ok + `<b>z</b>`, []string{"/c/odd: is mandatory and not set"}},
		{"a condition that does not hold", ok + `<odd>z</odd>`, []string{"/c/odd: is set, but only allowed when ../b"}},
		{"a mandatory choice", ok + `<strict/>`, []string{"/c: one of n1, n2 must be set (choice needed)"}},
		{"a mandatory choice made", ok + `<strict/><n2/>`, nil},
		{"must of a container", ok + `<inner><deep>x</deep></inner>`, []string{"/c/inner: not x (must deep != 'x')"}},
		{"identity", ok + `<kind>m:fast</kind><quick>2</quick><entry><k>1</k></entry><entry><k>2</k></entry>`, nil},
		{"wrong identity", ok + `<kind>m:ship</kind>`, []string{`/c/kind: "m:ship" is not one of m:fast, m:ferry`}},
		{
			"must with a count", ok + `<kind>m:ferry</kind><quick>2</quick><entry><k>1</k></entry>`,
			[]string{"/c/quick: the condition . >= 2 and . <= count(../entry) does not hold"},
		},
		{"instance", ok + `<at xmlns:p="urn:m">/p:c/p:entry[p:k='1']/p:v</at><entry><k>1</k></entry>`, nil},
		{
			"no such instance", ok + `<at xmlns:p="urn:m">/p:c/p:entry[p:k='2']</at><entry><k>1</k></entry>`,
			[]string{"/c/at: refers to /m:c/m:entry[m:k='2'], which is not there"},
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			n, err := codec.Decoder{Schema: s}.ParseTree(
				[]byte(`<config><c xmlns="urn:m" xmlns:m="urn:m">` + c.body + `</c></config>`),
			)
			require.NoError(t, err)
			assert.Equal(t, c.want, findings(t, s, n))
		})
	}
	n, err := codec.Decoder{Schema: s}.ParseTree(
		[]byte(`<config><c xmlns="urn:m">` + ok + `<guess>x</guess></c></config>`),
	)
	require.NoError(t, err)
	res := check.Tree(s, n)
	assert.Empty(t, res.Findings)
	assert.Equal(t, 1, res.Unchecked, "what is not known here is left to the device")
	assert.Equal(t, []string{`XPath "unheard-of(.)" calls unheard-of(), which is not known`}, res.Reasons)
}

// The edit that a finding offers does mend it.
func TestFixesMend(t *testing.T) {
	s := schema.Compile([]schema.Source{{Name: "m", Text: module}}, schema.Options{})
	n, err := codec.Decoder{Schema: s}.ParseTree(
		[]byte(
			`<config><c xmlns="urn:m"><must-be>x</must-be><some>1</some><odd>z</odd><entry><k>1</k><other>2</other></entry></c></config>`,
		),
	)
	require.NoError(t, err)
	before := check.Tree(s, n).Findings
	require.Len(t, before, 2)
	for _, f := range before {
		require.NotNil(t, f.Fix, f.Message)
		assert.Equal(t, "delete", f.Fix.Edit)
		p, err := tree.ParsePath(s, f.Fix.Path)
		require.NoError(t, err)
		n, err = tree.Apply(n, tree.DeleteAt(p), tree.None)
		require.NoError(t, err)
	}
	assert.Empty(t, check.Tree(s, n).Findings)
}

// A change is told what it does, and what it must not take away.
func TestChange(t *testing.T) {
	s := schema.Compile([]schema.Source{{Name: "m", Text: module}}, schema.Options{})
	read := func(body string) *tree.Node {
		n, err := codec.Decoder{Schema: s}.ParseTree([]byte(`<config><c xmlns="urn:m">` + body + `</c></config>`))
		require.NoError(t, err)
		return n
	}
	base := read(
		`<must-be>x</must-be><some>1</some><entry><k>1</k><u>a</u></entry><entry><k>2</k><loose>9</loose></entry>`,
	)
	res := check.Change(s, base, read(`<some>1</some><entry><k>1</k></entry><entry><k>2</k><loose>8</loose></entry>`))
	assert.Equal(t, []check.Finding{
		{
			Severity: check.Error, Path: "/c/must-be", Message: "is mandatory and not set",
			Fix: &check.Fix{Edit: "put", Path: "/c/must-be", Value: "x"},
		},
		{
			Severity: check.Warning, Path: "/c/entry=2/loose", Message: `refers to "8", which is not there`,
			Fix: &check.Fix{Edit: "delete", Path: "/c/entry=2/loose"},
		},
		{
			Severity: check.Hint, Path: "/c/entry=1", Message: "is an empty shell: this change takes out all it held",
			Fix: &check.Fix{Edit: "delete", Path: "/c/entry=1"},
		},
	}, slices.DeleteFunc(
		res.Findings, func(f check.Finding) bool { return strings.Contains(f.Message, "used nowhere") },
	))
}
