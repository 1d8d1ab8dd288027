package desk

import (
	"context"

	"oakenlatch/core/ledger"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/store"
)

// What rooms that stage something of their own in changes do it with: [Desk.Workable], [Desk.ToLoad], and within
// [Desk.Edit] or [Desk.Draft] [Desk.StageLoad] or [Desk.AddEdit].

// Workable gives a change's part on a device to build on: refused where its edits no longer fit, or where it is not
// as it was when its tag was taken ("" is any).
func (d *Desk) Workable(
	ctx context.Context, p access.Person, c store.Change, device, tag string,
) (Work, error) {
	w, err := d.work(ctx, p.Reach(), c, device, p.Name)
	if err == nil {
		err = w.fits()
	}
	if err == nil {
		err = w.unmoved(tag)
	}
	return w, err
}

// Draft enters a change that is opened, with what is noted of it, within a transaction.
func Draft(tx *audit.Tx, c store.Change, note string) (store.Change, error) {
	c, err := tx.AddChange(c)
	if err != nil {
		return c, err
	}
	return c, tx.Record(ledger.Entry{Actor: c.Author, Action: "change.open", Change: c.Number, Note: note})
}
