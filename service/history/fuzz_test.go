package history

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// A pack that was damaged is an error, and one that reads is written the same.
func FuzzSteps(f *testing.F) {
	var pack []byte
	for i, text := range []string{"<config/>", "", strings.Repeat("x", 300)} {
		var err error
		pack, err = (step{strings.Repeat("0a", digestSize-1) + "0" + string(rune('1'+i)), []byte(text)}).frame(pack)
		require.NoError(f, err)
	}
	f.Add(pack)
	f.Add(pack[:len(pack)-1])
	f.Add(bytes.Repeat([]byte{0xff}, 40))
	f.Fuzz(func(t *testing.T, pack []byte) {
		list, err := steps(pack)
		if err != nil {
			return
		}
		var again []byte
		for _, s := range list {
			again, err = s.frame(again)
			require.NoError(t, err)
		}
		back, err := steps(again)
		require.NoError(t, err)
		require.Equal(t, list, back)
	})
}
