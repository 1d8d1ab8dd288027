// Package refusal is how the rooms of the service say no to a person: what is
// wrong and what to do. The API turns it into a status and a problem document.
package refusal

import (
	"fmt"
	"time"

	"oakenlatch/core/advice"
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
	Kind  Kind
	Msg   string
	Steps advice.Steps // what to do next
}

func (e *Error) Error() string {
	if len(e.Steps) == 0 {
		return e.Msg
	}
	return e.Msg + "; " + e.Steps.String()
}

// New makes a refusal; next says in words what to do and may be empty.
func New(kind Kind, next, format string, args ...any) *Error {
	return &Error{Kind: kind, Msg: fmt.Sprintf(format, args...), Steps: advice.Words(next)}
}

// Do says which action next is (see [advice.Steps.Do]).
func (e *Error) Do(a advice.Action, args ...any) *Error {
	e.Steps = e.Steps.Do(a, args...)
	return e
}

// With says what to do next, where there is more to it than words.
func (e *Error) With(next advice.Steps) *Error {
	e.Steps = next
	return e
}

// Or adds something else to do next.
func (e *Error) Or(text string, a advice.Action, args ...any) *Error {
	e.Steps = e.Steps.Or(text, a, args...)
	return e
}

// NoDevice is the no to a device that is not there, or not for whoever asks.
func NoDevice(name string) *Error {
	return New(NotFound, "list them", "there is no device %q", name).Do(advice.ListDevices)
}

// Reserved is the no to touching a device that somebody has reserved.
func Reserved(device, holder string, until time.Time, reason string) *Error {
	return New(
		Conflict, "ask them", "%s is reserved by %s until %s: %s", device, holder, until.UTC().Format(time.RFC3339),
		reason,
	).Do(advice.AskHolder, device)
}
