package documents

import (
	"oakenlatch/service/approval"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// Rule tells what is not committed without approval by others.
func Rule(r store.ApprovalRule) wire.ApprovalRule {
	return wire.ApprovalRule{
		Number: r.ID, Scope: r.Scope, Path: r.Path, Needed: r.Needed, Emergency: r.Emergency, Note: r.Note,
		Actor: r.Actor, At: r.At,
	}
}

func approvals(list []store.Approval) []wire.Agreement {
	out := make([]wire.Agreement, 0, len(list))
	for _, x := range list {
		out = append(out, wire.Agreement{Actor: x.Actor, Digest: x.Digest, Note: x.Note, At: x.At})
	}
	return out
}

// Approval tells how the approval of others to a change stands: nil where nobody has to agree, or is asked to.
func Approval(x approval.Approval) *wire.Approval {
	if x.Needed == 0 && x.Asked == nil && len(x.Have) == 0 {
		return nil
	}
	out := &wire.Approval{
		Needed: x.Needed, Missing: x.Missing(), Rules: []wire.ApprovalRule{}, Have: approvals(x.Have),
		Fallen: approvals(x.Fallen), Emergency: x.Emergency,
	}
	for _, r := range x.Rules {
		out.Rules = append(out.Rules, Rule(r))
	}
	if x.Asked != nil {
		out.AskedBy, out.AskedAt, out.AskedNote = x.Asked.Actor, x.Asked.At, x.Asked.Note
	}
	return out
}
