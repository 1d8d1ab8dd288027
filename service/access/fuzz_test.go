package access_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/service/access"
)

// What is read as grants is written and read again the same; what is not, is refused.
func FuzzGrants(f *testing.F) {
	for _, text := range []string{
		"read", "stage,commit@site=Saltern", "read@tag=a=b", "read@device= x ", "@", "read@site=" + "\u202e",
	} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		g, err := access.ParseGrants([]string{text})
		if err != nil {
			assert.Empty(t, g)
			return
		}
		again, err := access.ParseGrants(g.Texts())
		require.NoError(t, err)
		assert.Equal(t, g, again)
	})
}

// A scope that is read is written and read as the same.
func FuzzScope(f *testing.F) {
	for _, text := range []string{
		"site=Saltern", "role=switch", "tag=a=b", "device= x ", "=", "site=", "SITE=x", "site=\x00",
	} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		s, err := access.ParseScope(text)
		if err != nil {
			assert.Zero(t, s)
			return
		}
		again, err := access.ParseScope(s.String())
		require.NoError(t, err)
		assert.Equal(t, s, again)
	})
}
