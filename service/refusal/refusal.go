// Package refusal is how the rooms of the service say no to a person: what is
// wrong and what to do. The API turns it into a status and a problem document.
package refusal

import (
	"fmt"
	"time"
)

// Kind says what sort of no it is.
type Kind string

// The kinds.
const (
	Invalid     Kind = "invalid"     // what was asked makes no sense as it is
	NotFound    Kind = "not-found"   // there is no such thing
	Forbidden   Kind = "forbidden"   // not for this person
	Misdirected Kind = "misdirected" // asked of another name than ours
	Conflict    Kind = "conflict"    // not now: something else stands in the way
	Moved       Kind = "moved"       // it is no longer what the person saw
)

// Error is a no.
type Error struct {
	Kind      Kind
	Msg, Next string
}

func (e *Error) Error() string {
	if e.Next == "" {
		return e.Msg
	}
	return e.Msg + "; " + e.Next
}

// New makes a refusal; next says what to do and may be empty.
func New(kind Kind, next, format string, args ...any) *Error {
	return &Error{Kind: kind, Msg: fmt.Sprintf(format, args...), Next: next}
}

// NoDevice is the no to a device that is not there, or not for whoever asks.
func NoDevice(name string) *Error {
	return New(NotFound, "list them with: latch devices", "there is no device %q", name)
}

// Reserved is the no to touching a device that somebody has reserved.
func Reserved(device, holder string, until time.Time, reason string) *Error {
	return New(Conflict, fmt.Sprintf("ask them with: latch reserve ask %s TEXT", device),
		"%s is reserved by %s until %s: %s", device, holder, until.UTC().Format(time.RFC3339), reason)
}
