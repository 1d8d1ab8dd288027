package xpath_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/check"
	"oakenlatch/core/codec"
	"oakenlatch/core/schema"
	"oakenlatch/core/xpath"
)

const module = `module m { yang-version 1.1; namespace "urn:m"; prefix m;
  identity ship; identity ferry { base ship; } identity fast { base ferry; }
  container port { leaf name { type string; } leaf depth { type decimal64 { fraction-digits 1; } default 4.5; }
    leaf open { type boolean; default true; }
    list berth { key id; leaf id { type uint8; } leaf kind { type identityref { base ship; } } leaf beside { type leafref { path "../../berth/id"; } }
      leaf length { type uint16; } leaf state { type enumeration { enum free { value 3; } enum taken { value 9; } } default free; }
      leaf flags { type bits { bit wet; bit lit; } } leaf-list crew { type string; ordered-by user; } }
    list shift { key "day hour"; leaf day { type string; } leaf hour { type uint8; } leaf lead { type string; } }
    leaf best { type instance-identifier; } } }`

const doc = `port
  name: "  North  quay "
  berth [1]
    kind: m:ferry
    beside: 2
    length: 40
    flags: "wet lit"
    crew: Ann
    crew: Bo
  berth [2]
    kind: m:fast
    length: 120
    state: taken
  berth [3]
    length: 7
    crew: Bo
  shift [mon, 6]
    lead: Ann
  shift [mon, 14]
    lead: Bo
  shift [tue, 6]
    lead: Bo
  best: "/m:port/berth[id='2']"
`

func load(t testing.TB) (*schema.Schema, xpath.Node) {
	t.Helper()
	s := schema.Compile([]schema.Source{{Name: "m", Text: module}}, schema.Options{})
	require.Empty(t, s.Problems)
	n, err := codec.Decoder{Schema: s}.ParseOutline(doc)
	require.NoError(t, err)
	return s, check.Accessible(s, n)
}

func names(s *schema.Schema) xpath.Names {
	m := s.ModuleByName("m")
	return xpath.Names{Schema: s, Prefixes: map[string]*schema.Module{"": m, "m": m}, Local: m}
}

func text(t testing.TB, s *schema.Schema, at xpath.Node, expr string) string {
	t.Helper()
	e, err := xpath.Parse(expr, names(s))
	require.NoError(t, err, expr)
	got, err := e.Text(at, &xpath.Budget{Left: 1e6})
	require.NoError(t, err, expr)
	return got
}

