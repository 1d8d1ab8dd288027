package api

import (
	"errors"
	"slices"
	"strings"

	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/lifecycle"
	"oakenlatch/core/markup"
	"oakenlatch/service/documents"
	"oakenlatch/service/history"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// placed reads what DEVICE@PLACE means.
func (a *API) placed(c *call, text string) (history.Reading, error) {
	name, from, ok := strings.Cut(text, "@")
	if !ok {
		from = "running"
	}
	d, err := a.deviceNamed(c, name)
	if err != nil {
		return history.Reading{}, err
	}
	return a.Desk.From(c.ctx, c.person, d, from)
}

func (a *API) compare(c *call) (any, error) {
	context, err := contextParam(c)
	if err != nil {
		return nil, err
	}
	out := wire.Comparison{A: c.QueryParam("a"), B: c.QueryParam("b")}
	x, err := a.placed(c, out.A)
	if err != nil {
		return nil, err
	}
	y, err := a.placed(c, out.B)
	if err != nil {
		return nil, err
	}
	if x.Schema != y.Schema { // by the modules of the first; what they do not know is carried
		text := codec.XML(y.Schema, y.Running, markup.Name{Space: codec.NetconfNS, Local: "config"})
		if y.Running, err = (codec.Decoder{Schema: x.Schema}).ParseTree(text); err != nil {
			return nil, refusal.New(
				refusal.Conflict, "", "%s cannot be read by the modules of %s: %v", out.B, x.Device.Name, err,
			)
		}
	}
	path, err := pathParam(c, x.Schema, x.Device.Name)
	if err != nil {
		return nil, err
	}
	left, right := x.Running.WithoutDefaults(), y.Running.WithoutDefaults()
	if len(path) > 0 {
		out.Path = path.String()
	}
	v := a.page(c).Redactor(x.Device)
	if v == nil {
		v = a.page(c).Redactor(y.Device)
	}
	df := v.Difference(diff.Compare(left, right)).Below(path)
	out.Count, out.Lines, out.Items = df.Count(), documents.Lines(df, context), documents.Items(df)
	out.Rendered = documents.Rendered(df, path, x.Schema, c.QueryParam("as"), out.A, out.B, context)
	return out, nil
}

// compareFleet compares many devices between two moments.
func (a *API) compareFleet(c *call) (any, error) {
	out := wire.FleetComparison{
		From: c.QueryParam("from"), To: c.QueryParamOr("to", "running"), Devices: []wire.DeviceMoved{},
	}
	for _, m := range []string{out.From, out.To} {
		if m != "running" && !strings.HasPrefix(m, "snapshot:") && !strings.HasPrefix(m, "at:") {
			return nil, refusal.New(refusal.Invalid, "give snapshot:NAME, at:TIME or running", "%q is no moment", m)
		}
	}
	var names []string
	if text := c.QueryParam("device"); text != "" {
		names = strings.Split(text, ",")
	}
	devices, err := a.some(c, names, c.QueryParam("site"), len(names) == 0 && c.QueryParam("site") == "")
	if err != nil {
		return nil, err
	}
	for _, m := range []string{out.From, out.To} {
		if ref, ok := strings.CutPrefix(m, "snapshot:"); ok {
			s, err := a.History.FindSnapshot(c.ctx, ref)
			if err != nil {
				return nil, err
			}
			items, err := a.Store.SnapshotItems(c.ctx, s.Number)
			if err != nil {
				return nil, err
			}
			if len(names) == 0 { // what it does not hold was never meant
				devices = slices.DeleteFunc(devices, func(d store.Device) bool {
					return !slices.ContainsFunc(items, func(i store.SnapshotItem) bool { return i.Device == d.ID })
				})
			}
		}
	}
	list, err := parallel(
		devices, func(d store.Device) (wire.DeviceMoved, error) { return a.moved(c, d, out.From, out.To) },
	)
	if err != nil {
		return nil, err
	}
	for _, m := range list {
		if m.Trouble == "" && m.Added+m.Removed+m.Changed+m.Moved == 0 {
			out.Same++
			continue
		}
		out.Devices = append(out.Devices, m)
	}
	return out, nil
}

// parallel does something for many devices, several at a time, in their order.
func parallel[T any](devices []store.Device, f func(store.Device) (T, error)) ([]T, error) {
	const atOnce = 16
	out, errs := make([]T, len(devices)), make([]error, len(devices))
	turns, done := make(chan struct{}, atOnce), make(chan struct{})
	for i, d := range devices {
		go func() {
			turns <- struct{}{}
			defer func() { <-turns; done <- struct{}{} }()
			out[i], errs[i] = f(d)
		}()
	}
	for range devices {
		<-done
	}
	return out, errors.Join(errs...)
}

// moved tells in sum how one device moved between two moments.
func (a *API) moved(c *call, d store.Device, from, to string) (wire.DeviceMoved, error) {
	m := wire.DeviceMoved{Device: d.Name, Site: d.Site, Open: []string{d.Name + "@" + from, d.Name + "@" + to}}
	var sides [2]history.Reading
	for i, place := range []string{from, to} {
		var err error
		if sides[i], err = a.Desk.From(c.ctx, c.person, d, place); err != nil {
			m.Trouble = err.Error()
			return m, c.ctx.Err()
		}
	}
	df := diff.Compare(sides[0].Running.WithoutDefaults(), sides[1].Running.WithoutDefaults())
	df.Walk(func(x *diff.Change) {
		switch x.Kind {
		case diff.Added:
			m.Added++
		case diff.Removed:
			m.Removed++
		case diff.Moved:
			m.Moved++
		default:
			m.Changed++
		}
	})
	if df.Empty() {
		return m, nil
	}
	m.First, m.Revision = df.Items()[0].Path, sides[1].Revision.Number
	revs, err := a.Store.RevisionsAfter(c.ctx, d.ID, min(sides[0].Revision.Number, sides[1].Revision.Number))
	for _, r := range revs {
		switch {
		case r.Number > max(sides[0].Revision.Number, sides[1].Revision.Number):
		case r.Change != 0 && !slices.Contains(m.Changes, r.Change):
			m.Changes = append(m.Changes, r.Change)
		case r.Source == lifecycle.ByOutside:
			m.Outside++
		}
	}
	return m, err
}
