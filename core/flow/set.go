package flow

import (
	"crypto/sha256"
	"encoding/binary"
)

// Set is an exact set of packets. Sets of one space can be put together.
type Set struct {
	s     *Space
	roots [families]*node // of result 0 where a packet is not in it
}

// Nothing is the empty set.
func (s *Space) Nothing() Set { return s.set(s.terminal(0), s.terminal(0)) }

// All is every packet.
func (s *Space) All() Set { return s.set(s.terminal(1), s.terminal(1)) }

func (s *Space) set(v4, v6 *node) Set { return Set{s, [families]*node{v4, v6}} }

// Matching gives the packets that fit a match and for which the facts hold.
func (s *Space) Matching(m Match, facts ...string) Set {
	out := s.Nothing()
	for fam := range families {
		if c, ok := s.compileOne(fam, &Rule{Match: m, Facts: facts}); ok {
			out.roots[fam] = s.box(fam, c)
		}
	}
	return out
}

// box gives the packets that fit conditions.
func (s *Space) box(fam Family, c compiled) *node {
	n := s.terminal(1)
	for f := len(s.facts) + int(Facts) - 1; f >= 0; f-- {
		for _, x := range c.conds {
			if int(x.field) != f {
				continue
			}
			var ends []value
			var kids []*node
			at := value{}
			for _, sp := range x.spans {
				if at.less(sp.lo) {
					ends, kids = append(ends, sp.lo.prev()), append(kids, s.terminal(0))
				}
				ends, kids = append(ends, sp.hi), append(kids, n)
				at = sp.hi.next()
			}
			if most := last(x.field, fam); x.spans[len(x.spans)-1].hi != most {
				ends, kids = append(ends, most), append(kids, s.terminal(0))
			}
			n = s.decide(x.field, ends, kids)
		}
	}
	return n
}

func (a Set) with(op uint8, b Set) Set {
	out := Set{s: a.s}
	for fam := range families {
		out.roots[fam] = a.s.apply(op, a.roots[fam], b.roots[fam])
	}
	return out
}

// Union gives what is in one of them, Both what is in both, Minus what is in the
// first and not in the second.
func (a Set) Union(b Set) Set { return a.with(opOr, b) }

// Both gives what is in both.
func (a Set) Both(b Set) Set { return a.with(opAnd, b) }

// Minus gives what is in the first and not in the second.
func (a Set) Minus(b Set) Set { return a.with(opMinus, b) }

// Empty reports whether no packet is in it.
func (a Set) Empty() bool {
	for _, n := range a.roots {
		if !n.terminal() || n.result != 0 {
			return false
		}
	}
	return true
}

// Equal reports whether two sets hold the same packets.
func (a Set) Equal(b Set) bool { return a.s == b.s && a.roots == b.roots }

// Digest names what sets hold, in any process: equal sets have equal digests,
// where their facts were met in the same order.
func Digest(sets ...Set) (sum [sha256.Size]byte) {
	var all []byte
	for _, a := range sets {
		done := map[*node][sha256.Size]byte{}
		for _, n := range a.roots {
			one := a.s.digest(n, done)
			all = append(all, one[:]...)
		}
	}
	return sha256.Sum256(all)
}

func (s *Space) digest(n *node, done map[*node][sha256.Size]byte) [sha256.Size]byte {
	if sum, ok := done[n]; ok {
		return sum
	}
	text := []byte{byte(n.field)}
	if n.terminal() {
		text = binary.BigEndian.AppendUint32(text, uint32(n.result))
	}
	if n.field >= Facts && int(n.field-Facts) < len(s.facts) {
		text = append(append(text, s.facts[n.field-Facts]...), 0)
	}
	for i, k := range n.kids {
		kid := s.digest(k, done)
		text = binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64(text, n.ends[i].hi), n.ends[i].lo)
		text = append(text, kid[:]...)
	}
	done[n] = sha256.Sum256(text)
	return done[n]
}

// Has reports whether a packet is in it.
func (a Set) Has(p Packet) bool { return walkTo(a.s, a.roots[p.Family], p) != 0 }

// walkTo gives a diagram's result for a packet.
func walkTo(s *Space, n *node, p Packet) int32 {
	for !n.terminal() {
		n = n.at(p.value(s, n.field))
	}
	return n.result
}

