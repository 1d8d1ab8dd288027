package schema_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/schema"
)

// W3C patterns are not Go's: they match the whole text, ^ and $ are ordinary,
// and some classes have other names (RFC 7950 section 9.4.5, XML Schema part 2
// appendix F).
func TestPatternLanguage(t *testing.T) {
	for _, c := range []struct {
		pattern string
		yes, no []string
	}{
		{`a|b`, []string{"a", "b"}, []string{"ab", "ac", ""}},
		{`^a$`, []string{"^a$"}, []string{"a"}},
		{`[0-9]{1,3}(\.[0-9]{1,3}){3}`, []string{"192.0.2.1"}, []string{"192.0.2", "192.0.2.1 "}},
		{`[^,]*`, []string{"", "a b"}, []string{"a,b"}},
		{`\d+`, []string{"12"}, []string{"1a", ""}},
		{`\D`, []string{"a"}, []string{"1"}},
		{`\w+`, []string{"quay7"}, []string{"a b", "a-b"}},
		{`\i\c*`, []string{"quay-7", "_x"}, []string{"7quay", ""}},
		{`[\i][\c]*`, []string{"quay-7"}, []string{"-x"}},
		{`.`, []string{"a", "ü"}, []string{"\n", "ab"}},
		{`\p{Lu}\p{Ll}*`, []string{"Northmole", "Ålesund"}, []string{"northmole"}},
		{`a\.b\-c\\`, []string{`a.b-c\`}, []string{`axb-c\`}},
		{`[$^.]`, []string{"$", "^", "."}, []string{"a"}},
		{`(\*|[a-z]+)`, []string{"*", "abc"}, []string{"**"}},
		{`[a-z&&b]`, []string{"&", "b", "x"}, []string{"1"}},
	} {
		re, ok := schema.CompilePattern(c.pattern)
		require.True(t, ok, c.pattern)
		for _, s := range c.yes {
			assert.True(t, re.MatchString(s), "%s matches %q", c.pattern, s)
		}
		for _, s := range c.no {
			assert.False(t, re.MatchString(s), "%s does not match %q", c.pattern, s)
		}
	}
	// What has no counterpart is left to the device, and refuses nothing.
	for _, pattern := range []string{`[a-z-[aeiou]]`, `\p{IsBasicLatin}`, `[\W]`, `(`, `a{2000}`} {
		_, ok := schema.CompilePattern(pattern)
		assert.False(t, ok, pattern)
	}
	s := schema.Compile(
		[]schema.Source{
			{
				Name: "m",
				Text: `module m { namespace "urn:m"; prefix m; leaf l { type string { pattern "[a-z-[aeiou]]*"; pattern "[a-z]*"; } } }`,
			},
		},
		schema.Options{},
	)
	n := at(t, s, "/l")
	_, err := s.Canonical(n.Type, "aei", nil)
	require.NoError(t, err)
	_, err = s.Canonical(n.Type, "AEI", nil)
	require.Error(t, err, "the pattern that is understood still counts")
}

// Ranges and lengths of a chain of typedefs, numbers in every way they may be
// written (RFC 7950 sections 9.2.1 and 9.3).
func TestNumbers(t *testing.T) {
	s := schema.Compile([]schema.Source{{Name: "m", Text: `module m { namespace "urn:m"; prefix m;
	  typedef small { type int16 { range "-10..10 | 20 | 30..max"; } } typedef smaller { type small { range "min..5 | 40..50"; } }
	  typedef money { type decimal64 { fraction-digits 2; range "-1.5..99.99"; } }
	  leaf a { type small; } leaf b { type smaller; } leaf c { type money; } leaf d { type uint64; } leaf e { type int64; } leaf f { type decimal64 { fraction-digits 18; } }
	  leaf g { type string { length "2..4 | 8"; } } leaf h { type binary { length "2"; } } leaf i { type bits { bit x; bit y { position 9; } bit z; } } }`}},
		schema.Options{})
	require.Empty(t, s.Problems)
	for _, c := range []struct{ leaf, value, want, fails string }{
		{"a", "-010", "-8", ""}, {"a", "+0x0A", "10", ""}, {"a", "11", "", "allowed is -10 to 10 or 20 or 30 to 32767"},
		{"a", "32768", "", "out of range"}, {"a", "1e1", "", "not a whole number"}, {"a", "", "", "not a whole number"},
		{"b", "5", "5", ""}, {"b", "6", "", "allowed is -10 to 5 or 40 to 50"}, {"c", "1", "1.0", ""},
		{"c", "-1.50", "-1.5", ""}, {"c", "99.999", "", "at most 2 digits"},
		{"c", "100", "", "out of range, allowed is -1.5 to 99.99"}, {"c", "-", "", "not a decimal"},
		{"c", "--1", "", "not a decimal"}, {"c", ".5", "", "not a decimal"},
		{"d", "18446744073709551615", "18446744073709551615", ""},
		{"d", "18446744073709551616", "", "not a whole number"}, {"d", "-0", "0", ""}, {"d", "-1", "", "out of range"},
		{"e", "-9223372036854775808", "-9223372036854775808", ""}, {"e", "9223372036854775808", "", "out of range"},
		{"f", "-9.223372036854775808", "-9.223372036854775808", ""}, {"f", "9.223372036854775808", "", "not a decimal"},
		{"g", "üü", "üü", ""}, {"g", "ü", "", "1 characters long, allowed is 2 to 4 or 8"},
		{"g", "12345678", "12345678", ""}, {"h", " AA E= ", "AAE=", ""}, {"h", "AAEC", "", "3 bytes long"},
		{"h", "A!", "", "not base64"}, {"i", "z  x", "x z", ""}, {"i", "x x", "", "given twice"},
		{"i", "w", "", `bit "w" is not one of x, y, z`},
	} {
		n := at(t, s, "/"+c.leaf)
		got, err := s.Canonical(n.Type, c.value, nil)
		if c.fails != "" {
			require.ErrorContains(t, err, c.fails, "%s %q", c.leaf, c.value)
			continue
		}
		require.NoError(t, err, "%s %q", c.leaf, c.value)
		assert.Equal(t, c.want, got, "%s %q", c.leaf, c.value)
	}
}