// Every construct of XPath 1.0 and every function of YANG's, from the root;
// what is expected follows from the sections of the recommendation.
func TestExpressions(t *testing.T) {
	s, root := load(t)
	for expr, want := range map[string]string{
		// location paths
		"/port/berth[2]/length": "120", "/m:port/m:berth[m:id='2']/length": "120", "port/berth[id=2]/length": "120",
		"count(/port/berth)": "3", "count(//crew)": "3", "count(port/*)": "10",
		"count(//berth/id | //berth[1]/id)": "3",
		"port/berth[last()]/length":         "7", "port/berth[position()=2]/id": "2", "//crew[. = 'Bo'][1]/../id": "1",
		"(//crew[. = 'Bo'])[2]/../id": "3", "port/berth[3]/preceding-sibling::berth[1]/id": "2",
		"port/berth[1]/following-sibling::berth[1]/id": "2",
		"count(port/berth[2]/preceding::*)":            "12", "count(port/berth[2]/following::*)": "18",
		"count(port/berth[1]/crew[1]/ancestor::node())": "3", "count(port/berth[1]/crew[1]/ancestor-or-self::*)": "3",
		"count(port/descendant::length)": "3", "port/berth[crew='Ann']/child::id": "1", "count(port/attribute::x)": "0",
		"count(@x)":                    "0",
		"port/berth[1]/self::berth/id": "1", "count(port/berth[1]/self::shift)": "0", "count(port/berth/text())": "0",
		"port/name/text()":      "  North  quay ",
		"count(port/comment())": "0", "count(/)": "1", "count(/port/..)": "1", "port/shift[day='mon' and " +
			"hour=14]/lead": "Bo", "port/shift[day='mon'][hour='06']/lead": "Ann",
		"port/berth[length > 10 and state != 'taken']/id": "1", "port/berth[not(kind)]/id": "3", "count(m:*)": "1",
		// defaults in use
		"port/depth": "4.5", "port/open = 'true'": "true", "count(port/berth[state='free'])": "2",
		// comparisons of sets, numbers, strings and booleans
		"port/berth/length = 7": "true", "7 = port/berth/length": "true", "port/berth/length != 7": "true",
		"120 < port/berth/length": "false", "119 < port/berth/length": "true",
		"port/berth/length < port/berth/id": "false", "port/berth/id = port/berth/length": "false",
		"port/nothing = 1": "false", "port/nothing != 1": "false",
		"port/nothing = false()": "true", "false() = port/nothing": "true", "port/berth = true()": "true",
		"'a' = 'a'": "true", "'1' = 1.0": "true", "'a' < 'b'": "false",
		"true() = 'x'": "true", "1 = 1 = 1": "true", "2 > 1 > 0": "true", "port/depth = '4.50'": "true",
		// arithmetic
		"1 + 2 * 3 - 4 div 2": "5", "7 mod 3": "1", "-7 mod 3": "-1", "1 div 0": "Infinity", "-1 div 0": "-Infinity",
		"0 div 0": "NaN", "--1": "1", "- -2": "2", "0.1 + 0.2": "0.30000000000000004",
		"1.50": "1.5", "100000000000000000000": "100000000000000000000", ".5": "0.5", "5 mod 0": "NaN", "2*3": "6",
		"port/depth*2": "9", "-0": "0",
		// the core library
		"string(1=1)": "true", "string(port/berth)": "1m:ferry240freewet litAnnBo", "concat('a', 1, true())": "a1true",
		"starts-with('quay', 'qu')": "true", "contains('quay', 'ua')": "true",
		"substring-before('10/8', '/')": "10", "substring-after('10/8', '/')": "8", "substring-before('10', '/')": "",
		"substring('12345', 2, 3)": "234", "substring('12345', 1.5, 2.6)": "234",
		"substring('12345', 0, 3)": "12", "substring('12345', -42)": "12345", "substring('12345', 0 div 0)": "",
		"string-length('ünï')": "3", "normalize-space(port/name)": "North quay",
		"translate('bar', 'abc', 'AB')": "BAr", "boolean('')": "false", "boolean('false')": "true", "not(1)": "false",
		"number('12 ')": "12", "number('1e3')": "NaN", "number('+1')": "NaN", "number(true())": "1",
		"sum(port/berth/length)": "167", "floor(-1.5)": "-2", "ceiling(1.2)": "2", "round(2.5)": "3",
		"round(-2.5)": "-2", "round(0 div 0)": "NaN",
		"local-name(port/berth)": "berth", "name(port)": "m:port", "namespace-uri(port)": "urn:m", "local-name(/)": "",
		"count(id('x'))": "0", "lang('en')": "false",
		// YANG's functions
		"re-match('1.22', '\\d{1,3}\\.\\d')": "false", "re-match('1.2', '\\d\\.\\d')": "true",
		"re-match('xay', 'a')":                  "false",
		"deref(port/berth[1]/beside)/../length": "120", "deref(port/best)/length": "120",
		"count(deref(port/name))":                  "0",
		"derived-from(port/berth/kind, 'm:ferry')": "true", "derived-from(port/berth[1]/kind, 'm:ferry')": "false",
		"derived-from-or-self(port/berth[1]/kind, 'ferry')": "true", "derived-from(port/name, 'm:ship')": "false",
		"enum-value(port/berth[2]/state)": "9", "enum-value(port/berth[1]/state)": "3", "enum-value(port/name)": "NaN",
		"bit-is-set(port/berth/flags, 'lit')": "true", "bit-is-set(port/berth/flags, 'dry')": "false",
		"bit-is-set(port/name, 'lit')": "false",
		// names that are words of the language
		"count(port/div) + 1": "1", "count(or) or count(and)": "false", "port/berth[id = 1 or id = 3][2]/id": "3",
		"port/berth[kind = 'm:fast']/id": "2", "port/berth['m:fast' = kind]/id": "2",
	} {
		assert.Equal(t, want, text(t, s, root, expr), expr)
	}
	e, err := xpath.Parse("current()/id = 2 and ../berth[id = current()/id]/length = 120", names(s))
	require.NoError(t, err)
	berths, err := mustParse(t, s, "/port/berth").Nodes(root, &xpath.Budget{Left: 1000})
	require.NoError(t, err)
	for i, b := range berths {
		ok, err := e.Bool(b, &xpath.Budget{Left: 1000})
		require.NoError(t, err)
		assert.Equal(t, i == 1, ok)
	}
}

