package lifecycle

// OutsideState is how a change that was found on a device, and was not made by this service, stands.
type OutsideState string

// The states of an outside change.
const (
	OutsideOpen     OutsideState = "open"
	OutsideAdopted  OutsideState = "adopted"
	OutsidePushed   OutsideState = "pushed-back" // a change takes it back
	OutsideOpened   OutsideState = "opened"      // a change goes on from it
	OutsideSilenced OutsideState = "silenced"    // it always moves
)

// OutsideStates are all of them.
func OutsideStates() []OutsideState {
	return []OutsideState{OutsideOpen, OutsideAdopted, OutsidePushed, OutsideOpened, OutsideSilenced}
}

// Cause is what a revision of a device's configuration came of.
type Cause string

// The causes of revisions.
const (
	FirstRead  Cause = "first"    // the device was read for the first time
	ByChange   Cause = "change"   // the commit of a change of this service
	ByOutside  Cause = "outside"  // somebody else changed it
	ByReplaced Cause = "replaced" // another box was put in the device's place
	ByRebuilt  Cause = "rebuilt"  // it is from an archive
	BySave     Cause = "saved"    // of startup: this service saved what ran
)

// Causes are all of them.
func Causes() []Cause { return []Cause{FirstRead, ByChange, ByOutside, ByReplaced, ByRebuilt, BySave} }
