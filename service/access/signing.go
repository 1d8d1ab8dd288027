package access

import (
	"context"
	"crypto/ed25519"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"oakenlatch/service/store"
)

// PlainKeyFile is where earlier releases kept the key that signs the record: a file
// of the data folder, as it was (PKCS #8, PEM).
const PlainKeyFile = "ledger.key"

// signing is the name that the key is sealed under. Only who has the key file, too,
// can sign: who can write to the database alone cannot rewrite the past unseen.
const signing = "ledger"

// SigningKey gives the key that signs checkpoints of the record, made on first use.
// One that an earlier release left plain in the data folder is sealed, and its file
// taken away once that is on disk.
func (s *Sealer) SigningKey(ctx context.Context, st *store.Store, dir string) (ed25519.PrivateKey, error) {
	plain, err := plainKey(filepath.Join(dir, PlainKeyFile))
	if err != nil {
		return nil, err
	}
	if _, err := st.Sealed(ctx, signing); plain != nil && errors.Is(err, store.ErrNotFound) {
		if err := st.Write(ctx, func(tx *store.Tx) error {
			return tx.SetSealed(signing, s.Seal(plain.Seed(), Purpose("sealed", signing)))
		}); err != nil {
			return nil, err
		}
	}
	seed, err := s.Kept(ctx, st, signing)
	if err != nil {
		return nil, fmt.Errorf("the key that signs the record: %w", err)
	}
	if len(seed) != ed25519.SeedSize {
		return nil, fmt.Errorf("the key that signs the record has %d bytes, not %d", len(seed), ed25519.SeedSize)
	}
	key := ed25519.NewKeyFromSeed(seed)
	if plain.Equal(key) {
		err = os.Remove(filepath.Join(dir, PlainKeyFile))
	}
	return key, err
}

// plainKey reads a key as earlier releases kept it; nil where there is none.
func plainKey(file string) (ed25519.PrivateKey, error) {
	text, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("key file %s: %w", file, err)
	}
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, fmt.Errorf("key file %s holds no PEM; restore it from where it was copied, or take it away: a new key is made, and the record says so", file)
	}
	parsed, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	key, ok := parsed.(ed25519.PrivateKey)
	if err == nil && !ok {
		err = fmt.Errorf("it is a %T", parsed)
	}
	if err != nil {
		return nil, fmt.Errorf("key file %s holds no Ed25519 key (%w); restore it from where it was copied, or take it away: a new key is made, and the record says so", file, err)
	}
	return key, nil
}
