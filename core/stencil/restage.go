package stencil

import (
	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/tree"
)

// Standing says how a device stands to what a stencil set on it.
type Standing struct {
	Path string `json:"path"`
	Set  string `json:"set"`           // by the stencil
	Now  string `json:"now,omitempty"` // "" where it is gone
	Gone bool   `json:"gone,omitempty"`
}

// Strayed lists what a stencil set that was changed, or taken away, since.
func Strayed(set, now *tree.Node) []Standing {
	var out []Standing
	var walk func(a, b *tree.Node, at tree.Path)
	walk = func(a, b *tree.Node, at tree.Path) {
		for c := range a.Each() {
			s := c.Schema()
			if s == nil || s.KeyIndex() >= 0 {
				continue
			}
			var other *tree.Node
			if b != nil {
				other = b.Find(s, c.Keys())
			}
			p := at.Down(c)
			switch {
			case other == nil:
				out = append(out, Standing{Path: p.String(), Set: codec.Text(c), Gone: true})
			case s.IsLeaf():
				if c.Value() != other.Value() {
					out = append(out, Standing{Path: p.String(), Set: c.Value(), Now: other.Value()})
				}
			default:
				walk(c, other, p)
			}
		}
	}
	walk(set, now, nil)
	return out
}

// Restage puts what a stencil sets in the place of what it set before. What it
// no longer sets goes, unless somebody changed it since, or put something else
// beside it. What it sets as before is left as it is now, unless all is set
// again.
func Restage(before, set, now *tree.Node, again bool) (*tree.Node, error) {
	now = lifted(before, set, now)
	fresh := set
	if !again {
		fresh = beyond(set, before)
	}
	return tree.Apply(now, diff.Onto(fresh), tree.None)
}

// lifted gives now without what before has and set has not; set is nil where
// that has nothing of it.
func lifted(before, set, now *tree.Node) *tree.Node {
	var patches []tree.Patch
	for c := range before.Each() {
		s := c.Schema()
		if s == nil || s.KeyIndex() >= 0 {
			continue
		}
		here, place := now.Locate(s, c.Keys())
		var still *tree.Node
		if set != nil {
			still = set.Find(s, c.Keys())
		}
		switch {
		case here == nil, s.IsLeaf() && (still != nil || here.Value() != c.Value()):
			continue
		case s.IsLeaf():
			patches = append(patches, tree.Patch{Schema: s, Place: place})
			continue
		}
		left := lifted(c, still, here)
		if still == nil && bare(left) {
			left = nil
		}
		if left != here {
			patches = append(patches, tree.Patch{Schema: s, Node: left, Place: place})
		}
	}
	if len(patches) == 0 {
		return now
	}
	return now.Patched(patches, now.Annotations())
}

// bare reports whether nothing but its keys is left of a node.
func bare(n *tree.Node) bool {
	for c := range n.Each() {
		if c.Schema() == nil || c.Schema().KeyIndex() < 0 {
			return false
		}
	}
	return true
}

// beyond gives what a has and b has not, with what leads there.
func beyond(a, b *tree.Node) *tree.Node {
	var kids []*tree.Node
	for c := range a.Each() {
		s := c.Schema()
		var other *tree.Node
		if b != nil && s != nil {
			other = b.Find(s, c.Keys())
		}
		switch {
		case s == nil, s.KeyIndex() >= 0, other == nil:
			kids = append(kids, c)
		case s.IsLeaf():
			if c.Value() != other.Value() {
				kids = append(kids, c)
			}
		case !tree.Same(c, other):
			kids = append(kids, beyond(c, other))
		}
	}
	return a.With(kids)
}
