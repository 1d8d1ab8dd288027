package ledger

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	tree "github.com/transparency-dev/formats/log"
	cosign "github.com/transparency-dev/formats/note"
	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"
)

// Checkpoint is a signed word of what the ledger was, in the open form of transparency logs
// (c2sp.org/tlog-checkpoint): the tree of its first Size entries has that root. Whoever keeps one
// elsewhere can tell later whether anything of it was rewritten.
type Checkpoint struct {
	Origin    string
	Size      int64
	Root      tlog.Hash
	Key       string    // that signed it
	Witnesses []Witness // who cosigned it
}

// Witness is who else signed a checkpoint.
type Witness struct {
	Key string
	At  time.Time // when; the witness signed that, too
}

// Name is what a key calls itself.
func Name(key string) string {
	name, _, _ := strings.Cut(key, "+")
	return name
}

// maxNote is how long a checkpoint may be, with its signatures.
const maxNote = 1 << 16

// Sign makes a checkpoint.
func (s Signer) Sign(size int64, root tlog.Hash) ([]byte, error) {
	signer, err := s.signer()
	if err != nil {
		return nil, err
	}
	body := tree.Checkpoint{Origin: s.origin, Size: uint64(max(size, 0)), Hash: root[:]}.Marshal()
	return note.Sign(&note.Note{Text: string(body)}, signer)
}

// witnessVerifier reads a witness's key, in either of the forms it is written in.
func witnessVerifier(key string) (note.Verifier, error) {
	if open, err := cosign.VKeyToCosignatureV1(key); err == nil {
		key = open
	}
	return cosign.NewVerifierForCosignatureV1(key)
}

// CheckWitness says what is wrong with a witness's key as somebody wrote it.
func CheckWitness(key string) error {
	_, err := witnessVerifier(key)
	if err != nil {
		return fmt.Errorf("%q is no key of a witness, like NAME+HASH+BASE64: %w", key, err)
	}
	return nil
}

// CheckKey says what is wrong with a log's key as somebody wrote it.
func CheckKey(key string) error {
	if _, err := note.NewVerifier(key); err != nil {
		return fmt.Errorf("%q is no key that signs a record, like NAME+HASH+BASE64: %w", key, err)
	}
	return nil
}

// ErrUnknownKey is given where none of the keys that are known signed a checkpoint.
var ErrUnknownKey = errors.New("none of the keys that are known signed it")

// OpenCheckpoint reads a checkpoint that one of the given keys signed, and who of the
// witnesses did, too.
func OpenCheckpoint(text []byte, keys, witnesses []string) (c Checkpoint, err error) {
	if len(text) > maxNote {
		return c, fmt.Errorf("it is longer than %d bytes", maxNote)
	}
	var others []note.Verifier
	named := map[string]string{}
	for _, w := range witnesses {
		v, err := witnessVerifier(w)
		if err != nil {
			return c, err
		}
		others = append(others, v)
		named[fmt.Sprint(v.Name(), v.KeyHash())] = w
	}
	err = ErrUnknownKey
	for _, key := range keys {
		own, kerr := note.NewVerifier(key)
		if kerr != nil {
			continue // of an earlier release: it signed none of these
		}
		n, oerr := note.Open(text, note.VerifierList(append([]note.Verifier{own}, others...)...))
		if oerr != nil || !slices.ContainsFunc(
			n.Sigs, func(sig note.Signature) bool { return sig.Name == own.Name() && sig.Hash == own.KeyHash() },
		) {
			err = cmp.Or(whatIsWrong(oerr), err)
			continue
		}
		if c, err = claim(n.Text); err != nil || c.Origin != own.Name() {
			return Checkpoint{}, cmp.Or(err, errCheckpoint)
		}
		c.Key = key
		for _, sig := range n.Sigs {
			if w := named[fmt.Sprint(sig.Name, sig.Hash)]; w != "" {
				at, err := cosign.CoSigV1Timestamp(sig)
				if err == nil {
					c.Witnesses = append(c.Witnesses, Witness{w, at.UTC()})
				}
			}
		}
		return c, nil
	}
	return c, err
}

// whatIsWrong is an error of a note's signature that is of a known key and does not fit.
func whatIsWrong(err error) error {
	var bad *note.InvalidSignatureError
	if errors.As(err, &bad) {
		return fmt.Errorf("it was altered: the signature of %s does not fit", bad.Name)
	}
	return nil
}

// Claim reads what a checkpoint says, whoever signed it, if anybody did.
func Claim(text []byte) (Checkpoint, error) {
	body, _, ok := strings.Cut(string(text), "\n\n")
	if !ok || len(text) > maxNote {
		return Checkpoint{}, errCheckpoint
	}
	return claim(body + "\n")
}

// claim reads the lines of a checkpoint that are signed.
func claim(text string) (Checkpoint, error) {
	var cp tree.Checkpoint
	rest, err := cp.Unmarshal([]byte(text))
	if err != nil || len(rest) > 0 || len(cp.Hash) != tlog.HashSize || int64(cp.Size) < 0 {
		return Checkpoint{}, errCheckpoint
	}
	return Checkpoint{Origin: cp.Origin, Size: int64(cp.Size), Root: tlog.Hash(cp.Hash)}, nil
}

// AddSignatures gives a checkpoint with the signatures of another note of the same text, or of
// lines that are nothing but signatures; those it has already stay as they are.
func AddSignatures(text []byte, lines string) []byte {
	body, have, _ := strings.Cut(string(text), "\n\n")
	signatures := strings.SplitAfter(have, "\n")
	for line := range strings.Lines(lines) {
		if strings.HasPrefix(line, "— ") && strings.HasSuffix(line, "\n") && !slices.Contains(signatures, line) {
			// A witness's newer signature is for its older one.
			name, _, _ := strings.Cut(strings.TrimPrefix(line, "— "), " ")
			signatures = slices.DeleteFunc(signatures, func(old string) bool {
				return strings.HasPrefix(old, "— "+name+" ") && old != line && sameKeyHash(old, line)
			})
			signatures = append(signatures, line)
		}
	}
	return []byte(body + "\n\n" + strings.Join(signatures, ""))
}

// sameKeyHash reports whether two lines are signatures of one key.
func sameKeyHash(a, b string) bool {
	const hash = 5 // the whole base64 digits of the four bytes
	x, y := a[strings.LastIndex(a, " ")+1:], b[strings.LastIndex(b, " ")+1:]
	return len(x) > hash && len(y) > hash && x[:hash] == y[:hash]
}
