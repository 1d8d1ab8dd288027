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
func FuzzChained(f *testing.F) {
	key := ed25519.NewKeyFromSeed(make([]byte, ed25519.SeedSize))
	real := signedBefore(key, ledger.Entry{Seq: 7, Hash: "ab"}, time.Unix(1_800_000_000, 0))
	text, err := json.Marshal(real)
	require.NoError(f, err)
	f.Add(text)
	f.Add([]byte(`{"format":"oaken-latch-checkpoint","version":1,"seq":-1}`))
	f.Add([]byte(`{"format":"oaken-latch-checkpoint","version":2}`))
	f.Add([]byte("[]"))
	f.Fuzz(func(t *testing.T, text []byte) {
		c, err := ledger.ParseChained(text)
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
		back, err := ledger.ParseChained(again)
		require.NoError(t, err)
		require.Equal(t, string(c.Text()), string(back.Text()))
	})
}

// Whatever text is read as a checkpoint, a proof or a handover: it is refused, or it is what those
// who are trusted signed.
func FuzzProof(f *testing.F) {
	key := ed25519.NewKeyFromSeed(make([]byte, ed25519.SeedSize))
	signer := ledger.NewSigner(key, "")
	list := chain(7)
	grown, err := ledger.Grow(0, leavesOf(list), nil)
	require.NoError(f, err)
	tiles := ledger.Tiles(func(at ledger.Place) ([]byte, error) { return grown[at], nil })
	note, err := signer.Sign(7, rootOf(list))
	require.NoError(f, err)
	whole, err := ledger.Prove(list[2], 7, note, tiles)
	require.NoError(f, err)
	extends, err := ledger.ProveExtends(3, 7, note, tiles)
	require.NoError(f, err)
	for _, seed := range [][]byte{
		note, whole, extends, []byte("old 0\n\n"), []byte("c2sp.org/tlog-proof@v1\nextra e30=\nindex 0\n\n"),
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		if c, err := ledger.OpenCheckpoint(text, []string{signer.Key()}, nil); err == nil {
			require.Equal(t, []any{int64(7), rootOf(list)}, []any{c.Size, c.Root}, "nobody here can sign another")
		}
		if p, err := ledger.CheckProof(text); err == nil {
			if _, err := ledger.OpenCheckpoint(p.Checkpoint, []string{signer.Key()}, nil); err == nil {
				require.Equal(
					t, list[p.Entry.Seq-1].Hash, ledger.Seal(p.Entry, p.Entry.Prev).Hash,
					"an entry of that record, and no other",
				)
			}
		}
		if x, err := ledger.ReadExtends(text); err == nil {
			old := ledger.Checkpoint{Size: 3, Root: rootOf(list[:3])}
			if now, err := ledger.OpenCheckpoint(
				x.Checkpoint, []string{signer.Key()}, nil,
			); err == nil && x.Check(old, now) == nil {
				require.Equal(t, int64(3), x.Old)
			}
		}
		_, _, _ = ledger.ReadHandover(text)
		_ = ledger.AddSignatures(text, string(text))
	})
}
