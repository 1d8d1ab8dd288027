package documents

import (
	"cmp"
	"fmt"
	"slices"

	"oakenlatch/core/advice"
	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/lifecycle"
	"oakenlatch/core/tree"
	"oakenlatch/service/access"
	"oakenlatch/service/history"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// Revision tells a revision, with what is known of its change.
func (p *Page) Revision(r store.Revision) (wire.Revision, error) {
	ch, err := p.change(r.Change)
	return wire.Revision{
		Number: r.Number, At: r.At, Source: r.Source, Change: r.Change, Title: ch.Title, Ticket: ch.Ticket,
		Author: ch.Author, Actor: r.Actor, Note: r.Note, Digest: r.Digest,
	}, err
}

// Revisions tells several.
func (p *Page) Revisions(list []store.Revision) ([]wire.Revision, error) {
	out := make([]wire.Revision, 0, len(list))
	if err := p.know(changesOf(list)); err != nil {
		return nil, err
	}
	for _, r := range list {
		doc, err := p.Revision(r)
		if err != nil {
			return nil, err
		}
		out = append(out, doc)
	}
	return out, nil
}

func changesOf(list []store.Revision) []int64 {
	var out []int64
	for _, r := range list {
		if r.Change != 0 {
			out = append(out, r.Change)
		}
	}
	return out
}

var causeText = map[lifecycle.Cause]string{
	lifecycle.FirstRead: "seen for the first time", lifecycle.ByOutside: "changed, not by this service",
	lifecycle.ByReplaced: "another box was put in its place", lifecycle.ByRebuilt: "rebuilt from an archive",
}

// Timeline tells what happened to a device, newest first.
func (p *Page) Timeline(d store.Device) ([]wire.Moment, error) {
	out := []wire.Moment{}
	revs, err := p.Store.Revisions(p.ctx, d.ID)
	if err != nil {
		return nil, err
	}
	if err := p.know(changesOf(revs)); err != nil {
		return nil, err
	}
	for _, r := range revs {
		ch, err := p.change(r.Change)
		if err != nil {
			return nil, err
		}
		m := wire.Moment{
			At: r.At, Kind: lifecycle.MomentKind(r.Source), Text: causeText[r.Source], Actor: r.Actor,
			Revision: r.Number, Change: r.Change,
		}
		if r.Change != 0 {
			m.Text = ch.Title
		}
		out = append(out, m)
	}
	saves, err := p.Store.Startups(p.ctx, d.ID)
	if err != nil {
		return nil, err
	}
	for _, r := range saves {
		m := wire.Moment{
			At: r.At, Kind: lifecycle.MomentSaved, Text: "saved to startup", Actor: r.Actor, Startup: r.Number,
			Change: r.Change,
		}
		switch r.Source {
		case lifecycle.FirstRead:
			continue // nothing happened: it was seen
		case lifecycle.ByOutside:
			m.Kind, m.Text = lifecycle.MomentSavedOutside, "saved to startup, not by this service"
		}
		out = append(out, m)
	}
	snaps, err := p.Store.Snapshots(p.ctx, d.ID)
	if err != nil {
		return nil, err
	}
	for _, s := range snaps {
		if s.Retired.IsZero() && s.Change == 0 {
			out = append(out, wire.Moment{
				At: s.At, Kind: lifecycle.MomentSnapshot, Text: s.Name, Actor: s.Actor, Snapshot: s.Number,
			})
		}
	}
	commits, err := p.Store.CommitsOn(p.ctx, d.ID)
	if err != nil {
		return nil, err
	}
	for _, k := range commits {
		m := wire.Moment{At: k.Started, Text: k.Title, Actor: k.Actor, Change: k.Change}
		switch {
		case !k.Ended.IsZero() && k.State == lifecycle.Confirmed && k.Newest:
			continue // its revision tells
		case !k.Newest, k.State == lifecycle.Reverted, k.State == lifecycle.Failed, k.State == lifecycle.Partly:
			m.Kind, m.At = lifecycle.MomentReverted, k.Ended
			if k.Newest {
				m.Kind, m.Text = lifecycle.MomentKind(k.State), k.Title+": "+k.Reason
			}
		default:
			m.Kind = lifecycle.MomentHolding
		}
		out = append(out, m)
	}
	slices.SortStableFunc(out, func(x, y wire.Moment) int { return y.At.Compare(x.At) })
	return out, nil
}

// named gathers the revisions that a document names, newest first.
func (p *Page) named(t *history.Trail, steps map[int64]bool) ([]wire.Revision, error) {
	var list []store.Revision
	for n := range steps {
		list = append(list, t.By(n))
	}
	slices.SortFunc(list, func(x, y store.Revision) int { return cmp.Compare(y.Number, x.Number) })
	return p.Revisions(list)
}

// Blame tells which revision last set each line of what a device holds at a path, and what is gone from there.
func (p *Page) Blame(d store.Device, t *history.Trail, path tree.Path) (wire.Blame, error) {
	out := wire.Blame{Lines: []wire.BlameLine{}, Gone: []wire.GoneLine{}}
	v := p.Redactor(d)
	out.Device, out.Path, out.Revision = d.Name, path.String(), t.Last.Number
	named := map[int64]bool{}
	for _, l := range t.Lines(v.Tree(t.Now.Cut(path)), nil) {
		line := wire.BlameLine{Depth: l.Depth, Text: l.Text, Path: l.Path.String()}
		if !l.Leads {
			line.Revision = t.By(l.Step).Number
			named[l.Step] = true
		}
		out.Lines = append(out.Lines, line)
	}
	for _, e := range t.Gone(t.Now, path) {
		out.Gone = append(
			out.Gone, wire.GoneLine{Path: e.Path.String(), Was: codec.Text(v.Tree(e.Old)), Revision: e.Step},
		)
		named[e.Step] = true
	}
	if len(out.Lines) == 0 && len(out.Gone) == 0 {
		return out, refusal.New(refusal.NotFound, "", "%s has nothing at %s, and never had", d.Name, path)
	}
	var err error
	out.Revisions, err = p.named(t, named)
	return out, err
}

// Life tells what became of a place on a device, from when it was first seen.
func (p *Page) Life(d store.Device, t *history.Trail, path tree.Path) (wire.Life, error) {
	out := wire.Life{Events: []wire.LifeStep{}}
	v := p.Redactor(d)
	out.Device, out.Path = d.Name, path.String()
	if len(path) == 0 {
		return out, refusal.New(
			refusal.Invalid, "name a path, or see its revisions",
			"the life of the whole configuration is its revisions",
		).Do(advice.ListRevisions, d.Name)
	}
	out.Now = codec.Text(v.Tree(t.Now.At(path)))
	named := map[int64]bool{}
	events := t.Life(path)
	first := t.Now.At(path)
	if len(events) > 0 {
		first = nil
		if e := events[0]; e.Path.Full() == path.Full() {
			first = e.Old
		}
	}
	if first != nil { // as it was when the device was first seen
		out.Events = append(
			out.Events,
			wire.LifeStep{
				Revision: t.First.Number, Kind: diff.Added, Path: path.String(), New: codec.Text(v.Tree(first)),
			},
		)
		named[0] = true
	}
	for _, e := range events {
		out.Events = append(
			out.Events,
			wire.LifeStep{
				Revision: e.Step, Kind: e.Kind, Path: e.Path.String(), Old: codec.Text(v.Tree(e.Old)),
				New: codec.Text(v.Tree(e.New)),
			},
		)
		named[e.Step] = true
	}
	if len(out.Events) == 0 {
		return out, refusal.New(refusal.NotFound, "", "%s has nothing at %s, and never had", d.Name, path)
	}
	var err error
	out.Revisions, err = p.named(t, named)
	return out, err
}

// Snapshots tells of snapshots. One that a commit took is called after its change: who may not see that is told its
// number alone.
func (p *Page) Snapshots(list []store.Snapshot) ([]wire.Snapshot, error) {
	devices := map[int64][]store.Device{}
	if !p.person.Grants.Everywhere(access.Read) {
		var changes []int64
		for _, s := range list {
			if s.Change != 0 {
				changes = append(changes, s.Change)
			}
		}
		var err error
		if devices, err = p.Store.DevicesOfChanges(p.ctx, changes); err != nil {
			return nil, err
		}
	}
	hidden := func(d store.Device) bool { return !p.person.Grants.May(access.Read, d) }
	out := make([]wire.Snapshot, 0, len(list))
	for _, s := range list {
		if s.Change != 0 && slices.ContainsFunc(devices[s.Change], hidden) {
			s.Name, s.Note = fmt.Sprintf("Before change %d", s.Change), ""
		}
		out = append(out, wire.Snapshot{
			Number: s.Number, Name: s.Name, Note: s.Note, Actor: s.Actor, At: s.At, Change: s.Change,
			Protected: s.Protected, Retired: s.Retired, RetiredBy: s.RetiredBy, Devices: s.Devices,
		})
	}
	return out, nil
}

// Snapshot tells of one.
func (p *Page) Snapshot(s store.Snapshot) (wire.Snapshot, error) {
	list, err := p.Snapshots([]store.Snapshot{s})
	if err != nil {
		return wire.Snapshot{}, err
	}
	return list[0], nil
}

// Taken tells a snapshot with what it holds.
func (p *Page) Taken(t history.Taken) (wire.Snapshot, error) {
	out, err := p.Snapshot(t.Snapshot)
	if err != nil {
		return out, err
	}
	for _, i := range t.Items {
		out.Items = append(
			out.Items, wire.SnapshotItem{Device: i.Device.Name, Revision: i.Revision, At: i.At, Unclean: i.Unclean},
		)
		out.Unclean = out.Unclean || len(i.Unclean) > 0
	}
	return out, nil
}
