package wire

import (
	"time"

	"oakenlatch/core/diff"
	"oakenlatch/core/lifecycle"
)

// Revision is a numbered configuration of a device. Of running its source
// is first (seen for the first time), change, outside (nobody's change here),
// replaced (another box was put in its place) or rebuilt (from an archive); of
// startup it is first, saved or outside.
type Revision struct {
	Number int64           `json:"number"`
	At     time.Time       `json:"at"`
	Source lifecycle.Cause `json:"source"`
	Change int64           `json:"change,omitempty"`
	Title  string          `json:"title,omitempty"` // of the change
	Ticket string          `json:"ticket,omitempty"`
	Author string          `json:"author,omitempty"` // of the change
	Actor  string          `json:"actor,omitempty"`  // who committed it, or had it saved
	Note   string          `json:"note,omitempty"`   // what an archive told of it
	Digest string          `json:"digest"`
}

// Snapshot is a name for the state of devices at one moment.
type Snapshot struct {
	Number    int64          `json:"number"`
	Name      string         `json:"name"`
	Note      string         `json:"note,omitempty"`
	Actor     string         `json:"actor"`
	At        time.Time      `json:"at"`
	Change    int64          `json:"change,omitempty"` // before whose commit it was taken by itself
	Protected bool           `json:"protected,omitempty"`
	Retired   time.Time      `json:"retired,omitzero"`
	RetiredBy string         `json:"retiredBy,omitempty"`
	Devices   int            `json:"devices"`
	Unclean   bool           `json:"unclean"` // where its items are given: one of them is
	Items     []SnapshotItem `json:"items,omitempty"`
}

// SnapshotItem is one device of a snapshot.
type SnapshotItem struct {
	Device   string    `json:"device"`
	Revision int64     `json:"revision,omitempty"` // none where it was a commit's trial
	At       time.Time `json:"at"`
	Unclean  []string  `json:"unclean,omitempty"` // why the moment was not clean
}

// NewSnapshot takes a snapshot: of devices, of a site, or of all.
type NewSnapshot struct {
	Name    string   `json:"name"`
	Note    string   `json:"note,omitempty"`
	Devices []string `json:"devices,omitempty"`
	Site    string   `json:"site,omitempty"`
	All     bool     `json:"all,omitempty"`
}

// Relabel changes what a snapshot is called and how it stands; what is left out
// stays.
type Relabel struct {
	Name      *string `json:"name,omitempty"`
	Note      *string `json:"note,omitempty"`
	Protected *bool   `json:"protected,omitempty"`
	Retired   *bool   `json:"retired,omitempty"`
}

// Comparison is any two configurations compared.
type Comparison struct {
	A        string      `json:"a"`
	B        string      `json:"b"`
	Path     string      `json:"path,omitempty"`
	Count    int         `json:"count"`
	Lines    []diff.Line `json:"lines"`
	Items    []diff.Item `json:"items"`
	Rendered string      `json:"rendered,omitempty"`
}

// FleetComparison is many devices compared between two moments, told in sum.
type FleetComparison struct {
	From    string        `json:"from"`
	To      string        `json:"to"`
	Devices []DeviceMoved `json:"devices"` // those that differ, and those that cannot be compared
	Same    int           `json:"same"`
}

// DeviceMoved is one device in such a comparison.
type DeviceMoved struct {
	Device   string   `json:"device"`
	Site     string   `json:"site,omitempty"`
	Added    int      `json:"added"`
	Removed  int      `json:"removed"`
	Changed  int      `json:"changed"`
	Moved    int      `json:"moved"`
	First    string   `json:"first,omitempty"`   // path of the first difference
	Changes  []int64  `json:"changes,omitempty"` // that were kept between
	Outside  int      `json:"outside,omitempty"` // revisions between that nobody's change here made
	Trouble  string   `json:"trouble,omitempty"` // why it cannot be compared
	Open     []string `json:"open,omitempty"`    // the two places, as compare takes them
	Revision int64    `json:"revision,omitempty"`
}

// NewRestore brings configurations back, whole or in parts, in a change.
type NewRestore struct {
	Change  int64    `json:"change,omitempty"` // 0 opens one
	Title   string   `json:"title,omitempty"`
	Ticket  string   `json:"ticket,omitempty"`
	From    string   `json:"from"` // rev:N, snapshot:NAME, at:TIME, startup, startup:N, before:N
	Devices []string `json:"devices,omitempty"`
	Paths   []string `json:"paths,omitempty" raw:"true"`
}

// NewUndo takes back one kept change, or all that a person had kept in a
// period.
type NewUndo struct {
	Change  int64     `json:"change,omitempty"`
	By      string    `json:"by,omitempty"`
	Since   time.Time `json:"since,omitzero"`
	Until   time.Time `json:"until,omitzero"`
	Devices []string  `json:"devices,omitempty"`
	Paths   []string  `json:"paths,omitempty" raw:"true"`
	Title   string    `json:"title,omitempty"`
	Ticket  string    `json:"ticket,omitempty"`
}

// BroughtBack is what a restore or an undo came to: a change to be previewed
// and committed, 0 where there is nothing to do.
type BroughtBack struct {
	Change int64     `json:"change"`
	Title  string    `json:"title,omitempty"`
	Parts  []Brought `json:"parts"`
}

