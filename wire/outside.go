package wire

import (
	"time"

	"oakenlatch/core/diff"
	"oakenlatch/core/lifecycle"
)

// Outside is a change that was found on a device and was not made by this
// service. It happened between Since and Found, by our clock.
type Outside struct {
	Number    int64                  `json:"number"`
	Device    string                 `json:"device"`
	Site      string                 `json:"site,omitempty"`
	Revision  int64                  `json:"revision"` // that it made
	Before    int64                  `json:"before"`   // the one before
	Since     time.Time              `json:"since"`    // the device was last read to be as before
	Found     time.Time              `json:"found"`
	DeviceAt  time.Time              `json:"deviceAt,omitzero"` // when, by the device's own clock
	ClockOff  bool                   `json:"clockOff,omitempty"`
	Account   string                 `json:"account,omitempty"` // on the device; left out where it names nobody
	Session   string                 `json:"session,omitempty"`
	Address   string                 `json:"address,omitempty"`
	Who       string                 `json:"who"`  // in words
	Told      []string               `json:"told"` // what the device told meanwhile
	Places    int                    `json:"places"`
	During    int64                  `json:"during,omitempty"` // the change that was on hold there
	State     lifecycle.OutsideState `json:"state"`
	DecidedBy string                 `json:"decidedBy,omitempty"`
	DecidedAt time.Time              `json:"decidedAt,omitzero"`
	Note      string                 `json:"note,omitempty"`
	Change    int64                  `json:"change,omitempty"` // that pushes it back, or goes on from it
	Listened  string                 `json:"listened,omitempty"`

	Lines []diff.Line `json:"lines,omitempty"` // with one of them: the difference
	Items []diff.Item `json:"items,omitempty"`
}

// Adopt takes an outside change as it is.
type Adopt struct {
	Note string `json:"note"`
}

// NewPush makes a change of an outside change: on Devices, where it goes on
// from it.
type NewPush struct {
	Title   string   `json:"title,omitempty"`
	Ticket  string   `json:"ticket,omitempty"`
	Devices []string `json:"devices,omitempty"`
}

// Pushed is what that came to; Change 0 where there was nothing to do.
type Pushed struct {
	Outside Outside   `json:"outside"`
	Change  int64     `json:"change"`
	Title   string    `json:"title,omitempty"`
	Parts   []Brought `json:"parts"`
}

// Silence is a path that always moves.
type Silence struct {
	Number int64     `json:"number"`
	Device string    `json:"device,omitempty"` // left out: every device
	Path   string    `json:"path"`
	Note   string    `json:"note,omitempty"`
	Actor  string    `json:"actor"`
	At     time.Time `json:"at"`
}

// NewSilence makes one.
type NewSilence struct {
	Device string `json:"device,omitempty"`
	Path   string `json:"path" raw:"true"`
	Note   string `json:"note,omitempty"`
}
