package clip_test

import (
	"fmt"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/clip"
)

func ExampleTo() {
	fmt.Println(clip.To("uplink to Kråkøy harbour", 12))
	fmt.Println(clip.To("Kråkøy", 6))
	// Output:
	// uplink to K…
	// Kråkøy
}

func ExampleLine() {
	fmt.Println(clip.Line("the device said:\n\tno such\r\n\tinterface", 20))
	// Output: the device said: no…
}

func TestTo(t *testing.T) {
	for _, x := range []struct {
		text string
		most int
		want string
	}{
		{"", 1, ""},
		{"a", 1, "a"},
		{"ab", 1, "…"},
		{"ab", 2, "ab"},
		{"abc", 2, "a…"},
		{"åäö", 3, "åäö"},
		{"åäöå", 3, "åä…"},
		{"a\xff\xfeb", 4, "a\xff\xfeb"},
		{"a\xff\xfeb", 3, "a\xff…"},
		{"🛟🛟🛟", 2, "🛟…"},
	} {
		assert.Equal(t, x.want, clip.To(x.text, x.most), "%q to %d", x.text, x.most)
	}
}

func FuzzTo(f *testing.F) {
	f.Add("Kråkøy harbour", 5)
	f.Add("a\xff\xfe\xe2\x82", 3)
	f.Fuzz(func(t *testing.T, text string, most int) {
		if most < 1 {
			return
		}
		got := clip.To(text, most)
		require.LessOrEqual(t, utf8.RuneCountInString(got), most)
		if utf8.RuneCountInString(text) <= most {
			require.Equal(t, text, got)
			return
		}
		kept, cut := strings.CutSuffix(got, "…")
		require.True(t, cut)
		require.Equal(t, most-1, utf8.RuneCountInString(kept))
		require.True(t, strings.HasPrefix(text, kept))
		require.Equal(t, []rune(text)[:most-1], []rune(kept), "whole characters")
	})
}
