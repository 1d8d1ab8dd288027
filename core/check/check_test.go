package check_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/check"
	"oakenlatch/core/codec"
	"oakenlatch/core/schema"
)

const module = `module m { yang-version 1.1; namespace "urn:m"; prefix m;
  container c {
    presence "there";
    leaf must-be { type string; mandatory true; }
    leaf-list some { type string; min-elements 1; max-elements 2; }
    list entry { key k; leaf k { type string; } leaf other { type leafref { path "../../entry/k"; } } leaf loose { type leafref { path "../../entry/k"; require-instance false; } } }
    choice way { case a { leaf a1 { type string; } leaf a2 { type string; mandatory true; } } leaf b { type string; } }
    leaf odd { when "../b"; type string; mandatory true; }
    container inner { leaf deep { type string; mandatory true; } must "deep"; }
  } }`

func TestFindings(t *testing.T) {
	s := schema.Compile([]schema.Source{{Name: "m", Text: module}}, schema.Options{})
	require.Empty(t, s.Problems)
	for _, c := range []struct {
		name, body string
		want       []string
	}{
		{"valid", `<must-be>x</must-be><some>1</some><inner><deep>y</deep></inner>`, nil},
		{"mandatory", `<some>1</some><inner><deep>y</deep></inner>`, []string{"/c/must-be: is mandatory and not set"}},
		{"mandatory in a container that is not there", `<must-be>x</must-be><some>1</some>`, []string{"/c/inner/deep: is mandatory and not set"}},
		{"too few and too many", `<must-be>x</must-be><inner><deep>y</deep></inner>`, []string{"/c/some: has no entries, at least 1 are needed"}},
		{"too many", `<must-be>x</must-be><inner><deep>y</deep></inner><some>1</some><some>2</some><some>3</some>`, []string{"/c/some: has 3 entries, at most 2 are allowed"}},
		{"dangling reference", `<must-be>x</must-be><some>1</some><inner><deep>y</deep></inner><entry><k>1</k><other>2</other><loose>3</loose></entry>`,
			[]string{`/c/entry=1/other: refers to "2", which is not among /m:c/entry/k`}},
		{"the case in use", `<must-be>x</must-be><some>1</some><inner><deep>y</deep></inner><a1>z</a1>`, []string{"/c/a2: is mandatory and not set"}},
		{"the other case", `<must-be>x</must-be><some>1</some><inner><deep>y</deep></inner><b>z</b>`, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			n, err := codec.Decoder{Schema: s, Strict: true}.ParseTree([]byte(`<config><c xmlns="urn:m">` + c.body + `</c></config>`))
			require.NoError(t, err)
			var got []string
			for _, f := range check.Tree(s, n).Findings {
				assert.Equal(t, check.Error, f.Severity)
				got = append(got, f.Path+": "+f.Message)
			}
			assert.Equal(t, c.want, got)
		})
	}
}
