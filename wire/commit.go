package wire

import (
	"time"

	"oakenlatch/core/guard"
	"oakenlatch/core/lifecycle"
)

// Guard is who would send a device back during a hold: device, session,
// service, none (it cannot be changed) or unknown.
type Guard struct {
	Guard    string `json:"guard" jsonschema:"enum=device,enum=session,enum=service,enum=none,enum=unknown"`
	GuardWhy string `json:"guardWhy,omitempty"` // why it is no better
	Risk     string `json:"risk,omitempty"`     // what may go wrong with it
	Untried  string `json:"untried,omitempty"`  // why the way back cannot be tried before a change is active
}

// Commit is how a commit stands.
type Commit struct {
	Actor         string         `json:"actor"`
	Started       time.Time      `json:"started"`
	Ended         time.Time      `json:"ended,omitzero"`
	Phase         guard.Phase    `json:"phase"`
	Outcome       guard.Outcome  `json:"outcome,omitempty"`
	HoldSeconds   int64          `json:"holdSeconds"`
	Deadline      time.Time      `json:"deadline,omitzero"`
	NewDeadline   time.Time      `json:"newDeadline,omitzero"` // asked for, the devices' timers are being set
	SecondsLeft   int64          `json:"secondsLeft"`          // until the deadline, 0 once decided
	LapsesAt      time.Time      `json:"lapsesAt,omitzero"`    // when what is prepared is given up
	Ending        bool           `json:"ending,omitempty"`     // the hold is about to end
	ByProbes      bool           `json:"byProbes,omitempty"`
	RevertOnProbe bool           `json:"revertOnProbe,omitempty"`
	Wave          int            `json:"wave,omitempty"` // the one begun last, from 0
	Reason        string         `json:"reason,omitempty"`
	By            string         `json:"by,omitempty"`
	Devices       []guard.Device `json:"devices"`
	Probes        []ProbeResult  `json:"probes,omitempty"`
}

// ProbeResult is a probe of a commit and what it last found.
type ProbeResult struct {
	Probe  string       `json:"probe"` // as it was ordered
	Result guard.Result `json:"result,omitempty"`
	Said   string       `json:"said,omitempty"`
	Since  time.Time    `json:"since,omitzero"`
}

// NewCommit commits a change on hold.
type NewCommit struct {
	HoldSeconds int64 `json:"holdSeconds"`

	// Waves names devices that go first, wave by wave; each is proved before the
	// next begins. Devices that are not named follow last.
	Waves [][]string `json:"waves,omitempty"`

	// Probes are lines like "tcp HOST:PORT", "state DEVICE PATH VALUE" or
	// "program NAME ARGUMENT".
	Probes             []string `json:"probes,omitempty"`
	ProbeWithinSeconds int64    `json:"probeWithinSeconds,omitempty"` // how long they may fail at first
	ByProbes           bool     `json:"byProbes,omitempty"`           // confirm once all of them pass
	RevertOnProbe      bool     `json:"revertOnProbe,omitempty"`      // revert when one fails
	// to startup, once kept; left out: each device's setting
	Save *bool `json:"save,omitempty"`

	// AheadSeconds prepares it only, and keeps it prepared that long for the
	// word to begin.
	AheadSeconds int64 `json:"aheadSeconds,omitempty"`

	// Preview is the digest of the preview it rests on: if anything moved since,
	// it is refused. Left out, it is the last preview the person was shown, if any.
	Preview string `json:"preview,omitempty"`

	// CutOff names devices that are forecast to be cut off with nobody left to
	// revert them, and are to be committed all the same.
	CutOff []string `json:"cutOff,omitempty"`

	// Emergency is why the approval of others, where a rule asks for it, is not
	// waited for. It stands out until somebody else looked at it.
	Emergency string `json:"emergency,omitempty"`
}

// NewSchedule puts something on the schedule. The service begins it up to
// LatenessSeconds late if it was down at its time, and otherwise says missed.
type NewSchedule struct {
	At              time.Time  `json:"at"`
	Zone            string     `json:"zone,omitempty"` // the person's
	LatenessSeconds int64      `json:"latenessSeconds"`
	Commit          *NewCommit `json:"commit,omitempty"` // how; of a change
}

