// Package ledger chains audit entries, so that none can be altered or taken
// out unseen: each entry's hash covers its content and the hash before it.
package ledger

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"
)

// Entry is one thing that happened.
type Entry struct {
	Seq    int64     `json:"seq"`
	At     time.Time `json:"at"`
	Actor  string    `json:"actor"`            // the account, or "service"
	Action string    `json:"action"`           // e.g. change.commit
	Device string    `json:"device,omitempty"` // name
	Change int64     `json:"change,omitempty"` // number
	Path   string    `json:"path,omitempty"`   // RFC 8040
	Before string    `json:"before,omitempty"`
	After  string    `json:"after,omitempty"`
	Note   string    `json:"note,omitempty"`
	Prev   string    `json:"prev"` // hash of the entry before, "" for the first
	Hash   string    `json:"hash"`
}

// Seal gives the entry with its place in the chain: behind prev.
func Seal(e Entry, prev string) Entry {
	e.At = e.At.UTC().Truncate(time.Millisecond)
	e.Prev = prev
	e.Hash = hash(e)
	return e
}

// hash covers every field but Hash itself, as JSON: unambiguous, and anyone
// can compute it with common tools.
func hash(e Entry) string {
	e.Hash = ""
	body, err := json.Marshal(e)
	if err != nil {
		return "" // strings and times always marshal
	}
	sum := sha256.Sum256(body)
	return hex.EncodeToString(sum[:])
}

// BrokenError says where a chain does not hold.
type BrokenError struct {
	Seq int64
	Msg string
}

func (e *BrokenError) Error() string { return fmt.Sprintf("ledger entry %d: %s", e.Seq, e.Msg) }

// Verifier checks a chain entry by entry.
type Verifier struct {
	last Entry
	any  bool
}

// Next checks the next entry.
func (v *Verifier) Next(e Entry) error {
	switch {
	case e.Hash != hash(e):
		return &BrokenError{e.Seq, "its content does not match its hash: it was altered"}
	case v.any && e.Prev != v.last.Hash:
		return &BrokenError{e.Seq, fmt.Sprintf("does not follow entry %d: entries between them were altered or taken out", v.last.Seq)}
	case v.any && e.Seq != v.last.Seq+1:
		return &BrokenError{e.Seq, fmt.Sprintf("the entry after %d is missing", v.last.Seq)}
	}
	v.last, v.any = e, true
	return nil
}
