// Package ledger keeps audit entries so that none can be altered or taken out unseen: each
// entry's hash covers its content and the hash before it, and all of them are the leaves of a
// Merkle tree (RFC 6962) whose signed roots anybody can hold against it.
package ledger

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"strings"
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
	Outcome Outcome   `json:"outcome,omitempty"` // done if left out
	Way     string    `json:"way,omitempty"`     // how the person came in: console, token or sign-in
	Address string    `json:"address,omitempty"` // from where
	Session string    `json:"session,omitempty"` // which sign-in: the first digits of its token's digest
	Prev    string    `json:"prev"`              // hash of the entry before, "" for the first
	Hash    string    `json:"hash"`
}

// Outcome is what came of what an entry tells.
type Outcome string

// The outcomes.
const (
	Done    Outcome = "" // it was done
	Refused Outcome = "refused"
	Failed  Outcome = "failed"
)

// String is the outcome in a word.
func (o Outcome) String() string {
	if o == Done {
		return "done"
	}
	return string(o)
}

// Seal gives the entry with its place in the chain: behind prev. Bytes in its texts that are no UTF-8 are replaced
// (U+FFFD), as JSON cannot hold them: what is exported must have the hash of what is kept.
func Seal(e Entry, prev string) Entry {
	e.At = e.At.UTC().Truncate(time.Millisecond)
	for _, text := range []*string{
		&e.Actor, &e.Action, &e.Device, &e.Ticket, &e.Path, &e.Before, &e.After, &e.Note, &e.Way, &e.Address,
		&e.Session,
	} {
		*text = strings.ToValidUTF8(*text, replacement)
	}
	e.Outcome = Outcome(strings.ToValidUTF8(string(e.Outcome), replacement))
	e.Prev, e.Hash = prev, ""
	e.Hash = digest(Leaf(e))
	return e
}

// replacement stands for what is no character.
const replacement = "\ufffd"

func digest(leaf []byte) string {
	sum := sha256.Sum256(leaf)
	return hex.EncodeToString(sum[:])
}

// Leaf is the text of an entry that its hash covers, and that is its leaf of the tree: every
// field but Hash itself, as JSON: unambiguous, and anyone can compute it with common tools.
//
// Earlier releases sealed bytes that are no UTF-8 as they were, and JSON had them as the escape \ufffd. An entry
// whose hash covers that form has it.
func Leaf(e Entry) []byte {
	sealed := e.Hash
	e.Hash = ""
	body, err := json.Marshal(e)
	if err != nil {
		return nil // strings and times always marshal
	}
	if sealed != "" && bytes.Contains(body, []byte(replacement)) {
		escaped := bytes.ReplaceAll(body, []byte(replacement), []byte(`\ufffd`))
		if digest(escaped) == sealed {
			return escaped
		}
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
	return Sums{digest(body), tlog.RecordHash(body)}
}
