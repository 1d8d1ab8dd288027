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
	"slices"
	"time"
)

// Phase is how far a commit as a whole has come.
type Phase string

// The phases, in the order of a commit that goes well.
const (
	Idle          Phase = "idle"
	Preparing     Phase = "preparing"  // nothing is active anywhere
	AllReady      Phase = "prepared"   // only the commit itself is left; a person's word is awaited
	Applying      Phase = "applying"   // commits are on their way
	Probing       Phase = "probing"    // active; management access is being proved, the probes run
	Awaiting      Phase = "awaiting"   // active; a person's word is awaited
	Asking        Phase = "asking"     // confirm was said; every device is asked once more
	ConfirmingAll Phase = "confirming" // confirms are on their way
	Settling      Phase = "settling"   // confirmed; startup is being saved
	Reverting     Phase = "reverting"  // the former configurations are put back
	Done          Phase = "done"
)

// Outcome is what a finished commit came to.
type Outcome string

// The outcomes. Failed means that nothing of it ever was active.
const (
	Undecided Outcome = ""
	Confirmed Outcome = "confirmed"
	Reverted  Outcome = "reverted"
	Failed    Outcome = "failed"
	// Partly means that the devices do not all hold the same: one was left by a
	// person's word as it was, or has lost what it had confirmed.
	Partly Outcome = "partly"
)

// Standing is how far one device has come.
type Standing string

// The standings of a device.
const (
	Waiting     Standing = "waiting"
	InPrepare   Standing = "preparing"
	Ready       Standing = "prepared"
	Committing  Standing = "committing" // sent, not answered: perhaps active
	Held        Standing = "held"       // active, on hold
	Confirming  Standing = "confirming" // sent, not answered: perhaps permanent
	IsConfirmed Standing = "confirmed"
	IsReverting Standing = "reverting"
	IsReverted  Standing = "reverted"  // seen with its former configuration
	IsUntouched Standing = "untouched" // nothing of it was ever in effect
	IsAccepted  Standing = "accepted"  // not seen with its former configuration, and accepted so by a person's word
)

// Device is one device's part of a commit.
type Device struct {
	Name        string   `json:"name"`
	Keeper      Keeper   `json:"keeper"`
	Wave        int      `json:"wave,omitempty"`
	NoSave      bool     `json:"noSave,omitempty"`
	Standing    Standing `json:"standing"`
	Looked      bool     `json:"looked,omitempty"`      // seen with the result in this round of asking
	Releasing   bool     `json:"releasing,omitempty"`   // release is under way
	Extending   bool     `json:"extending,omitempty"`   // its timer is being set anew
	Unreachable bool     `json:"unreachable,omitempty"` // the last try did not get through
	Tells       bool     `json:"tells,omitempty"`       // it refuses a lock while a confirmed commit is pending
	Odd         bool     `json:"odd,omitempty"`         // seen with neither configuration
	// it answered ok to the confirm, which alone proves nothing
	Taken    bool `json:"taken,omitempty"`
	Denied   bool `json:"denied,omitempty"`   // it refused the confirm: by what it says nothing pends
	Refusals int  `json:"refusals,omitempty"` // how often in a row it refused to be reverted
	// the last try to revert it wrote, instead of cancelling
	Wrote       bool          `json:"wrote,omitempty"`
	GoesBackBy  time.Time     `json:"goesBackBy,omitzero"`  // its own timer has fired by then, if it was not confirmed
	Timer       time.Duration `json:"timer,omitempty"`      // the longest that its own timer was set for
	LostAt      time.Time     `json:"lostAt,omitzero"`      // since when it does not answer, during the hold
	UnsureUntil time.Time     `json:"unsureUntil,omitzero"` // before then an unanswered commit might still take effect
	Settled     bool          `json:"settled,omitempty"`
	Saved       bool          `json:"saved,omitempty"` // startup holds what was kept
	// the device's last word that matters: an error, or where it stands
	Said string `json:"said,omitempty"`
}

// ProbeStanding is a probe and what it last found.
type ProbeStanding struct {
	Probe
	Text   string    `json:"text"`
	Result Result    `json:"result,omitempty"`
	Said   string    `json:"said,omitempty"` // what was found, in words
	Since  time.Time `json:"since,omitzero"` // since when it finds the same
}

