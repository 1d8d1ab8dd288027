package access

import (
	"context"
	"crypto/cipher"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"golang.org/x/crypto/chacha20poly1305"

	"oakenlatch/core/ledger"
	"oakenlatch/service/audit"
	"oakenlatch/service/folder"
	"oakenlatch/service/store"
)

// KeyFile is the file of a data folder with the key that seals, unless another is
// named.
const KeyFile = folder.KeyFile

// ErrKeyMissing is given where a key file is not there though secrets were sealed
// with it.
var ErrKeyMissing = errors.New(
	"the key file is not there, but secrets in the records are sealed with it: put it back (a backup holds it), or " +
		"if it is lost: oaken-latchd rotate-key --lost, and give the devices' secrets again",
)

// Sealer encrypts secrets for the database with a key that is not in it.
type Sealer struct {
	keys []cipher.AEAD // the first seals, all open
	text []byte
}

// Text is the content of the key file, for a backup that is taken while that file is gone.
func (s *Sealer) Text() []byte { return s.text }

// OpenSealer reads a key file, making it on first use.
func OpenSealer(file string) (*Sealer, error) {
	text, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		text = newKey()
		err = writeNew(file, text)
	}
	if err != nil {
		return nil, fmt.Errorf("key file %s: %w", file, err)
	}
	s, err := newSealer(text)
	if err != nil {
		return nil, fmt.Errorf(
			"key file %s: %w; restore it from where it was copied, the stored device secrets cannot be read without it",
			file, err,
		)
	}
	return s, nil
}

func newKey() []byte {
	key := make([]byte, chacha20poly1305.KeySize)
	_, _ = rand.Read(key) // never fails, crypto/rand
	return key
}

// newSealer reads keys, one behind the other.
func newSealer(text []byte) (*Sealer, error) {
	s := &Sealer{text: text}
	if len(text) == 0 || len(text)%chacha20poly1305.KeySize != 0 || len(text) > 4*chacha20poly1305.KeySize {
		return nil, fmt.Errorf("it has %d bytes, not %d for each key", len(text), chacha20poly1305.KeySize)
	}
	for ; len(text) > 0; text = text[chacha20poly1305.KeySize:] {
		aead, err := chacha20poly1305.NewX(text[:chacha20poly1305.KeySize])
		if err != nil {
			return nil, err
		}
		s.keys = append(s.keys, aead)
	}
	return s, nil
}

// writeNew writes a file for its owner alone, durably, and never over another.
func writeNew(file string, content []byte) error {
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	return errors.Join(err, f.Sync(), f.Close())
}

// writeOver puts a file in the place of another, whole or not at all.
func writeOver(file string, content []byte) error {
	next := file + ".next"
	if err := os.Remove(next); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if err := writeNew(next, content); err != nil {
		return err
	}
	if err := os.Rename(next, file); err != nil {
		return err
	}
	dir, err := os.Open(filepath.Dir(file))
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}

// Seal encrypts a secret; purpose must be given again to open it.
func (s *Sealer) Seal(secret []byte, purpose string) []byte {
	aead := s.keys[0]
	nonce := make([]byte, aead.NonceSize(), aead.NonceSize()+len(secret)+aead.Overhead())
	_, _ = rand.Read(nonce) // never fails, crypto/rand
	return aead.Seal(nonce, nonce, secret, []byte(purpose))
}

// Open decrypts what Seal made.
func (s *Sealer) Open(sealed []byte, purpose string) ([]byte, error) {
	for _, aead := range s.keys {
		n := aead.NonceSize()
		if len(sealed) < n {
			return nil, errors.New("sealed secret is cut short")
		}
		if out, err := aead.Open(nil, sealed[:n], sealed[n:], []byte(purpose)); err == nil {
			return out, nil
		}
	}
	return nil, errors.New("a sealed secret does not open with this key file: it belongs to another, or was altered")
}

// Purpose says for what a secret of the records is sealed: moved elsewhere, it
// does not open.
func Purpose(table, key string) string {
	switch table {
	case "devices":
		return "device secret of " + key
	case "archives":
		return "secret of archive " + key
	case "receivers":
		return "secret of receiver " + key
	}
	return table + " " + key
}

