package ledger_test

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/mod/sumdb/tlog"

	"oakenlatch/core/ledger"
)

// What follows is RFC 6962, 2.1, written down anew: it shares no code with what it judges.

// mth is the Merkle tree hash of leaves (2.1).
func mth(leaves [][]byte) [32]byte {
	switch n := len(leaves); n {
	case 0:
		return sha256.Sum256(nil)
	case 1:
		return sha256.Sum256(append([]byte{0}, leaves[0]...))
	default:
		k := 1
		for k*2 < n {
			k *= 2
		}
		left, right := mth(leaves[:k]), mth(leaves[k:])
		return sha256.Sum256(append(append([]byte{1}, left[:]...), right[:]...))
	}
}

// rootFromPath is what an inclusion path leads to (RFC 9162, 2.1.3.2).
func rootFromPath(leaf []byte, index, size uint64, path [][32]byte) (r [32]byte, ok bool) {
	fn, sn := index, size-1
	r = sha256.Sum256(append([]byte{0}, leaf...))
	for _, p := range path {
		if sn == 0 {
			return r, false
		}
		if fn&1 == 1 || fn == sn {
			r = sha256.Sum256(append(append([]byte{1}, p[:]...), r[:]...))
			for fn&1 == 0 && fn != 0 {
				fn, sn = fn>>1, sn>>1
			}
		} else {
			r = sha256.Sum256(append(append([]byte{1}, r[:]...), p[:]...))
		}
		fn, sn = fn>>1, sn>>1
	}
	return r, sn == 0
}

// bodies are leaves as anybody computes them of entries: the JSON with an empty hash.
func bodies(list []ledger.Entry) (out [][]byte) {
	for _, e := range list {
		e.Hash = ""
		body, _ := json.Marshal(e)
		out = append(out, body)
	}
	return out
}

func rootOf(list []ledger.Entry) tlog.Hash { return mth(bodies(list)) }

func leavesOf(list []ledger.Entry) (out []tlog.Hash) {
	for _, e := range list {
		out = append(out, ledger.Sum(e).Leaf)
	}
	return out
}

// grown is a tree that is grown in steps, as it is kept.
func grown(t *testing.T, leaves []tlog.Hash, steps ...int) ledger.Tiles {
	kept := map[ledger.Place][]byte{}
	read := ledger.Tiles(func(at ledger.Place) ([]byte, error) { return kept[at], nil })
	at := 0
	for _, n := range append(steps, len(leaves)) {
		if n < at || n > len(leaves) {
			continue
		}
		tiles, err := ledger.Grow(int64(at), leaves[at:n], read)
		require.NoError(t, err)
		for place, hashes := range tiles {
			kept[place] = hashes
		}
		at = n
	}
	return read
}

// Of trees of all small sizes, and of some large ones grown in steps, the root, every path and every
// way from one size to another are those of RFC 6962.
func TestTree(t *testing.T) {
	list := chain(70_000)
	leaves := leavesOf(list)
	texts := bodies(list)
	rnd := rand.New(rand.NewPCG(1, 2))
	for _, size := range append(
		[]int{1, 2, 3, 4, 5, 6, 7, 8, 9, 31, 255, 256, 257, 511, 512, 513, 65_535, 65_536, 65_537}, rnd.IntN(70_000),
		70_000,
	) {
		if size == 0 || testing.Short() && size > 1000 && size != 65_537 {
			continue
		}
		read := grown(t, leaves[:size], size/3, size/3+1, size/2, size-1)
		var edge ledger.Edge
		for _, l := range leaves[:size] {
			edge.Add(l)
		}
		want := mth(texts[:size])
		require.Equal(t, tlog.Hash(want), edge.Root(), size)
		root, err := tlog.TreeHash(int64(size), read)
		require.NoError(t, err)
		require.Equal(t, tlog.Hash(want), root, size)
		for round := range 10 {
			i := rnd.IntN(size)
			path, err := tlog.ProveRecord(int64(size), int64(i), read)
			require.NoError(t, err)
			plain := make([][32]byte, len(path))
			for k, h := range path {
				plain[k] = h
			}
			got, ok := rootFromPath(texts[i], uint64(i), uint64(size), plain)
			require.True(t, ok && got == want, "entry %d of %d", i, size)
			if round > 0 {
				continue
			}
			old := 1 + rnd.IntN(size)
			then, err := tlog.TreeHash(int64(old), read)
			require.NoError(t, err)
			require.Equal(t, tlog.Hash(mth(texts[:old])), then, "a smaller tree is read from the same tiles")
		}
	}
	var none ledger.Edge
	assert.Equal(t, tlog.Hash(mth(nil)), none.Root())
}

