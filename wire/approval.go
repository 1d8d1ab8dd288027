package wire

import "time"

// ApprovalRule says what is not committed without approval by others than
// those who worked on it.
type ApprovalRule struct {
	Number    int64     `json:"number"`
	Scope     string    `json:"scope,omitempty"` // site=NAME, role=, tag=, device=; left out: all devices
	Path      string    `json:"path,omitempty"`  // where the change touches it or below
	Needed    int       `json:"needed"`          // persons
	Emergency bool      `json:"emergency"`       // a commit without them is possible, for a reason
	Note      string    `json:"note,omitempty"`
	Actor     string    `json:"actor"`
	At        time.Time `json:"at"`
	Idle      string    `json:"idle,omitempty"` // why it falls on nothing now
}

// NewRule makes one.
type NewRule struct {
	Scope     string `json:"scope,omitempty"`
	Path      string `json:"path,omitempty"`
	Needed    int    `json:"needed"`
	Emergency bool   `json:"emergency,omitempty"`
	Note      string `json:"note,omitempty"`
}

// Approval is how a change stands that others have to agree to.
type Approval struct {
	Needed    int            `json:"needed"`
	Missing   int            `json:"missing"`
	Rules     []ApprovalRule `json:"rules"`
	Have      []Agreement    `json:"have"`
	Fallen    []Agreement    `json:"fallen,omitempty"` // to what it was before, or by somebody who worked on it since
	AskedBy   string         `json:"askedBy,omitempty"`
	AskedAt   time.Time      `json:"askedAt,omitzero"`
	AskedNote string         `json:"askedNote,omitempty"`
	Emergency bool           `json:"emergency"` // a commit without them is possible, for a reason
}

// Agreement is one person's, to a preview.
type Agreement struct {
	Actor  string    `json:"actor"`
	Digest string    `json:"digest"`
	Note   string    `json:"note,omitempty"`
	At     time.Time `json:"at"`
}

// Approve agrees to a change as a preview showed it.
type Approve struct {
	Digest string `json:"digest"`
	Note   string `json:"note,omitempty"`
}

// Emergency is a commit without the approval that it needed.
type Emergency struct {
	Number     int64     `json:"number"`
	Change     int64     `json:"change"`
	Title      string    `json:"title"`
	Actor      string    `json:"actor"`
	Reason     string    `json:"reason"`
	Digest     string    `json:"digest"`
	At         time.Time `json:"at"`
	ReviewedBy string    `json:"reviewedBy,omitempty"`
	ReviewedAt time.Time `json:"reviewedAt,omitzero"`
	Review     string    `json:"review,omitempty"`
}

// Proposal is an act of administration that waits until others agree, where a rule asks for that.
type Proposal struct {
	Number  int64     `json:"number"`
	Says    string    `json:"says"`
	Actor   string    `json:"actor"`
	At      time.Time `json:"at"`
	Agreed  []string  `json:"agreed"`
	Missing int       `json:"missing"` // persons
}

// Waits is an answer of something that was proposed and not done.
type Waits struct {
	Proposal *Proposal `json:"proposal,omitempty"`
}

// Agreed is what an approval came to.
type Agreed struct {
	Done    bool `json:"done"`
	Missing int  `json:"missing"`
}