// ImportedBundle is what importing a bundle came to.
type ImportedBundle struct {
	BroughtBack
	Refused []string `json:"refused,omitempty"` // what was not staged, and why
}

// Brought is that on one device.
type Brought struct {
	Device string      `json:"device"`
	Edits  []Edit      `json:"edits"`
	Count  int         `json:"count"`
	Lines  []diff.Line `json:"lines"` // against what the device was last known to hold
	Takes  []Later     `json:"takes"` // later work that goes with it, newest first
	Left   []Left      `json:"left"`  // what an undo leaves as it is
	Notes  []string    `json:"notes,omitempty"`
}

// Later is work that was done since.
type Later struct {
	Revision int64           `json:"revision"`
	Source   lifecycle.Cause `json:"source"`
	Change   int64           `json:"change,omitempty"`
	Title    string          `json:"title,omitempty"`
	Author   string          `json:"author,omitempty"`
	At       time.Time       `json:"at"`
	Places   int             `json:"places"`
}

// Left is a place that an undo leaves as it is, for it was set again since.
type Left struct {
	Path   string `json:"path"`
	Change int64  `json:"change"` // that was to be undone
	Before string `json:"before"` // what it was before that
	Made   string `json:"made"`   // what that made it
	Now    string `json:"now"`
	Why    string `json:"why,omitempty"`
}

// Blame is a configuration with who last set each line.
type Blame struct {
	Device    string      `json:"device"`
	Path      string      `json:"path"`
	Revision  int64       `json:"revision"` // it is the blame of
	Lines     []BlameLine `json:"lines"`
	Gone      []GoneLine  `json:"gone"`      // removed, newest first
	Revisions []Revision  `json:"revisions"` // that lines and gone name
}

// BlameLine is one line of it.
type BlameLine struct {
	Depth    int    `json:"depth"`
	Text     string `json:"text"`
	Path     string `json:"path"`
	Revision int64  `json:"revision,omitempty"` // none where the line only leads to others
}

// GoneLine is what was removed and did not come back.
type GoneLine struct {
	Path     string `json:"path"`
	Was      string `json:"was"`
	Revision int64  `json:"revision"` // that removed it
}

// Life is what happened at a path and below it, oldest first.
type Life struct {
	Device    string     `json:"device"`
	Path      string     `json:"path"`
	Now       string     `json:"now"`
	Events    []LifeStep `json:"events"`
	Revisions []Revision `json:"revisions"`
}

// LifeStep is one of these.
type LifeStep struct {
	Revision int64     `json:"revision"`
	Kind     diff.Kind `json:"kind"`
	Path     string    `json:"path"`
	Old      string    `json:"old,omitempty"`
	New      string    `json:"new,omitempty"`
}

// Moment is something that happened to a device, for its timeline. Kind is
// change, outside, first, replaced, rebuilt, saved, saved-outside, snapshot,
// reverted, failed or holding.
type Moment struct {
	At       time.Time            `json:"at"`
	Kind     lifecycle.MomentKind `json:"kind"`
	Text     string               `json:"text"`
	Actor    string               `json:"actor,omitempty"`
	Revision int64                `json:"revision,omitempty"`
	Startup  int64                `json:"startup,omitempty"`
	Change   int64                `json:"change,omitempty"`
	Snapshot int64                `json:"snapshot,omitempty"`
}

// NewImport stages a configuration from a file.
type NewImport struct {
	Device string   `json:"device"`
	Name   string   `json:"name"`            // of the file, for the record
	Text   string   `json:"text" raw:"true"` // XML, JSON or outline, an instance data file or not, told by its content
	Change int64    `json:"change,omitempty"`
	Title  string   `json:"title,omitempty"`
	Ticket string   `json:"ticket,omitempty"`
	Paths  []string `json:"paths,omitempty" raw:"true"`
	From   *Origin  `json:"from,omitempty"` // what a bundle tells of it
}

// Origin is what a file is from.
type Origin struct {
	Device   string          `json:"device"`
	Site     string          `json:"site,omitempty"`
	Model    string          `json:"model,omitempty"`
	Serial   string          `json:"serial,omitempty"`
	Revision int64           `json:"revision,omitempty"`
	At       time.Time       `json:"at,omitzero"`
	Cause    lifecycle.Cause `json:"cause,omitempty"`
	Change   int64           `json:"change,omitempty"`
}

// NewCarry stages one device's configuration on another.
type NewCarry struct {
	From   string `json:"from"`
	Place  string `json:"place,omitempty"` // running if left out
	Onto   string `json:"onto"`
	Change int64  `json:"change,omitempty"`
	Title  string `json:"title,omitempty"`
	Ticket string `json:"ticket,omitempty"`
}

// Carried is what that came to.
type Carried struct {
	BroughtBack
	Own []Own `json:"own"` // what tells of the device itself
}

// Own is a place that tells of a device itself: Kept is what it keeps there;
// where that is empty, what was carried is to be looked at.
type Own struct {
	Path string `json:"path"`
	From string `json:"from"`
	Kept string `json:"kept,omitempty"`
	Why  string `json:"why"`
}
