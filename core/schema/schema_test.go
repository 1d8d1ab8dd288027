package schema_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/schema"
	"oakenlatch/core/treetest"
)

// at finds a data node by names alone.
func at(t *testing.T, s *schema.Schema, path string) *schema.Node {
	t.Helper()
	var n *schema.Node
	for i, name := range strings.Split(strings.Trim(path, "/"), "/") {
		list := s.Named(name)
		if i > 0 {
			list = n.Named(name)
		}
		require.NotEmpty(t, list, "%s: %s", path, name)
		n = list[0]
	}
	return n
}

func TestCompiledNodes(t *testing.T) {
	s := treetest.Schema()
	require.Empty(t, s.Problems)
	lamp := at(t, s, "/harbour/berth/lamp")
	assert.True(t, lamp.Presence)
	assert.Equal(t, []string{"red"}, at(t, s, "/harbour/berth/lamp/colour").Defaults, "refined default")
	assert.Equal(
		t, "quay", at(t, s, "/harbour/berth/lamp/colour").Module.Name,
		"a grouping's nodes are of the module that uses it",
	)
	assert.NotNil(t, at(t, s, "/harbour/berth/lamp/housing/glass"), "augment inside uses")
	assert.Equal(t, []string{"50"}, at(t, s, "/harbour/load").Defaults, "a typedef's default")
	assert.Equal(t, "percent", at(t, s, "/harbour/load").Units)
	assert.Equal(
		t, "/quay:harbour/crane:crane/hook", at(t, s, "/harbour/crane/hook").Path(), "an augment of an augment",
	)
	assert.Equal(t, []string{"lane", "ship"}, at(t, s, "/harbour/queue").Keys)
	assert.True(t, at(t, s, "/harbour/queue").UserOrdered)
	assert.True(t, at(t, s, "/harbour/strict").Mandatory)
	assert.Equal(t, "name", at(t, s, "/harbour/berth/beside").Type.Target.Name)
	assert.Equal(t, schema.Case, at(t, s, "/harbour/berth/magnet").Parent.Kind, "a short case")
	names := at(t, s, "/harbour").Named("name")
	require.Len(t, names, 2)
	assert.True(t, names[0].Ambiguous)
	assert.NotNil(t, at(t, s, "/harbour/tide"))
	assert.Empty(t, at(t, s, "/harbour").Named("frost"), "if-feature with and, not")
	assert.Empty(t, at(t, s, "/harbour").Named("seen"), "deviated away")
	green := at(t, s, "/harbour/berth/lamp/colour").Type.Enums
	assert.Equal(t, []int64{0, 7, 8}, []int64{green[0].Value, green[1].Value, green[2].Value})
}

func TestCanonicalValues(t *testing.T) {
	s := treetest.Schema()
	for _, c := range []struct{ path, value, want, fails string }{
		{"/harbour/depth", "8.50", "8.5", ""},
		{"/harbour/depth", "+009", "9.0", ""},
		{"/harbour/depth", "0.4", "", "out of range, allowed is 0.5 to 99.99"},
		{"/harbour/depth", "1.234", "", "at most 2 digits"},
		{"/harbour/depth", "--1", "", "not a decimal"},
		{"/harbour/load", " 0x10 ", "16", ""},
		{"/harbour/load", "017", "15", ""},
		{"/harbour/load", "101", "", "allowed is 0 to 100"},
		{"/harbour/load", "many", "", "not a whole number"},
		{"/harbour/numbers", "-2147483648", "-2147483648", ""},
		{"/harbour/numbers", "2147483648", "", "out of range"},
		{"/harbour/numbers", "-0", "0", ""},
		{"/harbour/flags", "dry wet", "wet dry", ""},
		{"/harbour/flags", "wet wet", "", "twice"},
		{"/harbour/flags", "damp", "", "one of wet, dry, iced"},
		{"/harbour/lit", "", "", ""},
		{"/harbour/lit", "x", "", "takes no value"},
		{"/harbour/limit", "0100", "64", ""}, // octal, within 1..100
		{"/harbour/limit", "none", "none", ""},
		{"/harbour/limit", "101", "", "fits none"},
		{"/harbour/berth/name", "Berth", "", "not a valid berth-name"},
		{"/harbour/berth/name", "b-12", "b-12", ""},
		{"/harbour/berth/name", "", "", "0 characters long, allowed is 1 to 12"},
		{"/harbour/berth/cargo", "quay-types:grain", "quay-types:grain", ""},
		{"/harbour/berth/cargo", "timber", "crane:timber", ""}, // the one that fits
		{"/harbour/berth/cargo", "quay-types:cargo", "", "not one of crane:timber, quay-types:bulk"},
		{"/harbour/berth/magnet", "TRUE", "", "neither true nor false"},
		{"/harbour/berth/lamp/colour", "blue", "", "one of red, green, white"},
		{"/harbour/berth/beside", "b1", "b1", ""},
		{"/harbour/berth/beside", "NO", "", "not a valid berth-name"}, // a leafref's values are its target's
		{
			"/harbour/crane/hook", "/quay:harbour/berth[name='q:x']/name",
			"/quay:harbour/quay:berth[quay:name='q:x']/quay:name", "",
		},
		{"/harbour/crane/hook", "/nope:harbour", "", `prefix "nope"`},
		{"/harbour/name", "bell\a", "", "U+0007"},
	} {
		n := at(t, s, c.path)
		got, err := s.Canonical(n.Type, c.value, s.NameResolver(n.Module))
		if c.fails != "" {
			require.ErrorContains(t, err, c.fails, "%s %q", c.path, c.value)
			continue
		}
		require.NoError(t, err, "%s %q", c.path, c.value)
		assert.Equal(t, c.want, got, "%s %q", c.path, c.value)
		again, err := s.Canonical(n.Type, got, s.NameResolver(n.Module))
		require.NoError(t, err)
		assert.Equal(t, got, again, "canonical is canonical")
	}
}

