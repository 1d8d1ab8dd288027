package api

import (
	"errors"
	"slices"

	"oakenlatch/service/engine"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// changeDoc tells a change and its last commit, as they stood together.
func (a *API) changeDoc(c *call, ch store.Change) (wire.Change, error) {
	ch, cm, committed, err := a.atOneMoment(c, ch.Number)
	if err != nil {
		return wire.Change{}, err
	}
	out := wire.Change{
		Number: ch.Number, Title: ch.Title, Ticket: ch.Ticket, Author: ch.Author, State: ch.State, Reason: ch.Reason,
		Opened: ch.Opened, Updated: ch.Updated, Devices: []string{},
	}
	devices, err := a.Store.ChangeDevices(c.ctx, c.person.Reach(), ch.Number)
	if err != nil {
		return out, err
	}
	for _, d := range devices {
		out.Devices = append(out.Devices, d.Name)
	}
	if out.Edits, err = a.Store.CountEdits(c.ctx, ch.Number); err != nil {
		return out, err
	}
	if out.Coworkers, err = a.Store.Coworkers(c.ctx, ch.Number); err != nil {
		return out, err
	}
	notes, err := a.Store.Notes(c.ctx, ch.Number)
	if err != nil {
		return out, err
	}
	for _, n := range notes {
		out.Notes = append(out.Notes, wire.Note{Actor: n.Actor, At: n.At, Text: n.Text})
	}
	if ch.State == "scheduled" {
		if out.Due, err = a.dueOf(c, ch.Number); err != nil {
			return out, err
		}
	}
	if !committed {
		return out, nil
	}
	if s, live := a.liveState(cm); live {
		out.State, out.Reason = engine.ChangeState(s) // as its commit stands, and not as it stood a moment ago
	}
	out.Commit = a.commitDoc(cm)
	during, err := a.Store.OutsideDuring(c.ctx, ch.Number)
	if err != nil || len(during) == 0 {
		return out, err
	}
	out.Meanwhile, err = a.outsideList(c, during)
	return out, err
}

// atOneMoment gives a change and its newest commit as they stood together.
func (a *API) atOneMoment(c *call, number int64) (ch store.Change, cm store.Commit, committed bool, err error) {
	if ch, err = a.Store.Change(c.ctx, number); err != nil {
		return ch, cm, false, err
	}
	for {
		cm, err = a.Store.LastCommit(c.ctx, number)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return ch, cm, false, err
		}
		committed = err == nil
		now, err := a.Store.Change(c.ctx, number)
		if err != nil || now.State == ch.State && now.Updated.Equal(ch.Updated) {
			return now, cm, committed, err
		}
		ch = now // it moved on meanwhile
	}
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
	before, limit := int64(0), int64(200)
	if err := c.numbers(map[string]*int64{"before": &before, "limit": &limit}); err != nil {
		return nil, err
	}
	if limit > 500 {
		return nil, refusal.New(refusal.Invalid, "ask again with before, the number of the last one that was given", "limit is %d, at most 500 are given at once", limit)
	}
	list, err := a.Desk.List(c.ctx, c.person)
	if err != nil {
		return nil, err
	}
	if before > 0 {
		list = slices.DeleteFunc(list, func(ch store.Change) bool { return ch.Number >= before })
	}
	list = list[:min(len(list), int(limit))]
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

func (a *API) drop(c *call) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	return nil, a.Desk.Abandon(c.ctx, c.person, n)
}

func (a *API) reload(c *call, n int64) (any, error) {
	ch, err := a.Store.Change(c.ctx, n)
	if err != nil {
		return nil, err
	}
	return a.changeDoc(c, ch)
}
