package api

import (
	"oakenlatch/service/access"
	"oakenlatch/service/documents"
	"oakenlatch/service/refusal"
	"oakenlatch/service/restore"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// outsideRoutes are those about what was changed outside this service.
func (a *API) outsideRoutes() []route {
	return []route{
		{
			id: "listOutside", method: "GET", path: "/outside", needs: toRead,
			summary: "Outside changes, newest first: those that are to be decided, or with all=true the newest of " +
				"all; of a device",
			out: []wire.Outside{}, query: []string{"device", "all"}, handle: a.outsides,
		},
		{
			id: "getOutside", method: "GET", path: "/outside/:number", needs: toRead,
			summary: "One outside change, with its difference and what the device told; context is the number of " +
				"unchanged neighbours",
			out: wire.Outside{}, query: []string{"context"}, handle: a.outside,
		},
		{
			id: "adoptOutside", method: "POST", path: "/outside/:number/adopt", needs: toStage,
			summary: "Take an outside change as it is, with a note",
			in:      wire.Adopt{}, out: wire.Outside{}, handle: a.adopt,
		},
		{
			id: "pushBackOutside", method: "POST", path: "/outside/:number/push-back", needs: toStage,
			summary: "Stage the undoing of an outside change, and of nothing that came after it; it is decided when " +
				"that change is confirmed",
			status: 201, in: wire.NewPush{}, out: wire.Pushed{}, handle: a.pushBack,
		},
		{
			id: "openFromOutside", method: "POST", path: "/outside/:number/open", needs: toStage,
			summary: "Open a change that goes on from an outside change: the same on other devices, or a draft",
			status:  201, in: wire.NewPush{}, out: wire.Pushed{}, handle: a.goOn,
		},
		{
			id: "listSilences", method: "GET", path: "/silences", needs: toRead,
			summary: "The paths that always move, and need no decision",
			out:     []wire.Silence{}, handle: a.silences,
		},
		{
			id: "addSilence", method: "POST", path: "/silences", needs: toStage,
			summary: "Say of a path, on a device or on all, that it always moves",
			status:  201, in: wire.NewSilence{}, out: wire.Silence{}, handle: a.silence,
		},
		{
			id: "dropSilence", method: "DELETE", path: "/silences/:number", needs: toStage,
			summary: "Take that back",
			status:  204, handle: a.unsilence,
		},
	}
}

func (a *API) outsides(c *call) (any, error) {
	device, err := a.deviceQuery(c)
	if err != nil {
		return nil, err
	}
	return a.Documents.Outsides(c.ctx, c.person, device, c.QueryParam("all") != "true")
}

func (a *API) outside(c *call) (any, error) {
	n, err := numberIn(c, "number", "number of an outside change")
	if err != nil {
		return nil, err
	}
	context, err := contextParam(c)
	if err != nil {
		return nil, err
	}
	o, d, err := a.Decisions.Find(c.ctx, c.person.Reach(), n)
	if err != nil {
		return nil, err
	}
	out, err := a.Documents.Outside(c.ctx, c.person, o)
	if err != nil {
		return nil, err
	}
	out.Listened = a.History.Listened(d)
	s, err := a.Fleet.Schema(c.ctx, d)
	if err != nil {
		return nil, err
	}
	df, err := a.History.Between(c.ctx, s, d.ID, o.Before, o.Revision)
	if err != nil {
		return nil, err
	}
	df = a.page(c).Redactor(d).Difference(df)
	out.Lines, out.Items = documents.Lines(df, context), documents.Items(df)
	return out, nil
}

func (a *API) adopt(c *call) (any, error) {
	n, err := numberIn(c, "number", "number of an outside change")
	if err != nil {
		return nil, err
	}
	var in wire.Adopt
	if err := c.read(&in); err != nil {
		return nil, err
	}
	o, err := a.Decisions.Adopt(c.ctx, c.person, n, in.Note)
	if err != nil {
		return nil, err
	}
	return a.Documents.Outside(c.ctx, c.person, o)
}

func (a *API) pushBack(c *call) (any, error) {
	n, err := numberIn(c, "number", "number of an outside change")
	if err != nil {
		return nil, err
	}
	var in wire.NewPush
	if err := c.read(&in); err != nil {
		return nil, err
	}
	if len(in.Devices) > 0 {
		return nil, refusal.New(
			refusal.Invalid, "leave devices out",
			"an outside change is pushed back where it was made, and nowhere else",
		)
	}
	o, ch, brought, err := a.Decisions.PushBack(c.ctx, c.person, n, in.Title, in.Ticket)
	if err != nil {
		return nil, err
	}
	return a.pushedDoc(c, o, ch, brought)
}

func (a *API) goOn(c *call) (any, error) {
	n, err := numberIn(c, "number", "number of an outside change")
	if err != nil {
		return nil, err
	}
	var in wire.NewPush
	if err := c.read(&in); err != nil {
		return nil, err
	}
	o, ch, brought, err := a.Decisions.Open(c.ctx, c.person, n, in.Devices, in.Title, in.Ticket)
	if err != nil {
		return nil, err
	}
	return a.pushedDoc(c, o, ch, brought)
}

func (a *API) pushedDoc(c *call, o store.Outside, ch store.Change, brought []restore.Brought) (wire.Pushed, error) {
	doc := a.page(c).Brought(ch, brought)
	out := wire.Pushed{Change: doc.Change, Title: doc.Title, Parts: doc.Parts}
	var err error
	out.Outside, err = a.Documents.Outside(c.ctx, c.person, o)
	return out, err
}

func (a *API) silenceDoc(c *call, s store.Silence) (wire.Silence, error) {
	out := wire.Silence{Number: s.ID, Path: s.Path, Note: s.Note, Actor: s.Actor, At: s.At}
	if s.Device == 0 {
		return out, nil
	}
	d, err := a.Store.DeviceByID(c.ctx, c.person.Reach(), s.Device)
	out.Device = d.Name
	return out, err
}

func (a *API) silences(c *call) (any, error) {
	list, err := a.Store.Silences(c.ctx)
	if err != nil {
		return nil, err
	}
	out := make([]wire.Silence, 0, len(list))
	for _, s := range list {
		doc, err := a.silenceDoc(c, s)
		if store.OutOfReach(err) {
			continue
		}
		if err != nil {
			return nil, err
		}
		out = append(out, doc)
	}
	return out, nil
}

// silencer checks that a person may say of a path that it always moves: on all
// devices, whoever may stage on all.
func (a *API) silencer(c *call, all bool) error {
	return c.person.Fits(access.Need{Role: access.Stage, Everywhere: all})
}

func (a *API) silence(c *call) (any, error) {
	var in wire.NewSilence
	if err := c.read(&in); err != nil {
		return nil, err
	}
	if err := a.silencer(c, in.Device == ""); err != nil {
		return nil, err
	}
	s, err := a.Decisions.Silence(c.ctx, c.person, in.Device, in.Path, in.Note)
	if err != nil {
		return nil, err
	}
	return a.silenceDoc(c, s)
}

func (a *API) unsilence(c *call) (any, error) {
	n, err := numberIn(c, "number", "number of an outside change")
	if err != nil {
		return nil, err
	}
	list, err := a.Store.Silences(c.ctx)
	if err != nil {
		return nil, err
	}
	for _, s := range list {
		if s.ID != n {
			continue
		}
		if err := a.silencer(c, s.Device == 0); err != nil {
			return nil, err
		}
		if _, err := a.silenceDoc(c, s); err != nil {
			return nil, err
		}
	}
	return nil, a.Decisions.Unsilence(c.ctx, c.person, n)
}
