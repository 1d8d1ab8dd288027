package desk

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"oakenlatch/core/advice"
	"oakenlatch/core/flow"
	"oakenlatch/core/ledger"
	"oakenlatch/core/tree"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Traffic is what was expected of a change, what of that it delivers, and what
// it does beside it.
type Traffic struct {
	Expected []Expected
	Beside   []SideEffect // only where something is expected
}

// Expected is an expectation and its answer.
type Expected struct {
	store.Expectation
	flow.Answer
}

// SideEffect is traffic that is treated otherwise though no expectation covers
// it, at one place: a filter, or what works on an interface in a direction.
type SideEffect struct {
	Device string
	flow.Change
	Digest   string                // of what it is, whole; "" where that is not known
	Accepted *store.AcceptedEffect // by whom, as it is now
	path     string
}

// mostExpectations is how many a change may have.
const mostExpectations = 200

// Expect states an expectation of a change.
func (d *Desk) Expect(
	ctx context.Context, p access.Person, number int64, line, place string,
) (store.Expectation, error) {
	e := store.Expectation{Change: number, Place: tidy(place), Actor: p.Name, At: d.log.Now()}
	if _, err := d.Own(ctx, p, number); err != nil {
		return e, err
	}
	x, err := flow.ParseExpectation(line)
	if err != nil {
		return e, refusal.New(
			refusal.Invalid, "write it like: permit tcp from 198.51.100.0/24 to 192.0.2.13 port 830",
			"the expectation goes wrong at %v", err,
		)
	}
	e.Line = x.Text
	at := placesOf(e.Place)
	for _, one := range at {
		if _, err := d.Device(ctx, p.Reach(), one.device); err != nil {
			return e, err
		}
		if (one.name == "") != (at[0].name == "") {
			return e, refusal.New(
				refusal.Invalid,
				"name a filter for each, and the packets go through one after the other; or name devices alone, and "+
					"it is to hold at each place that the change touches",
				"%q names a filter of one device and none of another", e.Place,
			)
		}
	}
	have, err := d.store.Expectations(ctx, number)
	if err != nil {
		return e, err
	}
	if len(have) >= mostExpectations {
		return e, refusal.New(
			refusal.Invalid, "", "change %d has %d expectations, more are not kept", number, len(have),
		)
	}
	err = d.Edit(ctx, p, number, func(tx *audit.Tx) error {
		if e, err = tx.AddExpectation(e); err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: p.Name, Action: "expect.add", Change: number, After: e.Line,
				Note: strings.TrimSpace(fmt.Sprintf("expectation %d %s", e.ID, e.Place)),
			},
		)
	})
	return e, err
}

// Unexpect takes an expectation back.
func (d *Desk) Unexpect(ctx context.Context, p access.Person, number, id int64) error {
	if _, err := d.Own(ctx, p, number); err != nil {
		return err
	}
	return d.Edit(ctx, p, number, func(tx *audit.Tx) error {
		if err := tx.DropExpectation(number, id); errors.Is(err, store.ErrNotFound) {
			return refusal.New(
				refusal.NotFound, "list them",
				"change %d has no expectation %d", number, id,
			).Do(advice.ListExpectations, number)
		} else if err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{Actor: p.Name, Action: "expect.drop", Change: number, Note: fmt.Sprintf("expectation %d", id)},
		)
	})
}

// Accept accepts the side effect of a change at one place, a filter or INTERFACE
// DIRECTION, as it is now: if it becomes another, that is to be accepted again.
func (d *Desk) Accept(ctx context.Context, p access.Person, number int64, device, place string) error {
	if _, err := d.Own(ctx, p, number); err != nil {
		return err
	}
	_, seen, err := d.Preview(ctx, p, number, Options{})
	if err != nil {
		return err
	}
	i := slices.IndexFunc(
		seen.Traffic.Beside, func(s SideEffect) bool { return s.Device == device && s.Name() == tidy(place) },
	)
	if i < 0 {
		next := "it has none"
		var have []string
		for _, s := range seen.Traffic.Beside {
			have = append(have, fmt.Sprintf("%s %q", s.Device, s.Name()))
		}
		if len(have) > 0 {
			next = "it has: " + strings.Join(have, ", ")
		}
		return refusal.New(refusal.NotFound, next, "change %d has no side effect at %q of %s", number, place, device)
	}
	s := seen.Traffic.Beside[i]
	if s.Trouble != "" {
		return refusal.New(
			refusal.Conflict, "", "what it does at %s is not known, and cannot be accepted: %s", s.where(), s.Trouble,
		)
	}
	return d.Edit(ctx, p, number, func(tx *audit.Tx) error {
		if err := tx.AcceptEffect(
			store.AcceptedEffect{
				Change: number, Device: device, Filter: s.Name(), Digest: s.Digest, Actor: p.Name, At: d.log.Now(),
			},
		); err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: p.Name, Action: "expect.accept", Change: number, Device: device, Path: s.path,
				Note: "side effect: " + s.sum(),
			},
		)
	})
}

