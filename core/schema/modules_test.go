package schema_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/schema"
)

func problems(s *schema.Schema) (out []string) {
	for _, p := range s.Problems {
		out = append(out, p.String())
	}
	return out
}

// An import asks for a revision; each importer gets the one it asked for, and
// only the newest has data.
func TestImportsByRevision(t *testing.T) {
	types := func(revision, length string) schema.Source {
		return schema.Source{
			Name: "t@" + revision,
			Text: `module t { namespace "urn:t"; prefix t; revision ` + revision +
				`; typedef name { type string { length "` + length + `"; } } leaf of-` + revision + ` { type name; } }`,
		}
	}
	user := func(name, revision string) schema.Source {
		if revision != "" {
			revision = "revision-date " + revision + ";"
		}
		return schema.Source{
			Name: name,
			Text: `module ` + name + ` { namespace "urn:` + name + `"; prefix ` + name + `; import t { prefix t; ` +
				revision + ` } leaf ` + name + ` { type t:name; } }`,
		}
	}
	s := schema.Compile(
		[]schema.Source{
			types("2024-01-01", "1..4"), types("2026-01-01", "1..8"), user("old", "2024-01-01"),
			user("new", "2026-01-01"), user("any", ""),
		},
		schema.Options{},
	)
	require.Empty(t, s.Problems)
	for leaf, most := range map[string]string{"/old": "1 to 4", "/new": "1 to 8", "/any": "1 to 8"} {
		n := at(t, s, leaf)
		_, err := s.Canonical(n.Type, "much too long", s.NameResolver(n.Module))
		require.ErrorContains(t, err, most, leaf)
	}
	assert.NotEmpty(t, s.Named("of-2026-01-01"))
	assert.Empty(t, s.Named("of-2024-01-01"), "one revision of a module is implemented")
}

// Submodules are part of their module: types, groupings, identities, data and
// augments, with imports and prefixes of their own.
func TestSubmodules(t *testing.T) {
	s := schema.Compile([]schema.Source{
		{
			Name: "whole",
			Text: `module whole { yang-version 1.1; namespace "urn:w"; prefix w; include part; include missing; import other { prefix x; } identity base; container top { uses of-part; leaf kind { type identityref { base base; } default from-part; } } }`,
		},
		{Name: "part",
			Text: `submodule part { yang-version 1.1; belongs-to whole { prefix me; } import other { prefix o; } identity from-part { base me:base; }
		  grouping of-part { leaf size { type o:size; } } augment "/o:place" { leaf seen { type o:size; } } container side { leaf in-part { type string; } } }`},
		{
			Name: "other",
			Text: `module other { namespace "urn:o"; prefix o; typedef size { type uint8 { range "1..9"; } } container place { leaf name { type string; } } }`,
		},
	}, schema.Options{})
	assert.Equal(t, []string{"whole: submodule missing was not handed out by the device"}, problems(s))
	assert.Equal(t, "whole", at(t, s, "/top/size").Module.Name)
	assert.Equal(t, "/other:place/whole:seen", at(t, s, "/place/seen").Path())
	assert.Equal(t, []string{"whole:from-part"}, at(t, s, "/top/kind").Defaults)
	assert.Equal(t, "/whole:side/in-part", at(t, s, "/side/in-part").Path())
}

