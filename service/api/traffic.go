package api

import (
	"errors"
	"slices"
	"strings"

	"oakenlatch/core/flow"
	"oakenlatch/service/access"
	"oakenlatch/service/desk"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// trafficRoutes are those about packets and filters.
func (a *API) trafficRoutes() []route {
	return []route{
		{"GET", "/changes/:number/expectations", "What traffic the change is meant to permit or deny", access.Viewer, 200, nil, []wire.Expectation{}, nil, a.expectations},
		{"POST", "/changes/:number/expectations", "State what traffic the change is meant to permit or deny (docs/traffic.md)", access.Operator, 201, wire.NewExpectation{}, wire.Expectation{}, nil, a.expect},
		{"DELETE", "/changes/:number/expectations/:id", "Take an expectation back", access.Operator, 204, nil, nil, nil, a.unexpect},
		{"POST", "/changes/:number/accept", "Accept by its name what the change does at a filter though nobody expects it, as it is now", access.Operator, 204, wire.AcceptEffect{}, nil, nil, a.acceptEffect},
		{"GET", "/devices/:name/filters", "The device's filters and where they work; from is as for config", access.Viewer, 200, nil, wire.Filters{}, []string{"from"}, a.filters},
		{"GET", "/devices/:name/filters/:filter", "One filter: what each rule decides, which are never reached, redundant or clash, what can go", access.Viewer, 200, nil, wire.Filter{}, []string{"from"}, a.filter},
		{"GET", "/trace", "What filters do with packets: packets is written as an expectation without its action, way is DEVICE/FILTER or DEVICE@PLACE/FILTER, several with commas in the order in which packets go through them", access.Viewer, 200, nil, wire.Traced{}, []string{"packets", "way"}, a.trace},
		{"GET", "/filters/compare", "How two filters differ, over all packets; a and b are DEVICE/FILTER or DEVICE@PLACE/FILTER", access.Viewer, 200, nil, wire.FilterComparison{}, []string{"a", "b"}, a.compareFilters},
	}
}

func expectationDoc(e desk.Expected) wire.Expectation {
	return wire.Expectation{Number: e.ID, Line: e.Line, Place: e.Place, Actor: e.Actor, At: e.At, Answer: e.Answer}
}

// traffic fills in what a preview tells of traffic.
func (a *API) traffic(out *wire.Preview, t desk.Traffic) {
	for _, e := range t.Expected {
		out.Expected = append(out.Expected, expectationDoc(e))
		out.Ready = out.Ready && e.Delivered
	}
	for _, s := range t.Beside {
		doc := wire.SideEffect{Device: s.Device, Change: s.Change}
		if s.Accepted != nil {
			doc.AcceptedBy, doc.AcceptedAt = s.Accepted.Actor, s.Accepted.At
		}
		out.Beside = append(out.Beside, doc)
		out.Ready = out.Ready && s.Accepted != nil
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
		out = append(out, expectationDoc(desk.Expected{Expectation: e}))
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
	return expectationDoc(desk.Expected{Expectation: e}), err
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
	return nil, a.Desk.Accept(c.ctx, c.person, n, in.Device, in.Filter)
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
	out := wire.Filters{Device: d.Name, From: c.QueryParamOr("from", "running"), Filters: []wire.Filter{}, Attached: []wire.Attachment{}}
	r, err := a.filtersOf(c, d, out.From)
	if err != nil {
		return nil, err
	}
	for _, f := range r.Filters {
		out.Filters = append(out.Filters, wire.Filter{Name: f.Name, Path: f.Path, Count: len(f.Rules)})
	}
	for _, at := range r.Attached {
		out.Attached = append(out.Attached, wire.Attachment(at))
	}
	return out, nil
}

// What is told of one filter at most.
const (
	ruleLines   = 6
	mostClashes = 50
	mostRules   = 2000 // beyond that, what each rule decides is not worked out
)

func (a *API) filter(c *call) (any, error) {
	d, err := a.deviceParam(c)
	if err != nil {
		return nil, err
	}
	f, err := a.filterAt(c, d, c.QueryParamOr("from", "running"), c.Param("filter"))
	if err != nil {
		return nil, err
	}
	return filterDoc(f), nil
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

var standingText = map[flow.Standing]string{flow.Needed: "needed", flow.Unreached: "never-reached", flow.Redundant: "redundant"}

func filterDoc(f flow.Filter) wire.Filter {
	out := wire.Filter{Name: f.Name, Path: f.Path, Count: len(f.Rules)}
	s := flow.NewSpace(flow.Limits{})
	standing := s.Inspect(f.Rules)
	for i, r := range f.Rules {
		doc := wire.Rule{Name: r.Name, Path: r.Path, Action: r.Action.String(), Standing: standingText[standing[i]], Bits: r.Width()}
		var all bool
		doc.Fits, all = texts(s.Matching(r.Match, r.Facts...))
		doc.More = !all
		if len(f.Rules) <= mostRules {
			doc.Decides, all = texts(s.DecidedBy(f.Rules, i))
			doc.More = doc.More || !all
		}
		out.Rules = append(out.Rules, doc)
	}
	c := flow.NewSpace(flow.Limits{})
	if gone := c.Clean(f.Rules); c.Err() == nil {
		out.Clean = removable(f.Rules, gone)
	} else {
		out.CleanUnknown = "which of them can all go together is too much to be proved here; look at those never reached first"
	}
	for _, x := range s.Clashes(f.Rules, mostClashes) {
		out.Clashes = append(out.Clashes, wire.Clash{First: f.Rules[x.First].Name, Second: f.Rules[x.Second].Name, Example: x.Example.String()})
	}
	if s.Err() != nil {
		return wire.Filter{Name: f.Name, Path: f.Path, Count: len(f.Rules), Trouble: "it is too large to be looked through exactly here; nothing is said of it"}
	}
	return out
}

// removable gives the rules of a configuration of which nothing is needed: one of
// them may be several here.
func removable(rules []flow.Rule, gone []int) (out []string) {
	left := map[string]bool{}
	for i, r := range rules {
		if !slices.Contains(gone, i) {
			left[r.Path] = true
		}
	}
	for _, i := range gone {
		if r := rules[i]; !left[r.Path] && !slices.Contains(out, r.Name) {
			out = append(out, r.Name)
		}
	}
	return out
}

func texts(set flow.Set) ([]string, bool) {
	lines, all := set.Lines(ruleLines)
	out := []string{}
	for _, l := range lines {
		out = append(out, l.String())
	}
	return out, all
}

// oneFilter reads DEVICE/FILTER or DEVICE@PLACE/FILTER.
func (a *API) oneFilter(c *call, text string) (flow.Filter, error) {
	at, name, ok := strings.Cut(text, "/")
	if !ok || name == "" {
		return flow.Filter{}, refusal.New(refusal.Invalid, "write DEVICE/FILTER, or DEVICE@PLACE/FILTER as in gannet-hall@rev:3/hall-in", "%q names no filter", text)
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
	return wire.FilterComparison{A: sides[0].Name, B: sides[1].Name, Change: flow.Differ(sides[0], sides[1])}, nil
}

// tracedParts is how many parts a trace is told in.
const tracedParts = 12

func (a *API) trace(c *call) (any, error) {
	e, err := flow.ParseExpectation("permit " + c.QueryParam("packets"))
	var bad *flow.SyntaxError
	if errors.As(err, &bad) {
		return nil, refusal.New(refusal.Invalid, "write it like: tcp from 198.51.100.7 to 192.0.2.13 port 830", "the packets go wrong at column %d: %s", max(1, bad.Column()-len("permit ")), bad.Msg)
	}
	if err != nil {
		return nil, err
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
		return nil, refusal.New(refusal.Invalid, "name them with way=DEVICE/FILTER, several with commas", "which filters do the packets go through?")
	}
	return traced(e, way), nil
}

func traced(e flow.Expectation, way []flow.Filter) wire.Traced {
	s := flow.NewSpace(flow.Limits{})
	about := s.Set(e)
	through := about
	for _, f := range way {
		through = s.PermittedWithin(through, f.Rules)
	}
	out := wire.Traced{Packets: strings.TrimPrefix(e.Text, "permit "), Answer: "partly", Parts: []wire.TracePart{}}
	rest := about.Minus(through)
	switch {
	case rest.Empty():
		out.Answer = "permitted"
	case through.Empty():
		out.Answer = "denied"
	}
	for _, k := range []struct {
		set       flow.Set
		permitted bool
	}{{through, true}, {rest, false}} {
		lines, all := k.set.Lines(tracedParts)
		out.More = out.More || !all
		for _, l := range lines {
			p := l.Example()
			part := wire.TracePart{Packets: l.String(), Permitted: k.permitted, Example: p.String()}
			for _, f := range way {
				part.Way = append(part.Way, stepOf(f, p))
				if act, _ := f.Does(p); !act.Permits() {
					break
				}
			}
			out.Parts = append(out.Parts, part)
		}
	}
	if s.Err() != nil {
		return wire.Traced{Packets: out.Packets, Parts: []wire.TracePart{}, Trouble: "it is too large to be worked out exactly here; nothing is said of it"}
	}
	return out
}

// mostMissed is how many rules that do not fit are told, the last before the one
// that does.
const mostMissed = 8

func stepOf(f flow.Filter, p flow.Packet) wire.TraceStep {
	step := wire.TraceStep{Filter: f.Name, By: f.Ruling(p)}
	at := f.Decides(p)
	if at < 0 {
		at = len(f.Rules)
	}
	for i := max(0, at-mostMissed); i < at; i++ {
		step.Not = append(step.Not, wire.Missed{Rule: f.Rules[i].Name, Why: f.Rules[i].Misses(p)})
	}
	slices.Reverse(step.Not) // the nearest first
	return step
}
