package schema_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/schema"
)

const plain = `module plain { yang-version 1.1; namespace "urn:p"; prefix p;
  feature a; feature b; feature c { if-feature "a or b"; } feature loop { if-feature loop; }
  container top {
    leaf size { type uint16; default 5; units "m"; must ". > 1"; must ". < 9"; }
    leaf-list many { type string; max-elements 3; default x; default y; }
    list rows { key k; unique "u v"; unique w; leaf k { type string; } leaf u { type string; } leaf v { type string; } leaf w { type string; } }
    leaf gone { type string; }
    choice way { default one; case one { leaf o { type string; } } leaf two { type string; } }
    leaf need-c { if-feature c; type string; }
    leaf need-not { if-feature "not (a and b)"; type string; }
    leaf need-loop { if-feature loop; type string; }
    leaf shade { type enumeration { enum light; enum dark { if-feature b; } enum grey; } }
    container state { config false; leaf here { type string; } container below { leaf too { config true; type string; } } }
  } }`

const deviating = `module deviating { namespace "urn:d"; prefix d; import plain { prefix x; }
  deviation "/x:top/x:gone" { deviate not-supported; }
  deviation "/x:top/x:size" { deviate replace { type uint8; default 7; } deviate delete { units "m"; must ". > 1"; } deviate add { config false; } }
  deviation "/x:top/x:many" { deviate delete { default x; } deviate replace { max-elements 9; } deviate add { min-elements 2; } }
  deviation "/x:top/x:rows" { deviate delete { unique "u  v"; } }
  deviation "/x:top/x:nothing" { deviate not-supported; } }`

func compilePlain(features []string, more ...schema.Source) *schema.Schema {
	return schema.Compile(
		append([]schema.Source{{Name: "plain", Text: plain}}, more...),
		schema.Options{Features: map[string][]string{"plain": features}},
	)
}

func TestDeviations(t *testing.T) {
	s := compilePlain(nil, schema.Source{Name: "deviating", Text: deviating})
	require.Len(t, s.Problems, 1)
	assert.Contains(t, s.Problems[0].Msg, "/x:top/x:nothing")
	assert.Empty(t, at(t, s, "/top").Named("gone"))
	size := at(t, s, "/top/size")
	assert.Equal(t, schema.Uint8, size.Type.Base)
	assert.Equal(t, []string{"7"}, size.Defaults)
	assert.Empty(t, size.Units)
	require.Len(t, size.Must, 1)
	assert.Equal(t, ". < 9", size.Must[0].XPath)
	assert.False(t, size.Config)
	many := at(t, s, "/top/many")
	assert.Equal(t, []string{"y"}, many.Defaults)
	assert.Equal(t, []uint64{2, 9}, []uint64{many.Min, many.Max})
	assert.Equal(t, [][]string{{"w"}}, at(t, s, "/top/rows").Unique)
}

func TestFeatures(t *testing.T) {
	for _, c := range []struct {
		features []string
		has      []string
		shades   int
	}{
		{nil, []string{"need-not"}, 2},
		{[]string{"a", "c"}, []string{"need-c", "need-not"}, 2},
		{[]string{"a", "b", "c"}, []string{"need-c"}, 3},
		{[]string{"c"}, []string{"need-not"}, 2}, // announced, but what it needs is not there
		{[]string{"loop"}, []string{"need-not"}, 2},
	} {
		s := compilePlain(c.features)
		require.Empty(t, s.Problems)
		var has []string
		for _, name := range []string{"need-c", "need-not", "need-loop"} {
			if len(at(t, s, "/top").Named(name)) > 0 {
				has = append(has, name)
			}
		}
		assert.Equal(t, c.has, has, "%v", c.features)
		assert.Len(t, at(t, s, "/top/shade").Type.Enums, c.shades, "%v", c.features)
	}
}

func TestStateAndChoice(t *testing.T) {
	s := compilePlain(nil)
	assert.False(t, at(t, s, "/top/state/here").Config)
	assert.False(t, at(t, s, "/top/state/below/too").Config, "below state everything is state")
	one := at(t, s, "/top/o")
	assert.Equal(t, "one", one.Parent.Parent.Default)
	assert.Equal(t, "top", one.DataParent().Name, "choices are not in data")
	k := at(t, s, "/top/rows/k")
	assert.Equal(t, 0, k.KeyIndex())
	assert.Equal(t, -1, at(t, s, "/top/rows/u").KeyIndex())
	assert.Equal(t, 0, k.Order, "keys come first")
}