// What is broken or missing is named and left out; everything else works.
func TestWhatIsBrokenIsNamed(t *testing.T) {
	s := schema.Compile([]schema.Source{
		{Name: "sound",
			Text: `module sound { namespace "urn:s"; prefix s; import absent { prefix a; } import odd { prefix o; }
		  container ok { leaf fine { type string; } leaf lost { type a:thing; } leaf worse { type o:loop; } leaf none { type nowhere; } leaf bare; uses a:stuff; uses ring;
		    list keyless { key k; leaf other { type string; } } leaf wide { type uint8 { range "9..1"; } } leaf broken-default { type uint8; default 900; } choice c { leaf x { type string; } } }
		  grouping ring { container again { uses ring; } } augment "/a:there" { leaf y { type string; } } augment "/s:ok/s:nowhere" { leaf z { type string; } } deviation "/s:ok/s:gone" { deviate not-supported; } }`},
		{
			Name: "odd",
			Text: `module odd { namespace "urn:o"; prefix o; typedef loop { type loop2; } typedef loop2 { type loop; } rpc act { input { leaf i { type string; } } } }`,
		},
		{Name: "torn", Text: `module torn { namespace "urn:t"; prefix t; container half {`},
		{Name: "two", Text: `module a { namespace "urn:a1"; prefix a; } module b { namespace "urn:b1"; prefix b; }`},
		{Name: "what", Text: `container loose { }`},
		{
			Name: "pokes",
			Text: `module pokes { namespace "urn:p"; prefix p; import odd { prefix o; } augment "/o:act/o:input" { leaf more { type string; } } }`,
		},
	}, schema.Options{})
	told := problems(s)
	for _, want := range []string{
		"imports absent, which was not handed out", "leaf lost is carried unread: type a:thing: needs module absent",
		"is defined by itself", "leaf none is carried unread: type nowhere: nowhere is not defined in module sound",
		"leaf bare is carried unread: has no type", "uses a:stuff: needs module absent", "nested deeper than 100",
		"list keyless is carried unread: its key k is not among its leaves", "9..1 is upside down",
		`default "900" of /sound:ok/broken-default is not a value of its type`, "augment /a:there is left out",
		"augment /s:ok/s:nowhere is left out", "deviation of /s:ok/s:gone is left out", "torn: cannot be read",
		"two: cannot be read", "neither a module nor a submodule",
	} {
		assert.True(t, func() bool {
			for _, p := range told {
				if strings.Contains(p, want) {
					return true
				}
			}
			return false
		}(), "%s is not told among %v", want, told)
	}
	for _, p := range told {
		assert.NotContains(t, p, "pokes", "an augment of an operation is no matter of the configuration")
	}
	assert.NotNil(t, at(t, s, "/ok/fine"))
	assert.NotNil(t, at(t, s, "/ok/x"))
	assert.Empty(t, at(t, s, "/ok").Named("lost"))
}

// Conditions keep the node they are asked from: a when of an augment or a uses
// belongs to the parent (RFC 7950 section 7.21.5).
func TestWhoseConditions(t *testing.T) {
	s := schema.Compile([]schema.Source{
		{
			Name: "c",
			Text: `module c { namespace "urn:c"; prefix c; container top { leaf own { when "../x"; type string; } leaf x { type string; } uses g { when "x"; } choice way { when "x"; leaf a { type string; } } } grouping g { leaf used { type string; } } }`,
		},
		{
			Name: "d",
			Text: `module d { namespace "urn:d"; prefix d; import c { prefix see; } augment "/see:top" { when "see:x"; leaf added { type string; } } augment "/see:top/see:way" { when "see:x"; case more { leaf b { type string; } } } }`,
		},
	}, schema.Options{})
	require.Empty(t, s.Problems)
	for path, ofParent := range map[string]bool{"/top/own": false, "/top/used": true, "/top/added": true} {
		n := at(t, s, path)
		require.Len(t, n.When, 1, path)
		assert.Equal(t, ofParent, n.When[0].OfParent, path)
	}
	assert.Equal(t, "c", at(t, s, "/top/added").When[0].Prefixes["see"].Name, "with the prefixes of its module")
	b := at(t, s, "/top/b")
	assert.Equal(t, schema.Case, b.Parent.Kind)
	assert.Len(t, b.Parent.When, 1)
	assert.Len(t, at(t, s, "/top/a").Parent.Parent.When, 1)
}

// Without a device to say which, every feature is there; each by itself can
// still be off where one is known.
func TestAllFeatures(t *testing.T) {
	text := `module f { yang-version 1.1; namespace "urn:f"; prefix f; feature a; feature b { if-feature "a"; } leaf x { if-feature a; type string; } leaf y { if-feature b; type string; } leaf z { if-feature "not a"; type string; } }`
	for _, c := range []struct {
		opt  schema.Options
		want string
	}{
		{schema.Options{AllFeatures: true}, "xy"}, {schema.Options{}, "z"},
		{schema.Options{Features: map[string][]string{"f": {"b"}}}, "z"},
		{schema.Options{Features: map[string][]string{"f": {"a", "b"}}}, "xy"},
		{schema.Options{Features: map[string][]string{"f": {"a"}}}, "x"},
	} {
		got := ""
		for _, n := range schema.Compile([]schema.Source{{Name: "f", Text: text}}, c.opt).Roots() {
			got += n.Name
		}
		assert.Equal(t, c.want, got, "%+v", c.opt)
	}
}
