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
	Added   Kind = "added"
	Removed Kind = "removed"
	Changed Kind = "changed"
	Moved   Kind = "moved"
	Within  Kind = "within"
)

// Change is one node of a difference.
type Change struct {
	Kind     Kind
	Path     tree.Path
	Old, New *tree.Node
	Children []*Change // of Within, and of Changed and Moved where it differs below too

	// Placed is set for an added or moved entry whose order the user gives:
	// After holds the keys of the entry before it, nil where it is the first.
	Placed bool
	After  []string
}

// Difference is what leads from Old to New.
type Difference struct {
	Old, New *tree.Node
	Changes  []*Change
}

// Compare gives the difference between two configurations of one schema.
func Compare(old, new *tree.Node) *Difference {
	return &Difference{Old: old, New: new, Changes: compareChildren(old, new, nil)}
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
			if c.Kind != Within {
				f(c)
			}
			walk(c.Children)
		}
	}
	walk(d.Changes)
}

// group is a run of siblings that belong to one schema node, or one name.
func groupEnd(list []*tree.Node, i int) int {
	j := i + 1
	for j < len(list) && sameGroup(list[i], list[j]) {
		j++
	}
	return j
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

func compareChildren(old, new *tree.Node, at tree.Path) []*Change {
	if tree.Same(old, new) {
		return nil
	}
	a, b := tree.Unshared(old, new)
	var out []*Change
	group := func(a, b []*tree.Node) {
		out = append(out, compareGroup(old, new, a, b, at)...)
	}
	for i, j := 0, 0; i < len(a) || j < len(b); {
		switch {
		case j == len(b) || i < len(a) && before(a[i], b[j]):
			end := groupEnd(a, i)
			group(a[i:end], nil)
			i = end
		case i == len(a) || before(b[j], a[i]):
			end := groupEnd(b, j)
			group(nil, b[j:end])
			j = end
		default:
			iEnd, jEnd := groupEnd(a, i), groupEnd(b, j)
			group(a[i:iEnd], b[j:jEnd])
			i, j = iEnd, jEnd
		}
	}
	return out
}

// compareGroup compares the siblings of one schema node, or one unknown name,
// that are not shared. Where order matters their places among the others do.
func compareGroup(old, new *tree.Node, a, b []*tree.Node, at tree.Path) []*Change {
	some := b
	if len(a) > 0 {
		some = a
	}
	s := some[0].Schema()
	switch {
	case s == nil:
		return byContent(old.Unknown(some[0].Opaque()), new.Unknown(some[0].Opaque()), at)
	case !s.Single():
		return byPosition(old.All(s), new.All(s), at)
	case s.UserOrdered && (s.Kind == schema.List || s.Kind == schema.LeafList):
		return byOrder(old.All(s), new.All(s), at)
	}
	return byKey(a, b, at)
}

// pair compares two nodes of one identity.
func pair(a, b *tree.Node, at tree.Path) *Change {
	if tree.Same(a, b) {
		return nil
	}
	c := &Change{Kind: Changed, Path: at.Down(b), Old: a, New: b}
	if a.Opaque() == nil && !a.Schema().IsLeaf() {
		if slices.Equal(a.Annotations(), b.Annotations()) {
			c.Kind = Within
		}
		c.Children = compareChildren(a, b, c.Path)
	}
	return c
}

// byContent compares content that nobody understands: nodes of one name that
// only their content tells apart. Their order may matter. As many as keep it
// from the first on stay; the rest goes and comes anew.
func byContent(a, b []*tree.Node, at tree.Path) []*Change {
	if len(a) == 1 && len(b) == 1 {
		if c := pair(a[0], b[0], at); c != nil {
			return []*Change{c}
		}
		return nil
	}
	var out []*Change
	stay := 0
	for _, n := range a {
		if stay < len(b) && tree.Same(n, b[stay]) {
			stay++
			continue
		}
		out = append(out, removed(n, at))
	}
	for _, n := range b[stay:] {
		out = append(out, added(n, at))
	}
	return out
}

func removed(a *tree.Node, at tree.Path) *Change {
	return &Change{Kind: Removed, Path: at.Down(a), Old: a}
}

func added(b *tree.Node, at tree.Path) *Change {
	return &Change{Kind: Added, Path: at.Down(b), New: b}
}

// byPosition pairs nodes that have no identity of their own.
func byPosition(a, b []*tree.Node, at tree.Path) []*Change {
	var out []*Change
	for i := 0; i < max(len(a), len(b)); i++ {
		switch {
		case i >= len(b):
			out = append(out, removed(a[i], at))
		case i >= len(a):
			out = append(out, added(b[i], at))
		default:
			if c := pair(a[i], b[i], at); c != nil {
				out = append(out, c)
			}
		}
	}
	return out
}

// byKey merges two runs that are both in canonical order.
func byKey(a, b []*tree.Node, at tree.Path) []*Change {
	var out []*Change
	for i, j := 0, 0; i < len(a) || j < len(b); {
		order := 0
		switch {
		case i == len(a):
			order = 1
		case j == len(b):
			order = -1
		default:
			order = tree.CompareKeys(a[i].Keys(), b[j].Keys())
		}
		switch {
		case order < 0:
			out = append(out, removed(a[i], at))
			i++
		case order > 0:
			out = append(out, added(b[j], at))
			j++
		default:
			if c := pair(a[i], b[j], at); c != nil {
				out = append(out, c)
			}
			i++
			j++
		}
	}
	return out
}

// byOrder compares entries whose order the user gives. Entries that keep their
// relative order stay; as few as possible are moved.
func byOrder(a, b []*tree.Node, at tree.Path) []*Change {
	var before []string // the keys of the entry before the first that is looked at
	for len(a) > 0 && len(b) > 0 && tree.Same(a[0], b[0]) {
		before, a, b = b[0].Keys(), a[1:], b[1:]
	}
	for len(a) > 0 && len(b) > 0 && tree.Same(a[len(a)-1], b[len(b)-1]) {
		a, b = a[:len(a)-1], b[:len(b)-1]
	}
	oldAt := make(map[string]int, len(a))
	for i, n := range a {
		oldAt[tree.Identity(n)] = i
	}
	var common []int // old positions, in new order
	for _, n := range b {
		if i, ok := oldAt[tree.Identity(n)]; ok {
			common = append(common, i)
		}
	}
	stays := map[int]bool{}
	for _, i := range increasing(common) {
		stays[i] = true
	}
	kept := make(map[string]bool, len(b))
	for _, n := range b {
		kept[tree.Identity(n)] = true
	}
	var out []*Change
	next := 0 // old entries up to here are dealt with
	goneUntil := func(i int) {
		for ; next < i; next++ {
			if !kept[tree.Identity(a[next])] {
				out = append(out, removed(a[next], at))
			}
		}
	}
	for j, n := range b {
		i, was := oldAt[tree.Identity(n)]
		if was && stays[i] {
			goneUntil(i)
			next = max(next, i+1)
			if c := pair(a[i], n, at); c != nil {
				out = append(out, c)
			}
			continue
		}
		c := added(n, at)
		if was {
			c = &Change{Kind: Moved, Path: at.Down(n), Old: a[i], New: n}
			if inner := pair(a[i], n, at); inner != nil {
				c.Children = inner.Children
			}
		}
		c.Placed, c.After = true, before
		if j > 0 {
			c.After = b[j-1].Keys()
		}
		out = append(out, c)
	}
	goneUntil(len(a))
	return out
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
	d.Walk(func(c *Change) {
		at := n.At(c.Path)
		if c.Path.Last() == nil {
			o, w := d.unknownLike(d.Old, n, c), d.unknownLike(d.New, n, c)
			old, new = old && o, new && w
			return
		}
		if c.Kind == Moved {
			o, w := orderLike(d.Old, n, c.Path), orderLike(d.New, n, c.Path)
			old, new = old && o, new && w
			return
		}
		old, new = old && same(at, c.Old), new && same(at, c.New)
	})
	return old, new
}

// unknownLike reports whether what no schema describes, of the name that a
// change is about, is the same on both sides.
func (d *Difference) unknownLike(a, b *tree.Node, c *Change) bool {
	of := func(n *tree.Node) []*tree.Node {
		if n = n.At(c.Path[:len(c.Path)-1]); n == nil {
			return nil
		}
		some := c.New
		if some == nil {
			some = c.Old
		}
		return n.Unknown(some.Opaque())
	}
	return slices.EqualFunc(of(a), of(b), tree.Same)
}

// orderLike reports whether the entries beside a path stand in the same order
// on both sides, as far as both have them.
func orderLike(a, b *tree.Node, p tree.Path) bool {
	parent, s := p[:len(p)-1], p.Last()
	pa, pb := a.At(parent), b.At(parent)
	if pa == nil || pb == nil {
		return pa == pb
	}
	keys := func(n, other *tree.Node) []string {
		var out []string
		for _, e := range n.All(s) {
			if other.Find(s, e.Keys()) != nil {
				out = append(out, tree.Identity(e))
			}
		}
		return out
	}
	return slices.Equal(keys(pa, pb), keys(pb, pa))
}
