// Package diff compares configurations, merges them three ways and turns a
// difference into edits.
//
// A difference is a tree like the configurations it compares: only the nodes
// on the way to something different are in it. Subtrees with equal digests are
// never entered.
package diff

import (
	"slices"

	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// Kind says how a node differs.
type Kind string

// The kinds. Within marks a node that is on both sides and differs only below;
// Changed one that differs itself: in its value or its metadata.
const (
	Added    Kind = "added"
	Removed  Kind = "removed"
	Changed  Kind = "changed"
	Moved    Kind = "moved"
	Contains Kind = "within"
)

// Change is one node of a difference.
type Change struct {
	Kind     Kind
	Old, New *tree.Node
	Children []*Change // of Within, and of Changed and Moved where it differs below too

	// Placed is set for an added or moved entry whose order the user gives.
	Placed bool

	after *tree.Node // of a placed one: the entry before it
	up    *Change    // what it stands in, nil at the top
	of    *Change    // the one this was narrowed from, nil where it is whole
}

// Path leads to the node. It is made when it is asked for: most changes of a
// large difference are only counted.
func (c *Change) Path() tree.Path {
	depth := 0
	for x := c; x != nil; x = x.up {
		depth++
	}
	p := make(tree.Path, depth)
	for x := c; x != nil; x = x.up {
		depth--
		p[depth] = tree.StepTo(x.node())
	}
	return p
}

// node is what the change is about: as it is to be, or as it was.
func (c *Change) node() *tree.Node {
	if c.New != nil {
		return c.New
	}
	return c.Old
}

// After gives the keys of the entry before a placed one; nil where it is the
// first.
func (c *Change) After() []string {
	if c.after == nil {
		return nil
	}
	return c.after.Keys()
}

// Difference is what leads from Old to New.
type Difference struct {
	Old, New *tree.Node
	Changes  []*Change

	all []*Change // of a narrowed one: those of the whole
}

// Compare gives the difference between two configurations of one schema.
func Compare(old, new *tree.Node) *Difference {
	return &Difference{Old: old, New: new, Changes: (&comparer{}).children(old, new, nil)}
}

// Empty reports whether there is no difference.
func (d *Difference) Empty() bool { return len(d.Changes) == 0 }

// Count gives the number of added, removed, changed and moved nodes.
func (d *Difference) Count() (n int) {
	d.Walk(func(*Change) { n++ })
	return n
}

// Walk calls f for every change but those that only lead to one.
func (d *Difference) Walk(f func(*Change)) {
	var walk func([]*Change)
	walk = func(list []*Change) {
		for _, c := range list {
			if c.Kind != Contains {
				f(c)
			}
			walk(c.Children)
		}
	}
	walk(d.Changes)
}

// comparer compares. It takes the memory for many changes at a time.
type comparer struct {
	free  []Change
	lists []*Change
	open  []*Change // of the lists that are being made, the innermost last
}

// What is taken at a time: as little as is needed at first, for most
// differences are small.
const (
	leastTaken = 4
	mostTaken  = 512
)

func (k *comparer) add(c Change) *Change {
	if len(k.free) == cap(k.free) {
		k.free = make([]Change, 0, min(mostTaken, max(leastTaken, 2*cap(k.free))))
	}
	k.free = append(k.free, c)
	made := &k.free[len(k.free)-1]
	k.open = append(k.open, made)
	return made
}

// list takes the open changes from a place on as a list of their own.
func (k *comparer) list(from int) []*Change {
	n := len(k.open) - from
	if n == 0 {
		return nil
	}
	if cap(k.lists)-len(k.lists) < n {
		k.lists = make([]*Change, 0, max(n, min(mostTaken, 2*cap(k.lists))))
	}
	at := len(k.lists)
	k.lists = append(k.lists, k.open[from:]...)
	k.open = k.open[:from]
	return k.lists[at:len(k.lists):len(k.lists)]
}

// groupEnd is the first place from i on whose node does not belong to the same
// schema node, or name, as another does.
func groupEnd(list []*tree.Node, i int, as *tree.Node) int {
	for i < len(list) && sameGroup(list[i], as) {
		i++
	}
	return i
}

func sameGroup(a, b *tree.Node) bool {
	if a.Schema() != nil || b.Schema() != nil {
		return a.Schema() == b.Schema()
	}
	return a.Opaque().Space == b.Opaque().Space && a.Opaque().Local == b.Opaque().Local
}

// before gives the canonical order of two groups.
func before(a, b *tree.Node) bool {
	as, bs := a.Schema(), b.Schema()
	switch {
	case as != nil && bs != nil:
		return as.Order < bs.Order
	case as != nil || bs != nil:
		return as != nil
	}
	ao, bo := a.Opaque(), b.Opaque()
	return ao.Space < bo.Space || ao.Space == bo.Space && ao.Local < bo.Local
}

// next is that of the nodes at i and j whose group comes first.
func next(a, b []*tree.Node, i, j int) *tree.Node {
	if j == len(b) || i < len(a) && before(a[i], b[j]) {
		return a[i]
	}
	return b[j]
}

// children compares what two nodes have below them; up is the change that
// they are, nil for the whole.
func (k *comparer) children(old, new *tree.Node, up *Change) []*Change {
	if tree.Same(old, new) {
		return nil
	}
	a, b := tree.Unshared(old, new)
	from := len(k.open)
	for i, j := 0, 0; i < len(a) || j < len(b); {
		if i < len(a) && j < len(b) && a[i] == b[j] && alone(a[i]) {
			i, j = i+1, j+1
			continue
		}
		some := next(a, b, i, j)
		if alone(some) {
			i, j = k.byKey(some.Schema(), a, b, i, j, up)
			continue
		}
		k.group(old, new, some, up)
		i, j = groupEnd(a, i, some), groupEnd(b, j, some)
	}
	return k.list(from)
}

// alone tells a node that can be passed over by itself where it is on both
// sides: its place among others says nothing.
func alone(n *tree.Node) bool {
	s := n.Schema()
	return s != nil && s.Single() && !userOrdered(s)
}

func userOrdered(s *schema.Node) bool {
	return s.UserOrdered && (s.Kind == schema.List || s.Kind == schema.LeafList)
}

// group compares the siblings of one schema node, or one unknown name, whose
// places among the others matter.
func (k *comparer) group(old, new, some *tree.Node, up *Change) {
	s := some.Schema()
	switch {
	case s == nil:
		k.byContent(old.Unknown(some.Opaque()), new.Unknown(some.Opaque()), up)
	case !s.Single():
		k.byPosition(old.All(s), new.All(s), up)
	default:
		k.byOrder(old.All(s), new.All(s), up)
	}
}

// pair compares two nodes of one identity; nil where they are the same.
func (k *comparer) pair(a, b *tree.Node, up *Change) *Change {
	if tree.Same(a, b) {
		return nil
	}
	c := k.add(Change{Kind: Changed, Old: a, New: b, up: up})
	k.inside(c)
	return c
}

// inside compares what is below the two sides of a change.
func (k *comparer) inside(c *Change) {
	if c.Old.Opaque() != nil || c.Old.Schema().IsLeaf() {
		return
	}
	if c.Kind == Changed && slices.Equal(c.Old.Annotations(), c.New.Annotations()) {
		c.Kind = Contains
	}
	c.Children = k.children(c.Old, c.New, c)
}

// byContent compares content that nobody understands: nodes of one name that
// only their content tells apart. Their order may matter. As many as keep it
// from the first on stay; the rest goes and comes anew.
func (k *comparer) byContent(a, b []*tree.Node, up *Change) {
	if len(a) == 1 && len(b) == 1 {
		k.pair(a[0], b[0], up)
		return
	}
	stay := 0
	for _, n := range a {
		if stay < len(b) && tree.Same(n, b[stay]) {
			stay++
			continue
		}
		k.removed(n, up)
	}
	for _, n := range b[stay:] {
		k.added(n, up)
	}
}

func (k *comparer) removed(a *tree.Node, up *Change) {
	k.add(Change{Kind: Removed, Old: a, up: up})
}

func (k *comparer) added(b *tree.Node, up *Change) *Change {
	return k.add(Change{Kind: Added, New: b, up: up})
}

// byPosition pairs nodes that have no identity of their own.
func (k *comparer) byPosition(a, b []*tree.Node, up *Change) {
	for i := 0; i < max(len(a), len(b)); i++ {
		switch {
		case i >= len(b):
			k.removed(a[i], up)
		case i >= len(a):
			k.added(b[i], up)
		default:
			k.pair(a[i], b[i], up)
		}
	}
}

// byKey merges the siblings of one schema node, in canonical order on both
// sides, from the places i and j on, and gives the places behind them.
func (k *comparer) byKey(s *schema.Node, a, b []*tree.Node, i, j int, up *Change) (int, int) {
	for {
		if i < len(a) && j < len(b) && a[i] == b[j] && a[i].Schema() == s {
			i, j = i+1, j+1
			continue
		}
		left, right := i < len(a) && a[i].Schema() == s, j < len(b) && b[j].Schema() == s
		order := 0
		switch {
		case left && right:
			order = tree.CompareKeys(a[i].Keys(), b[j].Keys())
		case left:
			order = -1
		case right:
			order = 1
		default:
			return i, j
		}
		switch {
		case order < 0:
			k.removed(a[i], up)
			i++
		case order > 0:
			k.added(b[j], up)
			j++
		default:
			k.pair(a[i], b[j], up)
			i, j = i+1, j+1
			if s.Kind != schema.List && s.Kind != schema.LeafList {
				return i, j
			}
		}
	}
}

// byOrder compares entries whose order the user gives. Entries that keep their
// relative order stay; as few as possible are moved.
func (k *comparer) byOrder(a, b []*tree.Node, up *Change) {
	var first *tree.Node // the entry before the first that is looked at
	for len(a) > 0 && len(b) > 0 && tree.Same(a[0], b[0]) {
		first, a, b = b[0], a[1:], b[1:]
	}
	for len(a) > 0 && len(b) > 0 && tree.Same(a[len(a)-1], b[len(b)-1]) {
		a, b = a[:len(a)-1], b[:len(b)-1]
	}
	oldAt := make(map[string]int, len(a))
	for i, n := range a {
		oldAt[tree.Identity(n)] = i
	}
	var common []int // old positions, in new order
	kept := make(map[string]bool, len(b))
	for _, n := range b {
		id := tree.Identity(n)
		kept[id] = true
		if i, ok := oldAt[id]; ok {
			common = append(common, i)
		}
	}
	stays := map[int]bool{}
	for _, i := range increasing(common) {
		stays[i] = true
	}
	next := 0 // old entries up to here are dealt with
	goneUntil := func(i int) {
		for ; next < i; next++ {
			if !kept[tree.Identity(a[next])] {
				k.removed(a[next], up)
			}
		}
	}
	for j, n := range b {
		i, was := oldAt[tree.Identity(n)]
		if was && stays[i] {
			goneUntil(i)
			next = max(next, i+1)
			k.pair(a[i], n, up)
			continue
		}
		c := k.added(n, up)
		c.Placed, c.after = true, first
		if j > 0 {
			c.after = b[j-1]
		}
		if was {
			c.Kind, c.Old = Moved, a[i]
			k.inside(c)
		}
	}
	goneUntil(len(a))
}

// increasing gives a longest increasing subsequence.
func increasing(seq []int) []int {
	var tails []int // positions in seq, tails[k] ends the best run of length k+1
	prev := make([]int, len(seq))
	for i, v := range seq {
		k, _ := slices.BinarySearchFunc(tails, v, func(t, v int) int { return seq[t] - v })
		prev[i] = -1
		if k > 0 {
			prev[i] = tails[k-1]
		}
		if k == len(tails) {
			tails = append(tails, i)
		} else {
			tails[k] = i
		}
	}
	out := make([]int, len(tails))
	if len(tails) > 0 {
		for i, k := tails[len(tails)-1], len(tails)-1; k >= 0; i, k = prev[i], k-1 {
			out[k] = seq[i]
		}
	}
	return out
}

// Where tells whether a configuration holds, at every place this difference is
// about, what Old holds, or what New holds. Both are false where it is mixed.
func (d *Difference) Where(n *tree.Node) (old, new bool) {
	old, new = true, true
	ordered := map[list][]*Change{}
	d.Walk(func(c *Change) {
		path := c.Path()
		if path.Last() == nil {
			o, w := d.unknownLike(d.Old, n, c), d.unknownLike(d.New, n, c)
			old, new = old && o, new && w
			return
		}
		if s := path.Last(); s.UserOrdered && c.Kind != Changed {
			ordered[list{c.up, s}] = append(ordered[list{c.up, s}], c)
		}
		if c.Kind != Moved {
			at := n.At(path)
			old, new = old && same(at, c.Old), new && same(at, c.New)
		}
	})
	for l, changes := range ordered {
		path := changes[0].Path()
		above := path[:len(path)-1]
		of := func(side *tree.Node) []*tree.Node {
			if at := side.At(above); at != nil {
				return at.All(l.schema)
			}
			return nil
		}
		old = old && placedLike(of(d.Old), of(n), changes, func(c *Change) *tree.Node { return c.Old })
		new = new && placedLike(of(d.New), of(n), changes, func(c *Change) *tree.Node { return c.New })
	}
	return old, new
}

// list is one list of entries whose order the user gives.
type list struct {
	up     *Change
	schema *schema.Node
}

// placedLike reports whether the entries that changes are about stand behind the same
// ones in two lists, as far as both have them. Each is judged by the side that it has
// there.
func placedLike(a, b []*tree.Node, changes []*Change, side func(*Change) *tree.Node) bool {
	asked := map[string]bool{}
	for _, c := range changes {
		if n := side(c); n != nil {
			asked[tree.Identity(n)] = true
		}
	}
	x, y := common(a, b), common(b, a)
	// What stands before a place is the same where each entry of one list that was
	// passed was passed in the other.
	open := map[string]int{}
	apart := 0
	pass := func(id string, by int) {
		if open[id] != 0 {
			apart--
		} else {
			apart++
		}
		open[id] += by
	}
	for n := range x {
		if (asked[x[n]] || asked[y[n]]) && (x[n] != y[n] || apart > 0) {
			return false
		}
		if x[n] != y[n] {
			pass(x[n], 1)
			pass(y[n], -1)
		}
	}
	return true
}

// common gives the entries of a list that another has too.
func common(a, b []*tree.Node) (out []string) {
	has := map[string]bool{}
	for _, e := range b {
		has[tree.Identity(e)] = true
	}
	for _, e := range a {
		if id := tree.Identity(e); has[id] {
			out = append(out, id)
		}
	}
	return out
}

// unknownLike reports whether what no schema describes, of the name that a
// change is about, is the same on both sides.
func (d *Difference) unknownLike(a, b *tree.Node, c *Change) bool {
	of := func(n *tree.Node) []*tree.Node {
		if n = n.At(c.up.Path()); n == nil {
			return nil
		}
		return n.Unknown(c.node().Opaque())
	}
	return slices.EqualFunc(of(a), of(b), tree.Same)
}
