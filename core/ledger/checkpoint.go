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

// Checkpoint is a signed word of what the ledger was: its entries up to Seq end
// in that hash. Whoever keeps one elsewhere can tell later whether anything
// before it was rewritten, even by someone who sealed the whole chain anew.
type Checkpoint struct {
	Format    string    `json:"format"`
	Version   int       `json:"version"`
	Seq       int64     `json:"seq"`
	At        time.Time `json:"at"` // when it was signed
	Hash      string    `json:"hash"`
	Key       string    `json:"key"`       // Ed25519, RFC 8032; base64
	Signature string    `json:"signature"` // of the text that Text gives; base64
}

const (
	checkpointFormat  = "oaken-latch-checkpoint"
	checkpointVersion = 1
)

// Text is what is signed: four lines.
func (c Checkpoint) Text() []byte {
	return fmt.Appendf(nil, "%s %d\n%d\n%s\n%s\n", checkpointFormat, checkpointVersion, c.Seq, c.At.UTC().Format(time.RFC3339), c.Hash)
}

// Sign makes a checkpoint of a ledger that ends with an entry.
func Sign(key ed25519.PrivateKey, last Entry, at time.Time) Checkpoint {
	c := Checkpoint{Format: checkpointFormat, Version: checkpointVersion, Seq: last.Seq, At: at.UTC().Truncate(time.Second), Hash: last.Hash}
	public, _ := key.Public().(ed25519.PublicKey)
	c.Key = KeyText(public)
	c.Signature = base64.StdEncoding.EncodeToString(ed25519.Sign(key, c.Text()))
	return c
}

// KeyText writes a public key as a checkpoint does.
func KeyText(key ed25519.PublicKey) string { return base64.StdEncoding.EncodeToString(key) }

var errCheckpoint = errors.New("it is no checkpoint of a ledger")

// ParseCheckpoint reads a checkpoint and checks that its own key signed it.
// Whose key that is, is for the caller to compare.
func ParseCheckpoint(text []byte) (Checkpoint, error) {
	var c Checkpoint
	if len(text) > 1<<16 || json.Unmarshal(bytes.TrimSpace(text), &c) != nil || c.Format != checkpointFormat {
		return c, errCheckpoint
	}
	if c.Version != checkpointVersion {
		return c, fmt.Errorf("its version is %d, and %d is known", c.Version, checkpointVersion)
	}
	return c, c.Check()
}

// Check tells whether its own key signed a checkpoint.
func (c Checkpoint) Check() error {
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
