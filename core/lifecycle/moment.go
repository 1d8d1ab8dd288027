package lifecycle

// MomentKind is what happened to a device at a moment of its timeline: a revision's cause, or else.
type MomentKind string

// What may happen to a device.
const (
	MomentFirst        MomentKind = "first"
	MomentChange       MomentKind = "change"
	MomentOutside      MomentKind = "outside"
	MomentReplaced     MomentKind = "replaced"
	MomentRebuilt      MomentKind = "rebuilt"
	MomentSaved        MomentKind = "saved"
	MomentSavedOutside MomentKind = "saved-outside"
	MomentSnapshot     MomentKind = "snapshot"
	MomentHolding      MomentKind = "holding"  // a commit is under way
	MomentReverted     MomentKind = "reverted" // one was reverted
	MomentFailed       MomentKind = "failed"
	MomentPartly       MomentKind = "partly"
)

// MomentKinds are all of them.
func MomentKinds() []MomentKind {
	return []MomentKind{
		MomentFirst, MomentChange, MomentOutside, MomentReplaced, MomentRebuilt, MomentSaved, MomentSavedOutside,
		MomentSnapshot, MomentHolding, MomentReverted, MomentFailed, MomentPartly,
	}
}
