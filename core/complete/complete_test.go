package complete_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/complete"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

const pier = `module pier { yang-version 1.1; namespace "urn:pier"; prefix p;
  identity light; identity red { base light; }
  container pier { description "The   pier
      itself.";
    list berth { key name; leaf name { type string; } leaf description { type string; } leaf depth { type decimal64 { fraction-digits 2; } units metres; default 4.5; } }
    leaf tide { type uint16 { range "1..9 | 20"; } } leaf lamp { type identityref { base light; } }
    leaf near { type leafref { path "../berth/name"; } } leaf state { type string; config false; }
    leaf mode { type enumeration { enum open; enum shut; } } leaf both { type union { type enumeration { enum auto; } type uint8; } }
    leaf-list flag { type string { length "1..3"; } } } }`

var pierSchema = schema.Compile([]schema.Source{{Name: "pier", Text: pier}}, schema.Options{})

func next(t *testing.T, text string) map[string]complete.Hint {
	t.Helper()
	now, err := codec.Decoder{Schema: pierSchema}.ParseOutline(
		"pier\n  berth [a/b]\n    description: \"by the ramp\"\n  berth [c]\n  tide: 4\n  flag: x\n  flag: y\n",
	)
	require.NoError(t, err)
	list, err := complete.Next(pierSchema, now, text)
	require.NoError(t, err)
	out := map[string]complete.Hint{}
	for _, h := range list {
		out[h.Path] = h
	}
	return out
}

func TestNext(t *testing.T) {
	assert.Equal(
		t, complete.Hint{Path: "/pier", Kind: "container", Help: "The pier itself.", Exists: true},
		next(t, "/")["/pier"],
	)
	below := next(t, "/pier/")
	assert.NotContains(t, below, "/pier/state", "state is no configuration")
	assert.Equal(t, "uint16 (1..9, 20)", below["/pier/tide"].Type)
	assert.Equal(t, "4", below["/pier/tide"].Current)
	assert.Equal(t, []string{"pier:red"}, below["/pier/lamp"].Values)
	assert.Equal(t, []string{"a/b", "c"}, below["/pier/near"].Values)
	assert.Equal(t, []string{"open", "shut"}, below["/pier/mode"].Values)
	assert.Equal(t, []string{"auto"}, below["/pier/both"].Values)
	assert.Equal(t, "x, y", below["/pier/flag"].Current)
	assert.True(t, below["/pier/flag"].Several)
	assert.Equal(t, []string{"name"}, below["/pier/berth="].Keys)
	keys := next(t, "/pier/berth=")
	assert.Equal(
		t, complete.Hint{Path: "/pier/berth=a%2Fb", Kind: "entry", Exists: true, Current: "by the ramp"},
		keys["/pier/berth=a%2Fb"],
	)
	assert.Len(t, next(t, "/pier/berth=c"), 1)
	in := next(t, "/pier/berth=none/de")
	assert.Len(t, in, 2)
	assert.Equal(t, "metres", in["/pier/berth=none/depth"].Units)
	assert.Equal(t, "4.5", in["/pier/berth=none/depth"].Default)
	assert.False(t, in["/pier/berth=none/depth"].Exists)
	for _, wrong := range []string{"pier", "/pierr/x", "/pier/berths=c", "/pier/tide/x/y"} {
		_, err := complete.Next(pierSchema, tree.Empty, wrong)
		require.Error(t, err, wrong)
	}
}
