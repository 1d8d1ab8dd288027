package restore

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"oakenlatch/core/diff"
	"oakenlatch/core/tree"
	"oakenlatch/service/access"
	"oakenlatch/service/desk"
	"oakenlatch/service/history"
	"oakenlatch/service/store"
)

// Push is an outside change that something is to be made of.
type Push struct {
	Device  store.Device
	Outside store.Outside
	Title   string // of the change that is opened; "" is made up
	Ticket  string
}

func (x Push) name() string {
	return fmt.Sprintf("outside change %d on %s", x.Outside.ID, x.Device.Name)
}

// sides gives what the device held before an outside change and after it.
func (rs *Restorer) sides(
	ctx context.Context, r history.Reading, x Push,
) (rev store.Revision, made, before *tree.Node, err error) {
	if rev, err = rs.store.Revision(ctx, x.Device.ID, x.Outside.Revision); err != nil {
		return rev, nil, nil, err
	}
	was, err := rs.store.Revision(ctx, x.Device.ID, x.Outside.Before)
	if err != nil {
		return rev, nil, nil, err
	}
	if made, err = rs.history.Tree(ctx, r.Schema, rev.Digest); err != nil {
		return rev, nil, nil, err
	}
	before, err = rs.history.Tree(ctx, r.Schema, was.Digest)
	return rev, made, before, err
}

// PushBack opens a change that takes an outside change back: its inverse,
// staged on what it made, so that what came since is met like any device that
// moved on.
func (rs *Restorer) PushBack(ctx context.Context, p access.Person, x Push) (store.Change, []Brought, error) {
	c, err := rs.into(ctx, p, Bring{Title: x.Title, Ticket: x.Ticket}, "Push back "+x.name())
	if err != nil {
		return c, nil, err
	}
	now, err := rs.history.ToBuildOn(ctx, p.Reach(), x.Device.Name, p.Name)
	if err != nil {
		return c, nil, err
	}
	rev, made, before, err := rs.sides(ctx, now, x)
	if err != nil {
		return c, nil, err
	}
	one := Brought{Device: x.Device.Name}
	one.work = desk.NewPart(now.Device, now.Schema, rev, made)
	result, conflicts := diff.Merge(made, before, now.Running)
	if len(conflicts) > 0 {
		one.Notes = append(
			one.Notes,
			fmt.Sprintf("%s set again since: the preview shows each, and you decide", placesAre(len(conflicts))),
		)
	}
	if tree.Same(result, now.Running) && len(conflicts) == 0 {
		one.Notes = append(
			one.Notes, "nothing of it is left on the device; adopt it instead, with a note that it is gone",
		)
		return store.Change{}, []Brought{one}, nil
	}
	if err := rs.undoTo(ctx, &one, p, before, result, x.name()); err != nil {
		return c, nil, err
	}
	// What it takes back is what was asked for, and no later work.
	one.Takes = slices.DeleteFunc(one.Takes, func(l Later) bool { return l.Revision.Number == rev.Number })
	return rs.stageBrought(ctx, p, c, true, []Brought{one}, "pushes back "+x.name())
}

// GoOn opens a change that goes on from an outside change: the same on the
// devices that are named. Where none is, it is a draft that tells of it.
func (rs *Restorer) GoOn(
	ctx context.Context,
	p access.Person,
	x Push,
	devices []string,
) (store.Change, []Brought, error) {
	now, err := rs.history.ToBuildOn(ctx, p.Reach(), x.Device.Name, p.Name)
	if err != nil {
		return store.Change{}, nil, err
	}
	_, made, before, err := rs.sides(ctx, now, x)
	if err != nil {
		return store.Change{}, nil, err
	}
	title := x.Title
	if title == "" {
		title = "Go on from " + x.name()
	}
	c, err := rs.desk.Open(ctx, p, title, x.Ticket)
	if err != nil {
		return c, nil, err
	}
	if _, err := rs.desk.Note(
		ctx, p, c.Number,
		fmt.Sprintf(
			"It goes on from %s, revision %d, %s; %s.",
			x.name(), x.Outside.Revision, desk.CountPlaces(x.Outside.Places), x.Outside.Who,
		),
	); err != nil {
		return c, nil, err
	}
	if len(devices) == 0 {
		return c, nil, nil
	}
	patch := diff.Compare(before, made).YangPatchXML(now.Schema, fmt.Sprintf("outside-%d", x.Outside.ID))
	loaded, err := rs.desk.Load(ctx, p, c.Number, devices, desk.Load{Mode: desk.Patch, Text: patch, Name: x.name()})
	if err != nil {
		return store.Change{}, nil, errors.Join(err, rs.desk.Abandon(ctx, p, c.Number))
	}
	var out []Brought
	for _, l := range loaded {
		one := Brought{Device: l.Device, Difference: l.Difference, Notes: l.Notes}
		if l.Edit.ID != 0 {
			one.Edits = []store.Edit{l.Edit}
		}
		out = append(out, one)
	}
	return c, out, nil
}
