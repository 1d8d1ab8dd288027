// Package lifecycle has the states that things go through from being begun to having their end: changes, changes made
// outside this service, what is scheduled; and what made the revisions of a configuration.
package lifecycle

import "slices"

// State is how a change stands.
type State string

// The states of a change.
const (
	Draft     State = "draft"     // private to those who work on it
	Scheduled State = "scheduled" // it is to be committed at a time
	Applying  State = "applying"  // its commit is on its way
	Holding   State = "holding"   // it is active, and reverts unless it is confirmed
	Confirmed State = "confirmed"
	Reverted  State = "reverted"
	Failed    State = "failed"    // nothing of it took effect
	Partly    State = "partly"    // kept on some devices, and not on others
	Unsettled State = "unsettled" // it was under way when the backup was taken that the records come from
	Dropped   State = "dropped"
)

// States are all of them, in the order in which a change may come to them.
func States() []State {
	return []State{Draft, Scheduled, Applying, Holding, Confirmed, Reverted, Failed, Partly, Unsettled, Dropped}
}

// Names gives states as text.
func Names(states ...State) []string {
	out := make([]string, len(states))
	for i, s := range states {
		out[i] = string(s)
	}
	return out
}

// Known reports whether there is such a state.
func (s State) Known() bool { return slices.Contains(States(), s) }

// Open reports whether what is staged in a change may be edited, and committed: it is on no device.
func (s State) Open() bool { return s == Draft || s == Failed || s == Reverted }

// UnderWay reports whether a commit of the change is not decided yet.
func (s State) UnderWay() bool { return s == Applying || s == Holding }

// Private reports whether a change is seen by those who work on it alone: it is not, and was not, on devices.
func (s State) Private() bool { return s == Draft || s == Dropped }
