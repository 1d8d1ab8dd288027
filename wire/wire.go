// Package wire is the documents of the API (/api/v1), as the service writes
// and the client reads them. Times are UTC, RFC 3339.
package wire

import (
	"time"

	"oakenlatch/core/advice"
	"oakenlatch/core/diff"
	"oakenlatch/core/ledger"
)

// Problem is an error (RFC 9457). Type is stable; Next says what to do.
type Problem struct {
	Type   string       `json:"type"`
	Title  string       `json:"title"`
	Status int          `json:"status"`
	Detail string       `json:"detail"`
	Next   advice.Steps `json:"next,omitempty"`
	Device string       `json:"device,omitempty"`

	Second *Second `json:"second,omitempty"` // what is to be shown beside the password, or again
}

// ProblemPrefix begins every problem type.
const ProblemPrefix = "urn:oaken-latch:problem:"

func (p *Problem) Error() string {
	if len(p.Next) > 0 {
		return p.Detail + "; " + p.Next.String()
	}
	return p.Detail
}

// NewDevice adds a device; one of Password and PrivateKey is given.
type NewDevice struct {
	Name       string `json:"name"`
	Address    string `json:"address"`
	Account    string `json:"account"`
	Password   string `json:"password,omitempty" raw:"true"`
	PrivateKey string `json:"privateKey,omitempty" raw:"true"`
	Site       string `json:"site,omitempty"`
	Role       string `json:"role,omitempty"`
	SeenAs     string `json:"seenAs,omitempty"` // see Settings
}

// Device is a device and what is known of it.
type Device struct {
	Waits // what was asked of it and is to be agreed to first

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
	Save     bool      `json:"save"` // confirmed changes are saved to its startup
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

// Moved tells somebody who may not read the ledger that something has moved that they may see.
type Moved struct {
	Seq    int64     `json:"seq"`
	At     time.Time `json:"at"`
	Device string    `json:"device,omitempty"`
	Change int64     `json:"change,omitempty"`
	About  string    `json:"about"` // what kind of thing happened: edit, commit, config and so on
}

// Verified is what a check of the whole ledger came to.
type Verified struct {
	Answer    string           `json:"answer" jsonschema:"enum=vouched,enum=consistent,enum=altered"`
	Entries   int64            `json:"entries"`
	Last      int64            `json:"last"` // the last entry's number
	Intact    bool             `json:"intact"`
	Wrong     int64            `json:"wrong,omitempty"`
	Findings  []ledger.Finding `json:"findings"`            // at most a hundred of what is wrong
	Notes     []string         `json:"notes,omitempty"`     // what limits what was checked
	ClockBack []int64          `json:"clockBack,omitempty"` // entries before which the service's clock had been set back
	Held      int64            `json:"held,omitempty"`      // the newest entry with a checkpoint that holds
	HeldAt    time.Time        `json:"heldAt,omitzero"`
	Key       string           `json:"key,omitempty"` // that signed it
	// the newest entry up to which somebody outside vouches for the record
	Vouched   int64     `json:"vouched,omitempty"`
	VouchedAt time.Time `json:"vouchedAt,omitzero"`
	VouchedBy []string  `json:"vouchedBy,omitempty"`
	Witnesses []Witness `json:"witnesses,omitempty"` // who was asked
}

// The answers of a check of the whole ledger.
const (
	Vouched    = "vouched"    // it is what somebody outside saw
	Consistent = "consistent" // in itself; nobody outside vouches for it
	Altered    = "altered"
)

// VerifiedOf tells what a check came to.
func VerifiedOf(v *ledger.Verifier) Verified {
	held, outside := v.Held(), v.Outside()
	out := Verified{
		Entries: v.Entries, Intact: v.Wrong == 0, Wrong: v.Wrong, Findings: append([]ledger.Finding{}, v.Findings...),
		ClockBack: v.Back, Notes: v.Notes, Last: v.Last().Seq, Held: held.Size, HeldAt: held.At, Key: held.By,
		Vouched: outside.Size, VouchedAt: outside.At, VouchedBy: outside.Whose,
	}
	switch {
	case v.Wrong > 0:
		out.Answer = Altered
	case outside.Size > 0:
		out.Answer = Vouched
	default:
		out.Answer = Consistent
	}
	return out
}

// Witness is who vouches for the record from outside.
type Witness struct {
	Name    string    `json:"name"`
	URL     string    `json:"url"`
	Entries int64     `json:"entries,omitempty"` // that it vouches for
	At      time.Time `json:"at,omitzero"`       // when it last did
	Trouble string    `json:"trouble,omitempty"` // why not for the newest
	Denies  bool      `json:"denies,omitempty"`  // it saw another record than this
}

// Against is a checkpoint that somebody kept elsewhere.
type Against struct {
	Checkpoint string `json:"checkpoint"` // as it was printed
}

// Checkpoint is a signed word of what the ledger is.
type Checkpoint struct {
	Checkpoint string    `json:"checkpoint"` // to be kept: a signed note (c2sp.org/tlog-checkpoint)
	Entries    int64     `json:"entries"`
	At         time.Time `json:"at"`
	Witnesses  []Witness `json:"witnesses"` // who signed it, too, or did not
}

// Proof is a file that shows something of the record to anybody.
type Proof struct {
	Proof   string `json:"proof"`
	Entries int64  `json:"entries"` // of the checkpoint in it
}

// RecordKey is a key that signs the record, or did.
type RecordKey struct {
	Key   string `json:"key"`
	Entry int64  `json:"entry"` // that names it
	Now   bool   `json:"now"`   // it signs now
	Leads bool   `json:"leads"` // it signs now, or signed in the next one that leads there
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

	Unsettled []Change   `json:"unsettled"` // under way when the backup was taken that the records come from
	LostHolds []LostHold `json:"lostHolds"` // on hold once, and the records know nothing of it
	Damaged   []string   `json:"damaged"`   // kept configurations that cannot be read, and what to do

	Holding   []Change    `json:"holding"`
	Unsaved   []Device    `json:"unsaved"`
	Trouble   []Device    `json:"trouble"`
	Outside   []Outside   `json:"outside"`   // to be decided, newest first
	Drafts    []Change    `json:"drafts"`    // one's own
	Scheduled []Scheduled `json:"scheduled"` // on the schedule

	Reserved []Reservation `json:"reserved"` // all in force

	Approve []Change `json:"approve"` // that one is asked to agree to
	// committed without the approval they needed, that nobody looked at since
	Emergencies []Emergency `json:"emergencies"`

	Archives []Archive  `json:"archives"` // that take no copies, are stale, or hold damaged ones
	Uncopied []Standing `json:"uncopied"` // devices whose newest revision has no copy for a while
	Untold   []Receiver `json:"untold"`   // receivers that do not take what they are told
	Denied   []Witness  `json:"denied"`   // witnesses that saw another record than this one

	Proposals []Proposal `json:"proposals"` // acts of administration that wait for others, for who administers
}
