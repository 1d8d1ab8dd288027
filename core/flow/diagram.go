package flow

import "errors"

// node is a decision: of which stretch a field's value is. A terminal has no
// kids, and a result. Nodes never change, and of equal ones there is one alone.
type node struct {
	id     uint32
	field  Field
	result int32
	ends   []value // where each stretch ends, the last at the field's last value
	kids   []*node
	chain  *node // the next of the same hash
}

func (n *node) terminal() bool { return n.kids == nil }

// ErrTooLarge is given where an answer would take more room or time than was
// allowed.
var ErrTooLarge = errors.New("it is too large to be worked out exactly")

// Space is where diagrams are kept, so that equal ones are one. It is used by one
// goroutine at a time; sets of one space can be put together.
type Space struct {
	nodes     map[uint64]*node
	terminals map[int32]*node
	count     uint32
	limit     uint32
	work      int64 // steps that are left
	failed    error
	facts     []string
	factIndex map[string]Field
	memo      map[applied]*node
}

// Limits bound what a space may take.
type Limits struct {
	Nodes int   // decisions kept; 0 is the usual
	Steps int64 // of work; 0 is the usual
}

// The usual limits: some 500 MB, and some ten seconds.
const (
	usualNodes = 4_000_000
	usualSteps = 3_000_000_000
)

// NewSpace gives an empty space.
func NewSpace(l Limits) *Space {
	if l.Nodes <= 0 {
		l.Nodes = usualNodes
	}
	if l.Steps <= 0 {
		l.Steps = usualSteps
	}
	return &Space{
		nodes: map[uint64]*node{}, terminals: map[int32]*node{}, limit: uint32(l.Nodes), work: l.Steps,
		factIndex: map[string]Field{}, memo: map[applied]*node{},
	}
}

// spend counts work; it reports whether there is any left.
func (s *Space) spend(n int) bool {
	if s.failed != nil {
		return false
	}
	if s.work -= int64(n); s.work < 0 {
		s.failed = ErrTooLarge
	}
	return s.failed == nil
}

// Err tells whether what was worked out in the space is whole: after an error
// nothing of it counts.
func (s *Space) Err() error { return s.failed }

// fact gives the field of a fact, by its name.
func (s *Space) fact(name string) (Field, bool) {
	if f, ok := s.factIndex[name]; ok {
		return f, true
	}
	if len(s.facts) == mostFacts {
		s.failed = ErrTooLarge
		return 0, false
	}
	f := Facts + Field(len(s.facts))
	s.facts = append(s.facts, name)
	s.factIndex[name] = f
	return f, true
}

func (s *Space) terminal(result int32) *node {
	if n := s.terminals[result]; n != nil {
		return n
	}
	s.count++
	n := &node{id: s.count, field: 255, result: result}
	s.terminals[result] = n
	return n
}

// decide gives the node that decides so; stretches with equal outcome become
// one, and where one is left there is nothing to decide. It takes its arguments
// over.
func (s *Space) decide(f Field, ends []value, kids []*node) *node {
	w := 0
	for i := range kids {
		if w > 0 && kids[w-1] == kids[i] {
			ends[w-1] = ends[i]
			continue
		}
		ends[w], kids[w] = ends[i], kids[i]
		w++
	}
	if w == 1 {
		return kids[0]
	}
	ends, kids = ends[:w], kids[:w]
	h := uint64(f)*0x9e3779b97f4a7c15 + 1
	for i := range kids {
		h = (h ^ ends[i].lo) * 0xff51afd7ed558ccd
		h = (h ^ ends[i].hi ^ h>>32) * 0xc4ceb9fe1a85ec53
		h = (h ^ uint64(kids[i].id) ^ h>>29) * 0x9e3779b97f4a7c15
	}
	for n := s.nodes[h]; n != nil; n = n.chain {
		if n.field == f && same(n, ends, kids) {
			return n
		}
	}
	if s.count >= s.limit {
		s.failed = ErrTooLarge
		return kids[0]
	}
	s.count++
	n := &node{id: s.count, field: f, chain: s.nodes[h]}
	n.ends = append(make([]value, 0, w), ends...)
	n.kids = append(make([]*node, 0, w), kids...)
	s.nodes[h] = n
	return n
}

