package wire

import (
	"time"

	"oakenlatch/core/flow"
)

// NewExpectation states what traffic a change is meant to permit or deny.
type NewExpectation struct {
	Line string `json:"line"` // docs/traffic.md
	// DEVICE, or DEVICE/FILTER or DEVICE/INTERFACE DIRECTION; several with commas; left out: every place it touches
	Place string `json:"place,omitempty"`
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

// AcceptEffect accepts a side effect by the name of its place.
type AcceptEffect struct {
	Device string `json:"device"`
	Place  string `json:"place"` // a filter, or INTERFACE DIRECTION
}

// Filters is the filters of a configuration, and where they work.
type Filters struct {
	Device   string       `json:"device"` // or the file's name
	From     string       `json:"from"`
	Filters  []flow.Sheet `json:"filters"` // without their rules
	Attached []Attachment `json:"attached"`
}

// Attachment is the filters that work on an interface in a direction.
type Attachment struct {
	Interface string   `json:"interface"`
	Direction string   `json:"direction"`
	Filters   []string `json:"filters"`
	Path      string   `json:"path"`
}

// NewFilters lists the filters of a configuration.
func NewFilters(device, from string, r flow.Reading) Filters {
	out := Filters{Device: device, From: from, Filters: []flow.Sheet{}, Attached: []Attachment{}}
	for _, f := range r.Filters {
		out.Filters = append(out.Filters, flow.Sheet{Name: f.Name, Path: f.Path, Count: len(f.Rules)})
	}
	for _, at := range r.Attached {
		out.Attached = append(out.Attached, Attachment(at))
	}
	return out
}

// FilterComparison is how two filters differ.
type FilterComparison struct {
	A string `json:"a"`
	B string `json:"b"`
	flow.Change
}

// CompareFilters tells how two filters differ, by their names.
func CompareFilters(a, b flow.Filter) FilterComparison {
	return FilterComparison{A: a.Name, B: b.Name, Change: flow.Differ(a, b)}
}
