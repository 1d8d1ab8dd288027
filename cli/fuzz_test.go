package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A duration is read with its sign or refused; none comes out of its bounds.
func FuzzSpan(f *testing.F) {
	for _, text := range []string{"90s", "-5m", "1d12h", "3660d", "d", "-", "1e9d", "99999999h", "3660d2562047h"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		d, err := parseSpan(text)
		if err != nil {
			return
		}
		if d < 0 {
			require.Equal(t, byte('-'), text[0], "%q is %s", text, d)
		}
		require.LessOrEqual(t, d.Abs(), 2*mostDays*24*time.Hour)
	})
}
