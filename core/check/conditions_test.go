package check_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/check"
	"oakenlatch/core/codec"
	"oakenlatch/core/schema"
)

// What can never be checked is said of the modules, once, and is left to the device
// where it is met: it is neither passed over nor taken for an error.
func TestConditions(t *testing.T) {
	s := schema.Compile([]schema.Source{{Name: "quay",
		Text: `module quay { yang-version 1.1; namespace "urn:q"; prefix q;
  grouping g { leaf same { type string; must "((("; } }
  container a { uses g;
    leaf good { type leafref { path "../name"; } must "../name = 'x'"; }
    leaf name { type string; }
    leaf lost { type leafref { path "../nowhere"; } }
    leaf bent { type union { type uint8; type leafref { path "../name[x"; } } }
    leaf far { type leafref { path "deref(../good)/../name"; } }
    leaf odd { when "../name == 'x'"; type string; }
    leaf unknown { must "twist(../name)"; type string; }
    leaf state { config false; type string; must "((("; }
  }
  container b { uses g; } }`}}, schema.Options{})
	require.Empty(t, s.Problems)
	var got []string
	for _, p := range check.Conditions(s) {
		assert.Equal(t, "quay", p.Module)
		got = append(got, p.Msg)
	}
	require.Len(t, got, 6, "%q", got)
	for _, want := range []string{
		"a condition of /quay:a/same", "a condition of /quay:b/same",
		"what /quay:a/lost refers to is not checked: the path ../nowhere leads to no node that is known",
		"what /quay:a/bent refers to", "a condition of /quay:a/odd is not checked: when ../name == 'x'",
		"a condition of /quay:a/unknown",
	} {
		found := false
		for _, msg := range got {
			found = found || len(msg) >= len(want) && msg[:len(want)] == want
		}
		assert.True(t, found, "%s: %q", want, got)
	}
	n, err := codec.Decoder{Schema: s, Strict: true}.ParseOutline("a\n  lost: y\n  bent: z\n  same: s\n  unknown: u\n")
	require.NoError(t, err)
	res := check.Tree(s, n)
	assert.Empty(t, res.Findings)
	assert.Equal(t, 4, res.Unchecked)
	assert.Len(t, res.Reasons, 4)
}