// where names the place of a side effect.
func (s SideEffect) where() string { return s.Where() + " of " + s.Device }

// sum tells a side effect in a line.
func (s SideEffect) sum() string {
	var parts []string
	for _, k := range []struct {
		name string
		list []flow.Moved
	}{{"newly permitted", s.Permitted}, {"newly denied", s.Denied}} {
		for i, m := range k.list {
			if i == 3 {
				parts = append(parts, fmt.Sprintf("and %d more", len(k.list)-i))
				break
			}
			parts = append(parts, k.name+": "+m.Packets)
		}
	}
	return strings.Join(parts, "; ")
}

// spot is a place of a device, a filter or INTERFACE DIRECTION; of name "" each
// that the change touches.
type spot struct{ device, name string }

func placesOf(text string) (out []spot) {
	for _, at := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' }) {
		device, name, _ := strings.Cut(at, "/")
		out = append(out, spot{device, name})
	}
	return out
}

// tidy takes the spaces that mean nothing out of the names of places.
func tidy(text string) string {
	list := strings.Split(text, ",")
	for i, at := range list {
		list[i] = strings.Join(strings.Fields(at), " ")
	}
	return strings.Join(list, ",")
}

// sides are a device's filters before a change and after it.
type sides struct {
	before, after flow.Reading
	touched       []flow.Change
}

// place reads the name of a place: as it is after the change, or was before.
func (s *sides) place(name string) (flow.Place, bool) {
	if p, ok := s.after.Place(name); ok {
		return p, true
	}
	return s.before.Place(name)
}

// covers reports whether an expectation is about what a change does at a place.
func (s *sides) covers(e Expected, device string, c flow.Change) bool {
	list := placesOf(e.Place)
	return len(list) == 0 || slices.ContainsFunc(list, func(at spot) bool {
		if at.device != device {
			return false
		}
		p, ok := s.place(at.name)
		switch {
		case at.name == "" || ok && p == c.Place():
			return true
		case p.Filter != "":
			return s.before.Has(c.Place(), p.Filter) || s.after.Has(c.Place(), p.Filter)
		}
		return len(c.On) == 1 && c.On[0] == at.name // the filter works there and nowhere else
	})
}

// traffic answers what was expected of a change.
func (d *Desk) traffic(ctx context.Context, reach store.Reach, number int64, list []Verdict) (t Traffic, err error) {
	expected, err := d.store.Expectations(ctx, number)
	if err != nil || len(expected) == 0 {
		return t, err
	}
	devices := map[string]*sides{}
	var order []string
	for _, v := range list {
		s := &sides{before: flow.Read(v.running), after: flow.Read(v.result)}
		s.touched = flow.Places(s.before, s.after, v.Effects)
		devices[v.Device], order = s, append(order, v.Device)
	}
	parsed := make([]flow.Expectation, len(expected))
	for i, e := range expected {
		x := Expected{Expectation: e}
		if parsed[i], err = flow.ParseExpectation(e.Line); err != nil {
			return t, err
		}
		ways, trouble, err := d.waysOf(ctx, reach, x, devices, order)
		if err != nil {
			return t, err
		}
		if x.Trouble = trouble; trouble == "" {
			x.Answer = flow.Ask(parsed[i], ways...)
		}
		t.Expected = append(t.Expected, x)
	}
	accepted, err := d.store.AcceptedEffects(ctx, number)
	if err != nil {
		return t, err
	}
	for _, device := range order {
		s := devices[device]
		for _, c := range s.touched {
			if one := s.beside(device, c, t.Expected, parsed); !one.NoEffect {
				one.accept(accepted)
				t.Beside = append(t.Beside, one)
			}
		}
	}
	return t, nil
}

