package api

import (
	"strings"

	"oakenlatch/core/flow"
	"oakenlatch/service/desk"
	"oakenlatch/service/documents"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// trafficRoutes are those about packets and filters.
func (a *API) trafficRoutes() []route {
	return []route{
		{
			id: "listExpectations", method: "GET", path: "/changes/:number/expectations", about: aChange, needs: toRead,
			summary: "What traffic the change is meant to permit or deny",
			out:     []wire.Expectation{}, handle: a.expectations,
		},
		{
			id: "addExpectation", method: "POST", path: "/changes/:number/expectations", about: aChange, needs: toStage,
			summary: "State what traffic the change is meant to permit or deny (docs/traffic.md)",
			status:  201, in: wire.NewExpectation{}, out: wire.Expectation{}, handle: a.expect,
		},
		{
			id: "dropExpectation", method: "DELETE", path: "/changes/:number/expectations/:id", about: aChange,
			needs: toStage, summary: "Take an expectation back", status: 204, handle: a.unexpect,
		},
		{
			id: "acceptEffect", method: "POST", path: "/changes/:number/accept", about: aChange, needs: toStage,
			summary: "Accept by its name what the change does at a place (a filter, or INTERFACE DIRECTION) though " +
				"nobody expects it, as it is now",
			status: 204, in: wire.AcceptEffect{}, handle: a.acceptEffect,
		},
		{
			id: "listFilters", method: "GET", path: "/devices/:name/filters", about: aDevice, needs: toRead,
			summary: "The device's filters and where they work; from is as for config",
			out:     wire.Filters{}, query: []string{"from"}, handle: a.filters,
		},
		{
			id: "getFilter", method: "GET", path: "/devices/:name/filters/:filter", about: aDevice, needs: toRead,
			summary: "One filter: what each rule decides, which are never reached, redundant or clash, what can go",
			out:     flow.Sheet{}, query: []string{"from"}, handle: a.filter,
		},
		{
			id: "tracePacket", method: "GET", path: "/trace", needs: toRead,
			summary: "What filters do with packets: packets is written as an expectation without its action, way is " +
				"DEVICE/FILTER or DEVICE@PLACE/FILTER, several with commas in the order in which packets go " +
				"through them",
			out: flow.Traced{}, query: []string{"packets", "way"}, handle: a.trace,
		},
		{
			id: "compareFilters", method: "GET", path: "/filters/compare", needs: toRead,
			summary: "How two filters differ, over all packets; a and b are DEVICE/FILTER or DEVICE@PLACE/FILTER",
			out:     wire.FilterComparison{}, query: []string{"a", "b"}, handle: a.compareFilters,
		},
	}
}

func (a *API) expectations(c *call) (any, error) {
	ch, err := a.visible(c)
	if err != nil {
		return nil, err
	}
	list, err := a.Store.Expectations(c.ctx, ch.Number)
	out := []wire.Expectation{}
	for _, e := range list {
		out = append(out, documents.Expectation(desk.Expected{Expectation: e}))
	}
	return out, err
}

func (a *API) expect(c *call) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	var in wire.NewExpectation
	if err := c.read(&in); err != nil {
		return nil, err
	}
	e, err := a.Desk.Expect(c.ctx, c.person, n, in.Line, in.Place)
	return documents.Expectation(desk.Expected{Expectation: e}), err
}

func (a *API) unexpect(c *call) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	id, err := numberIn(c, "id", "expectation's number")
	if err != nil {
		return nil, err
	}
	return nil, a.Desk.Unexpect(c.ctx, c.person, n, id)
}

func (a *API) acceptEffect(c *call) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	var in wire.AcceptEffect
	if err := c.read(&in); err != nil {
		return nil, err
	}
	return nil, a.Desk.Accept(c.ctx, c.person, n, in.Device, in.Place)
}

// filtersOf reads a device's filters from a place.
func (a *API) filtersOf(c *call, d store.Device, from string) (flow.Reading, error) {
	r, err := a.Desk.From(c.ctx, c.person, d, from)
	if err != nil {
		return flow.Reading{}, err
	}
	return flow.Read(r.Running), nil
}

func (a *API) filters(c *call) (any, error) {
	d, err := a.deviceParam(c)
	if err != nil {
		return nil, err
	}
	from := c.QueryParamOr("from", "running")
	r, err := a.filtersOf(c, d, from)
	return wire.NewFilters(d.Name, from, r), err
}

func (a *API) filter(c *call) (any, error) {
	d, err := a.deviceParam(c)
	if err != nil {
		return nil, err
	}
	f, err := a.filterAt(c, d, c.QueryParamOr("from", "running"), c.Param("filter"))
	if err != nil {
		return nil, err
	}
	return f.Sheet(), nil
}

func (a *API) filterAt(c *call, d store.Device, from, name string) (flow.Filter, error) {
	r, err := a.filtersOf(c, d, from)
	if err != nil {
		return flow.Filter{}, err
	}
	f, ok := r.Filter(name)
	if !ok {
		next := "it has none"
		if names := r.Names(); len(names) > 0 {
			next = "it has " + strings.Join(names, ", ")
		}
		return f, refusal.New(refusal.NotFound, next, "there is no filter %q on %s", name, d.Name)
	}
	return f, nil
}

// oneFilter reads DEVICE/FILTER or DEVICE@PLACE/FILTER.
func (a *API) oneFilter(c *call, text string) (flow.Filter, error) {
	at, name, ok := strings.Cut(text, "/")
	if !ok || name == "" {
		return flow.Filter{}, refusal.New(
			refusal.Invalid, "write DEVICE/FILTER, or DEVICE@PLACE/FILTER as in gannet-hall@rev:3/hall-in",
			"%q names no filter", text,
		)
	}
	device, from, placed := strings.Cut(at, "@")
	if !placed {
		from = "running"
	}
	d, err := a.deviceNamed(c, device)
	if err != nil {
		return flow.Filter{}, err
	}
	f, err := a.filterAt(c, d, from, name)
	f.Name = text
	return f, err
}

func (a *API) compareFilters(c *call) (any, error) {
	var sides [2]flow.Filter
	for i, name := range []string{"a", "b"} {
		var err error
		if sides[i], err = a.oneFilter(c, c.QueryParam(name)); err != nil {
			return nil, err
		}
	}
	return wire.CompareFilters(sides[0], sides[1]), nil
}

func (a *API) trace(c *call) (any, error) {
	e, err := flow.ParsePackets(c.QueryParam("packets"))
	if err != nil {
		return nil, refusal.New(
			refusal.Invalid, "write it like: tcp from 198.51.100.7 to 192.0.2.13 port 830",
			"the packets go wrong at %v", err,
		)
	}
	var way []flow.Filter
	for _, text := range strings.FieldsFunc(c.QueryParam("way"), func(r rune) bool { return r == ',' }) {
		f, err := a.oneFilter(c, strings.TrimSpace(text))
		if err != nil {
			return nil, err
		}
		way = append(way, f)
	}
	if len(way) == 0 {
		return nil, refusal.New(
			refusal.Invalid, "name them with way=DEVICE/FILTER, several with commas",
			"which filters do the packets go through?",
		)
	}
	return flow.Trace(e, way), nil
}
