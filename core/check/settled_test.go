package check_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/check"
	"oakenlatch/core/codec"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// A node whose condition a change makes false goes with it (RFC 7950 section 8.2), and
// what rests on that in turn; what the change itself sets there is an error, and what was
// not allowed before either is none of the change's.
func TestSettled(t *testing.T) {
	s := schema.Compile([]schema.Source{{Name: "quay",
		Text: `module quay { yang-version 1.1; namespace "urn:q"; prefix q;
  container berth {
    leaf kind { type string; }
    container ramp { when "../kind = 'deep'"; leaf length { type uint16; } }
    leaf unit { when "../ramp/length > 10"; type string; }
    choice gear { when "kind != 'dry'"; leaf crane { type string; } leaf winch { type string; } }
    leaf odd { when "false()"; type string; }
  } }`}}, schema.Options{})
	require.Empty(t, s.Problems)
	read := func(text string) *tree.Node {
		n, err := codec.Decoder{Schema: s, Strict: true}.ParseOutline(text)
		require.NoError(t, err)
		return n
	}
	base := read("berth\n  kind: deep\n  ramp\n    length: 12\n  unit: m\n  crane: big\n  odd: x\n")
	for name, c := range map[string]struct {
		result, want string
		told         []string
		errors       int
	}{
		"nothing": {
			"berth\n  kind: deep\n  ramp\n    length: 12\n  unit: m\n  crane: big\n  odd: x\n", "", nil, 1,
		},
		"one rests on another": {
			"berth\n  kind: flat\n  ramp\n    length: 12\n  unit: m\n  crane: big\n  odd: x\n",
			"berth\n  kind: flat\n  crane: big\n  odd: x\n", []string{"/berth/ramp", "/berth/unit"}, 1,
		},
		"a choice": {
			"berth\n  kind: dry\n  ramp\n    length: 12\n  unit: m\n  crane: big\n  odd: x\n",
			"berth\n  kind: dry\n  odd: x\n", []string{"/berth/ramp", "/berth/crane", "/berth/unit"}, 1,
		},
		"a value": {
			"berth\n  kind: deep\n  ramp\n    length: 9\n  unit: m\n  crane: big\n  odd: x\n",
			"berth\n  kind: deep\n  ramp\n    length: 9\n  crane: big\n  odd: x\n", []string{"/berth/unit"}, 1,
		},
		"set all the same": {
			"berth\n  kind: flat\n  ramp\n    length: 13\n  unit: m\n  crane: big\n  odd: x\n", "", nil, 2,
		},
	} {
		t.Run(name, func(t *testing.T) {
			result := read(c.result)
			got, told := check.Settled(s, base, result)
			want := result
			if c.want != "" {
				want = read(c.want)
			}
			assert.Equal(t, codec.OutlineText(want), codec.OutlineText(got))
			var paths []string
			for _, f := range told {
				assert.Equal(t, check.Hint, f.Severity)
				assert.Contains(t, f.Message, "only allowed when")
				paths = append(paths, f.Path)
			}
			assert.ElementsMatch(t, c.told, paths)
			assert.Len(t, check.Change(s, base, got).Findings, c.errors)
		})
	}
}
