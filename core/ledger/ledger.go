// Package ledger keeps audit entries so that none can be altered or taken out unseen: each
// entry's hash covers its content and the hash before it, and all of them are the leaves of a
// Merkle tree (RFC 6962) whose signed roots anybody can hold against it.
package ledger

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"time"

	"golang.org/x/mod/sumdb/tlog"
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

// hash covers every field but Hash itself.
func hash(e Entry) string {
	sum := sha256.Sum256(Leaf(e))
	return hex.EncodeToString(sum[:])
}

// Leaf is the text of an entry that its hash covers, and that is its leaf of the tree: every
// field but Hash itself, as JSON: unambiguous, and anyone can compute it with common tools.
func Leaf(e Entry) []byte {
	e.Hash = ""
	body, err := json.Marshal(e)
	if err != nil {
		return nil // strings and times always marshal
	}
	return body
}

// Sums are what an entry's content comes to.
type Sums struct {
	Hash string    // that it must have, of the chain
	Leaf tlog.Hash // of the tree
}

// Sum works them out together.
func Sum(e Entry) Sums {
	body := Leaf(e)
	sum := sha256.Sum256(body)
	return Sums{hex.EncodeToString(sum[:]), tlog.RecordHash(body)}
}
