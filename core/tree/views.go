package tree

import "oakenlatch/core/schema"

// WithoutDefaults gives the tree without leaves that hold their default: the
// "trim" view of RFC 6243, in which a set default and an unset leaf agree.
func (n *Node) WithoutDefaults() *Node {
	changed := false
	out := make([]*Node, 0, n.Len())
	for c := range n.Each() {
		d := c
		switch {
		case c.schema == nil || c.Opaque() != nil:
		case c.schema.Kind == schema.Leaf:
			if len(c.schema.Defaults) == 1 && c.schema.Defaults[0] == c.Value() && c.schema.KeyIndex() < 0 {
				changed = true
				continue
			}
		case c.schema.Kind == schema.Container, c.schema.Kind == schema.List:
			d = c.WithoutDefaults()
		}
		changed = changed || d != c
		out = append(out, d)
	}
	if !changed {
		return n
	}
	return n.With(out)
}

// ConfigOnly gives the tree without state data (config false).
func (n *Node) ConfigOnly() *Node {
	changed := false
	out := make([]*Node, 0, n.Len())
	for c := range n.Each() {
		if c.schema != nil && !c.schema.Config {
			changed = true
			continue
		}
		d := c
		if c.Len() > 0 {
			d = c.ConfigOnly()
		}
		changed = changed || d != c
		out = append(out, d)
	}
	if !changed {
		return n
	}
	return n.With(out)
}

// Count gives the number of nodes that carry information: leaves, values,
// presence containers and opaque elements.
func (n *Node) Count() int {
	total := 0
	if n.schema != nil && (n.schema.IsLeaf() || n.schema.Presence) || n.Opaque() != nil {
		total = 1
	}
	for c := range n.Each() {
		total += c.Count()
	}
	return total
}
