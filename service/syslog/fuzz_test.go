package syslog

import (
	"regexp"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
)

// A place is read or refused, and never sent to half read.
func FuzzReceiver(f *testing.F) {
	for _, to := range []string{
		"udp://192.0.2.5:514", "tcp://[2001:db8::5]:601", "tls://loghost.example:6514", "unix:///dev/log", "http://x:1",
		"udp://:514", "udp://x", "tcp://x:1/../y?z#w", "%",
	} {
		f.Add(to)
	}
	f.Fuzz(func(t *testing.T, to string) {
		r, err := Parse(to, nil)
		if err != nil {
			require.Nil(t, r)
			return
		}
		require.Contains(t, []string{"udp", "tcp", "unixgram"}, r.network)
		if r.network != "unixgram" {
			require.NotEmpty(t, r.address)
		}
	})
}

// RFC 5424 section 6, as far as it is used: read apart from what writes it.
var rfc5424 = regexp.MustCompile("^<[0-9]{1,3}>1 [0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9:.]{12}Z [!-~]{1,255} [!-~]{1,48} " +
	"[!-~]{1,128} [!-~]{1,32} " +
	`(-|\[[!-~]{1,32}( [!-~]{1,32}="([^"\\\]]|\\["\\\]])*")*\]) ` + "\ufeff.*$")

// Whatever a message holds, its line is one line of RFC 5424 and nothing in it acts on a
// terminal.
//
// Under 10,000 in a second: each line is held against a regular expression of RFC 5424.
func FuzzLine(f *testing.F) {
	f.Add("host", "change.confirmed", "mara", "Kept: \"a]b\\", 5)
	f.Add("", "", "", "\x1b[2J\n<1>1 forged", 0)
	f.Add("häfen", "x y", "a\nb", "\xff\u202e", 7)
	f.Fuzz(func(t *testing.T, host, id, value, text string, severity int) {
		m := Message{
			At: time.Unix(1_800_000_000, 0), ID: id, Severity: severity & 7, Element: "oaken@32473",
			Data: [][2]string{{"actor", value}}, Text: text,
		}
		line := m.Line(host)
		require.True(t, utf8.ValidString(line))
		require.Regexp(t, rfc5424, line)
		for _, r := range line {
			require.False(t, r < ' ' || r == 0x7f, "%q", line)
		}
	})
}
