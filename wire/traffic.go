package wire

import (
	"time"

	"oakenlatch/core/flow"
)

// NewExpectation states what traffic a change is meant to permit or deny.
type NewExpectation struct {
	Line  string `json:"line"`            // docs/traffic.md
	Place string `json:"place,omitempty"` // DEVICE or DEVICE/FILTER, several with commas; left out: every filter it touches
}

// Expectation is one, with its answer where a preview gives it.
type Expectation struct {
	Number int64     `json:"number"`
	Line   string    `json:"line"`
	Place  string    `json:"place,omitempty"`
	Actor  string    `json:"actor"`
	At     time.Time `json:"at"`
	flow.Answer
}

// SideEffect is traffic that a change treats otherwise though no expectation
// covers it.
type SideEffect struct {
	Device string `json:"device"`
	flow.Change
	AcceptedBy string    `json:"acceptedBy,omitempty"`
	AcceptedAt time.Time `json:"acceptedAt,omitzero"`
}

// AcceptEffect accepts a side effect by its name.
type AcceptEffect struct {
	Device string `json:"device"`
	Filter string `json:"filter"`
}

// Filters is a device's filters, and where they work.
type Filters struct {
	Device   string       `json:"device"`
	From     string       `json:"from"`
	Filters  []Filter     `json:"filters"`
	Attached []Attachment `json:"attached"`
}

// Filter is one of them; its rules where it is asked for alone.
type Filter struct {
	Name         string   `json:"name"`
	Path         string   `json:"path"`
	Count        int      `json:"count"` // rules
	Rules        []Rule   `json:"rules,omitempty"`
	Clean        []string `json:"clean,omitempty"`        // the rules that can all go, proved: nothing is done otherwise without them
	CleanUnknown string   `json:"cleanUnknown,omitempty"` // why it is not told which those are
	Clashes      []Clash  `json:"clashes,omitempty"`      // pairs of which the order matters
	Trouble      string   `json:"trouble,omitempty"`      // why it could not be looked through
}

// Rule is a rule and what it decides.
type Rule struct {
	Name     string   `json:"name"`
	Path     string   `json:"path"`
	Action   string   `json:"action"`
	Fits     []string `json:"fits"`              // the packets that it is about
	Decides  []string `json:"decides,omitempty"` // those of them that no rule before it does
	More     bool     `json:"more,omitempty"`    // there are more lines than are given
	Standing string   `json:"standing"`          // needed, never-reached or redundant
	Bits     float64  `json:"bits"`              // how wide it is: the logarithm of how many packets it fits
}

// Clash is two rules that do otherwise with some of the same packets.
type Clash struct {
	First   string `json:"first"`
	Second  string `json:"second"`
	Example string `json:"example"`
}

// Attachment is the filters that work on an interface in a direction.
type Attachment struct {
	Interface string   `json:"interface"`
	Direction string   `json:"direction"`
	Filters   []string `json:"filters"`
	Path      string   `json:"path"`
}

// Traced is what filters do with the packets of a line, one filter after
// another.
type Traced struct {
	Packets string      `json:"packets"`
	Answer  string      `json:"answer"` // permitted, denied, or partly
	Parts   []TracePart `json:"parts"`
	More    bool        `json:"more,omitempty"`
	Trouble string      `json:"trouble,omitempty"`
}

// TracePart is packets that fare alike.
type TracePart struct {
	Packets   string      `json:"packets"`
	Permitted bool        `json:"permitted"`
	Example   string      `json:"example"`
	Way       []TraceStep `json:"way"` // of the example
}

// TraceStep is what one filter does with a packet.
type TraceStep struct {
	Filter string      `json:"filter"`
	By     flow.Ruling `json:"by"`
	Not    []Missed    `json:"not,omitempty"` // rules before it, and why they do not fit
}

// Missed is a rule that does not fit a packet.
type Missed struct {
	Rule string `json:"rule"`
	Why  string `json:"why"`
}

// FilterComparison is how two filters differ.
type FilterComparison struct {
	A string `json:"a"`
	B string `json:"b"`
	flow.Change
}
