// Package ledger chains audit entries, so that none can be altered or taken
// out unseen: each entry's hash covers its content and the hash before it.
package ledger

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"time"
)

// Entry is one thing that happened. What was added to it later is left out of
// the hash where it is empty: entries of earlier releases keep theirs.
type Entry struct {
	Seq     int64     `json:"seq"`
	At      time.Time `json:"at"`
	Actor   string    `json:"actor"`            // the account, or "service"
	Action  string    `json:"action"`           // e.g. change.commit
	Device  string    `json:"device,omitempty"` // name
	Change  int64     `json:"change,omitempty"` // number
	Ticket  string    `json:"ticket,omitempty"` // of the change, as it was then
	Path    string    `json:"path,omitempty"`   // RFC 8040
	Before  string    `json:"before,omitempty"`
	After   string    `json:"after,omitempty"`
	Note    string    `json:"note,omitempty"`
	Outcome string    `json:"outcome,omitempty"` // refused or failed; done if left out
	Way     string    `json:"way,omitempty"`     // how the person came in: console, token or sign-in
	Address string    `json:"address,omitempty"` // from where
	Session string    `json:"session,omitempty"` // which sign-in: the first digits of its token's digest
	Prev    string    `json:"prev"`              // hash of the entry before, "" for the first
	Hash    string    `json:"hash"`
}

// The outcomes beside done.
const (
	Refused = "refused"
	Failed  = "failed"
)

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
