package cli

import (
	"encoding/json"
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What others wrote does not act on a terminal, whichever way it comes; the client's own styles do.
func TestScreen(t *testing.T) {
	for text, want := range map[string]string{
		"plain, Köln, 日本\n\tnext":  "plain, Köln, 日本\n\tnext",
		"\x1b]0;title\x07":         `\u001b]0;title\u0007`,
		"\x1b[31mred\x1b[0m":       `\u001b[31mred\u001b[0m`,
		"left \u202e right":        `left \u202e right`,
		"gone\rover":               `gone\u000dover`,
		"tag \U000e0041":           `tag \udb40\udc41`,
		"no\xff utf":               `no\ufffd utf`,
		"\u009b31m":                `\u009b31m`,
		own("[1m") + "x\x1b[2m":    "\x1b[1mx" + `\u001b[2m`,
		"\x1b" + "ABCDEF" + "[31m": `\u001bABCDEF[31m`,
	} {
		assert.Equal(t, want, tamed(text))
	}
	assert.Equal(t, 4, wide(own("[38;5;166m")+"Köln"+own("[0m")))
}

// Whatever is written: nothing of it acts, and as JSON it is what it was.
func FuzzScreen(f *testing.F) {
	f.Add("\x1b[2J\u202e\U000e0001 \r")
	f.Fuzz(func(t *testing.T, text string) {
		out := tamed(text)
		for _, r := range out {
			require.False(t, acts(r) && !strings.Contains(text, ownKey), "%q", out)
			require.False(t, unicode.Is(unicode.Bidi_Control, r), "%q", out)
		}
		doc, err := json.Marshal(text)
		require.NoError(t, err)
		var was, is string
		require.NoError(t, json.Unmarshal(doc, &was))
		require.NoError(t, json.Unmarshal([]byte(tamed(string(doc))), &is))
		require.Equal(t, was, is)
	})
}

// A table's columns stand under each other though cells have styles, and take a line a row.
func TestTable(t *testing.T) {
	var b strings.Builder
	a := &app{out: &screen{&b}, tty: true, getenv: func(string) string { return "" }}
	a.table([]string{"NAME", "STATE", "SAID"}, [][]string{
		{"quay", a.paint(alarm, "lost"), "no\nanswer"}, {"northmole\x1b[2J", "OK", ""},
	})
	assert.Equal(t, "NAME                STATE  SAID\nquay                \x1b[38;5;166mlost\x1b[0m   no answer\n"+
		`northmole\u001b[2J  OK`+"\n", b.String())
}
