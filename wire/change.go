package wire

import (
	"time"

	"oakenlatch/core/check"
	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/flow"
	"oakenlatch/core/lifecycle"
	"oakenlatch/core/lockout"
)

// NewChange opens a change, or renames one.
type NewChange struct {
	Title  string `json:"title"`
	Ticket string `json:"ticket,omitempty"`
}

// Change is a change and, once committed, how its commit stands.
type Change struct {
	Number    int64           `json:"number"`
	Title     string          `json:"title"`
	Ticket    string          `json:"ticket,omitempty"`
	Author    string          `json:"author"`
	Coworkers []string        `json:"coworkers,omitempty"` // who works on it beside the author
	State     lifecycle.State `json:"state"`
	Reason    string          `json:"reason,omitempty"`
	Opened    time.Time       `json:"opened"`
	Updated   time.Time       `json:"updated"`
	Devices   []string        `json:"devices"`
	Edits     int             `json:"edits"`
	Notes     []Note          `json:"notes,omitempty"`
	Commit    *Commit         `json:"commit,omitempty"`
	// Meanwhile is what somebody else changed on its devices while it was on hold.
	Meanwhile []Outside  `json:"meanwhile,omitempty"`
	Scheduled *Scheduled `json:"scheduled,omitempty"` // while it is on the schedule
}

// Note is what somebody wrote down about a change.
type Note struct {
	Actor string    `json:"actor"`
	At    time.Time `json:"at"`
	Text  string    `json:"text"`
}

// NewNote writes one down.
type NewNote struct {
	Text string `json:"text"`
}

// Share adds somebody to a change.
type Share struct {
	Account string `json:"account"`
}

// NewEdit stages an edit on one device or several.
type NewEdit struct {
	Device  string   `json:"device,omitempty"`
	Devices []string `json:"devices,omitempty"`
	Op      string   `json:"op" jsonschema:"enum=put,enum=delete,enum=move"`
	Path    string   `json:"path" raw:"true"`

	// Value is left out for what takes none. Of a move it is first, last, before
	// KEY or after KEY.
	Value *string `json:"value,omitempty" raw:"true"`

	// Several says what a value means where the device keeps several: add (one
	// more) or only (the only one).
	Several string `json:"several,omitempty" raw:"true"`
}

// NewLoad stages a piece of configuration on one device or several.
type NewLoad struct {
	Devices []string `json:"devices"`
	Mode    string   `json:"mode"`                      // merge, replace, replace-at or patch
	Path    string   `json:"path,omitempty" raw:"true"` // of replace-at; of a copy also of merge
	Text    string   `json:"text,omitempty" raw:"true"` // XML, JSON or outline, format detected automatically
	Name    string   `json:"name,omitempty"`            // where the text is from, for the record

	// Instead of a text: a copy of what is on a device, from running, startup,
	// candidate, rev:N or change:N.
	FromDevice string `json:"fromDevice,omitempty"`
	From       string `json:"from,omitempty"`
}

// Edit is a staged edit.
type Edit struct {
	ID     int64     `json:"id"`
	Device string    `json:"device"`
	Op     string    `json:"op"`
	Path   string    `json:"path"`
	Value  string    `json:"value,omitempty"`
	Mode   string    `json:"mode,omitempty"`
	Source string    `json:"source,omitempty"` // of a load
	Lines  int       `json:"lines"`            // how many nodes it touches
	Actor  string    `json:"actor"`
	At     time.Time `json:"at"`

	Superseded bool `json:"superseded,omitempty"` // later edits touched all its lines again
}

// Staged tells what an edit did to one part.
type Staged struct {
	Edit   Edit     `json:"edit"`
	Before string   `json:"before,omitempty"`
	After  string   `json:"after,omitempty"`
	Notes  []string `json:"notes,omitempty"`
	Tag    string   `json:"tag"` // of the part as it is now, for If-Match
}

// Loaded tells what a load did to one part. An edit numbered 0 was not staged:
// it changes nothing.
type Loaded struct {
	Device string       `json:"device"`
	Edit   Edit         `json:"edit"`
	Format string       `json:"format,omitempty"`
	Count  int          `json:"count"`
	Lines  []diff.Line  `json:"lines"` // the first of them
	Groups []diff.Group `json:"groups,omitempty"`
	Notes  []string     `json:"notes,omitempty"`
	Tag    string       `json:"tag"`
}

// NewText is a configuration to be read: XML, JSON or an outline, and as what it is wanted anew.
type NewText struct {
	Text string `json:"text" raw:"true"`
	As   string `json:"as,omitempty"` // outline, xml or json
}

// TextRead is what was read.
type TextRead struct {
	Format    codec.Format    `json:"format"` // it was read as
	Values    int             `json:"values"`
	Text      string          `json:"text"` // in the format that was asked for
	Findings  []check.Finding `json:"findings"`
	Unread    []string        `json:"unread"` // what no module describes
	Unchecked int             `json:"unchecked"`
	Reasons   []string        `json:"reasons,omitempty"` // why that is left to a device
}

// Part is a part of a change as it is staged so far, for being edited as text.
type Part struct {
	Device  string `json:"device"`
	Path    string `json:"path"`
	Base    int64  `json:"base"`
	Tag     string `json:"tag"` // for If-Match
	Outline string `json:"outline"`
}

