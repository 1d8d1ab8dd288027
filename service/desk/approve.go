package desk

import (
	"context"
	"slices"
	"unicode/utf8"

	"oakenlatch/core/advice"
	"oakenlatch/core/ledger"
	"oakenlatch/core/lifecycle"
	"oakenlatch/service/access"
	"oakenlatch/service/approval"
	"oakenlatch/service/audit"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// AskFor asks others to agree to a change: those who may, see it from then on.
func (d *Desk) AskFor(ctx context.Context, p access.Person, number int64, note string) error {
	if _, err := d.Own(ctx, p, number); err != nil {
		return err
	}
	if utf8.RuneCountInString(note) > approval.MostNote {
		return refusal.New(refusal.Invalid, "", "a note has at most %d characters", approval.MostNote)
	}
	return d.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.AskApproval(
			store.ApprovalAsk{Change: number, Actor: p.Name, Note: note, At: d.log.Now()},
		); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: p.Name, Action: "approval.ask", Change: number, Note: note})
	})
}

// Approve agrees to a change as a preview showed it: to nothing else.
func (d *Desk) Approve(ctx context.Context, p access.Person, number int64, digest, note string) error {
	c, err := d.Get(ctx, p, number)
	if err != nil {
		return err
	}
	authors, err := d.store.Workers(ctx, number)
	switch {
	case err != nil:
		return err
	case p.Machine:
		return refusal.New(
			refusal.Forbidden, "sign in, and do it then", "a machine's token agrees to nothing: that is for a person",
		)
	case slices.Contains(authors, p.Name):
		return refusal.New(
			refusal.Forbidden, "ask somebody else", "%s worked on change %d, and others have to agree to it", p.Name,
			number,
		)
	case !c.State.Open() && c.State != lifecycle.Scheduled:
		return refusal.New(refusal.Conflict, "", "change %d is %s: there is nothing to agree to", number, c.State)
	case digest == "":
		return refusal.New(
			refusal.Invalid, "see it",
			"which preview of change %d is agreed to is not said", number,
		).Do(advice.PreviewChange, number)
	case utf8.RuneCountInString(note) > approval.MostNote:
		return refusal.New(refusal.Invalid, "", "a note has at most %d characters", approval.MostNote)
	}
	_, seen, err := d.Preview(ctx, p, number, Options{})
	if err != nil {
		return err
	}
	if seen.Digest != digest {
		return refusal.New(
			refusal.Moved, "look at it again",
			"change %d is not what preview %s showed any more: it is %s now", number, digest, seen.Digest,
		).Do(advice.PreviewChange, number)
	}
	return d.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.Approve(
			store.Approval{Change: number, Actor: p.Name, Digest: digest, Note: note, At: d.log.Now()},
		); err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{Actor: p.Name, Action: "approval.give", Change: number, After: digest, Note: note},
		)
	})
}
