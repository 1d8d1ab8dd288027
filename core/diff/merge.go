package diff

import (
	"slices"

	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// Conflict is a place that both sides changed, differently.
type Conflict struct {
	Path               tree.Path
	Base, Mine, Theirs *tree.Node // nil where it is not there
	Why                string
}

// Merge puts what mine changed of base on top of theirs. Where both changed
// the same place differently it is a conflict and the result keeps theirs:
// nobody's edit wins unseen.
func Merge(base, mine, theirs *tree.Node) (*tree.Node, []Conflict) {
	m := merger{}
	return m.node(base, mine, theirs, nil), m.conflicts
}

type merger struct{ conflicts []Conflict }

func (m *merger) conflict(at tree.Path, b, x, t *tree.Node, why string) {
	m.conflicts = append(m.conflicts, Conflict{Path: at, Base: b, Mine: x, Theirs: t, Why: why})
}

func same(a, b *tree.Node) bool {
	if a == nil || b == nil {
		return a == b
	}
	return a.Digest() == b.Digest()
}

// one merges what one identity holds on three sides; any may be nil.
func (m *merger) one(b, x, t *tree.Node, at tree.Path) *tree.Node {
	switch {
	case same(x, t), same(b, x):
		return t
	case same(b, t):
		return x
	}
	some := x
	if some == nil {
		some = t
	}
	at = at.Down(some)
	switch {
	case x == nil:
		m.conflict(at, b, x, t, "deleted here, changed on the device")
	case t == nil:
		m.conflict(at, b, x, t, "changed here, deleted on the device")
	case x.Opaque() != nil || x.Schema().IsLeaf():
		why := "changed here and on the device"
		if b == nil {
			why = "set here and on the device"
		}
		m.conflict(at, b, x, t, why)
	default:
		if b == nil {
			b = x.With(nil)
		}
		return m.node(b, x, t, at)
	}
	return t
}

// node merges the children of a node that all three sides have.
func (m *merger) node(b, x, t *tree.Node, at tree.Path) *tree.Node {
	switch {
	case same(x, t), same(b, x):
		return t
	case same(b, t):
		return x
	}
	var out []*tree.Node
	for _, g := range groups(b, x, t) {
		out = append(out, m.group(g, at)...)
	}
	return t.With(m.cases(out, t, at))
}

// cases sees to it that of each choice only one case is left (RFC 7950 section
// 7.9): where the sides chose differently it is a conflict and theirs stays.
func (m *merger) cases(list []*tree.Node, t *tree.Node, at tree.Path) []*tree.Node {
	chosen := map[*schema.Node]*schema.Node{} // case by choice, theirs first
	for _, nodes := range [][]*tree.Node{t.Children(), list} {
		for _, n := range nodes {
			for c := caseOf(n.Schema()); c != nil; c = caseOf(c.Parent) {
				if chosen[c.Parent] == nil && stays(list, n) {
					chosen[c.Parent] = c
				}
			}
		}
	}
	told := map[*schema.Node]bool{} // one conflict a choice
	return slices.DeleteFunc(list, func(n *tree.Node) bool {
		for c := caseOf(n.Schema()); c != nil; c = caseOf(c.Parent) {
			if chosen[c.Parent] != c {
				if !told[c.Parent] {
					m.conflict(at.Down(n), nil, n, nil, "another case of the choice "+c.Parent.Name+" was chosen on the device")
				}
				told[c.Parent] = true
				return true
			}
		}
		return false
	})
}

// stays reports whether a node, or what became of it, is in the list.
func stays(list []*tree.Node, n *tree.Node) bool {
	return slices.ContainsFunc(list, func(o *tree.Node) bool { return o.Schema() == n.Schema() && slices.Equal(o.Keys(), n.Keys()) })
}

// caseOf gives the case a schema node stands in directly, nil if none.
func caseOf(s *schema.Node) *schema.Node {
	if s == nil || s.Parent == nil || s.Parent.Kind != schema.Case {
		return nil
	}
	return s.Parent
}

// sides are the children of one group on the three sides.
type sides struct{ b, x, t []*tree.Node }

func groups(nodes ...*tree.Node) []sides {
	pos := make([]int, 3)
	var out []sides
	for {
		var first *tree.Node
		for i, n := range nodes {
			if pos[i] < len(n.Children()) {
				if c := n.Children()[pos[i]]; first == nil || before(c, first) {
					first = c
				}
			}
		}
		if first == nil {
			return out
		}
		var runs [3][]*tree.Node
		for i, n := range nodes {
			list := n.Children()
			if pos[i] < len(list) && sameGroup(list[pos[i]], first) {
				end := groupEnd(list, pos[i])
				runs[i] = list[pos[i]:end]
				pos[i] = end
			}
		}
		out = append(out, sides{runs[0], runs[1], runs[2]})
	}
}

func (m *merger) group(g sides, at tree.Path) []*tree.Node {
	some := slices.Concat(g.x, g.t, g.b)[0]
	s := some.Schema()
	if s == nil || s.Kind == schema.List && len(s.Keys) == 0 {
		return m.unkeyed(g, at)
	}
	index := func(list []*tree.Node) map[string]*tree.Node {
		out := make(map[string]*tree.Node, len(list))
		for _, n := range list {
			out[keyOf(n)] = n
		}
		return out
	}
	b, x, t := index(g.b), index(g.x), index(g.t)
	order := sequence(g.t, g.x)
	if s.UserOrdered {
		order = m.order(g, b, x, t, at)
	}
	var out []*tree.Node
	for _, k := range order {
		if n := m.one(b[k], x[k], t[k], at); n != nil {
			out = append(out, n)
		}
	}
	return out
}

// unkeyed merges nodes without identity: only one side may have changed them.
func (m *merger) unkeyed(g sides, at tree.Path) []*tree.Node {
	equal := func(a, b []*tree.Node) bool { return slices.EqualFunc(a, b, same) }
	switch {
	case equal(g.b, g.x), equal(g.x, g.t):
		return g.t
	case equal(g.b, g.t):
		return g.x
	}
	pick := func(l []*tree.Node) *tree.Node {
		if len(l) == 0 {
			return nil
		}
		return l[0]
	}
	some := slices.Concat(g.x, g.t)[0]
	m.conflict(at.Down(some), pick(g.b), pick(g.x), pick(g.t), "content that is not understood changed here and on the device")
	return g.t
}

// sequence gives the keys of the first list with those only in the second put
// behind the neighbour they have there.
func sequence(first, second []*tree.Node) []string {
	out := make([]string, 0, len(first)+len(second))
	have := map[string]bool{}
	for _, n := range first {
		out = append(out, keyOf(n))
		have[keyOf(n)] = true
	}
	extra := map[string][]string{} // by the key before them, "" at the front
	last, any := "", false
	for _, n := range second {
		k := keyOf(n)
		if have[k] {
			last = k
			continue
		}
		extra[last] = append(extra[last], k)
		any = true
	}
	if !any {
		return out
	}
	woven := slices.Clone(extra[""])
	for _, k := range out {
		woven = append(woven, k)
		woven = append(woven, extra[k]...)
	}
	return woven
}

// order merges the order of entries: of the side that changed it, if it was
// only one.
func (m *merger) order(g sides, b, x, t map[string]*tree.Node, at tree.Path) []string {
	common := func(list []*tree.Node, in ...map[string]*tree.Node) []string {
		var out []string
		for _, n := range list {
			k := keyOf(n)
			if !slices.ContainsFunc(in, func(m map[string]*tree.Node) bool { return m[k] == nil }) {
				out = append(out, k)
			}
		}
		return out
	}
	mineKept := slices.Equal(common(g.x, b), common(g.b, x))
	theirsKept := slices.Equal(common(g.t, b), common(g.b, t))
	agree := slices.Equal(common(g.x, t), common(g.t, x))
	switch {
	case mineKept || agree:
		return sequence(g.t, g.x)
	case theirsKept:
		return sequence(g.x, g.t)
	}
	some := g.x[0]
	path := append(at[:len(at):len(at)], tree.Step{Node: some.Schema()})
	m.conflict(path, nil, some, g.t[0], "the order was changed here and on the device")
	return sequence(g.t, g.x)
}
