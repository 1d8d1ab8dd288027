package ledger_test

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/ledger"
)

func chain(n int) []ledger.Entry {
	var out []ledger.Entry
	prev := ""
	for i := range int64(n) {
		e := ledger.Seal(
			ledger.Entry{
				Seq: i + 1, At: time.Unix(1800000000+i, 123456789), Actor: "mara", Action: "edit.put", Path: "/a",
				After: "x",
			},
			prev,
		)
		prev = e.Hash
		out = append(out, e)
	}
	return out
}

// resealed gives a chain sealed anew from a place on, as one would who can
// write to the database and has no key.
func resealed(list []ledger.Entry, from int) []ledger.Entry {
	for i := from; i < len(list); i++ {
		prev := ""
		if i > 0 {
			prev = list[i-1].Hash
		}
		list[i] = ledger.Seal(list[i], prev)
	}
	return list
}

// signedBefore is a checkpoint as releases before the tree signed it.
func signedBefore(key ed25519.PrivateKey, last ledger.Entry, at time.Time) ledger.Chained {
	public, _ := key.Public().(ed25519.PublicKey)
	c := ledger.Chained{
		Format: "oaken-latch-checkpoint", Version: 1, Seq: last.Seq, At: at.UTC().Truncate(time.Second),
		Hash: last.Hash, Key: ledger.KeyText(public),
	}
	c.Signature = base64.StdEncoding.EncodeToString(ed25519.Sign(key, c.Text()))
	return c
}

func verify(list []ledger.Entry, signed ...ledger.Word) (out []string) {
	v := ledger.NewVerifier(signed)
	for _, e := range list {
		v.Next(e)
	}
	if v.End() != (len(v.Findings) == 0) {
		return []string{"End and Findings disagree"}
	}
	for _, f := range v.Findings {
		out = append(out, f.String())
	}
	return out
}

var _, key, _ = ed25519.GenerateKey(nil)

// Whatever is done to the chain is found, and told of the entry it was done to.
func TestChain(t *testing.T) {
	const n = 9
	for name, words := range map[string][2]ledger.Word{
		"of the chain": {
			ledger.WordOfChained(signedBefore(key, chain(n)[3], time.Unix(1800000100, 0))),
			ledger.WordOfChained(signedBefore(key, chain(n)[7], time.Unix(1800000200, 0))),
		},
		"of the tree": {
			{Size: 4, Root: rootOf(chain(n)[:4]), At: time.Unix(1800000100, 0)},
			{Size: 8, Root: rootOf(chain(n)[:8]), At: time.Unix(1800000200, 0)},
		},
	} {
		t.Run(name, func(t *testing.T) { tampered(t, n, words[0], words[1]) })
	}
	back := chain(4)
	back[2].At = back[0].At
	v := ledger.NewVerifier(nil)
	for _, e := range resealed(back, 2) {
		v.Next(e)
	}
	assert.True(t, v.End(), "a clock that is set back breaks nothing")
	assert.Equal(t, []int64{3}, v.Back)
}

func tampered(t *testing.T, n int, four, eight ledger.Word) {
	require.Empty(t, verify(chain(n), eight, four))
	for name, c := range map[string]struct {
		tamper func([]ledger.Entry) []ledger.Entry
		want   []string
	}{
		"altered": {
			func(l []ledger.Entry) []ledger.Entry { l[2].Actor = "joss"; return l },
			[]string{"entry 3: its content does not match"},
		},
		"two altered": {
			func(l []ledger.Entry) []ledger.Entry { l[2].Note, l[6].Outcome = "x", "failed"; return l },
			[]string{"entry 3: its content", "entry 7: its content"},
		},
		"altered and sealed again": {func(l []ledger.Entry) []ledger.Entry {
			l[1].Actor = "joss"
			l[1] = ledger.Seal(l[1], l[1].Prev)
			return l
		}, []string{"entry 3: does not follow entry 2 as it is"}},
		"taken out": {
			func(l []ledger.Entry) []ledger.Entry { return append(l[:1:1], l[2:]...) },
			[]string{"entry 3: entry 2 before it is missing"},
		},
		"several taken out": {
			func(l []ledger.Entry) []ledger.Entry { return append(l[:4:4], l[7:]...) },
			[]string{"entry 8: entries 5 to 7 before it are missing"},
		},
		"the first taken out": {
			func(l []ledger.Entry) []ledger.Entry { return l[2:] },
			[]string{"entry 3: entries 1 to 2 before it are missing"},
		},
		"the last taken out": {
			func(l []ledger.Entry) []ledger.Entry { return l[:6] },
			[]string{
				"entry 8: it is missing at the end: the checkpoint signed at 2027-01-15T08:03:20Z names it, and the " +
					"last entry is 6",
			},
		},
		"swapped": {
			func(l []ledger.Entry) []ledger.Entry { l[1], l[2] = l[2], l[1]; return l },
			[]string{
				"entry 3: entry 2 before it is missing", "entry 2: stands behind entry 3",
				"entry 4: entry 3 before it is missing",
			},
		},
		"put in": {func(l []ledger.Entry) []ledger.Entry {
			e := ledger.Seal(ledger.Entry{Seq: 5, Actor: "ghost", Action: "x", At: l[3].At}, l[3].Hash)
			return append(l[:4:4], append([]ledger.Entry{e}, l[4:]...)...)
		}, []string{"entry 5: stands behind entry 5"}},
		"all sealed anew": {
			func(l []ledger.Entry) []ledger.Entry { l[5].Actor = "joss"; return resealed(l, 5) },
			[]string{
				"entry 8: it is not what the checkpoint signed at 2027-01-15T08:03:20Z says: entries from entry 5 on " +
					"were rewritten",
			},
		},
		"one taken out, all sealed anew": {func(l []ledger.Entry) []ledger.Entry {
			l = append(l[:1:1], l[2:]...)
			for i := range l {
				l[i].Seq = int64(i + 1)
			}
			return resealed(l, 1)
		}, []string{"entry 4: it is not what the checkpoint", "entry 8: it is not what the checkpoint"}},
		"a chain of another": {func(l []ledger.Entry) []ledger.Entry {
			l[0].Prev = "ab"
			l[0] = ledger.Seal(l[0], "ab")
			return resealed(l, 1)
		}, []string{"entry 1: it follows another entry", "entry 4", "entry 8"}},
	} {
		t.Run(name, func(t *testing.T) {
			got := verify(c.tamper(chain(n)), four, eight)
			if four.Hash == "" { // the root of a tree is of all entries: the first finding is why a later one differs
				c.want = slices.DeleteFunc(
					c.want,
					func(w string) bool {
						return c.want[0] != w && strings.HasSuffix(w, "it is not what the checkpoint")
					},
				)
				if name == "a chain of another" {
					c.want = c.want[:1]
				}
			}
			require.Len(t, got, len(c.want), "%q", got)
			for i, w := range c.want {
				assert.Contains(t, got[i], w)
			}
		})
	}
}

