package desk

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

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
// it, at one filter.
type SideEffect struct {
	Device string
	flow.Change
	Digest   string
	Accepted *store.AcceptedEffect // by whom, as it is now
}

// mostExpectations is how many a change may have.
const mostExpectations = 200

// Expect states an expectation of a change.
func (d *Desk) Expect(ctx context.Context, p access.Person, number int64, line, place string) (store.Expectation, error) {
	e := store.Expectation{Change: number, Place: strings.ReplaceAll(place, " ", ""), Actor: p.Name, At: d.log.Now()}
	if _, err := d.Own(ctx, p, number); err != nil {
		return e, err
	}
	x, err := flow.ParseExpectation(line)
	if err != nil {
		return e, refusal.New(refusal.Invalid, "write it like: permit tcp from 198.51.100.0/24 to 192.0.2.13 port 830", "the expectation goes wrong at %v", err)
	}
	e.Line = x.Text
	for _, at := range placesOf(e.Place) {
		if _, err := d.device(ctx, at.device); err != nil {
			return e, err
		}
	}
	have, err := d.store.Expectations(ctx, number)
	if err != nil {
		return e, err
	}
	if len(have) >= mostExpectations {
		return e, refusal.New(refusal.Invalid, "", "change %d has %d expectations, more are not kept", number, len(have))
	}
	err = d.edit(ctx, p, number, func(tx *audit.Tx) error {
		if e, err = tx.AddExpectation(e); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: p.Name, Action: "expect.add", Change: number, After: e.Line, Note: strings.TrimSpace(fmt.Sprintf("expectation %d %s", e.ID, e.Place))})
	})
	return e, err
}

// Unexpect takes an expectation back.
func (d *Desk) Unexpect(ctx context.Context, p access.Person, number, id int64) error {
	if _, err := d.Own(ctx, p, number); err != nil {
		return err
	}
	return d.edit(ctx, p, number, func(tx *audit.Tx) error {
		if err := tx.DropExpectation(number, id); errors.Is(err, store.ErrNotFound) {
			return refusal.New(refusal.NotFound, fmt.Sprintf("list them with: latch expect list %d", number), "change %d has no expectation %d", number, id)
		} else if err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: p.Name, Action: "expect.drop", Change: number, Note: fmt.Sprintf("expectation %d", id)})
	})
}

// Accept accepts the side effect of a change at one filter, as it is now: if it
// becomes another, that is to be accepted anew.
func (d *Desk) Accept(ctx context.Context, p access.Person, number int64, device, filter string) error {
	if _, err := d.Own(ctx, p, number); err != nil {
		return err
	}
	_, seen, err := d.Preview(ctx, p, number, Options{})
	if err != nil {
		return err
	}
	i := slices.IndexFunc(seen.Traffic.Beside, func(s SideEffect) bool { return s.Device == device && s.Filter == filter })
	if i < 0 {
		return refusal.New(refusal.NotFound, fmt.Sprintf("see them with: latch preview %d", number), "change %d has no side effect at filter %s of %s", number, filter, device)
	}
	s := seen.Traffic.Beside[i]
	if s.Trouble != "" {
		return refusal.New(refusal.Conflict, "", "what it does at filter %s of %s is not known, and cannot be accepted: %s", filter, device, s.Trouble)
	}
	return d.edit(ctx, p, number, func(tx *audit.Tx) error {
		if err := tx.AcceptEffect(store.AcceptedEffect{Change: number, Device: device, Filter: filter, Digest: s.Digest, Actor: p.Name, At: d.log.Now()}); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: p.Name, Action: "expect.accept", Change: number, Device: device, Path: "/acls/acl=" + filter, Note: "side effect: " + s.sum()})
	})
}

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

// spot is a filter of a device; of name "" those that the change touches.
type spot struct{ device, filter string }

// place reads where an expectation is about.
func (e Expected) places() []spot { return placesOf(e.Place) }

func placesOf(text string) (out []spot) {
	for _, at := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' }) {
		device, filter, _ := strings.Cut(at, "/")
		out = append(out, spot{device, filter})
	}
	return out
}

// covers reports whether an expectation is about a filter.
func (e Expected) covers(device, filter string) bool {
	at := e.places()
	return len(at) == 0 || slices.ContainsFunc(at, func(s spot) bool { return s.device == device && (s.filter == "" || s.filter == filter) })
}

// sides are a device's filters before a change and after it.
type sides struct {
	before, after flow.Reading
	touched       []string
}

