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
func (m *merger) choices(b, x, t *tree.Node, s *schema.Node, done map[*schema.Node]bool, at tree.Path) ([]tree.Patch, bool) {
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
		m.conflict(at.Down(some), first(inB), first(inX), first(inT), "another case of the choice "+choice.Name+" was chosen on the device")
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
	m.conflict(at.Down(some), first(b), first(x), first(t), "content that is not understood changed here and on the device")
	return t
}

// ordered merges entries whose order the user gives.
func (m *merger) ordered(b, x, t []*tree.Node, at tree.Path) []*tree.Node {
	index := func(list []*tree.Node) map[string]*tree.Node {
		out := make(map[string]*tree.Node, len(list))
		for _, n := range list {
			out[tree.Identity(n)] = n
		}
		return out
	}
	bm, xm, tm := index(b), index(x), index(t)
	var out []*tree.Node
	for _, k := range m.order(b, x, t, bm, xm, tm, at) {
		if n := m.one(bm[k], xm[k], tm[k], at); n != nil {
			out = append(out, n)
		}
	}
	return out
}

// sequence gives the keys of the first list with those only in the second put
// behind the neighbour they have there.
func sequence(first, second []*tree.Node) []string {
	out := make([]string, 0, len(first)+len(second))
	have := map[string]bool{}
	for _, n := range first {
		out = append(out, tree.Identity(n))
		have[tree.Identity(n)] = true
	}
	extra := map[string][]string{} // by the key before them
	var front []string
	last, begun := "", false
	for _, n := range second {
		k := tree.Identity(n)
		switch {
		case have[k]:
			last, begun = k, true
		case begun:
			extra[last] = append(extra[last], k)
		default:
			front = append(front, k)
		}
	}
	woven := front
	for _, k := range out {
		woven = append(woven, k)
		woven = append(woven, extra[k]...)
	}
	return woven
}

// order merges the order of entries: that of the side that changed it, if it
// was only one. Where both sides changed it, or put new entries in the same
// place, nobody can say which comes first.
func (m *merger) order(bl, xl, tl []*tree.Node, b, x, t map[string]*tree.Node, at tree.Path) []string {
	common := func(list []*tree.Node, in map[string]*tree.Node) []string {
		var out []string
		for _, n := range list {
			if k := tree.Identity(n); in[k] != nil {
				out = append(out, k)
			}
		}
		return out
	}
	mineKept := slices.Equal(common(xl, b), common(bl, x))
	theirsKept := slices.Equal(common(tl, b), common(bl, t))
	agree := slices.Equal(common(xl, t), common(tl, x))
	some := slices.Concat(xl, tl, bl)[0]
	path := append(at[:len(at):len(at)], tree.Step{Node: some.Schema()})
	switch {
	case !mineKept && !theirsKept && !agree:
		m.conflict(path, first(bl), first(xl), first(tl), "the order was changed here and on the device")
	case sameGap(xl, tl, b, x, t):
		m.conflict(path, first(bl), first(xl), first(tl), "new entries stand in the same place here and on the device, and their order matters")
	}
	if !mineKept && theirsKept {
		return sequence(xl, tl)
	}
	return sequence(tl, xl)
}

// sameGap reports whether both sides put new entries, different ones, between
// the same two of those they share.
func sameGap(xl, tl []*tree.Node, b, x, t map[string]*tree.Node) bool {
	gaps := func(list []*tree.Node, other map[string]*tree.Node) map[string]bool {
		out := map[string]bool{}
		last := "\x00front"
		for _, n := range list {
			k := tree.Identity(n)
			switch {
			case other[k] != nil:
				last = k
			case b[k] == nil:
				out[last] = true
			}
		}
		return out
	}
	mine, theirs := gaps(xl, t), gaps(tl, x)
	for k := range mine {
		if theirs[k] {
			return true
		}
	}
	return false
}
