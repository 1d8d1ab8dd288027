package redact_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/markup"
	"oakenlatch/core/redact"
	"oakenlatch/core/schema"
)

// Whatever a device sends, known or not: what is seen redacted can be written
// and read again, is the same each time, and has none of the secrets that are known.
func FuzzVeil(f *testing.F) {
	s := schema.Compile(modules, schema.Options{})
	for _, text := range []string{
		`<config><pier xmlns="urn:pier"><door>$6$a</door><odd xmlns="x"><Passphrase>cod &amp; liver</Passphrase></odd></pier></config>`,
		`<config><odd xmlns="x" xmlns:p="y"><p:secret p:a="&lt;">&#65;</p:secret><secret><![CDATA[<a>]]></secret><secret/><secret>a<b/>c</secret></odd></config>`,
		`<config><pier xmlns="urn:pier"><vault><box><id>1</id><holds>x</holds></box></vault></pier></config>`,
	} {
		f.Add(text)
	}
	v := redact.New([]byte("k"))
	f.Fuzz(func(t *testing.T, text string) {
		d := codec.Decoder{Schema: s}
		n, err := d.ParseTree([]byte(text))
		if err != nil {
			return
		}
		seen := v.Tree(n)
		assert.Equal(t, seen.Digest(), v.Tree(n).Digest())
		for _, secret := range redact.Secrets(n) {
			assert.NotContains(t, redact.Secrets(seen), secret)
		}
		again, err := d.ParseTree(codec.XML(s, seen, markup.Name{Local: "config"}))
		require.NoError(t, err)
		assert.Empty(t, diff.Compare(seen, again).Items())
	})
}
