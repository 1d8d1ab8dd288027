package schema_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"oakenlatch/core/schema"
)

// A pattern is translated or refused; what is translated takes whole values only (RFC 7950
// section 9.4.5: it is anchored at both ends).
func FuzzPattern(f *testing.F) {
	for _, text := range []string{
		`[a-z]+\d{2,3}`, `\p{L}[^\p{Nd}]`, `[a-z-[aeiou]]*`, `(a|b)?.`, `\i\c*`, `\p{IsBasicLatin}`, `^a$`, `[\s\S]`,
		`((((((a{1,9}){1,9}){1,9}`, "[\xff]",
	} {
		f.Add(text, "ab12")
	}
	f.Fuzz(func(t *testing.T, text, value string) {
		re, ok := schema.CompilePattern(text)
		if !ok {
			require.Nil(t, re)
			return
		}
		if len(value) < 200 && re.MatchString(value) {
			at := re.FindStringIndex(value)
			require.Equal(t, []int{0, len(value)}, at, "%q takes a part of %q", text, value)
		}
	})
}

// An instance-identifier is read into names and keys that stand in it.
func FuzzInstanceIdentifier(f *testing.F) {
	for _, text := range []string{
		"/a:b/c", "/a:b[a:k='v'][a:l=\"w\"]", "/a:b[.='x']", "/a:b[3]/d", "/", "//", "/a:b[", "/a:b[k='",
		"/a:b[k='\"']",
	} {
		f.Add(text)
	}
	known := func(prefix string) *schema.Module { return &schema.Module{Name: prefix} }
	f.Fuzz(func(t *testing.T, text string) {
		path, err := schema.ParseInstance(text, known)
		if err != nil {
			return
		}
		require.NotEmpty(t, path)
		for _, step := range path {
			require.NotEmpty(t, step.Name)
			require.Contains(t, text, step.Name)
			for _, k := range step.Keys {
				require.True(t, strings.Contains(text, k.Value), "%q of %q", k.Value, text)
			}
		}
	})
}