func compileOne(text string) *schema.Schema {
	return schema.Compile([]schema.Source{{Name: "m", Text: text}}, schema.Options{})
}

func module(body string) string {
	return `module m { yang-version 1.1; namespace "urn:m"; prefix m; ` + body + ` }`
}

// What cannot be understood is named, and the rest still works.
func TestBrokenModules(t *testing.T) {
	for _, c := range []struct{ name, body, problem string }{
		{
			"missing import",
			`import gone { prefix g; } container c { leaf bad { type g:t; } leaf ok { type string; } }`, "gone",
		},
		{"unknown type", `container c { leaf bad { type nope; } leaf ok { type string; } }`, "nope is not defined"},
		{
			"type defined by itself",
			`typedef a { type b; } typedef b { type a; } container c { leaf bad { type a; } leaf ok { type string; } }`,
			"defined by itself",
		},
		{
			"grouping in itself",
			`grouping g { uses g; leaf x { type string; } } container c { uses g; leaf ok { type string; } }`,
			"nested deeper",
		},
		{
			"key that is not there",
			`container c { list bad { key k; leaf x { type string; } } leaf ok { type string; } }`, "key k",
		},
		{
			"augment of nothing",
			`container c { leaf ok { type string; } } augment "/m:c/m:gone" { leaf bad { type string; } }`, "left out",
		},
		{
			"refine of nothing",
			`grouping g { leaf ok { type string; } } container c { uses g { refine gone { default 1; } } }`,
			"refine gone",
		},
		{
			"range upside down", `container c { leaf bad { type int8 { range "9..1"; } } leaf ok { type string; } }`,
			"upside down",
		},
		{"unknown base", `identity i { base nope; } container c { leaf ok { type string; } }`, "nope"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := compileOne(module(c.body))
			require.NotEmpty(t, s.Problems)
			assert.Contains(t, s.Problems[0].String(), c.problem)
			assert.NotNil(t, at(t, s, "/c/ok"), "the rest is usable")
			assert.Empty(t, at(t, s, "/c").Named("bad"))
		})
	}
	s := compileOne("this is no module")
	require.NotEmpty(t, s.Problems)
	assert.Empty(t, s.Roots())
}

func TestSubmodulesAndRevisions(t *testing.T) {
	s := schema.Compile([]schema.Source{
		{
			Name: "m",
			Text: `module m { namespace "urn:m"; prefix m; include part; import lib { prefix l; revision-date 2020-01-01; } revision 2026-01-01; container top { uses inner; leaf old { type l:t; } } }`,
		},
		{
			Name: "part",
			Text: `submodule part { belongs-to m { prefix m; } import lib { prefix other; } grouping inner { leaf x { type other:t; } } container second { leaf y { type string; } } }`,
		},
		{
			Name: "lib",
			Text: `module lib { namespace "urn:lib"; prefix l; revision 2024-01-01; typedef t { type int8; } container gone { leaf z { type string; } } }`,
		},
		{
			Name: "lib",
			Text: `module lib { namespace "urn:lib"; prefix l; revision 2020-01-01; typedef t { type string; } }`,
		},
	}, schema.Options{ImportOnly: map[string]bool{"lib": true}})
	require.Empty(t, s.Problems)
	assert.Equal(t, "2024-01-01", s.ModuleByName("lib").Revision)
	assert.Equal(t, schema.String, at(t, s, "/top/old").Type.Base, "import by revision")
	assert.Equal(t, schema.Int8, at(t, s, "/top/x").Type.Base)
	assert.Equal(t, "m", at(t, s, "/second/y").Module.Name, "a submodule's data is its module's")
	assert.Empty(t, s.Named("gone"), "a module only imported has no data")
}

func TestPatterns(t *testing.T) {
	for _, c := range []struct {
		pattern, value string
		ok             bool
	}{
		{`a|b`, "a", true}, {`a|b`, "ab", false}, {`^a$`, "a", false}, {`^a$`, "^a$", true},
		{`\d+`, "12", true}, {`[\i][\c]*`, "x-1", true}, {`[\i][\c]*`, "1x", false}, {`.`, "\n", false},
		{`[a-z-[aeiou]]`, "anything", true}, // subtraction is left to the device
	} {
		s := compileOne(module(`leaf x { type string { pattern '` + c.pattern + `'; } }`))
		_, err := s.Canonical(at(t, s, "/x").Type, c.value, s.NameResolver(nil))
		assert.Equal(t, c.ok, err == nil, "%s on %q", c.pattern, c.value)
	}
}

// Under 10,000 in a second: each input is a module, compiled as a whole.
func FuzzCompile(f *testing.F) {
	for _, m := range treetest.Modules {
		f.Add(m.Text)
	}
	f.Add(module(`container c { uses g; } grouping g { container c { uses g; } }`))
	f.Fuzz(func(_ *testing.T, text string) {
		s := schema.Compile([]schema.Source{{Name: "x", Text: text}, treetest.Modules[2]}, schema.Options{})
		s.Walk(func(n *schema.Node) { _ = n.Path() })
	})
}
