package witness_test

import (
	"crypto/ed25519"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/ledger"
	"oakenlatch/witness"
)

// A witness has a name that its key can bear, its folder to itself, and what it saw or nothing: what
// cannot be read of that is no new beginning.
func TestOpen(t *testing.T) {
	for _, bad := range []string{"", "a b", "a+b", "a\tb", "\xff"} {
		dir := t.TempDir()
		_, err := witness.Open(dir, bad)
		require.ErrorContains(t, err, "no name of a witness", "%q", bad)
		assert.NoFileExists(t, filepath.Join(dir, "witness.key"), "nothing is left that would stand in the way")
	}
	dir := t.TempDir()
	w, err := witness.Open(dir, "tidewell/hall")
	require.NoError(t, err)
	_, err = witness.Open(dir, "another")
	require.ErrorContains(t, err, "another witness uses")
	signer := ledger.NewSigner(ed25519.NewKeyFromSeed(make([]byte, 32)), "")
	fresh, err := w.Trust(signer.Key())
	require.NoError(t, err)
	assert.True(t, fresh)
	fresh, err = w.Trust(signer.Key())
	require.NoError(t, err)
	assert.False(t, fresh)
	assert.Equal(t, []string{signer.Origin() + ": nothing was seen of it yet"}, w.Watched())
	key := w.Key()
	require.NoError(t, w.Close())
	public, err := os.ReadFile(filepath.Join(dir, witness.PublicFile))
	require.NoError(t, err)
	assert.Equal(t, key+"\n", string(public))

	list, err := filepath.Glob(filepath.Join(dir, "*.json"))
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.NoError(t, os.WriteFile(list[0], []byte("{"), 0o600))
	_, err = witness.Open(dir, "")
	require.ErrorContains(t, err, "cannot be read")
}

// A key that is known signs the next one in; one that is not, or a note that was altered, does not.
func TestAddKey(t *testing.T) {
	w, err := witness.Open(t.TempDir(), "tidewell/hall")
	require.NoError(t, err)
	t.Cleanup(func() { _ = w.Close() })
	key := func(n byte) ed25519.PrivateKey { return ed25519.NewKeyFromSeed(append(make([]byte, 31), n)) }
	first := ledger.NewSigner(key(1), "")
	second, stranger := ledger.NewSigner(key(2), first.Origin()), ledger.NewSigner(key(3), first.Origin())
	_, err = w.Trust(first.Key())
	require.NoError(t, err)
	note := func(from, to ledger.Signer) []byte {
		signatures, err := from.SignIn(to)
		require.NoError(t, err)
		return ledger.Handover(
			ledger.Entry{Action: ledger.KeyAction, Before: from.Key(), After: to.Key(), Note: "\n" + signatures},
		)
	}
	require.ErrorContains(t, w.AddKey(note(stranger, second)), "is not known here")
	require.Error(t, w.AddKey(append(note(first, second), 'x')))
	require.NoError(t, w.AddKey(note(first, second)))
	text, err := second.Sign(0, (&ledger.Edge{}).Root())
	require.NoError(t, err)
	line, err := w.Add(append([]byte("old 0\n\n"), text...))
	require.NoError(t, err, "what the next key signs is believed")
	assert.Contains(t, line, "— tidewell/hall ")
}
