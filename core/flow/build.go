package flow

import (
	"math/rand/v2"
	"slices"
)

// sign names a list of rules by a 128-bit sum of their random keys: two lists of
// the same rules have the same sign, and two others share one with a probability
// below one in 10^20 for as many lists as fit into memory.
type sign struct{ a, b uint64 }

func (s *sign) flip(k sign) { s.a ^= k.a; s.b ^= k.b }

// builder makes a diagram of a list of rules for one family.
type builder struct {
	s     *Space
	fam   Family
	rules []asked
	cuts  [64][]value
	memo  map[built]*node

	// leaf gives the result where the rules that are left fit for certain, in
	// their order.
	leaf func(list []int32) int32
	// early gives a result where it is known from the list alone; closed says that
	// its last rule fits for certain. nil never knows.
	early func(list []int32, closed bool) (int32, bool)
	// depth is how many rules that fit for certain are kept: those behind decide
	// nothing that is asked.
	depth int

	free [][]int32 // lists to be used again
}

// asked is a rule as a builder sees it: by field, the ranks of its spans.
type asked struct {
	mask  uint64 // the fields it asks for
	spans [][]ranks
	index []uint8 // of spans, by field
	key   sign
}

type ranks struct{ lo, hi int32 }

type built struct {
	field uint8
	sign  sign
}

// list is rules in their order, as numbers.
func (b *builder) begin(s *Space, fam Family, rules []compiled) {
	b.s, b.fam = s, fam
	b.memo = map[built]*node{}
	rnd := rand.New(rand.NewPCG(0x6f616b, uint64(fam)+1))
	var starts [64][]value
	for i := range rules {
		for _, c := range rules[i].conds {
			for _, sp := range c.spans {
				starts[c.field] = append(starts[c.field], sp.lo)
				if sp.hi != b.last(c.field) {
					starts[c.field] = append(starts[c.field], sp.hi.next())
				}
			}
		}
	}
	for f := range starts {
		if len(starts[f]) == 0 {
			continue
		}
		starts[f] = append(starts[f], value{})
		slices.SortFunc(starts[f], value.compare)
		b.cuts[f] = slices.Compact(starts[f])
	}
	b.rules = make([]asked, len(rules))
	for i := range rules {
		r := &b.rules[i]
		r.key = sign{rnd.Uint64(), rnd.Uint64()}
		r.index = make([]uint8, 64)
		for _, c := range rules[i].conds {
			list := make([]ranks, len(c.spans))
			for k, sp := range c.spans {
				list[k].lo = b.rank(c.field, sp.lo)
				list[k].hi = int32(len(b.cuts[c.field])) - 1
				if sp.hi != b.last(c.field) {
					list[k].hi = b.rank(c.field, sp.hi.next()) - 1
				}
			}
			r.mask |= 1 << c.field
			r.index[c.field] = uint8(len(r.spans))
			r.spans = append(r.spans, list)
		}
	}
}

func (b *builder) last(f Field) value { return last(f, b.fam) }

func (b *builder) rank(f Field, v value) int32 {
	i, _ := slices.BinarySearchFunc(b.cuts[f], v, value.compare)
	return int32(i)
}

// from gives the decision on the fields from one on, for packets that fit the
// list's rules in the fields before.
func (b *builder) from(f Field, list []int32) *node {
	below := ^uint64(0) << f
	// What stands behind rules that fit for certain decides nothing.
	certain := 0
	for i, r := range list {
		if b.rules[r].mask&below == 0 {
			if certain++; certain == b.depth {
				list = list[:i+1]
				break
			}
		}
	}
	if b.early != nil {
		if result, ok := b.early(list, certain == b.depth); ok {
			return b.s.terminal(result)
		}
	}
	var mask uint64
	var sg sign
	for _, r := range list {
		mask |= b.rules[r].mask
		sg.flip(b.rules[r].key)
	}
	if mask &= below; mask == 0 {
		return b.s.terminal(b.leaf(list))
	}
	for f = 0; mask&1 == 0; mask >>= 1 {
		f++
	}
	key := built{uint8(f), sg}
	if n := b.memo[key]; n != nil {
		return n
	}
	n := b.sweep(f, list)
	b.memo[key] = n
	return n
}

// sweep goes through a field's values in stretches in which the same rules fit.
func (b *builder) sweep(f Field, list []int32) *node {
	if !b.s.spend(4 * len(list)) {
		return b.s.terminal(0)
	}
	bit := uint64(1) << f
	events := make([]uint64, 0, 2*len(list)) // rank, and twice the place in the list, odd where it ends
	var sg sign
	inside := make([]bool, len(list))
	for i, r := range list {
		rule := &b.rules[r]
		if rule.mask&bit == 0 {
			inside[i] = true
			sg.flip(rule.key)
			continue
		}
		for _, sp := range rule.spans[rule.index[f]] {
			events = append(events, uint64(sp.lo)<<32|uint64(i)<<1, uint64(sp.hi+1)<<32|uint64(i)<<1|1)
		}
	}
	slices.Sort(events)
	cuts := b.cuts[f]
	var ends []value
	var kids []*node
	seen := map[sign]*node{}
	at := 0
	for rank := int32(0); int(rank) < len(cuts); {
		for ; at < len(events) && int32(events[at]>>32) <= rank; at++ {
			i := uint32(events[at]) >> 1
			inside[i] = events[at]&1 == 0
			sg.flip(b.rules[list[i]].key)
		}
		next := int32(len(cuts))
		if at < len(events) {
			next = min(next, int32(events[at]>>32))
		}
		kid := seen[sg]
		if kid == nil {
			if !b.s.spend(len(list)) {
				return b.s.terminal(0)
			}
			sub := b.take()
			for i, r := range list {
				if inside[i] {
					sub = append(sub, r)
				}
			}
			kid = b.from(f+1, sub)
			b.free = append(b.free, sub)
			seen[sg] = kid
		}
		end := b.last(f)
		if int(next) < len(cuts) {
			end = cuts[next].prev()
		}
		ends, kids = append(ends, end), append(kids, kid)
		rank = next
	}
	return b.s.decide(f, ends, kids)
}