// A tile that is not whole is said to be, and nothing is made of it.
func TestTreeNotWhole(t *testing.T) {
	leaves := leavesOf(chain(600))
	read := grown(t, leaves)
	short := ledger.Tiles(func(at ledger.Place) ([]byte, error) {
		data, err := read(at)
		if at.N == 1 && at.Level == 0 {
			data = data[:40]
		}
		return data, err
	})
	_, err := tlog.ProveRecord(600, 300, short)
	require.ErrorContains(t, err, "tile 1 of level 0 has 1 hashes, not 32")
	_, err = ledger.Grow(600, leaves[:1], ledger.Tiles(func(ledger.Place) ([]byte, error) { return nil, nil }))
	require.ErrorContains(t, err, "is not whole")
}

// Whatever is done to a proof, it does not hold any more, or shows the same.
func TestProofAltered(t *testing.T) {
	list := chain(300)
	read := grown(t, leavesOf(list))
	signer := ledger.NewSigner(key, "")
	note, err := signer.Sign(300, rootOf(list))
	require.NoError(t, err)
	whole, err := ledger.Prove(list[41], 300, note, read)
	require.NoError(t, err)
	p, err := ledger.CheckProof(whole)
	require.NoError(t, err)
	assert.Equal(t, list[41].Seq, p.Entry.Seq)
	assert.Equal(t, int64(300), p.Claim.Size)
	lines := strings.Split(string(whole), "\n")
	assert.Equal(t, "c2sp.org/tlog-proof@v1", lines[0])
	assert.Equal(t, "index 41", lines[2])
	rnd := rand.New(rand.NewPCG(3, 4))
	for range 3000 {
		bad := append([]byte{}, whole...)
		bad[rnd.IntN(len(bad))] ^= byte(1 << rnd.IntN(8))
		got, err := ledger.CheckProof(bad)
		if err == nil {
			_, err = ledger.OpenCheckpoint(got.Checkpoint, []string{signer.Key()}, nil)
		}
		if err == nil {
			require.Equal(t, p.Entry, got.Entry, "%s", bad)
		}
	}
	other := list[41]
	other.Actor = "joss"
	forged := strings.Replace(
		string(whole), base64.StdEncoding.EncodeToString(ledger.Leaf(list[41])),
		base64.StdEncoding.EncodeToString(ledger.Leaf(other)), 1,
	)
	_, err = ledger.CheckProof([]byte(forged))
	require.ErrorIs(t, err, ledger.ErrAltered)
	require.ErrorContains(t, err, "entry 42 is not in the record")
	_, err = ledger.Prove(list[299], 200, note, read)
	require.ErrorContains(t, err, "entry 300 is not among the 200")
}

// From any size to any later one the record goes on, and from another record it does not.
func TestExtends(t *testing.T) {
	list, other := chain(40), chain(40)
	other[4].Actor = "joss"
	other = resealed(other, 4)
	read, elsewhere := grown(t, leavesOf(list)), grown(t, leavesOf(other))
	signer := ledger.NewSigner(key, "")
	for now := range 41 {
		for old := range now + 1 {
			note, err := signer.Sign(int64(now), rootOf(list[:now]))
			require.NoError(t, err)
			text, err := ledger.ProveExtends(int64(old), int64(now), note, read)
			require.NoError(t, err)
			x, err := ledger.ReadExtends(text)
			require.NoError(t, err)
			to, err := ledger.OpenCheckpoint(x.Checkpoint, []string{signer.Key()}, nil)
			require.NoError(t, err)
			assert.NoError(
				t, x.Check(ledger.Checkpoint{Size: int64(old), Root: rootOf(list[:old])}, to), "%d to %d", old, now,
			)
			if old > 4 {
				assert.ErrorIs(
					t, x.Check(ledger.Checkpoint{Size: int64(old), Root: rootOf(other[:old])}, to), ledger.ErrAltered,
					"%d to %d", old, now,
				)
				text, err := ledger.ProveExtends(int64(old), int64(now), note, elsewhere)
				require.NoError(t, err)
				x, err := ledger.ReadExtends(text)
				require.NoError(t, err)
				if now > old {
					assert.ErrorIs(
						t, x.Check(ledger.Checkpoint{Size: int64(old), Root: rootOf(list[:old])}, to),
						ledger.ErrAltered,
					)
				}
			}
		}
	}
	_, err := ledger.ProveExtends(5, 4, nil, read)
	require.Error(t, err)
	for _, bad := range []string{
		"", "old x\n\n", "old -1\n\n", "old 01\n\n", "new 1\n\n", "old 1\nnothash\n\n",
		"old 1\n" + strings.Repeat(base64.StdEncoding.EncodeToString(make([]byte, 32))+"\n", 64) + "\n",
	} {
		_, err := ledger.ReadExtends([]byte(bad))
		assert.Error(t, err, "%q", bad)
	}
}

