package api

import (
	"context"
	"errors"
	"strconv"

	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/tree"
	"oakenlatch/service/desk"
	"oakenlatch/service/fleet"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// changeDoc tells a change and its last commit. The commit is read first: they
// move together, so the change's state is then never older than the phase.
func (a *API) changeDoc(c *call, ch store.Change) (wire.Change, error) {
	cm, err := a.Store.LastCommit(c.ctx, ch.Number)
	committed := err == nil
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return wire.Change{}, err
	}
	if ch, err = a.Store.Change(c.ctx, ch.Number); err != nil {
		return wire.Change{}, err
	}
	out := wire.Change{
		Number: ch.Number, Title: ch.Title, Ticket: ch.Ticket, Author: ch.Author, State: ch.State, Reason: ch.Reason,
		Opened: ch.Opened, Updated: ch.Updated, Devices: []string{},
	}
	parts, err := a.Store.Parts(c.ctx, ch.Number)
	if err != nil {
		return out, err
	}
	for _, p := range parts {
		d, err := a.Store.DeviceByID(c.ctx, p.Device)
		if err != nil {
			return out, err
		}
		out.Devices = append(out.Devices, d.Name)
	}
	edits, err := a.Store.Edits(c.ctx, ch.Number)
	if err != nil {
		return out, err
	}
	out.Edits = len(edits)
	if ch.State == "scheduled" {
		if out.Due, err = a.dueOf(c, ch.Number); err != nil {
			return out, err
		}
	}
	if !committed {
		return out, nil
	}
	out.Commit = a.commitDoc(cm)
	return out, nil
}

// visible gives the change in the path, if the person may see it.
func (a *API) visible(c *call) (store.Change, error) {
	n, err := numberParam(c)
	if err != nil {
		return store.Change{}, err
	}
	return a.Desk.Get(c.ctx, c.person, n)
}

func (a *API) changes(c *call) (any, error) {
	list, err := a.Desk.List(c.ctx, c.person)
	if err != nil {
		return nil, err
	}
	out := make([]wire.Change, 0, len(list))
	for _, ch := range list {
		doc, err := a.changeDoc(c, ch)
		if err != nil {
			return nil, err
		}
		out = append(out, doc)
	}
	return out, nil
}

func (a *API) open(c *call) (any, error) {
	var in wire.NewChange
	if err := c.read(&in); err != nil {
		return nil, err
	}
	ch, err := a.Desk.Open(c.ctx, c.person, in.Title, in.Ticket)
	if err != nil {
		return nil, err
	}
	return a.changeDoc(c, ch)
}

func (a *API) change(c *call) (any, error) {
	ch, err := a.visible(c)
	if err != nil {
		return nil, err
	}
	return a.changeDoc(c, ch)
}

func editDoc(device string, e store.Edit) wire.Edit {
	return wire.Edit{ID: e.ID, Device: device, Op: e.Op, Path: e.Path, Value: e.Value, Actor: e.Actor, At: e.At}
}

func (a *API) stage(c *call) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	var in wire.NewEdit
	if err := c.read(&in); err != nil {
		return nil, err
	}
	st, err := a.Desk.Stage(c.ctx, c.person, n, in.Device, in.Op, in.Path, in.Value)
	if err != nil {
		return nil, err
	}
	doc := editDoc(in.Device, st.Edit)
	doc.Path = st.Path.String()
	return wire.Staged{Edit: doc, Before: st.Before, After: st.After, Notes: st.Notes}, nil
}

func (a *API) unstage(c *call) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return nil, refusal.New(refusal.Invalid, "", "%q is not the number of an edit", c.Param("id"))
	}
	return nil, a.Desk.Drop(c.ctx, c.person, n, id)
}

func (a *API) drop(c *call) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	return nil, a.Desk.Abandon(c.ctx, c.person, n)
}

func (a *API) preview(c *call) (any, error) {
	ch, err := a.visible(c)
	if err != nil {
		return nil, err
	}
	context, err := contextParam(c)
	if err != nil {
		return nil, err
	}
	switch ch.State {
	case "draft", "failed", "reverted", "scheduled":
		return a.previewAhead(c, ch, context)
	}
	return a.previewDone(c, ch, context)
}