// Scheduled is something that is, or was, on the schedule.
type Scheduled struct {
	ID              int64                    `json:"id"`
	Kind            lifecycle.ScheduledKind  `json:"kind"`
	Change          int64                    `json:"change,omitempty"`
	Title           string                   `json:"title,omitempty"`
	Devices         []string                 `json:"devices"`
	At              time.Time                `json:"at"`
	Zone            string                   `json:"zone,omitempty"`
	LatenessSeconds int64                    `json:"latenessSeconds"`
	Actor           string                   `json:"actor"`
	State           lifecycle.ScheduledState `json:"state"`
	Note            string                   `json:"note,omitempty"`
	Ended           time.Time                `json:"ended,omitzero"`
	Clocks          []Clock                  `json:"clocks,omitempty"` // of its devices, read as it was scheduled
}

// Clock is what a device's clock was seen to be.
type Clock struct {
	Device       string    `json:"device,omitempty"`
	AheadSeconds float64   `json:"aheadSeconds"` // of ours; negative: behind
	Off          bool      `json:"off"`          // by more than it may be
	Read         time.Time `json:"read,omitzero"`
	Trouble      string    `json:"trouble,omitempty"` // why it is not known
}

// Confirm keeps what is on hold.
type Confirm struct {
	Despite bool `json:"despite,omitempty"` // though a probe fails
}

// NewHold moves the end of a hold: by seconds, or to a time.
type NewHold struct {
	AddSeconds int64     `json:"addSeconds,omitempty"` // negative: less time
	Until      time.Time `json:"until,omitzero"`
}

// Leave settles a device that holds neither the former nor the new
// configuration: it is left as it is.
type Accept struct {
	Device string `json:"device"`
}

// Unsettled is a device of a change whose commit was under way when the backup was taken that
// the records come from.
type Unsettled struct {
	Device  string    `json:"device"`
	Address string    `json:"address"`
	Holds   string    `json:"holds"`   // former, change, neither; "" where that is not known
	Pending string    `json:"pending"` // yes, no; "" where its lock does not tell
	Error   string    `json:"error,omitempty"`
	Settled string    `json:"settled,omitempty"` // kept, reverted or left
	By      string    `json:"by,omitempty"`
	At      time.Time `json:"at,omitzero"`
}

// Settle records devices as they are found to be; none is all.
type Settle struct {
	Devices []string `json:"devices,omitempty"`
}

// LostHold is a hold that was under way, as was noted beside the records, and of which these
// know nothing.
type LostHold struct {
	Change  int64        `json:"change"`
	Title   string       `json:"title"`
	By      string       `json:"by"`
	Began   time.Time    `json:"began"`
	Until   time.Time    `json:"until"`
	Devices []LostDevice `json:"devices"`
}

// LostDevice is a device of a lost hold.
type LostDevice struct {
	Name    string `json:"name"`
	Address string `json:"address"`
	Guard   string `json:"guard"` // what takes it back
}

// Settings are a device's settings.
type Settings struct {
	Save *bool     `json:"save,omitempty"`
	Site *string   `json:"site,omitempty"`
	Role *string   `json:"role,omitempty"`
	Tags *[]string `json:"tags,omitempty"` // all of them

	// How its management is seen from the network, for the lockout forecast:
	// its address and port, and our address, as packets have them there; and the
	// devices on the way. Empty goes by what is learned.
	SeenAs   *string   `json:"seenAs,omitempty"`
	SeenFrom *string   `json:"seenFrom,omitempty"`
	Via      *[]string `json:"via,omitempty"`
}

// Visitor is a session on a device.
type Visitor struct {
	ID        string     `json:"id"`
	Account   string     `json:"account,omitempty"`
	Source    string     `json:"source,omitempty"`
	Transport string     `json:"transport,omitempty"`
	Since     time.Time  `json:"since,omitzero"` // by the device's clock
	Locks     []HeldLock `json:"locks,omitempty"`
	Own       bool       `json:"own,omitempty"` // the session this was asked through
}

// HeldLock is a lock on a datastore.
type HeldLock struct {
	Datastore string    `json:"datastore"`
	Since     time.Time `json:"since,omitzero"`
}
