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

// The kinds. Within marks a node that is on both sides and differs only below.
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
	Children []*Change // of Within, and of Moved where the entry differs too

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
	if old.Digest() == new.Digest() {
		return nil
	}
	a, b := old.Children(), new.Children()
	var out []*Change
	for i, j := 0, 0; i < len(a) || j < len(b); {
		switch {
		case j == len(b) || i < len(a) && before(a[i], b[j]):
			end := groupEnd(a, i)
			out = append(out, compareGroup(a[i:end], nil, at)...)
			i = end
		case i == len(a) || before(b[j], a[i]):
			end := groupEnd(b, j)
			out = append(out, compareGroup(nil, b[j:end], at)...)
			j = end
		default:
			iEnd, jEnd := groupEnd(a, i), groupEnd(b, j)
			out = append(out, compareGroup(a[i:iEnd], b[j:jEnd], at)...)
			i, j = iEnd, jEnd
		}
	}
	return out
}

func compareGroup(a, b []*tree.Node, at tree.Path) []*Change {
	var s *schema.Node
	if len(a) > 0 {
		s = a[0].Schema()
	} else {
		s = b[0].Schema()
	}
	switch {
	case s == nil, s.Kind == schema.List && len(s.Keys) == 0:
		return byPosition(a, b, at)
	case s.UserOrdered && (s.Kind == schema.List || s.Kind == schema.LeafList):
		return byOrder(a, b, at)
	}
	return byKey(a, b, at)
}

// pair compares two nodes of one identity.
func pair(a, b *tree.Node, at tree.Path) *Change {
	if a.Digest() == b.Digest() {
		return nil
	}
	c := &Change{Kind: Changed, Path: at.Down(b), Old: a, New: b}
	if a.Opaque() == nil && !a.Schema().IsLeaf() {
		c.Kind = Within
		c.Children = compareChildren(a, b, c.Path)
	}
	return c
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

func keyOf(n *tree.Node) string {
	var b []byte
	for _, k := range n.Keys() {
		b = append(append(b, k...), 0)
	}
	return string(b)
}

// byOrder compares entries whose order the user gives. Entries that keep their
// relative order stay; as few as possible are moved.
func byOrder(a, b []*tree.Node, at tree.Path) []*Change {
	oldAt := make(map[string]int, len(a))
	for i, n := range a {
		oldAt[keyOf(n)] = i
	}
	var common []int // old positions, in new order
	for _, n := range b {
		if i, ok := oldAt[keyOf(n)]; ok {
			common = append(common, i)
		}
	}
	stays := map[int]bool{}
	for _, i := range increasing(common) {
		stays[i] = true
	}
	kept := make(map[string]bool, len(b))
	for _, n := range b {
		kept[keyOf(n)] = true
	}
	var out []*Change
	next := 0 // old entries up to here are dealt with
	goneUntil := func(i int) {
		for ; next < i; next++ {
			if !kept[keyOf(a[next])] {
				out = append(out, removed(a[next], at))
			}
		}
	}
	for j, n := range b {
		i, was := oldAt[keyOf(n)]
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
		c.Placed = true
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
		if c.Kind == Moved {
			o, w := orderLike(d.Old, n, c.Path), orderLike(d.New, n, c.Path)
			old, new = old && o, new && w
			return
		}
		old, new = old && same(at, c.Old), new && same(at, c.New)
	})
	return old, new
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
				out = append(out, keyOf(e))
			}
		}
		return out
	}
	return slices.Equal(keys(pa, pb), keys(pb, pa))
}
