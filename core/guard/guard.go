// Package guard is the commit protocol as a pure state machine.
//
//	func Step(State, Event) (State, []Action)
//
// Everything that can happen to a commit is an [Event]: a device's reply, a
// lost session, a restart of the service, the passing of time, a person's word.
// Everything to be done about it is an [Action]. Whoever performs the actions
// journals each event before acting on it, and after a crash folds the journal
// through Step again and adds a Restarted event: the machine then asks the
// devices what is true and goes on from there.
//
// The promises it keeps: a device is left changed only if the commit was kept;
// kept is concluded only once every device was seen confirmed; a revert ends
// when every device was seen to hold its former configuration, and until then
// names the one that was not.
package guard

import (
	"fmt"
	"time"
)

// Phase is how far a commit as a whole has come.
type Phase string

// The phases, in the order of a commit that goes well.
const (
	Idle      Phase = "idle"
	Preparing Phase = "preparing" // nothing is in effect anywhere
	Applying  Phase = "applying"  // commits are on their way
	Probing   Phase = "probing"   // in effect; the way in is being proved
	Awaiting  Phase = "awaiting"  // in effect; a person's word is awaited
	Asking    Phase = "asking"    // confirm was said; every device is asked once more
	Keeping   Phase = "keeping"   // confirms are on their way
	Settling  Phase = "settling"  // kept; startup is being saved
	Reverting Phase = "reverting" // going back
	Done      Phase = "done"
)

// Outcome is what a finished commit came to.
type Outcome string

// The outcomes. Failed means that nothing of it ever was in effect.
const (
	Undecided Outcome = ""
	Kept      Outcome = "kept"
	Reverted  Outcome = "reverted"
	Failed    Outcome = "failed"
)

// Standing is how far one device has come.
type Standing string

// The standings of a device.
const (
	Waiting     Standing = "waiting"
	InPrepare   Standing = "preparing"
	Ready       Standing = "prepared"
	Committing  Standing = "committing" // sent, not answered: perhaps in effect
	Held        Standing = "held"       // in effect on trial
	Confirming  Standing = "confirming" // sent, not answered: perhaps permanent
	IsKept      Standing = "kept"
	GoingBack   Standing = "going back"
	IsReverted  Standing = "reverted"  // seen with its former configuration
	IsUntouched Standing = "untouched" // nothing of it was ever in effect
)

// Device is one device's part of a commit.
type Device struct {
	Name        string    `json:"name"`
	Standing    Standing  `json:"standing"`
	Looked      bool      `json:"looked,omitempty"`      // seen with the result in this round of asking
	Releasing   bool      `json:"releasing,omitempty"`   // release is under way
	Unreachable bool      `json:"unreachable,omitempty"` // the last try did not get through
	GoesBackBy  time.Time `json:"goesBackBy,omitzero"`   // its own timer has fired by then, if it was not confirmed
	LostAt      time.Time `json:"lostAt,omitzero"`       // since when it does not answer, during the hold
	UnsureUntil time.Time `json:"unsureUntil,omitzero"`  // before then an unanswered commit might still take effect
	Settled     bool      `json:"settled,omitempty"`
	Saved       bool      `json:"saved,omitempty"` // startup holds what was kept
	Said        string    `json:"said,omitempty"`  // the device's last word that matters: an error, or where it stands
}

// State is a commit. The zero value is not ready; use [New].
type State struct {
	Phase    Phase         `json:"phase"`
	Outcome  Outcome       `json:"outcome,omitempty"`
	Hold     time.Duration `json:"hold"`
	Margin   time.Duration `json:"margin"` // how much longer the devices wait than we do
	Deadline time.Time     `json:"deadline,omitzero"`
	Reason   string        `json:"reason,omitempty"` // why it went back or failed
	By       string        `json:"by,omitempty"`     // whose word decided
	Devices  []Device      `json:"devices"`
}

// Margin gives how much longer than the hold the devices' own timers run, so
// that the service can always cancel, and read back, before them.
func Margin(hold time.Duration) time.Duration {
	return min(max(hold/5, 4*time.Second), time.Minute).Round(time.Second)
}

// New gives a commit that has not started.
func New(devices []string, hold time.Duration) State {
	s := State{Phase: Idle, Hold: hold, Margin: Margin(hold)}
	for _, d := range devices {
		s.Devices = append(s.Devices, Device{Name: d, Standing: Waiting})
	}
	return s
}

