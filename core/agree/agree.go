// Package agree says whose approval of a change counts: of persons who did not work on it, to
// exactly what it is now, who may still agree. It knows no rules and no devices: what is needed is
// given.
package agree

import (
	"slices"
	"strings"
)

// Works reports whether somebody who did what a kind of entry of the record tells has worked on the
// change that it is about: whoever ever staged, dropped, decided, loaded or expected anything in it.
func Works(action string) bool {
	switch action {
	case "change.open", "change.rename":
		return true
	}
	kind, _, _ := strings.Cut(action, ".")
	return slices.Contains([]string{"edit", "part", "expect", "stencil", "shared", "outside"}, kind)
}

// Agreement is that somebody agreed to a change as a preview showed it.
type Agreement struct {
	Who    string
	Digest string // of the preview
}

// Facts are what is known of a change.
type Facts struct {
	Needed  int    // persons that have to agree
	Digest  string // of what it is now
	Workers []string
	Agreed  []Agreement
	// whether somebody may agree now: the account is open, and has the role on all of the devices
	May func(who string) bool
}

// Counts reports whether an approval counts.
func (f Facts) Counts(a Agreement) bool {
	return a.Digest == f.Digest && !slices.Contains(f.Workers, a.Who) && f.May(a.Who)
}

// Missing is how many persons' approval is missing.
func (f Facts) Missing() int {
	var have []string
	for _, a := range f.Agreed {
		if f.Counts(a) && !slices.Contains(have, a.Who) {
			have = append(have, a.Who)
		}
	}
	return max(0, f.Needed-len(have))
}