// Preview is what a change would do.
type Preview struct {
	Change  Change        `json:"change"`
	Empty   bool          `json:"empty"`
	Ready   bool          `json:"ready"` // nothing found that must stop a commit
	Parts   []PartPreview `json:"parts"`
	Against string        `json:"against"` // "running", or "record" once it was committed

	// What it comes to, against running: one line, and what is wrong, what stops a commit first.
	Level   string    `json:"level,omitempty"` // nothing, not-ready, with-care or ready
	Verdict string    `json:"verdict,omitempty"`
	Trouble []Trouble `json:"trouble,omitempty"`
	Path    string    `json:"path,omitempty"` // the differences are only what lies there or below

	// Digest names what was shown: a commit that gives it commits that and
	// nothing else. Empty where only a part of the change was asked for.
	Digest string    `json:"digest,omitempty"`
	At     time.Time `json:"at,omitzero"`

	Expected []Expectation `json:"expected,omitempty"` // what traffic was expected to be permitted or denied
	Beside   []SideEffect  `json:"beside,omitempty"`   // what it does to other traffic, where something is expected

	Approval *Approval `json:"approval,omitempty"` // where others have to agree, or are asked to

	Steps           []string `json:"steps,omitempty"` // what a commit will do
	EstimateSeconds int64    `json:"estimateSeconds,omitempty"`
}

// Trouble is one thing that is wrong with a change.
type Trouble struct {
	Stops  bool   `json:"stops"`            // it cannot be committed because of that
	Device string `json:"device,omitempty"` // none: it is about the whole change
	Path   string `json:"path,omitempty"`
	Text   string `json:"text"`
}

// PartPreview is what a change would do on one device.
type PartPreview struct {
	Device    string          `json:"device"`
	Base      int64           `json:"base"`
	Tag       string          `json:"tag"` // of the part, for If-Match
	Edits     []Edit          `json:"edits"`
	Count     int             `json:"count"`
	Elsewhere int             `json:"elsewhere,omitempty"` // changes that lie elsewhere than at the path that was asked for
	Lines     []diff.Line     `json:"lines"`
	Items     []diff.Item     `json:"items"`
	Rendered  string          `json:"rendered,omitempty"` // in the form that was asked for
	Read      bool            `json:"read"`
	Trouble   string          `json:"trouble,omitempty"`
	Behind    bool            `json:"behind"`
	Moved     []diff.Line     `json:"moved,omitempty"`
	Since     []Revision      `json:"since,omitempty"` // what moved it, oldest first
	Conflicts []Conflict      `json:"conflicts,omitempty"`
	Decided   []Conflict      `json:"decided,omitempty"`
	Findings  []check.Finding `json:"findings,omitempty"`
	Unchecked int             `json:"unchecked"`
	Reasons   []string        `json:"reasons,omitempty"` // why they were left to the device
	Groups    []diff.Group    `json:"groups,omitempty"`  // of a large difference: like changes together
	Unsaved   bool            `json:"unsaved"`
	Reserved  *Reservation    `json:"reserved,omitempty"` // by somebody else
	HeldBy    int64           `json:"heldBy,omitempty"`   // the change whose commit is under way on it
	Forecasts []Forecast      `json:"forecasts,omitempty"`
	// what becomes of traffic, filter by filter and where they work
	Effects  []flow.Change `json:"effects,omitempty"`
	Helpless bool          `json:"helpless,omitempty"` // it would be cut off, with nobody left to revert it
	Tried    bool          `json:"tried,omitempty"`    // the device validated the result
	Said     string        `json:"said,omitempty"`     // what speaks against it, or why it could not be asked
	MovesTo  string        `json:"movesTo,omitempty"`
	Blocker  string        `json:"blocker,omitempty"` // why it cannot be committed as it is
	Guard
}

// Forecast is a lockout forecast: of the part's own device or of one behind it.
type Forecast struct {
	Device  string         `json:"device"`
	Answer  lockout.Answer `json:"answer"`
	Path    string         `json:"path,omitempty"`
	Because string         `json:"because"`
}

// Conflict is a place that the change and the device both changed.
type Conflict struct {
	Path   string    `json:"path"`
	Base   string    `json:"base"`
	Mine   string    `json:"mine"`
	Theirs string    `json:"theirs"`
	Why    string    `json:"why"`
	Keep   string    `json:"keep,omitempty"` // decided: mine or theirs
	Actor  string    `json:"actor,omitempty"`
	At     time.Time `json:"at,omitzero"`
}

// Decide keeps one side of a conflict.
type Decide struct {
	Device string `json:"device"`
	Path   string `json:"path" raw:"true"`
	Keep   string `json:"keep"` // mine or theirs
}

// Rebase puts parts on what their devices hold now; all of them if none is named.
type Rebase struct {
	Devices []string `json:"devices,omitempty"`
}

// Rebased tells what that came to for one part.
type Rebased struct {
	Device  string      `json:"device"`
	From    int64       `json:"from"`
	To      int64       `json:"to"`
	Moved   []diff.Line `json:"moved"`
	Dropped []Edit      `json:"dropped,omitempty"` // those that mean nothing any more
	Mended  bool        `json:"mended,omitempty"`  // an edit was added for what was decided
}

// Readdress says where a part moves its device's management to; empty takes
// that back.
type Readdress struct {
	Device  string `json:"device"`
	Address string `json:"address"`          // HOST:PORT that the service connects to
	SeenAs  string `json:"seenAs,omitempty"` // the same as packets have it, where that is another
}

// NewReservation keeps a device to oneself.
type NewReservation struct {
	Reason  string `json:"reason"`
	Seconds int64  `json:"seconds"`
}

// Reservation keeps a device to one person.
type Reservation struct {
	Device string    `json:"device"`
	Holder string    `json:"holder"`
	Reason string    `json:"reason"`
	Made   time.Time `json:"made"`
	Until  time.Time `json:"until"`
	Asks   []Note    `json:"asks,omitempty"` // what others asked its holder
}