func mustParse(t testing.TB, s *schema.Schema, expr string) *xpath.Expr {
	t.Helper()
	e, err := xpath.Parse(expr, names(s))
	require.NoError(t, err, expr)
	return e
}

func TestWhatIsNoXPath(t *testing.T) {
	s, root := load(t)
	for expr, want := range map[string]string{
		"": "stands where a step belongs", "1 +": "stands where a step belongs", "(1": "stands where ) belongs",
		"a b": "stands where an operator belongs", "'open": "is not closed", "a[": "stands where a step belongs",
		"a]": "is left over", "odd::a": "is no axis", "1.2.3": "is no number", "a/": "stands where a step belongs",
		"count()": "takes 1 to 1 arguments, got 0", "{}": "has no meaning", "a = = b": "stands where a step belongs",
		strings.Repeat("(", 300): "nested deeper",
	} {
		_, err := xpath.Parse(expr, names(s))
		require.ErrorContains(t, err, want, expr)
		assert.False(t, errors.Is(err, xpath.ErrUndecided), expr)
	}
	for expr, want := range map[string]string{"other()": "other()", "x:a": "prefix x", "$v": "has no meaning"} {
		_, err := xpath.Parse(expr, names(s))
		require.ErrorContains(t, err, want, expr)
	}
	for expr, want := range map[string]string{
		"count(1)": "no set of nodes", "1 | 2": "no set of nodes", "derived-from(port, 'x:y')": "prefix x",
		"derived-from(port, 'm:y')": "identity y", "re-match('a', '[a-z-[b]]')": "no counterpart",
		"count(//*[count(//*[count(//*) > 0]) > 0])": "more work",
	} {
		_, err := mustParse(t, s, expr).Text(root, &xpath.Budget{Left: 2000})
		require.ErrorIs(t, err, xpath.ErrUndecided, expr)
		require.ErrorContains(t, err, want, expr)
	}
}

// An index gives what asking one by one gives: writing the predicate so that
// no index fits changes nothing.
func TestIndexesChangeNothing(t *testing.T) {
	s, root := load(t)
	r := rand.New(rand.NewPCG(1, 1))
	for range 500 {
		list := []string{"berth", "shift"}[r.IntN(2)]
		leaf := map[string][]string{
			"berth": {"id", "kind", "length", "state", "beside"}, "shift": {"day", "hour", "lead"},
		}[list][r.IntN(3)]
		value := []string{
			"'1'", "2", "'mon'", "6", "'06'", "'Bo'", "'free'", "'m:fast'", "//berth/id", "/port/berth[2]/length",
			"string(//beside)", "true()",
		}[r.IntN(12)]
		rest := []string{"", "[1]", "[last()]/*[1]", "/*[2]"}[r.IntN(4)]
		plain := fmt.Sprintf("/port/%s[%s = %s]%s", list, leaf, value, rest)
		// The same, with a predicate that asks each entry by itself.
		slow := fmt.Sprintf("/port/%s[(./%s)[true()] = %s]%s", list, leaf, value, rest)
		for _, f := range []string{"count(%s)", "string(%s)"} {
			assert.Equal(t, text(t, s, root, fmt.Sprintf(f, slow)), text(t, s, root, fmt.Sprintf(f, plain)), plain)
		}
	}
}

// Under 10,000 in a second: each expression that is read is carried out.
func FuzzExpression(f *testing.F) {
	s, root := load(f)
	for _, seed := range []string{
		"/m:port/berth[id='1']/../name", "count(//*[. = 1]) div 2", "a or (b and -c | d)[1]//e", "re-match(., '[')",
		"''", "*:*",
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, expr string) {
		e, err := xpath.Parse(expr, names(s))
		if err != nil {
			return
		}
		_, _ = e.Text(root, &xpath.Budget{Left: 20000})
	})
}