// Result is what a probe came to.
type Result string

// The results. Before a probe was run there is none.
const (
	Passed Result = "passed"
	Missed Result = "failed"
)

// State is a commit. The zero value is not ready; use [New].
type State struct {
	Phase         Phase           `json:"phase"`
	Outcome       Outcome         `json:"outcome,omitempty"`
	Hold          time.Duration   `json:"hold"`
	Margin        time.Duration   `json:"margin"` // how much longer the devices wait than we do
	Ahead         time.Duration   `json:"ahead,omitempty"`
	ByProbes      bool            `json:"byProbes,omitempty"`
	RevertOnProbe bool            `json:"revertOnProbe,omitempty"`
	Last          time.Time       `json:"last,omitzero"`        // when the last event was
	Wave          int             `json:"wave,omitempty"`       // the wave that was begun last
	LapsesAt      time.Time       `json:"lapsesAt,omitzero"`    // when what is prepared is given up
	Deadline      time.Time       `json:"deadline,omitzero"`    // when the hold ends
	NewDeadline   time.Time       `json:"newDeadline,omitzero"` // asked for, while the devices' timers are being set
	Warned        bool            `json:"warned,omitempty"`     // that the hold is about to end
	Reason        string          `json:"reason,omitempty"`     // why it was reverted or failed
	By            string          `json:"by,omitempty"`         // whose word decided
	Devices       []Device        `json:"devices"`
	Probes        []ProbeStanding `json:"probes,omitempty"`
}

// Margin gives how much longer than the hold the devices' own timers run, so
// that the service can always cancel, and read back, before them.
func Margin(hold time.Duration) time.Duration {
	return min(max(hold/5, 4*time.Second), time.Minute).Round(time.Second)
}

// Warning gives how long before its end a hold is about to end.
func Warning(hold time.Duration) time.Duration { return min(hold/4, 2*time.Minute) }

// unsure is how long an unanswered commit may still be carried out by a busy
// device: its former configuration, read within that time, proves nothing.
const unsure = 15 * time.Second

// stubborn is after how many refusals in a row a device is taken to refuse for good.
const stubborn = 3

// Stuck reports whether a device that is to revert does not: it holds neither
// configuration, or refuses what it is sent. It is tried on; a person may leave it.
func (d Device) Stuck() bool {
	return d.Standing == IsReverting && (d.Odd || d.Refusals >= stubborn)
}

// DeviceTimeout is the confirm-timeout given to the devices with a commit.
func (s State) DeviceTimeout() time.Duration { return s.Hold + s.Margin }

// TimeoutUntil is the confirm-timeout that, given at a time, outlasts a deadline.
func (s State) TimeoutUntil(deadline, at time.Time) time.Duration {
	return max(deadline.Sub(at), 0).Round(time.Second) + s.Margin
}

// Same reports whether two states are the same.
func (s State) Same(t State) bool {
	devices := slices.Equal(s.Devices, t.Devices)
	probes := slices.EqualFunc(s.Probes, t.Probes, func(a, b ProbeStanding) bool {
		return a.Text == b.Text && a.Result == b.Result && a.Said == b.Said && a.Since.Equal(b.Since)
	})
	return devices && probes && s.Phase == t.Phase && s.Outcome == t.Outcome && s.Wave == t.Wave &&
		s.Warned == t.Warned &&
		s.LapsesAt.Equal(t.LapsesAt) && s.Deadline.Equal(t.Deadline) && s.NewDeadline.Equal(t.NewDeadline) &&
		s.Reason == t.Reason && s.By == t.By
}

// Found is what a device's running configuration was seen to be, at the places
// the commit is about.
type Found string

// What can be found.
const (
	FoundBase   Found = "base"   // the former configuration
	FoundResult Found = "result" // the committed configuration
	FoundOther  Found = "other"  // neither
)

// Pending is what a try to lock running told of confirmed commits: while one
// is pending, others are refused the lock (RFC 6241 section 7.5).
type Pending string

// What the lock can tell.
const (
	NotAsked  Pending = ""
	IsPending Pending = "pending"
	NonePends Pending = "none"
)

// EventKind names what happened.
type EventKind string