// previewAhead is what a commit would do now.
func (a *API) previewAhead(c *call, ch store.Change, context int) (any, error) {
	_, verdicts, err := a.Desk.Preview(c.ctx, c.person, ch.Number)
	if err != nil {
		return nil, err
	}
	out := wire.Preview{Parts: []wire.PartPreview{}, Empty: true, Ready: true, Against: "running"}
	if out.Change, err = a.changeDoc(c, ch); err != nil {
		return nil, err
	}
	for _, v := range verdicts {
		p := partPreview(v, context)
		out.Ready = out.Ready && v.Hindrance() == ""
		out.Empty = out.Empty && v.Idle
		out.Parts = append(out.Parts, p)
	}
	out.Ready = out.Ready && !out.Empty
	return out, nil
}

// manyChanges is from where on like changes are also told together.
const manyChanges = 50

func partPreview(v desk.Verdict, context int) wire.PartPreview {
	p := wire.PartPreview{
		Device: v.Device, Base: v.Base, Edits: []wire.Edit{}, Count: v.Difference.Count(), Lines: lines(v.Difference, context), Items: items(v.Difference),
		Read: v.Read, Trouble: v.Trouble, Behind: v.Behind, Findings: v.Check.Findings, Unchecked: v.Check.Unchecked, Reasons: v.Check.Reasons,
		Guard: guardDoc(v.Guard), Unsaved: v.Unsaved,
	}
	if p.Count > manyChanges {
		p.Groups = v.Difference.Groups()
	}
	for _, e := range v.Edits {
		p.Edits = append(p.Edits, editDoc(v.Device, e))
	}
	if v.Behind {
		p.Moved = lines(v.Moved, context)
	}
	for _, x := range v.Conflicts {
		p.Conflicts = append(p.Conflicts, wire.Conflict{Path: x.Path.String(), Base: side(x.Base), Mine: side(x.Mine), Theirs: side(x.Theirs), Why: x.Why})
	}
	return p
}

func side(n *tree.Node) string {
	if n == nil {
		return "(absent)"
	}
	return codec.Text(n)
}

func lines(d *diff.Difference, context int) []diff.Line {
	if out := d.Lines(context); out != nil {
		return out
	}
	return []diff.Line{}
}

func items(d *diff.Difference) []diff.Item {
	if out := d.Items(); out != nil {
		return out
	}
	return []diff.Item{}
}

// previewDone is what the last commit did, from the record.
func (a *API) previewDone(c *call, ch store.Change, context int) (any, error) {
	out := wire.Preview{Parts: []wire.PartPreview{}, Against: "record"}
	var err error
	if out.Change, err = a.changeDoc(c, ch); err != nil {
		return nil, err
	}
	edits, err := a.Store.Edits(c.ctx, ch.Number)
	if err != nil {
		return nil, err
	}
	cm, err := a.Store.LastCommit(c.ctx, ch.Number)
	if errors.Is(err, store.ErrNotFound) {
		return out, nil // dropped before any commit
	}
	if err != nil {
		return nil, err
	}
	for _, cp := range cm.Parts {
		d, err := a.Store.DeviceByID(c.ctx, cp.Device)
		if err != nil {
			return nil, err
		}
		p := wire.PartPreview{Device: d.Name, Edits: []wire.Edit{}, Lines: []diff.Line{}, Items: []diff.Item{}, Read: true, Guard: guardDoc(fleet.GuardOf(d.Capabilities))}
		for _, e := range edits {
			if e.Device == d.ID {
				p.Edits = append(p.Edits, editDoc(d.Name, e))
			}
		}
		if cp.Base != "" {
			df, err := a.recorded(c.ctx, d, cp)
			if err != nil {
				return nil, err
			}
			p.Count, p.Lines, p.Items = df.Count(), lines(df, context), items(df)
		}
		out.Parts = append(out.Parts, p)
	}
	return out, nil
}

func (a *API) recorded(ctx context.Context, d store.Device, cp store.CommitPart) (*diff.Difference, error) {
	s, err := a.Fleet.Schema(ctx, d)
	if err != nil {
		return nil, err
	}
	base, err := a.History.Tree(ctx, s, cp.Base)
	if err != nil {
		return nil, err
	}
	result, err := a.History.Tree(ctx, s, cp.Result)
	return diff.Compare(base, result), err
}

func (a *API) reload(c *call, n int64) (any, error) {
	ch, err := a.Store.Change(c.ctx, n)
	if err != nil {
		return nil, err
	}
	return a.changeDoc(c, ch)
}