func same(n *node, ends []value, kids []*node) bool {
	if len(n.kids) != len(kids) {
		return false
	}
	for i := range kids {
		if n.kids[i] != kids[i] || n.ends[i] != ends[i] {
			return false
		}
	}
	return true
}

// at gives the kid for a value of the node's field.
func (n *node) at(v value) *node {
	lo, hi := 0, len(n.ends)-1
	for lo < hi {
		mid := (lo + hi) / 2
		if n.ends[mid].less(v) {
			lo = mid + 1
		} else {
			hi = mid
		}
	}
	return n.kids[lo]
}

// applied names a result of apply.
type applied struct {
	op   uint8
	f, g uint32
}

// The operations on results.
const (
	opAnd    uint8 = iota // both are not 0
	opOr                  // one is not 0
	opMinus               // the first is not 0 and the second is
	opPair                // the two actions, as pairOf has them
	opIfElse              // the first where the second is not 0
)

// pairOf names two actions.
func pairOf(a, b int32) int32 { return 1 + a*3 + b }

func combine(op uint8, a, b int32) int32 {
	yes := false
	switch op {
	case opAnd:
		yes = a != 0 && b != 0
	case opOr:
		yes = a != 0 || b != 0
	case opMinus:
		yes = a != 0 && b == 0
	case opPair:
		return pairOf(a, b)
	case opIfElse:
		if b == 0 {
			return 0
		}
		return a
	}
	if yes {
		return 1
	}
	return 0
}

// apply combines the results of two diagrams, packet by packet.
func (s *Space) apply(op uint8, f, g *node) *node {
	if f.terminal() && g.terminal() {
		return s.terminal(combine(op, f.result, g.result))
	}
	switch { // where one of them decides alone
	case op == opAnd && (f.terminal() && f.result == 0 || g.terminal() && g.result == 0):
		return s.terminal(0)
	case op == opMinus && (f.terminal() && f.result == 0 || g.terminal() && g.result != 0):
		return s.terminal(0)
	case op == opIfElse && g.terminal():
		if g.result == 0 {
			return s.terminal(0)
		}
		return f
	}
	key := applied{op, f.id, g.id}
	if n := s.memo[key]; n != nil {
		return n
	}
	if !s.spend(len(f.kids) + len(g.kids)) {
		return s.terminal(0)
	}
	field := min(f.field, g.field)
	ends := make([]value, 0, len(f.ends)+len(g.ends))
	kids := make([]*node, 0, cap(ends))
	i, j := 0, 0
	for {
		a, b := f, g
		var end value
		switch {
		case f.field != field:
			b, end = g.kids[j], g.ends[j]
			j++
		case g.field != field:
			a, end = f.kids[i], f.ends[i]
			i++
		default:
			a, b = f.kids[i], g.kids[j]
			switch c := f.ends[i].compare(g.ends[j]); {
			case c < 0:
				end = f.ends[i]
				i++
			case c > 0:
				end = g.ends[j]
				j++
			default:
				end = f.ends[i]
				i++
				j++
			}
		}
		ends, kids = append(ends, end), append(kids, s.apply(op, a, b))
		if (f.field != field || i == len(f.kids)) && (g.field != field || j == len(g.kids)) {
			break
		}
	}
	n := s.decide(field, ends, kids)
	s.memo[key] = n
	return n
}

// mapped gives a diagram with other results.
func (s *Space) mapped(f *node, to func(int32) int32) *node {
	done := map[*node]*node{}
	var walk func(*node) *node
	walk = func(n *node) *node {
		if n.terminal() {
			return s.terminal(to(n.result))
		}
		if m := done[n]; m != nil {
			return m
		}
		kids := make([]*node, len(n.kids))
		for i, k := range n.kids {
			kids[i] = walk(k)
		}
		m := s.decide(n.field, append([]value(nil), n.ends...), kids)
		done[n] = m
		return m
	}
	return walk(f)
}
