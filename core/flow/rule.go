package flow

import (
	"fmt"
	"net/netip"
	"slices"
)

// Action is what is done with a packet.
type Action uint8

// The actions (RFC 8519 section 4.1): reject is drop that says so to the sender.
const (
	Drop Action = iota
	Reject
	Accept
)

func (a Action) String() string { return [...]string{"drop", "reject", "accept"}[a] }

// Permits reports whether a packet passes.
func (a Action) Permits() bool { return a == Accept }

// Match is what a rule asks of a packet: all of it must hold. The zero value
// fits every packet.
type Match struct {
	only  [families]bool // with one set, packets of the others do not fit
	ands  []cond
	never bool // it contradicts itself
}

// cond is one of them: a field's value is in one of the spans.
type cond struct {
	field Field
	fam   Family // of addresses, and of spans cut to a width
	every bool   // it is the same for all families
	spans []span // ascending, apart
}

// In gives the match that also asks for a family.
func (m Match) In(f Family) Match {
	if m.only[1-f] {
		m.never = true
	}
	m.only[f] = true
	return m
}

// Number gives the match that also asks that a field is a number from lo to hi.
func (m Match) Number(f Field, lo, hi uint64) Match {
	if lo > hi {
		m.never = true
		return m
	}
	return m.and(cond{field: f, every: true, spans: []span{{num(lo), num(hi)}}})
}

// Not gives the match that also asks that a field is not one number.
func (m Match) Not(f Field, n uint64) Match {
	var spans []span
	if n > 0 {
		spans = append(spans, span{num(0), num(n - 1)})
	}
	if most := last(f, IPv4); num(n).less(most) {
		spans = append(spans, span{num(n + 1), most})
	}
	return m.and(cond{field: f, every: true, spans: spans})
}

// Prefix gives the match that also asks that an address is in a prefix, and so
// for its family.
func (m Match) Prefix(f Field, p netip.Prefix) Match {
	fam := IPv6
	if p.Addr().Is4() {
		fam = IPv4
	}
	return m.In(fam).and(cond{field: f, fam: fam, spans: []span{prefixSpan(p)}})
}

// Range gives the match that also asks that an address is from lo to hi.
func (m Match) Range(f Field, lo, hi netip.Addr) Match {
	fam := IPv6
	if lo.Is4() {
		fam = IPv4
	}
	if lo.Is4() != hi.Is4() || hi.Less(lo) {
		m.never = true
		return m
	}
	return m.In(fam).and(cond{field: f, fam: fam, spans: []span{{addressValue(lo), addressValue(hi)}}})
}

func (m Match) and(c cond) Match {
	m.ands = append(slices.Clip(m.ands), c)
	return m
}

// Rule is one rule of a filter.
type Rule struct {
	Name   string
	Path   string // of the rule in its configuration, "" where it is in none
	Match  Match
	Facts  []string // what it asks beside: facts that must hold, by name
	Action Action
}

// Filter is an ordered list of rules: the first that fits decides, and what none
// fits is dropped.
type Filter struct {
	Name  string
	Path  string
	Rules []Rule
}

// String names a filter.
func (f Filter) String() string { return fmt.Sprintf("filter %s (%d rules)", f.Name, len(f.Rules)) }

// flags are facts of their own: each may hold beside each other, so nothing is
// lost by that.
var flagFacts = map[string]bool{
	"tcp cwr": true, "tcp ece": true, "tcp urg": true, "tcp ack": true, "tcp psh": true, "tcp rst": true,
	"tcp syn": true, "tcp fin": true, "tcp ns": true, "ipv4 reserved": true, "ipv4 fragment": true, "ipv4 more": true,
}

// Opaque reports whether a fact is one of which nothing is known but its name.
func Opaque(fact string) bool { return !flagFacts[fact] }

// Spans gives the stretches of a field's values that each condition of a match
// on it asks for in a family, first and last. Of addresses of IPv6 it gives the
// lower 64 bits alone.
func (m Match) Spans(f Field, fam Family) (out [][][2]uint64) {
	for _, c := range m.ands {
		if c.field != f || !c.every && c.fam != fam {
			continue
		}
		var of [][2]uint64
		for _, sp := range c.spans {
			of = append(of, [2]uint64{sp.lo.lo, sp.hi.lo})
		}
		out = append(out, of)
	}
	return out
}

// Halves gives two matches that fit together what this one does: its condition
// on a field cut in two. Where it cannot be cut it is given alone.
func (m Match) Halves(f Field) []Match {
	for i, c := range m.ands {
		if c.field != f || len(c.spans) != 1 || c.spans[0].lo == c.spans[0].hi {
			continue
		}
		sp := c.spans[0]
		mid := sp.lo
		if sp.lo.hi == sp.hi.hi {
			mid.lo += (sp.hi.lo - sp.lo.lo) / 2
		} else {
			mid.hi += (sp.hi.hi - sp.lo.hi) / 2
		}
		var out []Match
		for _, half := range []span{{sp.lo, mid}, {mid.next(), sp.hi}} {
			h := m
			h.ands = slices.Clone(m.ands)
			h.ands[i].spans = []span{half}
			out = append(out, h)
		}
		return out
	}
	return []Match{m}
}
