package stencil_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/schema"
	"oakenlatch/core/stencil"
	"oakenlatch/core/tree"
)

const yard = `module yard { yang-version 1.1; namespace "urn:yard"; prefix y;
  container yard { leaf name { type string; } leaf size { type uint8 { range "1..40"; } } leaf banner { type string; }
    leaf kind { type enumeration { enum dry; enum wet; } }
    list berth { key "row place"; leaf row { type string; } leaf place { type uint8; } leaf ship { type string; } }
    leaf-list light { type string; } container gate { presence p; leaf open { type boolean; } } } }`

var yardSchema = schema.Compile([]schema.Source{{Name: "yard", Text: yard}}, schema.Options{})

func parse(t *testing.T, text string) *stencil.Stencil {
	t.Helper()
	st, err := stencil.Parse(text)
	require.NoError(t, err)
	return st
}

func TestFill(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"a whole value", "yard\n  name: {n}\n", "yard\n  name: \"two words\"\n"},
		{"a part of one", "yard\n  name: row-{k}-east\n", "yard\n  name: row-7-east\n"},
		{
			"in quotes", "yard\n  name: \"at {n}: \\\"{q}\\\"\"\n",
			"yard\n  name: \"at two words: \\\"say \\\"it\\\"\\\"\"\n",
		},
		{
			"as keys", "yard\n  berth [{n}, {k}]\n    ship: {n}\n",
			"yard\n  berth [\"two words\", 7]\n    ship: \"two words\"\n",
		},
		{
			"an item each", "yard\n  light: {@lights}\n  name: x\n",
			"yard\n  light: red\n  light: \"dark green\"\n  name: x\n",
		},
		{
			"a block each", "yard\n  berth [{@lights}, 1]\n    ship: s-{@lights}\n",
			"yard\n  berth [red, 1]\n    ship: s-red\n  berth [\"dark green\", 1]\n    ship: \"s-dark green\"\n",
		},
		{"none of them", "yard\n  name: x\n  light: {@none}\n", "yard\n  name: x\n"},
		{
			"a banner", "yard\n  banner: |\n    | {@banner}\n    | end\n",
			"yard\n  banner: |\n    | first\n    | second\n    | end\n",
		},
		{"a brace", "yard\n  name: {{n}\n", "yard\n  name: {n}\n"},
		{"comments are left out", "# about\nyard\n\n  name: {k} # why\n", "yard\n  name: 7 # why\n"},
	} {
		f, err := parse(t, c.text).Fill(
			only(c.text, map[string]string{"n": "two words", "k": "7", "q": `say "it"`}),
			map[string][]string{"lights": {"red", "dark green"}, "none": {}, "banner": {"first\nsecond"}},
		)
		require.NoError(t, err, c.name)
		assert.Equal(t, c.want, f.Text, c.name)
		assert.Len(t, f.From, strings.Count(f.Text, "\n"), c.name)
		if c.name != "a brace" {
			_, err = codec.Decoder{Schema: yardSchema}.ParseOutline(f.Text)
			require.NoError(t, err, c.name)
		}
	}
}

// only gives the values that a text has blanks for.
func only(text string, all map[string]string) map[string]string {
	out := map[string]string{}
	for k, v := range all {
		if strings.Contains(text, "{"+k+"}") && !strings.Contains(text, "{{"+k+"}") {
			out[k] = v
		}
	}
	return out
}

func TestWrong(t *testing.T) {
	for text, says := range map[string]string{
		"": "it says nothing", "# only a comment\n": "it says nothing",
		"yard\n\tname: x":             "line 2: the line begins with a tab",
		"yard\n  name: {two words}\n": "line 2: a brace is neither a blank", "yard\n  name: {\n": "line 2: a brace",
	} {
		_, err := stencil.Parse(text)
		require.ErrorContains(t, err, says, text)
	}
	for _, c := range []struct {
		text, says string
		values     map[string]string
	}{
		{"yard\n  name: {n}\n  size: {s}\n", "left unfilled: s", map[string]string{"n": "x"}},
		{"yard\n  name: {n}\n", `has no blank "m"`, map[string]string{"n": "x", "m": "y"}},
		{"yard\n  name: {@x}\n", "line 2: there is no shared value x", nil},
		{"yard\n  size: {s}\n", "line 2: blank s: ", map[string]string{"s": "90"}},
		{"yard\n  size: 9{s}\n", "line 2: /yard/size: ", map[string]string{"s": "9"}},
		{"yard\n  {n}: x\n", "line 2: a blank stands for a value or a key", map[string]string{"n": "name"}},
		{"yard\n  nam: {n}\n", "line 2: ", map[string]string{"n": "x"}},
		{"yard\n  berth [{n}]\n", "line 2: /yard/berth: has 2 keys, got 1", map[string]string{"n": "x"}},
	} {
		_, err := parse(t, c.text).Read(yardSchema, c.values, nil)
		require.ErrorContains(t, err, c.says, c.text)
	}
}

