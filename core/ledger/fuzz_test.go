package ledger_test

import (
	"crypto/ed25519"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"oakenlatch/core/ledger"
)

// No text but what the key signed is taken for a checkpoint: whatever is read says the
// four lines that were signed.
func FuzzCheckpoint(f *testing.F) {
	key := ed25519.NewKeyFromSeed(make([]byte, ed25519.SeedSize))
	real := ledger.Sign(key, ledger.Entry{Seq: 7, Hash: "ab"}, time.Unix(1_800_000_000, 0))
	text, err := json.Marshal(real)
	require.NoError(f, err)
	f.Add(text)
	f.Add([]byte(`{"format":"oaken-latch-checkpoint","version":1,"seq":-1}`))
	f.Add([]byte(`{"format":"oaken-latch-checkpoint","version":2}`))
	f.Add([]byte("[]"))
	f.Fuzz(func(t *testing.T, text []byte) {
		c, err := ledger.ParseCheckpoint(text)
		if err != nil {
			return
		}
		require.NoError(t, c.Check())
		require.Positive(t, c.Seq)
		if c.Key == real.Key { // nobody here can sign another
			require.Equal(t, string(real.Text()), string(c.Text()))
		}
		again, err := json.Marshal(c)
		require.NoError(t, err)
		back, err := ledger.ParseCheckpoint(again)
		require.NoError(t, err)
		require.Equal(t, string(c.Text()), string(back.Text()))
	})
}