// Kept gives a key that the service made for itself once, sealed in the records.
func (s *Sealer) Kept(ctx context.Context, st *store.Store, name string) ([]byte, error) {
	sealed, err := st.Sealed(ctx, name)
	if err == nil {
		return s.Open(sealed, Purpose("sealed", name))
	}
	if !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	key := newKey()
	return key, st.Write(
		ctx, func(tx *store.Tx) error { return tx.SetSealed(name, s.Seal(key, Purpose("sealed", name))) },
	)
}

// Missing reports whether a key file is not there though it is needed.
func Missing(ctx context.Context, st *store.Store, file string) error {
	if _, err := os.Stat(file); err == nil || !errors.Is(err, os.ErrNotExist) {
		return err
	}
	var list []store.Secret
	err := st.Write(ctx, func(tx *store.Tx) (err error) { list, err = tx.Secrets(); return err })
	if err == nil && len(list) > 0 {
		err = fmt.Errorf("%s: %w", file, ErrKeyMissing)
	}
	return err
}

// Trial opens all that is sealed, and gives how many there are.
func (s *Sealer) Trial(tx *store.Tx) (int, error) {
	list, err := tx.Secrets()
	for _, one := range list {
		if _, oerr := s.Open(one.Body, Purpose(one.Table, one.Key)); oerr != nil {
			err = errors.Join(err, fmt.Errorf("%s %s: %w", one.Table, one.Key, oerr))
		}
	}
	return len(list), err
}

// Rotate seals all secrets with a new key and forgets the old one; the key that signs
// the record is made anew. Wherever it is broken off, the key file opens what is in
// the records.
func Rotate(ctx context.Context, log *audit.Log, file string) (int, error) {
	old, err := os.ReadFile(file)
	if err != nil {
		return 0, fmt.Errorf("key file %s: %w", file, err)
	}
	next := newKey()
	both := append(append([]byte{}, next...), old...)
	s, err := newSealer(both)
	if err != nil {
		return 0, fmt.Errorf("key file %s: %w", file, err)
	}
	if err := writeOver(file, both); err != nil {
		return 0, err
	}
	entries, err := log.KeyEntries(ctx)
	if err != nil {
		return 0, err
	}
	n := 0
	err = log.Write(ctx, func(tx *audit.Tx) error {
		list, err := tx.Secrets()
		if err != nil {
			return err
		}
		for _, one := range list {
			purpose := Purpose(one.Table, one.Key)
			secret, err := s.Open(one.Body, purpose)
			if err != nil {
				return fmt.Errorf("%s %s: %w", one.Table, one.Key, err)
			}
			if purpose == Purpose("sealed", signing) {
				before := secret
				secret = newKey()
				if err := tx.NextKey(
					entries, ed25519.NewKeyFromSeed(before), ed25519.NewKeyFromSeed(secret),
				); err != nil {
					return err
				}
			}
			one.Body = s.Seal(secret, purpose)
			if err := tx.SetSecret(one); err != nil {
				return err
			}
		}
		n = len(list)
		return tx.Record(
			ledger.Entry{
				Actor: audit.Service, Action: "key.rotate",
				Note: fmt.Sprintf("%d secrets are sealed with a new key", n),
			},
		)
	})
	if err != nil {
		return 0, err
	}
	return n, writeOver(file, next)
}

// Forget makes a new key where the old one is lost: what was sealed with it is
// worthless, and taken out.
func Forget(ctx context.Context, log *audit.Log, file string) (int, error) {
	n := 0
	err := log.Write(ctx, func(tx *audit.Tx) error {
		list, err := tx.Secrets()
		if err != nil {
			return err
		}
		for _, one := range list {
			if one.Table == "factors" { // nobody could show it any more
				err = tx.LoseFactor(one.Key)
			} else {
				one.Body = []byte{}
				err = tx.SetSecret(one)
			}
			if err != nil {
				return err
			}
		}
		n = len(list)
		return errors.Join(
			tx.DropSealed(),
			tx.Record(
				ledger.Entry{
					Actor: audit.Service, Action: "key.lost",
					Note: fmt.Sprintf("the key is lost, and with it %d secrets", n),
				},
			),
		)
	})
	if err != nil {
		return 0, err
	}
	if err := writeOver(file, newKey()); err != nil {
		return n, err
	}
	s, err := OpenSealer(file)
	if err != nil {
		return n, err
	}
	return n, s.AcceptKey(ctx, log, "the key of all secrets is lost, and this one with it")
}
