package schema_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/schema"
)

// Modules made to bring a service down do not: what grows without bound is cut
// off and named, what is nested without end is not read.
func TestHostileModules(t *testing.T) {
	doubling := func(keyword, body, use string) string {
		var b strings.Builder
		for i := range 40 {
			fmt.Fprintf(&b, "%s x%d { %s }", keyword, i+1, strings.ReplaceAll(body, "BELOW", fmt.Sprint("x", i)))
		}
		return b.String() + use
	}
	var chain strings.Builder
	for i := range 5000 {
		fmt.Fprintf(&chain, "identity i%d { base i%d; }", i+1, i)
	}
	for name, c := range map[string]struct{ body, want string }{
		"groupings that double": {
			doubling(
				"grouping", "container a { uses BELOW; } container b { uses BELOW; }",
				"grouping x0 { leaf l { type string; } } uses x40;",
			),
			"what is beyond is carried unread",
		},
		"unions that double": {
			doubling(
				"typedef", "type union { type BELOW; type BELOW; }", "typedef x0 { type string; } leaf l { type x40; }",
			),
			"what is beyond is carried unread",
		},
		"identities in a chain": {"identity i0;" + chain.String(), "what is beyond is carried unread"},
		"blocks without end":    {strings.Repeat("container c {", 5000), "nested deeper than is read"},
		"groups of conditions":  {`leaf l { if-feature "` + strings.Repeat("(", 200_000) + `a"; type string; }`, ""},
		"a module too long":     {"// " + strings.Repeat("x", 33<<20), "at most 33554432 are read"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := schema.Compile([]schema.Source{
				{
					Name: "hostile",
					Text: `module hostile { yang-version 1.1; namespace "urn:h"; prefix h; ` + c.body + ` }`,
				},
				{Name: "sound", Text: `module sound { namespace "urn:s"; prefix s; leaf fine { type string; } }`},
			}, schema.Options{})
			if c.want != "" {
				require.NotEmpty(t, s.Problems)
				assert.Contains(t, fmt.Sprint(s.Problems), c.want)
			}
			if !strings.Contains(c.want, "beyond") {
				assert.NotEmpty(t, s.Named("fine"), "the others still work")
			}
		})
	}
	assert.Empty(t, schema.Dependencies(strings.Repeat("a {", 1<<20)))
	// Braces in strings and comments are none.
	text := `module m { namespace "urn:m"; prefix m; // {{{` + "\n" + `/* { */ leaf l { type string { pattern '` +
		strings.Repeat("[{]", 3000) + `'; } description "\"{` + strings.Repeat("{", 3000) + `"; } }`
	assert.Empty(t, schema.Compile([]schema.Source{{Name: "m", Text: text}}, schema.Options{}).Problems)
}