// Facts gives the facts of which nothing is known that the set depends on.
func (a Set) Facts() []string {
	seen, used := map[*node]bool{}, map[Field]bool{}
	var walk func(*node)
	walk = func(n *node) {
		if n.terminal() || seen[n] {
			return
		}
		seen[n] = true
		used[n.field] = true
		for _, k := range n.kids {
			walk(k)
		}
	}
	for _, n := range a.roots {
		walk(n)
	}
	var out []string
	for i, name := range a.s.facts {
		if used[Facts+Field(i)] && Opaque(name) {
			out = append(out, name)
		}
	}
	return out
}

// table works out what rules do with every packet, within a box of each family
// or everywhere: leaf gives the result where rules fit for certain, in their
// order, by their places in the list.
type table struct {
	leaf  func(places []int32) int32
	early func(places []int32, closed bool) (int32, bool)
	depth int
}

func (s *Space) table(fam Family, rules []compiled, places []int32, t table) *node {
	b := &builder{depth: t.depth}
	var at []int32
	there := func(list []int32) []int32 {
		at = at[:0]
		for _, i := range list {
			at = append(at, places[i])
		}
		return at
	}
	b.leaf = func(list []int32) int32 { return t.leaf(there(list)) }
	if t.early != nil {
		b.early = func(list []int32, closed bool) (int32, bool) { return t.early(there(list), closed) }
	}
	b.begin(s, fam, rules)
	list := make([]int32, len(rules))
	for i := range list {
		list[i] = int32(i)
	}
	return b.from(0, list)
}

// actions gives what is done with every packet.
func (s *Space) actions(fam Family, all []Rule, rules []compiled, places []int32) *node {
	return s.table(fam, rules, places, table{
		depth: 1,
		leaf: func(at []int32) int32 {
			if len(at) == 0 {
				return int32(Drop)
			}
			return int32(all[at[0]].Action)
		},
		early: func(at []int32, closed bool) (int32, bool) {
			if len(at) == 0 {
				return int32(Drop), true
			}
			a := all[at[0]].Action
			if !closed && a != Drop {
				return 0, false
			}
			for _, i := range at[1:] {
				if all[i].Action != a {
					return 0, false
				}
			}
			return int32(a), true
		},
	})
}

// Permitted gives the packets that rules permit.
func (s *Space) Permitted(rules []Rule) Set { return s.PermittedWithin(s.All(), rules) }

// PermittedWithin gives those of them that are in a set.
func (s *Space) PermittedWithin(in Set, rules []Rule) Set {
	out := s.Nothing()
	for fam := range families {
		if n := in.roots[fam]; n.terminal() && n.result == 0 {
			continue
		}
		box, _ := hull(in.roots[fam])
		c, places := s.within(box, fam, rules)
		n := s.mapped(s.actions(fam, rules, c, places), func(r int32) int32 { return one(Action(r) == Accept) })
		out.roots[fam] = s.apply(opAnd, n, in.roots[fam])
	}
	return out
}

func one(b bool) int32 {
	if b {
		return 1
	}
	return 0
}

// hull gives a box that a set is inside of, by the fields that it asks for on
// every way; ok is false where that is everything.
func hull(n *node) (c compiled, ok bool) {
	for !n.terminal() {
		var spans []span
		var only *node
		at, many := value{}, false
		for i, k := range n.kids {
			if !k.terminal() || k.result != 0 {
				if len(spans) > 0 && spans[len(spans)-1].hi.next() == at {
					spans[len(spans)-1].hi = n.ends[i]
				} else {
					spans = append(spans, span{at, n.ends[i]})
				}
				many = many || only != nil && only != k
				only = k
			}
			at = n.ends[i].next()
		}
		if len(spans) == 0 {
			return c, ok
		}
		if !(len(spans) == 1 && spans[0].lo == (value{}) && spans[0].hi == n.ends[len(n.ends)-1]) {
			c.conds, ok = append(c.conds, cond{field: n.field, spans: spans}), true
		}
		if many {
			return c, ok
		}
		n = only
	}
	return c, ok
}

// DecidedBy gives the packets that one rule decides: those that fit it, and none
// before it.
func (s *Space) DecidedBy(rules []Rule, place int) Set {
	out := s.Nothing()
	for fam := range families {
		box, ok := s.compileOne(fam, &rules[place])
		if !ok {
			continue
		}
		c, places := s.within(box, fam, rules[:place])
		free := s.table(fam, c, places, table{depth: 1,
			leaf:  func(at []int32) int32 { return one(len(at) == 0) },
			early: func(at []int32, closed bool) (int32, bool) { return one(len(at) == 0), len(at) == 0 },
		})
		out.roots[fam] = s.apply(opAnd, free, s.box(fam, box))
	}
	return out
}