func (b *builder) take() []int32 {
	if n := len(b.free); n > 0 {
		list := b.free[n-1][:0]
		b.free = b.free[:n-1]
		return list
	}
	return nil
}

// compiled is a rule's conditions for one family: one for a field, without those
// that ask nothing.
type compiled struct {
	conds []cond
}

// compile gives the rules that can fit packets of a family, with their places in
// the list.
func (s *Space) compile(fam Family, rules []Rule) (out []compiled, places []int32) {
	for i := range rules {
		c, ok := s.compileOne(fam, &rules[i])
		if ok {
			out, places = append(out, c), append(places, int32(i))
		}
	}
	return out, places
}

func (s *Space) compileOne(fam Family, r *Rule) (c compiled, ok bool) {
	if r.Match.never || r.Match.only[1-fam] {
		return c, false
	}
	for _, a := range r.Match.ands {
		if !a.every && a.fam != fam {
			return c, false
		}
		if !c.and(a.field, clip(a.spans, last(a.field, fam))) {
			return c, false
		}
	}
	for _, name := range r.Facts {
		f, ok := s.fact(name)
		if !ok || !c.and(f, []span{{num(1), num(1)}}) {
			return c, false
		}
	}
	c.conds = slices.DeleteFunc(
		c.conds, func(x cond) bool { return len(x.spans) == 1 && x.spans[0] == whole(x.field, fam) },
	)
	return c, true
}

// clip cuts spans to a field's values.
func clip(spans []span, most value) []span {
	var out []span
	for _, sp := range spans {
		if most.less(sp.lo) {
			continue
		}
		if most.less(sp.hi) {
			sp.hi = most
		}
		out = append(out, sp)
	}
	return out
}

// and adds a condition; false says that nothing fits any more.
func (c *compiled) and(f Field, spans []span) bool {
	for i := range c.conds {
		if c.conds[i].field == f {
			spans = meet(c.conds[i].spans, spans)
			c.conds[i].spans = spans
			return len(spans) > 0
		}
	}
	c.conds = append(c.conds, cond{field: f, spans: spans})
	return len(spans) > 0
}

// meet gives what is in both of two lists of spans.
func meet(a, b []span) (out []span) {
	for i, j := 0, 0; i < len(a) && j < len(b); {
		lo, hi := a[i].lo, a[i].hi
		if lo.less(b[j].lo) {
			lo = b[j].lo
		}
		if b[j].hi.less(hi) {
			hi = b[j].hi
		}
		if !hi.less(lo) {
			out = append(out, span{lo, hi})
		}
		if a[i].hi.less(b[j].hi) {
			i++
		} else {
			j++
		}
	}
	return out
}

// within gives the rules that can fit in a box, cut to it: asking only what the
// box leaves open. Outside of the box they mean nothing.
func (s *Space) within(box compiled, fam Family, rules []Rule) (out []compiled, places []int32) {
	var in [64][]span
	for _, c := range box.conds {
		in[c.field] = c.spans
	}
	for i := range rules {
		if rules[i].excludes(&in, fam) {
			continue
		}
		c, ok := s.compileOne(fam, &rules[i])
		if ok && c.cut(&in) {
			out, places = append(out, c), append(places, int32(i))
		}
	}
	return out, places
}

// excludes reports whether a rule fits nothing in a box, as far as is seen at once.
func (r *Rule) excludes(box *[64][]span, fam Family) bool {
	if r.Match.never || r.Match.only[1-fam] {
		return true
	}
	for i := range r.Match.ands {
		c := &r.Match.ands[i]
		if !c.every && c.fam != fam {
			return true
		}
		if open := box[c.field]; open != nil && !meets(open, c.spans) {
			return true
		}
	}
	return false
}

// meets reports whether two lists of spans have a value in common.
func meets(a, b []span) bool {
	for i, j := 0, 0; i < len(a) && j < len(b); {
		switch {
		case a[i].hi.less(b[j].lo):
			i++
		case b[j].hi.less(a[i].lo):
			j++
		default:
			return true
		}
	}
	return false
}

// cut takes out of a rule's conditions what a box sees to; false says that
// nothing is left that fits.
func (c *compiled) cut(box *[64][]span) bool {
	kept := c.conds[:0]
	for _, x := range c.conds {
		if open := box[x.field]; open != nil {
			both := meet(open, x.spans)
			if len(both) == 0 {
				return false
			}
			if slices.Equal(both, open) {
				continue
			}
			x.spans = both
		}
		kept = append(kept, x)
	}
	c.conds = kept
	return true
}
