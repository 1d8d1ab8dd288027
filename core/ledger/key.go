package ledger

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"strings"

	"golang.org/x/mod/sumdb/note"
)

// KeyAction is the entry that says which key signs checkpoints from then on: Before is the key
// before, After the new one, as notes write them (NAME+HASH+BASE64), and Note ends with the
// signatures of both, where the one before signed the new one in.
const KeyAction = "audit.key"

// Origin names a log in its checkpoints, from its first key on: keys that are signed in keep it.
func Origin(first ed25519.PublicKey) string {
	sum := sha256.Sum256(first)
	return "oaken-latch/" + hex.EncodeToString(sum[:8])
}

// Signer signs checkpoints of a log.
type Signer struct {
	key    ed25519.PrivateKey
	origin string
}

// NewSigner gives what signs with a key in a log's name; "" names a new log after the key.
func NewSigner(key ed25519.PrivateKey, origin string) Signer {
	if origin == "" {
		public, _ := key.Public().(ed25519.PublicKey)
		origin = Origin(public)
	}
	return Signer{key, origin}
}

// Origin is the log's name.
func (s Signer) Origin() string { return s.origin }

// Key is its public key as notes write it.
func (s Signer) Key() string {
	public, _ := s.key.Public().(ed25519.PublicKey)
	text, err := note.NewEd25519VerifierKey(s.origin, public)
	if err != nil {
		return "" // of a name with a space or a plus
	}
	return text
}

// signer is it as notes want it.
func (s Signer) signer() (note.Signer, error) {
	parts := strings.SplitN(s.Key(), "+", 3)
	if len(parts) != 3 {
		return nil, fmt.Errorf("%q is no name of a log", s.origin)
	}
	const ed25519Key = 1
	return note.NewSigner(
		"PRIVATE+KEY+" + parts[0] + "+" + parts[1] + "+" + base64.StdEncoding.EncodeToString(
			append([]byte{ed25519Key}, s.key.Seed()...),
		),
	)
}

// handover is what both keys sign where one follows the other.
func handover(before, after string) string {
	return "oaken-latch signing key\nbefore " + before + "\nafter " + after + "\n"
}

// SignIn has a key sign the next one in, and that one agree: the end of the entry's note.
func (s Signer) SignIn(next Signer) (string, error) {
	old, err := s.signer()
	if err != nil {
		return "", err
	}
	new, err := next.signer()
	if err != nil {
		return "", err
	}
	text, err := note.Sign(&note.Note{Text: handover(s.Key(), next.Key())}, old, new)
	if err != nil {
		return "", err
	}
	_, signatures, _ := strings.Cut(string(text), "\n\n")
	return signatures, nil
}

// Handover is the note of an entry by which one key signed another in; nil where it does not.
// An entry of an earlier release that names the same key in another form is one, too.
func Handover(e Entry) []byte {
	before, berr := note.NewVerifier(e.Before)
	after, aerr := note.NewVerifier(e.After)
	at := strings.Index(e.Note, "\n— ")
	if berr != nil || aerr != nil || at < 0 {
		return nil
	}
	text := []byte(handover(e.Before, e.After) + e.Note[at:])
	n, err := note.Open(text, note.VerifierList(before, after))
	if err != nil || len(n.Sigs) != 2 || before.Name() != after.Name() || len(n.UnverifiedSigs) > 0 {
		return nil
	}
	return text
}

// ReadHandover reads such a note where it stands alone: the key that signs in, and the one that
// is signed in. That both signed is checked.
func ReadHandover(text []byte) (before, after string, err error) {
	body, signatures, _ := strings.Cut(string(text), "\n\n")
	lines := strings.Split(body, "\n")
	if len(lines) != 3 || len(text) > 1<<14 {
		return "", "", fmt.Errorf("it is no note by which one key signs another in")
	}
	before, after = strings.TrimPrefix(lines[1], "before "), strings.TrimPrefix(lines[2], "after ")
	if Handover(
		Entry{Before: before, After: after, Note: "\n" + signatures},
	) == nil || body+"\n" != handover(before, after) {
		return "", "", fmt.Errorf("not both keys signed that one follows the other")
	}
	return before, after, nil
}

// Keyed is a key that the ledger names.
type Keyed struct {
	Key     string // as its entry names it
	Seq     int64  // of the entry
	Trusted bool   // it is the key that signs now, or signed in the one after it that is trusted
}

// Keys are the keys that entries name, oldest first; now is the one that signs.
func Keys(entries []Entry, now string) []Keyed {
	var out []Keyed
	for _, e := range entries {
		if e.Action == KeyAction {
			out = append(out, Keyed{Key: e.After, Seq: e.Seq})
		}
	}
	trusted := now
	for i := len(entries) - 1; i >= 0; i-- {
		if e := entries[i]; e.Action == KeyAction && trusted != "" && SameKey(e.After, trusted) {
			for k := range out {
				out[k].Trusted = out[k].Trusted || out[k].Seq == e.Seq
			}
			trusted = ""
			if e.Before != "" && (SameKey(e.Before, e.After) || Handover(e) != nil) {
				trusted = e.Before
			}
		}
	}
	return out
}

// SameKey reports whether two texts name the same key, in either form.
func SameKey(a, b string) bool {
	x, y := Public(a), Public(b)
	return x != nil && x.Equal(y)
}

// Public gives the key of a text in either form; nil where it is none.
func Public(text string) ed25519.PublicKey {
	if _, err := note.NewVerifier(text); err == nil {
		text = strings.SplitN(text, "+", 3)[2]
	}
	raw, err := base64.StdEncoding.DecodeString(text)
	if err == nil && len(raw) == ed25519.PublicKeySize+1 && raw[0] == 1 {
		raw = raw[1:]
	}
	if err != nil || len(raw) != ed25519.PublicKeySize {
		return nil
	}
	return raw
}

// PublicOfSeed gives the public key of a private one as notes write that: base64 of its kind and
// seed.
func PublicOfSeed(text string) (ed25519.PublicKey, error) {
	raw, err := base64.StdEncoding.DecodeString(text)
	if err != nil || len(raw) != ed25519.SeedSize+1 {
		return nil, fmt.Errorf("it is no Ed25519 key")
	}
	public, _ := ed25519.NewKeyFromSeed(raw[1:]).Public().(ed25519.PublicKey)
	return public, nil
}
