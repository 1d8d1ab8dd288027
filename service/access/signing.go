package access

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"oakenlatch/service/audit"
	"oakenlatch/service/store"
)

// PlainKeyFile is where earlier releases kept the key that signs the record: a file
// of the data folder, as it was (PKCS #8, PEM).
const PlainKeyFile = "ledger.key"

// signing is the name that the key is sealed under. Only who has the key file, too,
// can sign: who can write to the database alone cannot rewrite the past unseen.
const signing = "ledger"

// ErrNoSigningKey is given where the key that signs the record is gone from records that have
// entries: another one is not made in silence.
var ErrNoSigningKey = errors.New(
	"the key that signs the record is missing from the records: somebody took it out, or they are not whole. Restore " +
		"them from a backup; or, if you know why, go on with another key: oaken-latchd accept-key",
)

// SigningKey gives the key that signs checkpoints of the record, made with the first of its entries.
// One that an earlier release left plain in the data folder is sealed, and its file
// taken away once that is on disk.
func (s *Sealer) SigningKey(ctx context.Context, st *store.Store, dir string) (ed25519.PrivateKey, error) {
	plain, err := plainKey(filepath.Join(dir, PlainKeyFile))
	if err != nil {
		return nil, err
	}
	if _, err := st.Sealed(ctx, signing); errors.Is(err, store.ErrNotFound) {
		if plain == nil {
			if n, err := st.LedgerLength(ctx); err != nil || n > 0 {
				return nil, cmp.Or(err, ErrNoSigningKey)
			}
		} else if err := st.Write(ctx, func(tx *store.Tx) error {
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

// AcceptKey has another key sign the record from here on: somebody says so, and why.
func (s *Sealer) AcceptKey(ctx context.Context, log *audit.Log, why string) error {
	entries, err := log.KeyEntries(ctx)
	if err != nil {
		return err
	}
	key := ed25519.NewKeyFromSeed(newKey())
	return log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.SetSealed(signing, s.Seal(key.Seed(), Purpose("sealed", signing))); err != nil {
			return err
		}
		return tx.AcceptKey(entries, key, why)
	})
}

// ForgetPlainKey takes a key away that an earlier release left plain.
func ForgetPlainKey(dir string) error {
	if err := os.Remove(filepath.Join(dir, PlainKeyFile)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

// SignedWith gives the key that signs checkpoints of the record, and changes nothing.
func (s *Sealer) SignedWith(ctx context.Context, st *store.Store) (ed25519.PrivateKey, error) {
	sealed, err := st.Sealed(ctx, signing)
	if errors.Is(err, store.ErrNotFound) {
		return nil, ErrNoSigningKey
	}
	if err != nil {
		return nil, err
	}
	seed, err := s.Open(sealed, Purpose("sealed", signing))
	if err == nil && len(seed) != ed25519.SeedSize {
		err = fmt.Errorf("it has %d bytes, not %d", len(seed), ed25519.SeedSize)
	}
	if err != nil {
		return nil, fmt.Errorf("the key that signs the record: %w", err)
	}
	return ed25519.NewKeyFromSeed(seed), nil
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
		return nil, fmt.Errorf(
			"key file %s holds no PEM; restore it from where it was copied, or take it away and go on with another "+
				"key: oaken-latchd accept-key",
			file,
		)
	}
	parsed, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	key, ok := parsed.(ed25519.PrivateKey)
	if err == nil && !ok {
		err = fmt.Errorf("it is a %T", parsed)
	}
	if err != nil {
		return nil, fmt.Errorf(
			"key file %s holds no Ed25519 key (%w); restore it from where it was copied, or take it away and go on "+
				"with another key: oaken-latchd accept-key",
			file, err,
		)
	}
	return key, nil
}
