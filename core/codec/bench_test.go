package codec_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/markup"
	"oakenlatch/core/treetest"
)

// BenchmarkForms reads and writes 1,000 interfaces in each form.
func BenchmarkForms(b *testing.B) {
	s, err := treetest.InterfaceSchema(func(module string) ([]byte, error) {
		return os.ReadFile("../../lab/modules/" + module + ".yang")
	})
	require.NoError(b, err)
	d := codec.Decoder{Schema: s}
	text := treetest.Interfaces(1000)
	n, err := d.ParseTree(text)
	require.NoError(b, err)
	outline, inJSON := codec.OutlineText(n), codec.JSON(s, n)
	for name, f := range map[string]struct {
		size int
		do   func() error
	}{
		"read XML":      {len(text), func() error { _, err := d.ParseTree(text); return err }},
		"read outline":  {len(outline), func() error { _, err := d.ParseOutline(outline); return err }},
		"read JSON":     {len(inJSON), func() error { _, err := d.Read(inJSON); return err }},
		"write outline": {len(outline), func() error { codec.OutlineText(n); return nil }},
		"write JSON":    {len(inJSON), func() error { codec.JSON(s, n); return nil }},
		"write XML": {len(text), func() error {
			codec.XML(s, n, markup.Name{Space: codec.NetconfNS, Local: "config"})
			return nil
		}},
	} {
		b.Run(name, func(b *testing.B) {
			b.SetBytes(int64(f.size))
			b.ReportAllocs()
			for b.Loop() {
				require.NoError(b, f.do())
			}
		})
	}
}