// Entries of earlier releases keep their hashes: this is one of the first.
func TestOldEntries(t *testing.T) {
	e := ledger.Entry{
		Seq: 1, At: time.Date(2026, 11, 20, 1, 2, 3, 4000000, time.UTC), Actor: "mara", Action: "edit.put",
		Device: "quay", Change: 7, Path: "/a", Before: "x", After: "<y>", Note: "n",
	}
	assert.Equal(t, "a84ab966addd09b8ad18741c31d5d9707fd3a246122e4583069f2480384d99ad", ledger.Seal(e, "").Hash)
}

func TestChained(t *testing.T) {
	c := signedBefore(key, chain(3)[2], time.Unix(1800000100, 5))
	text, err := json.Marshal(c)
	require.NoError(t, err)
	got, err := ledger.ParseChained(append(text, '\n'))
	require.NoError(t, err)
	assert.Equal(t, c, got)
	for _, change := range []func(*ledger.Chained){
		func(c *ledger.Chained) { c.Seq++ }, func(c *ledger.Chained) { c.Hash = chain(2)[1].Hash },
		func(c *ledger.Chained) { c.At = c.At.Add(time.Second) },
		func(c *ledger.Chained) { c.Key = ledger.KeyText(make([]byte, 32)) }, func(c *ledger.Chained) { c.Key = "x" },
		func(c *ledger.Chained) { c.Signature = c.Key },
	} {
		bad := c
		change(&bad)
		assert.Error(t, bad.Check(), "%+v", bad)
	}
	for _, text := range []string{
		"", "{}", `{"format":"oaken-latch-checkpoint","version":9}`, fmt.Sprintf(`{"format":%q}`, make([]byte, 1<<17)),
	} {
		_, err := ledger.ParseChained([]byte(text))
		assert.Error(t, err)
	}
}

// TestNoUTF8: bytes that are no UTF-8 do not make an entry look altered where it was exported as JSON, neither now nor
// as earlier releases sealed them.
func TestNoUTF8(t *testing.T) {
	exported := func(e ledger.Entry) (out ledger.Entry) {
		t.Helper()
		text, err := json.Marshal(e)
		require.NoError(t, err)
		var plain map[string]any // any reader of JSON, and a writer with other habits
		require.NoError(t, json.Unmarshal(text, &plain))
		text, err = json.Marshal(plain)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(text, &out))
		return out
	}
	raw := ledger.Entry{Seq: 1, At: time.Unix(1800000000, 0), Actor: "mara", Action: "x", Note: "/devices/x\xff/save"}
	now := ledger.Seal(raw, "")
	assert.Equal(t, "/devices/x\ufffd/save", now.Note)
	assert.Empty(t, verify([]ledger.Entry{exported(now)}))

	// As before: the hash of what JSON made of the raw bytes.
	before := raw
	before.At = before.At.UTC()
	text, err := json.Marshal(before)
	require.NoError(t, err)
	sum := sha256.Sum256(text)
	before.Hash = hex.EncodeToString(sum[:])
	assert.Empty(t, verify([]ledger.Entry{before}))
	there := exported(before)
	assert.Equal(t, now.Note, there.Note)
	assert.Empty(t, verify([]ledger.Entry{there}))
	read := grown(t, leavesOf([]ledger.Entry{before}))
	note, err := ledger.NewSigner(key, "").Sign(1, rootOf([]ledger.Entry{before}))
	require.NoError(t, err)
	proof, err := ledger.Prove(before, 1, note, read)
	require.NoError(t, err)
	proven, err := ledger.CheckProof(proof)
	require.NoError(t, err)
	assert.Equal(t, now.Note, proven.Entry.Note)
	there.Note += "!"
	assert.NotEmpty(t, verify([]ledger.Entry{there}))
}