// A checkpoint is what the open form says, and only the keys that are known count.
func TestCheckpoint(t *testing.T) {
	list := chain(9)
	signer := ledger.NewSigner(key, "")
	note, err := signer.Sign(9, rootOf(list))
	require.NoError(t, err)
	root := rootOf(list)
	lines := strings.Split(string(note), "\n")
	assert.Equal(t, []string{signer.Origin(), "9", base64.StdEncoding.EncodeToString(root[:]), ""}, lines[:4])
	// The signature is over the three lines, by the key: checked without the library of notes.
	raw, err := base64.StdEncoding.DecodeString(lines[4][strings.LastIndex(lines[4], " ")+1:])
	require.NoError(t, err)
	public, _ := key.Public().(ed25519.PublicKey)
	assert.True(t, ed25519.Verify(public, []byte(strings.Join(lines[:3], "\n")+"\n"), raw[4:]))

	_, stranger, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	other := ledger.NewSigner(stranger, signer.Origin())
	forged, err := other.Sign(9, rootOf(chain(8)))
	require.NoError(t, err)
	_, err = ledger.OpenCheckpoint(forged, []string{signer.Key()}, nil)
	require.ErrorIs(t, err, ledger.ErrUnknownKey)
	c, err := ledger.OpenCheckpoint(forged, []string{"bm9uZQ==", signer.Key(), other.Key()}, nil)
	require.NoError(t, err)
	assert.Equal(t, other.Key(), c.Key)
	altered := strings.Replace(string(note), "\n9\n", "\n8\n", 1)
	_, err = ledger.OpenCheckpoint([]byte(altered), []string{signer.Key()}, nil)
	require.ErrorContains(t, err, "it was altered")
	for _, bad := range []string{"", "x", "a\n1\nAA==\n\n", strings.Repeat("a", 1<<17)} {
		_, err := ledger.OpenCheckpoint([]byte(bad), []string{signer.Key()}, nil)
		assert.Error(t, err)
		_, err = ledger.Claim([]byte(bad))
		assert.Error(t, err)
	}
}

// Keys lead to the one that signs now as far as each signed the next one in, and that one agreed;
// whose words count is found from the end.
func TestKeys(t *testing.T) {
	made := func() ed25519.PrivateKey {
		_, k, err := ed25519.GenerateKey(nil)
		require.NoError(t, err)
		return k
	}
	a, b, c, planted := made(), made(), made(), made()
	first := ledger.NewSigner(a, "")
	second, third := ledger.NewSigner(b, first.Origin()), ledger.NewSigner(c, first.Origin())
	entry := func(seq int64, from, to ledger.Signer) ledger.Entry {
		signatures, err := from.SignIn(to)
		require.NoError(t, err)
		return ledger.Entry{
			Seq: seq, Action: ledger.KeyAction, Before: from.Key(), After: to.Key(),
			Note: "as — it goes:\n" + signatures,
		}
	}
	old, _ := a.Public().(ed25519.PublicKey)
	list := []ledger.Entry{
		{Seq: 1, Action: ledger.KeyAction, After: ledger.KeyText(old)}, // of a release before
		{Seq: 3, Action: ledger.KeyAction, Before: ledger.KeyText(old), After: first.Key()},
		entry(5, first, second), entry(9, second, third),
	}
	trusted := func(list []ledger.Entry, now string) (out []int64) {
		for _, k := range ledger.Keys(list, now) {
			if k.Trusted {
				out = append(out, k.Seq)
			}
		}
		return out
	}
	assert.Equal(t, []int64{1, 3, 5, 9}, trusted(list, third.Key()))
	assert.Equal(t, []int64{1, 3, 5}, trusted(list, second.Key()), "what came behind the key is not led to")
	assert.Empty(t, trusted(list, ""))

	before, after, err := ledger.ReadHandover(ledger.Handover(list[2]))
	require.NoError(t, err)
	assert.Equal(t, []string{first.Key(), second.Key()}, []string{before, after})

	for name, alter := range map[string]func([]ledger.Entry){
		"unsigned":       func(l []ledger.Entry) { l[2].Note = "believe me" },
		"another before": func(l []ledger.Entry) { l[2].Before = third.Key() },
		"signed by one only": func(l []ledger.Entry) {
			l[2].Note = strings.Join(strings.Split(l[2].Note, "\n")[:2], "\n") + "\n"
		},
		"signed by a planted": func(l []ledger.Entry) {
			l[2] = entry(5, ledger.NewSigner(planted, first.Origin()), second)
			l[2].Before = first.Key()
		},
	} {
		bad := append([]ledger.Entry{}, list...)
		alter(bad)
		assert.Equal(t, []int64{5, 9}, trusted(bad, third.Key()), name)
		assert.Nil(t, ledger.Handover(bad[2]), name)
	}
	for _, text := range []string{
		"", "x\n\n— a b\n", fmt.Sprintf("oaken-latch signing key\nbefore %s\nafter %s\n\n", first.Key(), second.Key()),
	} {
		_, _, err := ledger.ReadHandover([]byte(text))
		assert.Error(t, err, "%q", text)
	}
	assert.True(t, ledger.SameKey(first.Key(), ledger.KeyText(old)))
	assert.False(t, ledger.SameKey(first.Key(), second.Key()))
	assert.False(t, ledger.SameKey("", ""))
}
