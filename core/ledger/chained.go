package ledger

import (
	"bytes"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"time"
)

// Chained is a checkpoint as releases before the tree signed it: the entries up to Seq end in
// that hash of the chain. Those that somebody keeps still count.
type Chained struct {
	Format    string    `json:"format"`
	Version   int       `json:"version"`
	Seq       int64     `json:"seq"`
	At        time.Time `json:"at"` // when it was signed
	Hash      string    `json:"hash"`
	Key       string    `json:"key"`       // Ed25519, RFC 8032; base64
	Signature string    `json:"signature"` // of the text that Text gives; base64
}

const (
	chainedFormat  = "oaken-latch-checkpoint"
	chainedVersion = 1
)

// Text is what is signed: four lines.
func (c Chained) Text() []byte {
	return fmt.Appendf(
		nil, "%s %d\n%d\n%s\n%s\n", chainedFormat, chainedVersion, c.Seq, c.At.UTC().Format(time.RFC3339), c.Hash,
	)
}

// KeyText writes a public key as those checkpoints do.
func KeyText(key ed25519.PublicKey) string { return base64.StdEncoding.EncodeToString(key) }

var errCheckpoint = errors.New("it is no checkpoint of a ledger")

// ParseChained reads one and checks that its own key signed it.
// Whose key that is, is for the caller to compare.
func ParseChained(text []byte) (Chained, error) {
	var c Chained
	if len(text) > 1<<16 || json.Unmarshal(bytes.TrimSpace(text), &c) != nil || c.Format != chainedFormat {
		return c, errCheckpoint
	}
	if c.Version != chainedVersion {
		return c, fmt.Errorf("its version is %d, and %d is known", c.Version, chainedVersion)
	}
	return c, c.Check()
}

// Check tells whether its own key signed it.
func (c Chained) Check() error {
	key, kerr := base64.StdEncoding.DecodeString(c.Key)
	sig, serr := base64.StdEncoding.DecodeString(c.Signature)
	if kerr != nil || serr != nil || len(key) != ed25519.PublicKeySize || c.Seq < 1 {
		return errCheckpoint
	}
	if !ed25519.Verify(key, c.Text(), sig) {
		return fmt.Errorf("the checkpoint at entry %d was altered: its signature does not fit", c.Seq)
	}
	return nil
}
