// Package witness watches over records of changes from outside: it keeps the last checkpoint that it
// saw of each, cosigns a newer one only if that goes on from it, and so vouches that nothing before
// was rewritten. It speaks the open protocol of witnesses (c2sp.org/tlog-witness), and cosigns in the
// open form (c2sp.org/tlog-cosignature).
package witness

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"unicode"
	"unicode/utf8"

	cosign "github.com/transparency-dev/formats/note"
	"golang.org/x/mod/sumdb/note"

	"oakenlatch/core/ledger"
)

// The files of a witness's folder.
const (
	keyFile    = "witness.key"
	PublicFile = "witness.pub" // its key, for those who are to believe it
)

// Witness watches over records. Its methods may be used from many goroutines.
type Witness struct {
	dir    string
	key    string // as others write it
	signer note.Signer
	lock   *os.File

	mu   sync.Mutex
	logs map[string]*watched // by origin
}

// watched is a record that is watched over, as it is kept.
type watched struct {
	Origin     string   `json:"origin"`
	Keys       []string `json:"keys"`       // that sign it, oldest first
	Checkpoint string   `json:"checkpoint"` // the last one; "" before the first
}

// Open opens a witness's folder, made as needed, with its key. name is what it signs as, where the
// key is made.
func Open(dir, name string) (*Witness, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	w := &Witness{dir: dir, lock: lock, logs: map[string]*watched{}}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return nil, errors.Join(fmt.Errorf("another witness uses %s: %w", dir, err), lock.Close())
	}
	if err := errors.Join(w.openKey(name), w.load()); err != nil {
		return nil, errors.Join(err, lock.Close())
	}
	return w, nil
}

// Close lets the folder go.
func (w *Witness) Close() error { return w.lock.Close() }

// Key is the witness's key, as those write it who believe it.
func (w *Witness) Key() string { return w.key }

func (w *Witness) openKey(name string) error {
	file := filepath.Join(w.dir, keyFile)
	text, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		if name == "" || strings.ContainsFunc(
			name, func(r rune) bool { return unicode.IsSpace(r) || unicode.IsControl(r) || r == '+' },
		) || !utf8.ValidString(name) {
			return fmt.Errorf("%q is no name of a witness: it has no spaces and no +, like tidewell/saltern", name)
		}
		secret, _, gerr := note.GenerateKey(rand.Reader, name)
		if gerr != nil {
			return gerr
		}
		text, err = []byte(secret), writeSure(file, []byte(secret+"\n"), 0o600)
	}
	if err != nil {
		return fmt.Errorf("the witness's key: %w", err)
	}
	secret := strings.TrimSpace(string(text))
	if w.signer, err = cosign.NewSignerForCosignatureV1(secret); err != nil {
		return fmt.Errorf("%s holds no key of a witness: %w", file, err)
	}
	public, err := publicOf(secret)
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	w.key = public
	return writeSure(filepath.Join(w.dir, PublicFile), []byte(public+"\n"), 0o644)
}

// publicOf gives the public half of a key, as cosignatures are checked by it.
func publicOf(secret string) (string, error) {
	plain, err := note.NewSigner(secret)
	if err != nil {
		return "", err
	}
	parts := strings.SplitN(secret, "+", 5) // PRIVATE, KEY, name, hash, key
	key, err := ledger.PublicOfSeed(parts[len(parts)-1])
	if err != nil {
		return "", err
	}
	text, err := note.NewEd25519VerifierKey(plain.Name(), key)
	if err != nil {
		return "", err
	}
	return cosign.VKeyToCosignatureV1(text)
}

func (w *Witness) load() error {
	names, err := filepath.Glob(filepath.Join(w.dir, "*.json"))
	for _, name := range names {
		text, rerr := os.ReadFile(name)
		l := &watched{}
		if rerr == nil {
			rerr = json.Unmarshal(text, l)
		}
		if rerr != nil {
			// To begin anew would be to forget what was seen.
			return fmt.Errorf(
				"%s cannot be read: %w; restore it, or take it away if that record is not to be watched over any more",
				name, rerr,
			)
		}
		w.logs[l.Origin] = l
	}
	return err
}

func (w *Witness) save(l *watched) error {
	sum := sha256.Sum256([]byte(l.Origin))
	text, err := json.MarshalIndent(l, "", "  ")
	if err != nil {
		return err
	}
	return writeSure(filepath.Join(w.dir, hex.EncodeToString(sum[:8])+".json"), append(text, '\n'), 0o600)
}

