package wire

import (
	"time"

	"oakenlatch/core/diff"
	"oakenlatch/core/guard"
	"oakenlatch/core/ledger"
)

// CommitRecord is a commit as it is on record: who had a hand in it, how long
// it took, what it came to.
type CommitRecord struct {
	Number    int64         `json:"number"`
	Change    int64         `json:"change"`
	Title     string        `json:"title"`
	Ticket    string        `json:"ticket,omitempty"`
	Author    string        `json:"author"` // of the change
	Staged    []string      `json:"staged"` // who staged what it committed
	Committed string        `json:"committed"`
	Confirmed string        `json:"confirmed,omitempty"` // by whose word it was kept
	Started   time.Time     `json:"started"`
	Ended     time.Time     `json:"ended,omitzero"`
	Seconds   float64       `json:"seconds,omitempty"` // until it was decided
	Hold      int64         `json:"holdSeconds"`
	Outcome   guard.Outcome `json:"outcome,omitempty"` // left out while it is not decided
	Reason    string        `json:"reason,omitempty"`
	Newest    bool          `json:"newest"` // of its change
	Devices   []string      `json:"devices"`
	Notes     []Note        `json:"notes,omitempty"` // of its change

	// With one of them.
	Parts []CommitPart   `json:"parts,omitempty"`
	Steps []ledger.Entry `json:"steps,omitempty"`
	Edits []Edit         `json:"edits,omitempty"` // of its change, who staged what
}

// CommitPart is what a commit made of one device.
type CommitPart struct {
	Device string      `json:"device"`
	Count  int         `json:"count"`
	Lines  []diff.Line `json:"lines"`
	Items  []diff.Item `json:"items"`
}

// CommitRecords is a page of them. Next is the cursor of the page after it, 0
// where there is none.
type CommitRecords struct {
	Commits []CommitRecord `json:"commits"`
	Next    int64          `json:"next,omitempty"`
}