// unsure is how long an unanswered commit may still be carried out by a busy
// device: its former configuration, read within that time, proves nothing.
const unsure = 15 * time.Second

// DeviceTimeout is the confirm-timeout given to the devices.
func (s State) DeviceTimeout() time.Duration { return s.Hold + s.Margin }

// Found is what a device's running configuration was seen to be, at the places
// the commit is about.
type Found string

// What can be found.
const (
	FoundBase   Found = "base"   // the former configuration
	FoundResult Found = "result" // the committed configuration
	FoundOther  Found = "other"  // neither
)

// EventKind names what happened.
type EventKind string

// The events. Those about a device carry its index.
const (
	Start         EventKind = "start"
	Prepared      EventKind = "prepared"
	PrepareFailed EventKind = "prepare-failed"
	Applied       EventKind = "applied"        // the device took the confirmed commit
	CommitRefused EventKind = "commit-refused" // it said no: nothing is in effect there
	CommitUnknown EventKind = "commit-unknown" // no answer: perhaps in effect
	Seen          EventKind = "seen"           // its running was read, by a new session
	NotReached    EventKind = "not-reached"
	ConfirmTaken  EventKind = "confirm-taken"
	ConfirmFailed EventKind = "confirm-failed" // refused or unanswered: not known which
	CancelDone    EventKind = "cancel-done"    // answered or not, the device must be looked at
	RestoreDone   EventKind = "restore-done"   // likewise
	ReleaseDone   EventKind = "release-done"
	SettleDone    EventKind = "settle-done"
	SayConfirm    EventKind = "say-confirm"
	SayRevert     EventKind = "say-revert"
	Tick          EventKind = "tick"
	Restarted     EventKind = "restarted"
)

// Event is something that happened at a time.
type Event struct {
	Kind   EventKind `json:"kind"`
	At     time.Time `json:"at"`
	Device int       `json:"device,omitempty"`
	By     string    `json:"by,omitempty"`
	Found  Found     `json:"found,omitempty"`
	Saved  bool      `json:"saved,omitempty"`
	Err    string    `json:"err,omitempty"`
}

// ActionKind names something to be done.
type ActionKind string

// The actions. All but Conclude are about one device and answered by an event.
const (
	DoPrepare ActionKind = "prepare" // connect, lock, rebase, edit, validate, read back
	DoCommit  ActionKind = "commit"  // confirmed commit with DeviceTimeout
	DoLook    ActionKind = "look"    // new session, read running: Seen or NotReached
	DoConfirm ActionKind = "confirm" // confirming commit
	DoCancel  ActionKind = "cancel"  // cancel-commit
	DoRestore ActionKind = "restore" // write the former configuration back
	DoRelease ActionKind = "release" // empty the candidate, unlock, close
	DoSettle  ActionKind = "settle"  // save to startup
	Conclude  ActionKind = "conclude"
)

// Action is something to be done.
type Action struct {
	Kind   ActionKind
	Device int

	// Patient asks a look to keep trying for a while before it says NotReached.
	Patient bool

	// Again asks for a pause first: the same was tried before.
	Again bool

	// Watch marks a look that is only there to notice a device that vanishes
	// or goes back during the hold; it gives way to anything else.
	Watch bool
}

// Refused says why a person's word was not taken. The state is unchanged.
type Refused struct{ Why string }

func (r *Refused) Error() string { return r.Why }

// May reports whether a person's word would be taken now, and why not.
func (s State) May(kind EventKind, at time.Time) error {
	switch {
	case s.Phase == Done || s.Outcome == Kept:
		return &Refused{fmt.Sprintf("it is already %s%s", s.Outcome, because(s.Reason))}
	case s.Phase == Reverting:
		return &Refused{"it is already going back" + because(s.Reason)}
	case s.Phase == Asking || s.Phase == Keeping:
		return &Refused{"it is being confirmed at this moment"}
	case kind == SayRevert:
		return nil
	case s.Phase != Awaiting && s.Phase != Probing:
		return &Refused{"it is not in effect yet, wait until it is holding"}
	case !at.Before(s.Deadline):
		return &Refused{fmt.Sprintf("the hold ended at %s, the devices are going back", s.Deadline.UTC().Format(time.RFC3339))}
	case s.Phase == Probing:
		return &Refused{"the way into the devices has not been proved yet, wait for it"}
	}
	return nil
}

func because(reason string) string {
	if reason == "" {
		return ""
	}
	return ": " + reason
}
