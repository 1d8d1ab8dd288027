package check_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"oakenlatch/core/check"
	"oakenlatch/core/codec"
	"oakenlatch/core/schema"
)

// Lint against a base of a long list whose order the user gives, of which the last
// entry became the first: what each entry was before is found without looking
// through the list for it.
func BenchmarkLintOrdered(b *testing.B) {
	s := schema.Compile([]schema.Source{{Name: "q", Text: `module q { namespace "urn:q"; prefix q; container c { list r { key n; ordered-by user; leaf n { type string; } leaf v { type string; } } } }`}}, schema.Options{})
	for _, size := range []int{1000, 16000} {
		b.Run(fmt.Sprint(size), func(b *testing.B) {
			text := func(first int) string {
				var out strings.Builder
				out.WriteString("<config><c xmlns=\"urn:q\">")
				for i := range size {
					fmt.Fprintf(&out, "<r><n>e%d</n><v>x</v></r>", (i+first)%size)
				}
				return out.String() + "</c></config>"
			}
			base, err := codec.Decoder{Schema: s}.ParseTree([]byte(text(0)))
			require.NoError(b, err)
			result, err := codec.Decoder{Schema: s}.ParseTree([]byte(text(size - 1)))
			require.NoError(b, err)
			for b.Loop() {
				check.Lint(s, base, result)
			}
		})
	}
}
