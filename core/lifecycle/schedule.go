package lifecycle

// ScheduledKind is what is to be done at a time.
type ScheduledKind string

// What can be scheduled.
const (
	ScheduledCommit  ScheduledKind = "commit"  // of a change
	ScheduledRestart ScheduledKind = "restart" // of a device
)

// ScheduledKinds are all of them.
func ScheduledKinds() []ScheduledKind { return []ScheduledKind{ScheduledCommit, ScheduledRestart} }

// ScheduledState is how something stands that was to be done at a time.
type ScheduledState string

// The states of what was scheduled.
const (
	Waiting   ScheduledState = "waiting"
	Begun     ScheduledState = "begun"
	Missed    ScheduledState = "missed"    // the service came to it too late
	Stopped   ScheduledState = "stopped"   // it could not be begun
	Cancelled ScheduledState = "cancelled" // a person took it off
)

// ScheduledStates are all of them.
func ScheduledStates() []ScheduledState {
	return []ScheduledState{Waiting, Begun, Missed, Stopped, Cancelled}
}
