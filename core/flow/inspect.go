package flow

import (
	"math"
	"slices"
)

// Standing is how a rule stands in its filter.
type Standing uint8

// The standings.
const (
	Needed    Standing = iota
	Unreached          // no packet gets to it
	Redundant          // what it decides would be decided alike without it
)

// Inspect tells how each rule stands: whether any packet gets to it, and whether
// without it anything would be done otherwise. A rule that stands between packets
// and the end of the filter is needed: what becomes of packets that no rule fits
// is not laid down by RFC 8519, and better said.
func (s *Space) Inspect(rules []Rule) []Standing {
	reached, needed := make([]bool, len(rules)), make([]bool, len(rules))
	for fam := range families {
		c, places := s.compile(fam, rules)
		s.table(fam, c, places, table{depth: 2, leaf: func(at []int32) int32 {
			if len(at) == 0 {
				return 0
			}
			reached[at[0]] = true
			if len(at) == 1 || rules[at[0]].Action != rules[at[1]].Action {
				needed[at[0]] = true
			}
			return 0
		}})
	}
	out := make([]Standing, len(rules))
	for i := range out {
		switch {
		case !reached[i]:
			out[i] = Unreached
		case !needed[i]:
			out[i] = Redundant
		}
	}
	return out
}

// Clean gives the places of rules that can all go together without anything
// being done otherwise; the proof is that Compare finds no difference. Of rules
// that could go one without the other, the last ones do. After an error of the
// space those given can still all go: there may be more.
func (s *Space) Clean(rules []Rule) (gone []int) {
	places := make([]int, len(rules)) // of what is left
	for i := range places {
		places[i] = i
	}
	left := slices.Clone(rules)
	take := func(i int) {
		gone = append(gone, places[i])
		places, left = slices.Delete(places, i, i+1), slices.Delete(left, i, i+1)
	}
	for again := true; again && s.failed == nil; { // what goes may leave others without a purpose
		again = false
		standing := s.Inspect(left)
		if s.failed != nil {
			break
		}
		for i := len(left) - 1; i >= 0; i-- { // those never reached can go whatever is left to spend
			if standing[i] == Needed || standing[i] == Redundant && !s.idle(left, i) {
				continue
			}
			take(i)
			again = true
		}
	}
	slices.Sort(gone)
	return gone
}

// idleSteps is what looking at one rule of a list costs there, whatever else does.
const idleSteps = 400

// idle reports whether without a rule all would be done alike, whatever becomes
// of packets that no rule fits.
func (s *Space) idle(rules []Rule, i int) bool {
	if !s.spend(idleSteps * len(rules)) {
		return false
	}
	end := Rule{Facts: []string{"what no rule fits is let through"}, Action: Accept}
	none := s.Compare(append(slices.Clone(rules), end), append(slices.Delete(slices.Clone(rules), i, i+1), end)).None()
	return none && s.failed == nil
}

// Clash is two rules that fit some of the same packets and do otherwise with
// them, neither of them a special case of the other: which stands first matters,
// and may be an oversight.
type Clash struct {
	First, Second int // places
	Example       Packet
}

// Clashes gives such pairs, at most so many.
func (s *Space) Clashes(rules []Rule, most int) (out []Clash) {
	for fam := range families {
		c, places := s.compile(fam, rules)
		for i := range c {
			for j := i + 1; j < len(c); j++ {
				if rules[places[i]].Action.Permits() == rules[places[j]].Action.Permits() {
					continue
				}
				if len(out) >= most || !s.spend(len(c[i].conds)+1) {
					return out
				}
				both, meets := overlap(c[i], c[j])
				if !meets || covers(c[i], c[j]) || covers(c[j], c[i]) {
					continue
				}
				out = append(out, Clash{int(places[i]), int(places[j]), example(s, fam, s.box(fam, both))})
			}
		}
	}
	return out
}

func overlap(a, b compiled) (compiled, bool) {
	out := compiled{slices.Clone(a.conds)}
	for _, x := range b.conds {
		if !out.and(x.field, x.spans) {
			return out, false
		}
	}
	return out, true
}

// covers reports whether all that fits b fits a.
func covers(a, b compiled) bool {
	for _, x := range a.conds {
		i := slices.IndexFunc(b.conds, func(y cond) bool { return y.field == x.field })
		if i < 0 || !slices.Equal(meet(x.spans, b.conds[i].spans), b.conds[i].spans) {
			return false
		}
	}
	return true
}

// Width is the logarithm (base 2) of how many packets, told apart by addresses,
// protocol and ports, a rule may fit: what it asks for beside these is left out.
func (r Rule) Width() float64 {
	most := math.Inf(-1)
	s := NewSpace(Limits{})
	for fam := range families {
		c, ok := s.compileOne(fam, &r)
		if !ok {
			continue
		}
		w := 0.0
		for _, f := range []Field{Protocol, Destination, Source, DestinationPort, SourcePort} {
			spans := []span{whole(f, fam)}
			if i := slices.IndexFunc(c.conds, func(x cond) bool { return x.field == f }); i >= 0 {
				spans = c.conds[i].spans
			}
			n := 0.0
			for _, sp := range spans {
				n += sp.hi.float() - sp.lo.float() + 1
			}
			w += math.Log2(n)
		}
		most = max(most, w)
	}
	return most
}

func (v value) float() float64 { return float64(v.hi)*math.Exp2(64) + float64(v.lo) }
