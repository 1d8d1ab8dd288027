// Package order has the types in which a commit is ordered: what the desk works out, what a person asks
// for, and what the engine carries out.
package order

import (
	"time"

	"oakenlatch/core/guard"
	"oakenlatch/core/tree"
	"oakenlatch/service/store"
)

// Work is what is to be committed on one device.
type Work struct {
	Device store.Device
	Former *tree.Node // what it is to start from: the part's base, or what the device was found to hold
	Mine   *tree.Node // that with the part's edits

	// Exact is set where Former is what the person was shown: the commit refuses
	// a device that moved on since, instead of putting the edits on top.
	Exact bool

	// MovesTo is the address the change moves the device's management to, ""
	// for none, and MovesSeenAs the same as packets have it.
	MovesTo, MovesSeenAs string

	// Stamp names what was staged in the change when this was worked out; "" does
	// not matter. What was staged since is not left behind unseen.
	Stamp string
}

// Order is how a person wants a commit done. What is on the schedule is kept in this form, as JSON.
type Order struct {
	Hold          time.Duration `json:"hold"`
	Waves         [][]string    `json:"waves,omitempty"` // devices that go first, wave by wave; all others follow
	Probes        []guard.Probe `json:"probes,omitempty"`
	ByProbes      bool          `json:"byProbes,omitempty"`
	RevertOnProbe bool          `json:"revertOnProbe,omitempty"`
	Save          *bool         `json:"save,omitempty"`  // nil leaves it to each device's setting
	Ahead         time.Duration `json:"ahead,omitempty"` // prepare, and wait that long for the word to commit

	// digest of the preview it rests on; "" is the last that the person was shown, if any
	Preview string   `json:"preview,omitempty"`
	CutOff  []string `json:"cutOff,omitempty"` // devices whose lockout is accepted in words

	Emergency string `json:"-"` // why others' approval, where it is needed, is not waited for; never later than now
}

// When says when something is to be done, and how late at most.
type When struct {
	At       time.Time
	Zone     string // the person's, for showing it again
	Lateness time.Duration
}

// Start is a commit that is to begin.
type Start struct {
	Actor  string
	Change int64
	Order  Order
	Works  []Work // on each device, in the order of the change's parts

	Scheduled  int64            // the number on the schedule that it is begun by; 0 where a person began it
	Unapproved *store.Emergency // is entered with its start where it goes without the approval it needs
}
