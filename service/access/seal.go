package access

import (
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"golang.org/x/crypto/chacha20poly1305"
)

// Sealer encrypts secrets for the database with a key that is not in it.
type Sealer struct{ aead cipher.AEAD }

// OpenSealer reads the key file of a data folder, making it on first use.
func OpenSealer(dir string) (*Sealer, error) {
	file := filepath.Join(dir, "seal.key")
	key, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		key = make([]byte, chacha20poly1305.KeySize)
		if _, err := rand.Read(key); err != nil {
			return nil, err
		}
		err = writeNew(file, key)
	}
	if err != nil {
		return nil, fmt.Errorf("key file %s: %w", file, err)
	}
	aead, err := chacha20poly1305.NewX(key)
	if err != nil {
		return nil, fmt.Errorf("key file %s: %w; restore it from where it was copied, the stored device secrets cannot be read without it", file, err)
	}
	return &Sealer{aead}, nil
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

// Seal encrypts a secret; purpose must be given again to open it.
func (s *Sealer) Seal(secret []byte, purpose string) []byte {
	nonce := make([]byte, s.aead.NonceSize(), s.aead.NonceSize()+len(secret)+s.aead.Overhead())
	_, _ = rand.Read(nonce) // never fails, crypto/rand
	return s.aead.Seal(nonce, nonce, secret, []byte(purpose))
}

// Open decrypts what Seal made.
func (s *Sealer) Open(sealed []byte, purpose string) ([]byte, error) {
	n := s.aead.NonceSize()
	if len(sealed) < n {
		return nil, errors.New("sealed secret is cut short")
	}
	out, err := s.aead.Open(nil, sealed[:n], sealed[n:], []byte(purpose))
	if err != nil {
		return nil, errors.New("a sealed secret does not open with this key file: it belongs to another, or was altered")
	}
	return out, nil
}