// The events. Those about a device, or a probe, carry its index.
const (
	Start         EventKind = "start"
	Prepared      EventKind = "prepared"
	PrepareFailed EventKind = "prepare-failed"
	Lapsed        EventKind = "lapsed"         // what was prepared is no longer so
	Applied       EventKind = "applied"        // the device took the commit
	CommitRefused EventKind = "commit-refused" // it said no: nothing is active there
	CommitUnknown EventKind = "commit-unknown" // no answer: perhaps active
	SessionLost   EventKind = "session-lost"   // the session that is the hold ended
	Seen          EventKind = "seen"           // its running was read, by a new session
	NotReached    EventKind = "not-reached"
	ProbePassed   EventKind = "probe-passed"
	ProbeFailed   EventKind = "probe-failed"
	TimerSet      EventKind = "timer-set"
	TimerNotSet   EventKind = "timer-not-set" // refused or unanswered: not known which
	// answered ok; what was read afterwards, where it was, says whether it is so
	ConfirmTaken  EventKind = "confirm-taken"
	ConfirmFailed EventKind = "confirm-failed" // refused or unanswered: not known which
	CancelDone    EventKind = "cancel-done"    // answered or not, the device must be looked at
	RestoreDone   EventKind = "restore-done"   // likewise
	ReleaseDone   EventKind = "release-done"
	SettleDone    EventKind = "settle-done"
	SayCommit     EventKind = "say-commit" // commit what is prepared
	SayConfirm    EventKind = "say-confirm"
	SayRevert     EventKind = "say-revert"
	SayUntil      EventKind = "say-until"  // the hold is to end at Until
	SayAccept     EventKind = "say-accept" // accept a device as it is that does not revert
	Tick          EventKind = "tick"
	Restarted     EventKind = "restarted"
)

// Event is something that happened at a time.
type Event struct {
	Kind    EventKind `json:"kind"`
	At      time.Time `json:"at"`
	Device  int       `json:"device,omitempty"`
	Probe   int       `json:"probe,omitempty"`
	By      string    `json:"by,omitempty"`
	Until   time.Time `json:"until,omitzero"`
	Despite bool      `json:"despite,omitempty"` // confirm though a probe fails
	Found   Found     `json:"found,omitempty"`
	Pending Pending   `json:"pending,omitempty"`
	Saved   bool      `json:"saved,omitempty"`
	Refused bool      `json:"refused,omitempty"` // the device said no: what was asked was not done
	Err     string    `json:"err,omitempty"`     // what went wrong; of a probe, what was found
}

// ActionKind names something to be done.
type ActionKind string

// The actions. All but Conclude are about one device, or a probe, and answered
// by an event.
const (
	DoPrepare ActionKind = "prepare" // connect, lock, rebase, edit, validate, read back
	DoCommit  ActionKind = "commit"  // on the device's own timer where it has one
	DoLook    ActionKind = "look"    // new session, read running: Seen or NotReached
	DoProbe   ActionKind = "probe"   // ProbePassed or ProbeFailed
	DoExtend  ActionKind = "extend"  // set the device's timer anew, by TimeoutUntil
	DoConfirm ActionKind = "confirm" // confirming commit
	DoCancel  ActionKind = "cancel"  // cancel-commit, or end the session that is the hold
	DoRestore ActionKind = "restore" // write the former configuration back
	DoRelease ActionKind = "release" // empty the candidate, unlock, close
	DoSettle  ActionKind = "settle"  // save to startup, unless it is to be left
	Conclude  ActionKind = "conclude"
)

// Action is something to be done.
type Action struct {
	Kind   ActionKind
	Device int
	Probe  int

	// Patient asks a look or a probe to keep trying for a while before it
	// says that it did not succeed.
	Patient bool

	// Again asks for a pause first: the same was tried before.
	Again bool

	// Asked marks the look before a confirm: nobody else's work may be in the
	// way then, and what is needed to confirm is kept at hand.
	Asked bool

	// Lock asks a look to find out by a lock whether a commit is pending.
	Lock bool

	// Until is what DoExtend sets the timer for.
	Until time.Time

	// Watch marks a look or probe that is only there to notice a device that
	// vanishes or reverts meanwhile; it gives way to anything else.
	Watch bool
}