// Trust has the witness watch over a record that a key signs, or take another key for it. It gives
// whether that is new.
func (w *Witness) Trust(key string) (bool, error) {
	if err := ledger.CheckKey(key); err != nil {
		return false, err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	l := w.logs[ledger.Name(key)]
	if l == nil {
		l = &watched{Origin: ledger.Name(key)}
	}
	if slices.Contains(l.Keys, key) {
		return false, nil
	}
	next := *l
	next.Keys = append(slices.Clone(l.Keys), key)
	if err := w.save(&next); err != nil {
		return false, err
	}
	w.logs[next.Origin] = &next
	return true, nil
}

// Watched are the records that are watched over: name, keys, and how many entries were seen.
func (w *Witness) Watched() (out []string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, l := range w.logs {
		seen, err := ledger.Claim([]byte(l.Checkpoint))
		if err != nil {
			out = append(out, l.Origin+": nothing was seen of it yet")
			continue
		}
		out = append(out, fmt.Sprintf("%s: %d entries were seen", l.Origin, seen.Size))
	}
	slices.Sort(out)
	return out
}

// No is why a witness does not sign.
type No struct {
	Status int   // of HTTP, as the protocol has it
	Size   int64 // that was seen last, where that is the reason
	Why    string
}

func (n *No) Error() string { return n.Why }

// Add looks at a checkpoint, with the proof that it goes on from the last one that was seen
// (c2sp.org/tlog-witness, add-checkpoint). It gives the line that cosigns it, once that it was seen is
// on disk.
func (w *Witness) Add(request []byte) (string, error) {
	x, err := ledger.ReadExtends(request)
	if err != nil {
		return "", &No{Status: 400, Why: err.Error()}
	}
	claim, err := ledger.Claim(x.Checkpoint)
	if err != nil {
		return "", &No{Status: 400, Why: err.Error()}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	l := w.logs[claim.Origin]
	if l == nil {
		return "", &No{
			Status: 404, Why: fmt.Sprintf("this witness does not watch over %s; start it with --log KEY", claim.Origin),
		}
	}
	now, err := ledger.OpenCheckpoint(x.Checkpoint, l.Keys, nil)
	if err != nil {
		return "", &No{Status: 403, Why: fmt.Sprintf("the checkpoint is not believed: %v", err)}
	}
	var before ledger.Checkpoint
	if l.Checkpoint != "" {
		if before, err = ledger.OpenCheckpoint([]byte(l.Checkpoint), l.Keys, nil); err != nil {
			return "", &No{Status: 500, Why: fmt.Sprintf("the checkpoint that was kept cannot be read: %v", err)}
		}
	}
	switch {
	case x.Old > now.Size:
		return "", &No{Status: 400, Why: "the record does not reach to where it is said to go on from"}
	case x.Old != before.Size || l.Checkpoint != "" && now.Size == before.Size && now.Root != before.Root:
		return "", &No{
			Status: 409, Size: before.Size, Why: fmt.Sprintf("%d entries were seen of this record", before.Size),
		}
	}
	if err := x.Check(before, now); err != nil {
		return "", &No{Status: 422, Why: err.Error()}
	}
	body, _, _ := strings.Cut(string(x.Checkpoint), "\n\n")
	signed, err := note.Sign(&note.Note{Text: body + "\n"}, w.signer)
	if err != nil {
		return "", &No{Status: 500, Why: err.Error()}
	}
	next := *l
	next.Checkpoint = string(x.Checkpoint)
	if err := w.save(&next); err != nil {
		return "", &No{Status: 500, Why: fmt.Sprintf("what was seen could not be stored: %v", err)}
	}
	w.logs[next.Origin] = &next
	_, line, _ := strings.Cut(string(signed), "\n\n")
	return line, nil
}

// AddKey takes a key that one that is known signed in: the note of both, as the record has it.
func (w *Witness) AddKey(text []byte) error {
	before, after, err := ledger.ReadHandover(text)
	if err != nil {
		return &No{Status: 400, Why: err.Error()}
	}
	w.mu.Lock()
	l := w.logs[ledger.Name(before)]
	known := l != nil && slices.Contains(l.Keys, before)
	w.mu.Unlock()
	if !known {
		return &No{Status: 403, Why: "the key that signs the other in is not known here"}
	}
	if _, err := w.Trust(after); err != nil {
		return &No{Status: 500, Why: err.Error()}
	}
	return nil
}

// writeSure writes a file so that it is there whole, or as before.
func writeSure(name string, text []byte, mode os.FileMode) error {
	if have, err := os.ReadFile(name); err == nil && string(have) == string(text) {
		return nil
	}
	f, err := os.CreateTemp(filepath.Dir(name), "."+filepath.Base(name)+"-")
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), name)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	dir, err := os.Open(filepath.Dir(name))
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}
