// Package wire is the documents of the API (/api/v1), as the service writes
// and the client reads them. Times are UTC, RFC 3339.
package wire

import (
	"time"

	"oakenlatch/core/diff"
	"oakenlatch/core/ledger"
)

// Problem is an error (RFC 9457). Type is stable; Next says what to do.
type Problem struct {
	Type   string `json:"type"`
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail"`
	Next   string `json:"next,omitempty"`
	Device string `json:"device,omitempty"`
}

// ProblemPrefix begins every problem type.
const ProblemPrefix = "urn:oaken-latch:problem:"

func (p *Problem) Error() string {
	if p.Next != "" {
		return p.Detail + "; " + p.Next
	}
	return p.Detail
}

// NewDevice adds a device; one of Password and PrivateKey is given.
type NewDevice struct {
	Name       string `json:"name"`
	Address    string `json:"address"`
	Account    string `json:"account"`
	Password   string `json:"password,omitempty"`
	PrivateKey string `json:"privateKey,omitempty"`
	Site       string `json:"site,omitempty"`
	Role       string `json:"role,omitempty"`
	SeenAs     string `json:"seenAs,omitempty"` // see Settings
}

// Device is a device and what is known of it.
type Device struct {
	Name    string   `json:"name"`
	Address string   `json:"address"`
	Account string   `json:"account"`
	Auth    string   `json:"auth"`
	Site    string   `json:"site,omitempty"`
	Role    string   `json:"role,omitempty"`
	Tags    []string `json:"tags,omitempty"`
	Trusted bool     `json:"trusted"` // a person accepted its host key
	Guard
	Seen     time.Time `json:"seen,omitzero"`
	Trouble  string    `json:"trouble,omitempty"`
	Model    string    `json:"model,omitempty"` // as it tells
	Serial   string    `json:"serial,omitempty"`
	Unsaved  bool      `json:"unsaved"`
	Save     bool      `json:"save"` // what is kept is saved to its startup
	Clock    *Clock    `json:"clock,omitempty"`
	Revision int64     `json:"revision,omitempty"`
	Modules  int       `json:"modules,omitempty"`
	Unread   []string  `json:"unread,omitempty"` // what of its modules is not understood
	HeldBy   int64     `json:"heldBy,omitempty"` // the change whose commit is under way on it

	// How its management is seen from the network, where a person told; see Settings.
	SeenAs   string   `json:"seenAs,omitempty"`
	SeenFrom string   `json:"seenFrom,omitempty"`
	Via      []string `json:"via,omitempty"`

	Reserved *Reservation `json:"reserved,omitempty"`
}

// HostKey is a key as a device shows it.
type HostKey struct {
	Device      string `json:"device"`
	Type        string `json:"type"`
	Fingerprint string `json:"fingerprint"`
	Accepted    string `json:"accepted,omitempty"` // the one accepted so far
}

// Trust accepts the key of that fingerprint.
type Trust struct {
	Fingerprint string `json:"fingerprint"`
}

// Config is a device's configuration, or a part of it.
type Config struct {
	Device   string    `json:"device"`
	From     string    `json:"from"`
	Path     string    `json:"path"`
	Revision int64     `json:"revision,omitempty"`
	Read     time.Time `json:"read"`
	Outline  string    `json:"outline"`
	XML      string    `json:"xml"`
}

// Difference is two of a device's configurations compared.
type Difference struct {
	Device string      `json:"device"`
	From   string      `json:"from"`
	To     string      `json:"to"`
	Count  int         `json:"count"`
	Lines  []diff.Line `json:"lines"`
	Items  []diff.Item `json:"items"`
}

// Modules is the YANG modules a device handed out.
type Modules struct {
	Device     string              `json:"device"`
	Modules    []Module            `json:"modules"`
	Features   map[string][]string `json:"features"`             // those the device has, by module
	ImportOnly []string            `json:"importOnly,omitempty"` // there for others to import
	Missing    []string            `json:"missing,omitempty"`    // named by the device, but not handed out
}

// Module is the text of one module.
type Module struct {
	Name     string `json:"name"`
	Revision string `json:"revision,omitempty"`
	Text     string `json:"text"`
}

// Audit is a page of the ledger. Next is the cursor of the page after it, 0
// where there is none.
type Audit struct {
	Entries []ledger.Entry `json:"entries"`
	Next    int64          `json:"next,omitempty"`
}

// Entry is an entry with its before and after as a difference.
type Entry struct {
	ledger.Entry
	Lines []diff.Line `json:"lines"`
}

// Pace is how much happened when, and by whom: of the newest that a line
// finds, or all of it.
type Pace struct {
	From        time.Time  `json:"from,omitzero"`
	To          time.Time  `json:"to,omitzero"`
	StepSeconds int64      `json:"stepSeconds"`
	Steps       []PaceStep `json:"steps"`
	Entries     int        `json:"entries"`
	Whole       bool       `json:"whole"` // all that the line finds
}

// PaceStep is a stretch of time: how many entries by each person.
type PaceStep struct {
	At     time.Time      `json:"at"`
	Counts map[string]int `json:"counts"`
}

// Verified is what a check of the whole ledger came to.
type Verified struct {
	Entries   int64            `json:"entries"`
	Last      int64            `json:"last"` // the last entry's number
	Intact    bool             `json:"intact"`
	Wrong     int64            `json:"wrong,omitempty"`
	Findings  []ledger.Finding `json:"findings"`            // at most a hundred of what is wrong
	Notes     []string         `json:"notes,omitempty"`     // what limits what was checked
	ClockBack []int64          `json:"clockBack,omitempty"` // entries before which the service's clock had gone back
	Held      int64            `json:"held,omitempty"`      // the newest entry with a checkpoint that holds
	HeldAt    time.Time        `json:"heldAt,omitzero"`
	Key       string           `json:"key,omitempty"` // that signed it
}

// Search is a line to search the ledger by, kept under a name.
type Search struct {
	Name   string    `json:"name"`
	Owner  string    `json:"owner"`
	Line   string    `json:"line"`
	Shared bool      `json:"shared"`
	At     time.Time `json:"at"`
}

// NewSearch keeps one.
type NewSearch struct {
	Line   string `json:"line"`
	Shared bool   `json:"shared"`
}

// SearchHints is how a line may go on: each in place of what stands from From
// (bytes) on.
type SearchHints struct {
	From  int          `json:"from"`
	Hints []SearchHint `json:"hints"`
}

// SearchHint is one way.
type SearchHint struct {
	Value string `json:"value"`
	Says  string `json:"says,omitempty"`
}

// Attention is what needs a decision now.
type Attention struct {
	Records string `json:"records,omitempty"` // what is wrong with the disk of the records: nothing new can be begun

	Holding []Change  `json:"holding"`
	Unsaved []Device  `json:"unsaved"`
	Trouble []Device  `json:"trouble"`
	Outside []Outside `json:"outside"` // to be decided, newest first
	Drafts  []Change  `json:"drafts"`  // one's own
	Due     []Due     `json:"due"`     // on the schedule

	Reserved []Reservation `json:"reserved"` // all in force

	Approve     []Change    `json:"approve"`     // that one is asked to agree to
	Emergencies []Emergency `json:"emergencies"` // committed without the agreement they needed, that nobody looked at since

	Archives []Archive  `json:"archives"` // that take no copies, are stale, or hold damaged ones
	Uncopied []Standing `json:"uncopied"` // devices whose newest revision has no copy for a while
	Untold   []Receiver `json:"untold"`   // receivers that do not take what they are told
}
