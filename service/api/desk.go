package api

import (
	"strconv"
	"strings"

	"oakenlatch/core/codec"
	"oakenlatch/core/complete"
	"oakenlatch/core/tree"
	"oakenlatch/service/desk"
	"oakenlatch/service/documents"
	"oakenlatch/service/refusal"
	"oakenlatch/wire"
)

// ifTag is the part's tag that a request rests on (If-Match, RFC 9110 section
// 13.1.1); "" where it names none.
func ifTag(c *call) string {
	tag := strings.Trim(c.Request().Header.Get("If-Match"), `"`)
	if tag == "*" {
		return ""
	}
	return tag
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
	if in.Device != "" {
		in.Devices = append([]string{in.Device}, in.Devices...)
	}
	list, err := a.Desk.Stage(
		c.ctx, c.person, n, in.Devices,
		desk.Act{Op: in.Op, Path: in.Path, Value: in.Value, Mode: in.Several, IfTag: ifTag(c)},
	)
	if err != nil {
		return nil, err
	}
	docs := a.page(c).Staged(list)
	if len(docs) == 1 {
		c.Response().Header().Set("ETag", strconv.Quote(docs[0].Tag))
	}
	return docs, nil
}

func (a *API) load(c *call) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	var in wire.NewLoad
	if err := c.read(&in); err != nil {
		return nil, err
	}
	if in.FromDevice != "" && in.From == "" {
		in.From = "running"
	}
	list, err := a.Desk.Load(c.ctx, c.person, n, in.Devices, desk.Load{
		Mode: in.Mode, Path: in.Path, Text: []byte(in.Text), Name: in.Name, FromDevice: in.FromDevice, From: in.From,
		IfTag: ifTag(c),
	})
	if err != nil {
		return nil, err
	}
	if len(list) == 1 {
		c.Response().Header().Set("ETag", strconv.Quote(list[0].Tag))
	}
	return a.page(c).Loaded(list), nil
}

// part gives a part as text.
func (a *API) part(c *call) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	w, err := a.Desk.Part(c.ctx, c.person, n, c.Param("name"))
	if err != nil {
		return nil, err
	}
	path, err := tree.ParsePath(w.Schema, c.QueryParamOr("path", "/"))
	if err != nil {
		return nil, refusal.New(refusal.Invalid, "", "%s: %v", w.Device.Name, err)
	}
	c.Response().Header().Set("ETag", strconv.Quote(w.Tag()))
	return wire.Part{
		Device: w.Device.Name, Path: path.String(), Base: w.Base.Number, Tag: w.Tag(),
		Outline: codec.OutlineText(a.page(c).Redactor(w.Device).Tree(w.Mine.Cut(path))),
	}, nil
}

// edits lists what is staged.
func (a *API) edits(c *call) (any, error) {
	ch, err := a.visible(c)
	if err != nil {
		return nil, err
	}
	list, err := a.Store.Edits(c.ctx, ch.Number)
	if err != nil {
		return nil, err
	}
	return a.page(c).Edits(list)
}

func (a *API) unstage(c *call) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil || id < 1 {
		return nil, refusal.New(refusal.Invalid, "", "%q is not the number of an edit", c.Param("id"))
	}
	_, err = a.Desk.Drop(c.ctx, c.person, n, desk.Which{ID: id})
	return nil, err
}

func (a *API) unstageMany(c *call) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	list, err := a.Desk.Drop(
		c.ctx, c.person, n,
		desk.Which{Device: c.QueryParam("device"), By: c.QueryParam("by"), Path: c.QueryParam("path")},
	)
	if err != nil {
		return nil, err
	}
	return a.page(c).Edits(list)
}

// inChange answers a request that changes a change with the change.
func inChange[In any](a *API, c *call, do func(n int64, in In) error) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	var in In
	if err := c.read(&in); err != nil {
		return nil, err
	}
	if err := do(n, in); err != nil {
		return nil, err
	}
	return a.reload(c, n)
}

func (a *API) rename(c *call) (any, error) {
	return inChange(
		a, c, func(n int64, in wire.NewChange) error { return a.Desk.Rename(c.ctx, c.person, n, in.Title, in.Ticket) },
	)
}

func (a *API) share(c *call) (any, error) {
	return inChange(a, c, func(n int64, in wire.Share) error { return a.Desk.Share(c.ctx, c.person, n, in.Account) })
}

func (a *API) unshare(c *call) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	if err := a.Desk.Unshare(c.ctx, c.person, n, c.Param("account")); err != nil {
		return nil, err
	}
	return a.reload(c, n)
}

func (a *API) note(c *call) (any, error) {
	return inChange(a, c, func(n int64, in wire.NewNote) error {
		_, err := a.Desk.Note(c.ctx, c.person, n, in.Text)
		return err
	})
}

func (a *API) readdress(c *call) (any, error) {
	return inChange(a, c, func(n int64, in wire.Readdress) error {
		return a.Desk.Readdress(c.ctx, c.person, n, in.Device, in.Address, in.SeenAs)
	})
}

func (a *API) decide(c *call) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	var in wire.Decide
	if err := c.read(&in); err != nil {
		return nil, err
	}
	x, err := a.Desk.Decide(c.ctx, c.person, n, in.Device, in.Path, in.Keep)
	if err != nil {
		return nil, err
	}
	doc := documents.Conflict(a.page(c).RedactorOf(in.Device).Conflict(x))
	doc.Keep, doc.Actor, doc.At = in.Keep, c.person.Name, a.Log.Now()
	return doc, nil
}

func (a *API) rebase(c *call) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	var in wire.Rebase
	if err := c.read(&in); err != nil {
		return nil, err
	}
	list, err := a.Desk.Rebase(c.ctx, c.person, n, in.Devices)
	if err != nil {
		return nil, err
	}
	return a.page(c).Rebased(list), nil
}

func (a *API) paths(c *call) (any, error) {
	d, err := a.deviceParam(c)
	if err != nil {
		return nil, err
	}
	var change int64
	if text := c.QueryParam("change"); text != "" {
		if change, err = strconv.ParseInt(text, 10, 64); err != nil {
			return nil, refusal.New(refusal.Invalid, "", "%q is not a change number", text)
		}
	}
	hints, err := a.Desk.Next(c.ctx, c.person, d.Name, c.QueryParam("path"), change)
	if hints == nil {
		hints = []complete.Hint{}
	}
	return hints, err
}

func (a *API) reservations(c *call) (any, error) { return a.Documents.ReservationList(c.ctx, c.person) }

func (a *API) reserve(c *call) (any, error) {
	var in wire.NewReservation
	if err := c.read(&in); err != nil {
		return nil, err
	}
	v, err := a.Reservations.Reserve(c.ctx, c.person, c.Param("name"), in.Reason, seconds(in.Seconds))
	return documents.Reservation(c.Param("name"), v), err
}

func (a *API) release(c *call) (any, error) {
	return nil, a.Reservations.Release(c.ctx, c.person, c.Param("name"))
}

func (a *API) ask(c *call) (any, error) {
	var in wire.NewNote
	if err := c.read(&in); err != nil {
		return nil, err
	}
	v, err := a.Reservations.Ask(c.ctx, c.person, c.Param("name"), in.Text)
	return documents.Reservation(c.Param("name"), v), err
}
