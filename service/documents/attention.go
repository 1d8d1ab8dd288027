package documents

import (
	"context"
	"encoding/json"

	"oakenlatch/core/lifecycle"
	"oakenlatch/service/access"
	"oakenlatch/service/notify"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// mostDrafts is how many of one's own drafts are told of as waiting; the newest.
const mostDrafts = 200

// WitnessList tells how those stand who vouch for the record from outside.
func (d *Documents) WitnessList() []wire.Witness {
	out := []wire.Witness{}
	for _, s := range d.Witnesses.Standings() {
		out = append(
			out,
			wire.Witness{Name: s.Name, URL: s.URL, Entries: s.Size, At: s.At, Trouble: s.Trouble, Denies: s.Denies},
		)
	}
	return out
}

// Proposal tells an act of administration that waits for others.
func (d *Documents) Proposal(ctx context.Context, p store.Proposal) (wire.Proposal, error) {
	missing, err := d.Accounts.MissingTo(ctx, p)
	return wire.Proposal{
		Number: p.ID, Says: p.Says, Actor: p.Actor, At: p.At, Agreed: append([]string{}, p.Agreed...), Missing: missing,
	}, err
}

// Proposals tells those that wait, for who may agree to them.
func (d *Documents) Proposals(ctx context.Context, p access.Person) ([]wire.Proposal, error) {
	out := []wire.Proposal{}
	if !p.Grants.Everywhere(access.Administer) {
		return out, nil
	}
	list, err := d.Store.Proposals(ctx)
	if err != nil {
		return nil, err
	}
	for _, x := range list {
		doc, err := d.Proposal(ctx, x)
		if err != nil {
			return nil, err
		}
		out = append(out, doc)
	}
	return out, nil
}

// Receiver tells of somebody who is told of the record; last is its newest entry.
func Receiver(r store.Receiver, last int64) wire.Receiver {
	out := wire.Receiver{
		Name: r.Name, Kind: r.Kind, Place: r.Place, Line: r.Line, Added: r.Added, AddedBy: r.AddedBy, Last: r.Last,
		Told: r.Told, Trouble: r.Trouble, Since: r.TroubleAt,
	}
	var s notify.Settings
	if json.Unmarshal([]byte(r.Settings), &s) == nil {
		out.From, out.To, out.Account, out.Gather, out.Private = s.From, s.To, s.Account, s.Gather, s.Authority != ""
	}
	if r.Trouble != "" {
		out.Behind = max(0, last-r.Position)
	}
	return out
}

// Receivers tells of all of them.
func (d *Documents) Receivers(ctx context.Context) ([]wire.Receiver, error) {
	list, err := d.Store.Receivers(ctx)
	if err != nil || len(list) == 0 {
		return []wire.Receiver{}, err
	}
	last, err := d.Store.LastEntry(ctx)
	out := make([]wire.Receiver, 0, len(list))
	for _, r := range list {
		out = append(out, Receiver(r, last))
	}
	return out, err
}

// LostHolds tells what was on hold and the records know nothing of. It is for those who see all devices: the records do
// not say whose these are.
func (d *Documents) LostHolds(p access.Person) []wire.LostHold {
	out := []wire.LostHold{}
	if p.Fits(access.Need{Role: access.Read, Everywhere: true}) != nil {
		return out
	}
	for _, h := range d.Engine.Lost() {
		doc := wire.LostHold{
			Change: h.Change, Title: h.Title, By: h.By, Began: h.Began, Until: h.Until, Devices: []wire.LostDevice{},
		}
		for _, x := range h.Devices {
			doc.Devices = append(doc.Devices, wire.LostDevice{Name: x.Name, Address: x.Address, Guard: x.Guard})
		}
		out = append(out, doc)
	}
	return out
}

// Attention gathers what needs a decision now: what the console opens on.
func (d *Documents) Attention(ctx context.Context, p access.Person) (wire.Attention, error) {
	out := wire.Attention{
		LostHolds: d.LostHolds(p), Damaged: []string{}, Denied: []wire.Witness{}, Untold: []wire.Receiver{},
	}
	for _, x := range d.History.Damage() {
		out.Damaged = append(out.Damaged, x.Error()+"; "+x.Next().String())
	}
	if err := d.Store.Check(ctx); err != nil {
		out.Records = err.Error()
	}
	for _, w := range d.WitnessList() {
		if w.Denies {
			out.Denied = append(out.Denied, w)
		}
	}
	for _, gather := range []func(context.Context, access.Person, *wire.Attention) error{
		d.changesToDecide, d.devicesToDecide, d.copiesToDecide, d.restToDecide,
	} {
		if err := gather(ctx, p, &out); err != nil {
			return out, err
		}
	}
	return out, nil
}

// changesToDecide are changes that are under way or wait for a person, and one's own drafts.
func (d *Documents) changesToDecide(ctx context.Context, p access.Person, out *wire.Attention) (err error) {
	sight, err := d.Desk.Sight(ctx, p)
	if err != nil {
		return err
	}
	// Together: one that goes from one to the other meanwhile is told once.
	open, err := d.List(ctx, p, store.ChangeQuery{
		States: []lifecycle.State{lifecycle.Holding, lifecycle.Applying, lifecycle.Unsettled}, Sight: sight,
	})
	if err != nil {
		return err
	}
	out.Holding, out.Unsettled = []wire.Change{}, []wire.Change{}
	for _, c := range open {
		if c.State == lifecycle.Unsettled {
			out.Unsettled = append(out.Unsettled, c)
		} else {
			out.Holding = append(out.Holding, c)
		}
	}
	if out.Drafts, err = d.List(
		ctx, p, store.ChangeQuery{States: []lifecycle.State{lifecycle.Draft}, Limit: mostDrafts, Sight: sight},
	); err != nil {
		return err
	}
	asked, err := d.Approvals.ToApprove(ctx, p)
	if err != nil {
		return err
	}
	if out.Approve, err = d.Changes(ctx, p, numbersOf(asked)); err != nil {
		return err
	}
	if out.Emergencies, err = d.Emergencies(ctx, p, sight, false); err != nil {
		return err
	}
	waiting, err := d.Store.Waiting(ctx)
	if err != nil {
		return err
	}
	out.Scheduled, err = d.Schedule(ctx, p, sight, waiting)
	return err
}

func (d *Documents) devicesToDecide(ctx context.Context, p access.Person, out *wire.Attention) (err error) {
	unsaved, trouble, err := d.inNeed(ctx, p)
	if err != nil {
		return err
	}
	out.Unsaved, out.Trouble = append([]wire.Device{}, unsaved...), append([]wire.Device{}, trouble...)
	if out.Reserved, err = d.ReservationList(ctx, p); err != nil {
		return err
	}
	out.Outside, err = d.Outsides(ctx, p, 0, true)
	return err
}

func (d *Documents) copiesToDecide(ctx context.Context, p access.Person, out *wire.Attention) error {
	archives, uncopied, err := d.uncopied(ctx, p)
	out.Archives, out.Uncopied = append([]wire.Archive{}, archives...), append([]wire.Standing{}, uncopied...)
	return err
}

func (d *Documents) restToDecide(ctx context.Context, p access.Person, out *wire.Attention) (err error) {
	if out.Proposals, err = d.Proposals(ctx, p); err != nil {
		return err
	}
	receivers, err := d.Receivers(ctx)
	for _, r := range receivers {
		if r.Trouble != "" {
			out.Untold = append(out.Untold, r)
		}
	}
	return err
}