func (s *sides) beside(device string, c flow.Change, expected []Expected, parsed []flow.Expectation) SideEffect {
	var about []flow.Expectation
	for i, e := range expected {
		if s.covers(e, device, c) {
			about = append(about, parsed[i])
		}
	}
	before, after := s.before.Rules(c.Place()), s.after.Rules(c.Place())
	one := SideEffect{Device: device, path: cmp.Or(after.Path, before.Path)}
	one.Change, one.Digest = flow.Beside(before, after, about)
	one.Filter, one.Interface, one.Direction, one.On = c.Filter, c.Interface, c.Direction, c.On
	return one
}

func (s *SideEffect) accept(list []store.AcceptedEffect) {
	for i, a := range list {
		if s.Digest != "" && a.Device == s.Device && a.Filter == s.Name() && a.Digest == s.Digest {
			s.Accepted = &list[i]
		}
	}
}

// waysOf gives how packets go that an expectation is about: through the filters
// that it names, one after the other; or, where it names none, through each place
// that the change touches by itself. Trouble says why there are none.
func (d *Desk) waysOf(
	ctx context.Context, reach store.Reach, e Expected, devices map[string]*sides, order []string,
) (ways []flow.FilterChain, trouble string, err error) {
	at := placesOf(e.Place)
	if len(at) == 0 {
		for _, name := range order {
			at = append(at, spot{device: name})
		}
	}
	var way flow.FilterChain // through all that are named
	for _, where := range at {
		s := devices[where.device]
		if s == nil { // it is no part of the change: its filters stay
			known, err := d.history.Known(ctx, reach, where.device)
			if err != nil {
				return nil, "", err
			}
			r := flow.Read(known.Running)
			s = &sides{before: r, after: r}
		}
		if where.name != "" {
			p, ok := s.place(where.name)
			if !ok {
				return nil, fmt.Sprintf("there is no filter %s on %s", where.name, where.device), nil
			}
			one := s.way(where.device, p)
			way = flow.FilterChain{Before: append(way.Before, one.Before...), After: append(way.After, one.After...)}
			continue
		}
		for _, c := range s.touched {
			ways = append(ways, s.way(where.device, c.Place()))
		}
	}
	if len(way.After) > 0 {
		ways = append(ways, way)
	}
	if len(ways) == 0 {
		return nil, "the change touches no filter there: name one, as DEVICE/FILTER", nil
	}
	return ways, "", nil
}

// way is through one place.
func (s *sides) way(device string, p flow.Place) flow.FilterChain {
	x, y := s.before.Rules(p), s.after.Rules(p)
	x.Name, y.Name = device+"/"+x.Name, device+"/"+y.Name
	return flow.FilterChain{Before: []flow.Filter{x}, After: []flow.Filter{y}}
}

// blocker says why a change cannot be committed for what was expected of it;
// "" where it can.
func (t Traffic) blocker(number int64) (why string, next advice.Steps) {
	for _, e := range t.Expected {
		switch {
		case e.Trouble != "":
			return fmt.Sprintf(
				"whether expectation %d (%s) is met is not known: %s", e.ID, e.Line, e.Trouble,
			), advice.Words("remove it").Do(advice.DropExpectation, number, e.ID)
		case !e.Delivered:
			return fmt.Sprintf(
					"expectation %d is not met: %s; missing: %s, for example %s: %s", e.ID, e.Line,
					e.Missing[0].Packets, e.Missing[0].Example, e.Missing[0].By,
				),
				advice.Words("stage what is missing, or remove the expectation").
					Do(advice.DropExpectation, number, e.ID)
		}
	}
	for _, s := range t.Beside {
		if s.Accepted == nil {
			what := s.Trouble
			if what == "" {
				what = s.sum()
			}
			return fmt.Sprintf("at %s it does what nobody expects: %s", s.where(), what),
				advice.Words("stage it narrower, expect it too, or accept it by name").
					Do(advice.AcceptEffect, number, s.Device, s.Name())
		}
	}
	return "", nil
}

// touches reports the filters of a part that the change does something to.
func touches(running, result *tree.Node) []flow.Change {
	if running == nil || result == nil {
		return nil
	}
	return flow.Changes(running, result)
}