// traffic answers what was expected of a change.
func (d *Desk) traffic(ctx context.Context, number int64, list []Verdict) (t Traffic, err error) {
	expected, err := d.store.Expectations(ctx, number)
	if err != nil || len(expected) == 0 {
		return t, err
	}
	devices := map[string]*sides{}
	var order []string
	for _, v := range list {
		s := &sides{before: flow.Read(v.running), after: flow.Read(v.result)}
		for _, c := range v.Effects {
			if c.Filter != "" {
				s.touched = append(s.touched, c.Filter)
			}
		}
		devices[v.Device], order = s, append(order, v.Device)
	}
	parsed := make([]flow.Expectation, len(expected))
	for i, e := range expected {
		x := Expected{Expectation: e}
		if parsed[i], err = flow.ParseExpectation(e.Line); err != nil {
			return t, err
		}
		before, after, trouble, err := d.filtersOf(ctx, x, devices, order)
		if err != nil {
			return t, err
		}
		if x.Trouble = trouble; trouble == "" {
			x.Answer = flow.Ask(parsed[i], before, after)
		}
		t.Expected = append(t.Expected, x)
	}
	accepted, err := d.store.AcceptedEffects(ctx, number)
	if err != nil {
		return t, err
	}
	for _, device := range order {
		s := devices[device]
		for _, filter := range s.touched {
			if one := s.beside(device, filter, t.Expected, parsed); !one.NoEffect {
				one.accept(accepted)
				t.Beside = append(t.Beside, one)
			}
		}
	}
	return t, nil
}

func (s *sides) beside(device, filter string, expected []Expected, parsed []flow.Expectation) SideEffect {
	var about []flow.Expectation
	for i, e := range expected {
		if e.covers(device, filter) {
			about = append(about, parsed[i])
		}
	}
	before, _ := s.before.Filter(filter)
	after, _ := s.after.Filter(filter)
	one := SideEffect{Device: device, Change: flow.Beside(before, after, about)}
	body, err := json.Marshal([]any{one.Permitted, one.Denied, one.More})
	if err == nil {
		sum := sha256.Sum256(body)
		one.Digest = hex.EncodeToString(sum[:8])
	}
	return one
}

func (s *SideEffect) accept(list []store.AcceptedEffect) {
	for i, a := range list {
		if a.Device == s.Device && a.Filter == s.Filter && a.Digest == s.Digest {
			s.Accepted = &list[i]
		}
	}
}

// filtersOf gives the filters on the way that an expectation names, before and
// after; trouble says why there are none.
func (d *Desk) filtersOf(ctx context.Context, e Expected, devices map[string]*sides, order []string) (before, after []flow.Filter, trouble string, err error) {
	at := e.places()
	if len(at) == 0 {
		for _, name := range order {
			at = append(at, spot{device: name})
		}
	}
	for _, where := range at {
		s := devices[where.device]
		if s == nil { // it is no part of the change: its filters stay
			known, err := d.history.Known(ctx, where.device)
			if err != nil {
				return nil, nil, "", err
			}
			r := flow.Read(known.Running)
			s = &sides{before: r, after: r}
		}
		names := []string{where.filter}
		if where.filter == "" {
			if names = s.touched; len(names) == 0 && len(e.places()) > 0 {
				names = s.after.Names()
			}
		}
		for _, name := range names {
			x, had := s.before.Filter(name)
			y, has := s.after.Filter(name)
			if !had && !has {
				return nil, nil, fmt.Sprintf("there is no filter %s on %s", name, where.device), nil
			}
			x.Name, y.Name = where.device+"/"+name, where.device+"/"+name
			before, after = append(before, x), append(after, y)
		}
	}
	if len(after) == 0 {
		return nil, nil, "the change touches no filter there: name one, as DEVICE/FILTER", nil
	}
	return before, after, "", nil
}

// hindrance says why a change cannot be committed for what was expected of it;
// "" where it can.
func (t Traffic) hindrance(number int64) (why, next string) {
	for _, e := range t.Expected {
		switch {
		case e.Trouble != "":
			return fmt.Sprintf("whether expectation %d (%s) is met is not known: %s", e.ID, e.Line, e.Trouble), fmt.Sprintf("take it back with: latch expect drop %d %d", number, e.ID)
		case !e.Delivered:
			return fmt.Sprintf("expectation %d is not delivered: %s; missing: %s, for example %s: %s", e.ID, e.Line, e.Missing[0].Packets, e.Missing[0].Example, e.Missing[0].By),
				fmt.Sprintf("stage what is missing, or take the expectation back with: latch expect drop %d %d", number, e.ID)
		}
	}
	for _, s := range t.Beside {
		if s.Accepted == nil {
			what := s.Trouble
			if what == "" {
				what = s.sum()
			}
			return fmt.Sprintf("filter %s of %s does what nobody expects: %s", s.Filter, s.Device, what), fmt.Sprintf("stage it narrower, expect it too, or accept it by name with: latch expect accept %d %s %s", number, s.Device, s.Filter)
		}
	}
	return "", ""
}

// touches reports the filters of a part that the change does something to.
func touches(running, result *tree.Node) []flow.Change {
	if running == nil || result == nil {
		return nil
	}
	return flow.Changes(running, result)
}
