package diff

import (
	"slices"
	"strings"

	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// Conflict is a place that both sides changed, differently.
type Conflict struct {
	Path               tree.Path
	Base, Mine, Theirs *tree.Node // nil where it is not there
	Why                string

	// Order is set where it is about the order of entries, and not what is in them:
	// the path is then that of all entries together.
	Order *Order
}

// Order is how entries stand on three sides, by name, and of which of them nobody
// can say in which order they are to be: each group names all that are entangled.
type Order struct {
	Base, Mine, Theirs []string
	Among              [][]string
}

// Unmoved reports whether theirs moved nothing of what base had, and added nothing of
// what is entangled: what cannot be told is then the place of entries of mine alone.
func (o *Order) Unmoved() bool {
	for _, group := range o.Among {
		for _, n := range group {
			if !slices.Contains(o.Mine, n) {
				return false // of somebody else's entry nobody said where it stands to mine
			}
		}
	}
	among := func(list, other []string) (out []string) {
		has := map[string]bool{}
		for _, n := range other {
			has[n] = true
		}
		for _, n := range list {
			if has[n] {
				out = append(out, n)
			}
		}
		return out
	}
	return slices.Equal(among(o.Base, o.Theirs), among(o.Theirs, o.Base))
}

// Texts gives the three sides for people, a node as the function writes it.
func (c Conflict) Texts(write func(*tree.Node) string) (base, mine, theirs string) {
	if c.Order == nil {
		return write(c.Base), write(c.Mine), write(c.Theirs)
	}
	list := func(names []string) string { return strings.Join(names, ", ") }
	return list(c.Order.Base), list(c.Order.Mine), list(c.Order.Theirs)
}

// Merge puts what mine changed of base on top of theirs. Where both changed
// the same place differently it is a conflict and the result keeps theirs:
// nobody's edit wins unseen.
//
// Where the user gives the order of entries, each two of the result stand in the
// order that a side gave them, by adding or moving one of them, unless the other
// side gave them another: then, or where what the sides want goes round in a
// circle, it is a conflict that names them (order.go).
func Merge(base, mine, theirs *tree.Node) (*tree.Node, []Conflict) {
	m := merger{}
	return m.node(base, mine, theirs, nil), m.conflicts
}

type merger struct{ conflicts []Conflict }

func (m *merger) conflict(at tree.Path, b, x, t *tree.Node, why string) {
	m.conflicts = append(m.conflicts, Conflict{Path: at, Base: b, Mine: x, Theirs: t, Why: why})
}

func same(a, b *tree.Node) bool { return tree.Same(a, b) }

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
	case x.Opaque() != nil, x.Schema().IsLeaf():
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

// node merges the children of a node that all three sides have: theirs, with
// what mine changed of base put on top.
func (m *merger) node(b, x, t *tree.Node, at tree.Path) *tree.Node {
	switch {
	case same(x, t), same(b, x):
		return t
	case same(b, t):
		return x
	}
	notes := m.notes(b, x, t, at)
	bs, xs := tree.Unshared(b, x)
	var patches []tree.Patch
	done := map[*schema.Node]bool{} // choices dealt with
	for i, j := 0, 0; i < len(bs) || j < len(xs); {
		first := next(bs, xs, i, j)
		iEnd, jEnd := groupEnd(bs, i, first), groupEnd(xs, j, first)
		some, whole := m.choices(b, x, t, first.Schema(), done, at)
		if !whole {
			some = m.group(b, x, t, bs[i:iEnd], xs[j:jEnd], at)
		}
		patches = append(patches, some...)
		i, j = iEnd, jEnd
	}
	return t.Patched(patches, notes)
}

// notes merges metadata, which is taken whole.
func (m *merger) notes(b, x, t *tree.Node, at tree.Path) []tree.Annotation {
	switch {
	case slices.Equal(x.Annotations(), t.Annotations()), slices.Equal(b.Annotations(), x.Annotations()):
		return t.Annotations()
	case slices.Equal(b.Annotations(), t.Annotations()):
		return x.Annotations()
	}
	m.conflict(at, b, x, t, "its metadata was changed here and on the device")
	return t.Annotations()
}

// group merges the siblings of one schema node, or one unknown name, of which
// bs and xs are those that mine may have changed.
func (m *merger) group(b, x, t *tree.Node, bs, xs []*tree.Node, at tree.Path) []tree.Patch {
	some := slices.Concat(bs, xs)[0]
	s := some.Schema()
	switch {
	case s == nil:
		o := some.Opaque()
		list := m.unkeyed(b.Unknown(o), x.Unknown(o), t.Unknown(o), at)
		return []tree.Patch{{All: true, Unknown: o, List: list}}
	case !s.Single():
		return []tree.Patch{{All: true, Schema: s, List: m.unkeyed(b.All(s), x.All(s), t.All(s), at)}}
	case s.UserOrdered && (s.Kind == schema.List || s.Kind == schema.LeafList):
		return []tree.Patch{{All: true, Schema: s, List: m.ordered(b.All(s), x.All(s), t.All(s), at)}}
	}
	var out []tree.Patch
	one := func(bn, xn []*tree.Node) {
		keys := slices.Concat(bn, xn)[0].Keys()
		var nodes [2]*tree.Node
		copy(nodes[:1], bn)
		copy(nodes[1:], xn)
		if same(nodes[0], nodes[1]) {
			return // only stands beside what mine changed
		}
		tn, place := t.Locate(s, keys)
		if n := m.one(nodes[0], nodes[1], tn, at); n != tn {
			out = append(out, tree.Patch{Schema: s, Node: n, Place: place})
		}
	}
	for i, j := 0, 0; i < len(bs) || j < len(xs); {
		order := 0
		switch {
		case i == len(bs):
			order = 1
		case j == len(xs):
			order = -1
		default:
			order = tree.CompareKeys(bs[i].Keys(), xs[j].Keys())
		}
		switch {
		case order < 0:
			one(bs[i:i+1], nil)
			i++
		case order > 0:
			one(nil, xs[j:j+1])
			j++
		default:
			one(bs[i:i+1], xs[j:j+1])
			i, j = i+1, j+1
		}
	}
	return out
}

// choices merges the choices a schema node stands in, from the outermost on,
// where the sides chose different cases: a choice is then taken whole, of the
// side that changed it. False where the cases agree all the way down.
func (m *merger) choices(
	b, x, t *tree.Node, s *schema.Node, done map[*schema.Node]bool, at tree.Path,
) ([]tree.Patch, bool) {
	var way []*schema.Node
	for c := caseOf(s); c != nil; c = caseOf(c.Parent) {
		way = append(way, c.Parent)
	}
	for _, choice := range slices.Backward(way) {
		if done[choice] {
			return nil, true
		}
		if chosen(x, choice) == chosen(t, choice) {
			continue
		}
		done[choice] = true
		inB, inX, inT := inChoice(b, choice), inChoice(x, choice), inChoice(t, choice)
		switch {
		case slices.EqualFunc(inB, inX, same):
			return nil, true
		case slices.EqualFunc(inB, inT, same):
			var out []tree.Patch
			for _, d := range choice.DataBelow() {
				out = append(out, tree.Patch{All: true, Schema: d, List: x.All(d)})
			}
			return out, true
		}
		some := slices.Concat(inX, inT, inB)[0]
		m.conflict(
			at.Down(some), first(inB), first(inX), first(inT),
			"another case of the choice "+choice.Name+" was chosen on the device",
		)
		return nil, true
	}
	return nil, false
}

// chosen gives the case of a choice that a node has something of; nil if none.
func chosen(n *tree.Node, choice *schema.Node) *schema.Node {
	for _, c := range choice.Children() {
		if n.HasBelow(c) {
			return c
		}
	}
	return nil
}

func inChoice(n *tree.Node, choice *schema.Node) []*tree.Node {
	var out []*tree.Node
	for _, s := range choice.DataBelow() {
		out = append(out, n.All(s)...)
	}
	return out
}

func first(list []*tree.Node) *tree.Node {
	if len(list) == 0 {
		return nil
	}
	return list[0]
}

// caseOf gives the case a schema node stands in directly, nil if none.
func caseOf(s *schema.Node) *schema.Node {
	if s == nil || s.Parent == nil || s.Parent.Kind != schema.Case {
		return nil
	}
	return s.Parent
}

// unkeyed merges nodes without identity: only one side may have changed them.
func (m *merger) unkeyed(b, x, t []*tree.Node, at tree.Path) []*tree.Node {
	equal := func(a, b []*tree.Node) bool { return slices.EqualFunc(a, b, same) }
	switch {
	case equal(b, x), equal(x, t):
		return t
	case equal(b, t):
		return x
	}
	some := slices.Concat(x, t, b)[0]
	m.conflict(
		at.Down(some), first(b), first(x), first(t), "content that is not understood changed here and on the device",
	)
	return t
}