// What is filled in stays a value: it cannot become a line of its own.
func TestNothingIsSmuggled(t *testing.T) {
	for _, v := range []string{
		"x\n  size: 3", "x # y", `"`, "x: y", "[a]", "|", "", " x ", "@a:b=c", "{n}", "{@s}", "\x00",
	} {
		n, err := parse(
			t, "yard\n  name: {n}\n  berth [{n}, 1]\n  light: \"{n}\"\n",
		).Read(yardSchema, map[string]string{"n": v}, nil)
		if err != nil {
			continue // not a value of a string at all
		}
		y := n.Known("yard")
		assert.Equal(t, v, y.Known("name").Value())
		assert.Equal(t, v, y.Known("berth").Keys()[0])
		assert.Equal(t, v, y.Known("light").Value())
		assert.Nil(t, y.Known("size"))
	}
}

func TestPlaces(t *testing.T) {
	places, err := parse(
		t, "yard\n  berth [{r}, {p}]\n    ship: \"of {r} {@fleet}\"\n  kind: {k}\n  banner: |\n    | {b}\n",
	).Places(yardSchema)
	require.NoError(t, err)
	for name, want := range map[string]string{"r": "row", "p": "place", "@fleet": "ship", "k": "kind", "b": "banner"} {
		assert.Equal(t, want, places[name].Node.Name, name)
	}
	assert.True(t, places["k"].Whole)
	assert.False(t, places["@fleet"].Whole)
}

// What a stencil sets takes the place of what it set before, and of nothing
// else.
func TestRestage(t *testing.T) {
	read := func(text string) *tree.Node {
		n, err := codec.Decoder{Schema: yardSchema}.ParseOutline(text)
		require.NoError(t, err)
		return n
	}
	for _, c := range []struct{ name, before, set, now, want string }{
		{"at first", "", "yard\n  name: a\n", "yard\n  size: 3\n", "yard\n  name: a\n  size: 3\n"},
		{
			"another value", "yard\n  name: a\n", "yard\n  name: b\n", "yard\n  name: a\n  size: 3\n",
			"yard\n  name: b\n  size: 3\n",
		},
		{
			"changed by hand, and set as before", "yard\n  name: a\n  size: 1\n", "yard\n  name: a\n  size: 2\n",
			"yard\n  name: hand\n  size: 1\n", "yard\n  name: hand\n  size: 2\n",
		},
		{
			"changed by hand, and set otherwise", "yard\n  name: a\n", "yard\n  name: b\n", "yard\n  name: hand\n",
			"yard\n  name: b\n",
		},
		{
			"no longer set", "yard\n  name: a\n  size: 1\n", "yard\n  size: 1\n", "yard\n  name: a\n  size: 1\n",
			"yard\n  size: 1\n",
		},
		{"no longer set, changed by hand", "yard\n  name: a\n", "", "yard\n  name: hand\n", "yard\n  name: hand\n"},
		{
			"an entry goes", "yard\n  berth [a, 1]\n    ship: s\n", "",
			"yard\n  berth [a, 1]\n    ship: s\n  size: 2\n", "yard\n  size: 2\n",
		},
		{
			"an entry with more in it stays", "yard\n  berth [a, 1]\n", "", "yard\n  berth [a, 1]\n    ship: hand\n",
			"yard\n  berth [a, 1]\n    ship: hand\n",
		},
		{
			"one of several goes", "yard\n  light: a\n  light: b\n", "yard\n  light: b\n",
			"yard\n  light: a\n  light: b\n  light: hand\n", "yard\n  light: b\n  light: hand\n",
		},
		{"all goes", "yard\n  gate\n    open: true\n", "", "yard\n  gate\n    open: true\n", ""},
	} {
		got, err := stencil.Restage(read(c.before), read(c.set), read(c.now), false)
		require.NoError(t, err, c.name)
		assert.Equal(t, c.want, codec.OutlineText(got), c.name)
	}
	got, err := stencil.Restage(
		read("yard\n  name: a\n"), read("yard\n  name: a\n"), read("yard\n  name: hand\n"), true,
	)
	require.NoError(t, err)
	assert.Equal(t, "yard\n  name: a\n", codec.OutlineText(got), "all is set again")
	strayed := stencil.Strayed(
		read("yard\n  name: a\n  size: 1\n  berth [a, 1]\n"), read("yard\n  name: hand\n  size: 1\n"),
	)
	assert.Equal(
		t,
		[]stencil.Standing{
			{Path: "/yard/name", Set: "a", Now: "hand"}, {Path: "/yard/berth=a,1", Set: "berth [a, 1]", Gone: true},
		},
		strayed,
	)
}

// Under 10,000 in a second: each text is a stencil, filled in and read back.
func FuzzStencil(f *testing.F) {
	f.Add("yard\n  name: {n}\n  light: {@l}\n", "v")
	f.Add("yard\n  banner: |\n    | {@l}\n", "a\nb")
	f.Add("yard\n  berth [{n}, 1] # {n}\n", `"`)
	f.Fuzz(func(t *testing.T, text, value string) {
		st, err := stencil.Parse(text)
		if err != nil {
			return
		}
		values, shared := map[string]string{}, map[string][]string{}
		for _, b := range st.Blanks() {
			if b.Shared {
				shared[b.Name] = []string{value, "x"}
			} else {
				values[b.Name] = value
			}
		}
		filled, err := st.Fill(values, shared)
		if err != nil {
			return
		}
		require.Len(t, filled.From, strings.Count(filled.Text, "\n"))
		_, _ = st.Places(yardSchema)
		_, _ = st.Read(yardSchema, values, shared)
	})
}
