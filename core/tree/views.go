package tree

import (
	"maps"
	"slices"
	"strings"

	"oakenlatch/core/schema"
)

// WithoutDefaults gives the tree without values that are their default: the
// "trim" view of RFC 6243, in which a set default and an unset leaf agree.
func (n *Node) WithoutDefaults() *Node {
	return n.mapped(func(c *Node) *Node {
		switch {
		case c.schema == nil || c.Opaque() != nil || c.schema.KeyIndex() >= 0:
			return c
		case !c.schema.IsLeaf():
			return c.WithoutDefaults()
		case c.schema.IsDefault(c.Value()), c.schema.Kind == schema.LeafList && n.allDefault(c.schema):
			return nil
		}
		return c
	})
}

// allDefault reports whether a leaf-list holds just its defaults.
func (n *Node) allDefault(s *schema.Node) bool {
	if len(s.Defaults) == 0 {
		return false
	}
	var have []string
	for _, v := range n.All(s) {
		have = append(have, v.Value())
	}
	want := slices.Clone(s.Defaults)
	if !s.UserOrdered {
		slices.Sort(want)
		slices.Sort(have)
	}
	return slices.Equal(have, want)
}

// ConfigOnly gives the tree without state data (config false).
func (n *Node) ConfigOnly() *Node {
	return n.mapped(func(c *Node) *Node {
		switch {
		case c.schema != nil && !c.schema.Config:
			return nil
		case c.Len() > 0:
			return c.ConfigOnly()
		}
		return c
	})
}

// mapped gives the node with each child replaced by what f makes of it, nil
// for nothing; the node itself where nothing differs.
func (n *Node) mapped(f func(*Node) *Node) *Node {
	changed := false
	out := make([]*Node, 0, n.Len())
	for c := range n.Each() {
		d := f(c)
		changed = changed || d != c
		if d != nil {
			out = append(out, d)
		}
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

// DefaultsMode is a way of handling defaults (RFC 6243 section 2 and 3).
type DefaultsMode string

// The modes. ReportAll gives every value in use; ReportAllTagged the same with
// those that are defaults marked; Trim leaves out what holds its default;
// Explicit gives what was set.
const (
	ReportAll       DefaultsMode = "report-all"
	ReportAllTagged DefaultsMode = "report-all-tagged"
	Trim            DefaultsMode = "trim"
	Explicit        DefaultsMode = "explicit"
)

// DefaultAnnotation marks a value as the default in use.
var DefaultAnnotation = Annotation{Space: "urn:ietf:params:xml:ns:netconf:default:1.0", Name: "default", Value: "true"}

// WithDefaults gives the configuration as the mode has it. Defaults under a
// condition (when) are not added: whether they are in use is not decided here.
func (n *Node) WithDefaults(s *schema.Schema, mode DefaultsMode) *Node {
	switch mode {
	case Trim:
		return n.WithoutDefaults()
	case ReportAll:
		return n.filled(s.Roots(), nil)
	case ReportAllTagged:
		return n.filled(s.Roots(), []Annotation{DefaultAnnotation})
	}
	return n
}

// filled adds the defaults that are in use below a node.
func (n *Node) filled(known []*schema.Node, tag []Annotation) *Node {
	var out []*Node
	for _, s := range known {
		if !s.Config {
			out = append(out, n.All(s)...)
			continue
		}
		have := n.All(s)
		switch {
		case s.Kind == schema.Container && len(have) == 0:
			if !s.Presence && n.InUse(s) {
				out = append(out, New(s, nil).filled(s.Data(), tag))
			}
		case s.Kind == schema.Container, s.Kind == schema.List:
			for _, c := range have {
				out = append(out, c.filled(s.Data(), tag))
			}
		case len(have) == 0 && s.IsLeaf() && n.InUse(s):
			for _, d := range s.Defaults {
				out = append(out, NewLeaf(s, d).Annotated(tag))
			}
		default:
			out = append(out, have...)
		}
	}
	for c := range n.Each() {
		if c.schema == nil {
			out = append(out, c)
		}
	}
	return n.With(out)
}

// InUse reports whether the defaults of a child that is not there are in use
// (RFC 7950 sections 7.6.1 and 7.7.2): it stands under no condition, and in no
// case of a choice but the one chosen, or the default one where none is.
func (n *Node) InUse(s *schema.Node) bool {
	if len(s.When) > 0 {
		return false
	}
	for c := s.Parent; c != nil && c.Kind == schema.Case; c = c.Parent.Parent {
		if len(c.When) > 0 || len(c.Parent.When) > 0 {
			return false
		}
	}
	return n.CaseInUse(s)
}

// CaseInUse reports whether the cases that a child stands in are those in use.
func (n *Node) CaseInUse(s *schema.Node) bool {
	for c := s.Parent; c != nil && c.Kind == schema.Case; c = c.Parent.Parent {
		if n.HasBelow(c) {
			continue
		}
		if choice := c.Parent; choice.Default != c.Name || n.HasBelow(choice) {
			return false
		}
	}
	return true
}

// Position is the place of an instance among those of its schema node; -1
// where there is none.
func (n *Node) Position(s *schema.Node, keys []string) int {
	i := n.index(s, keys)
	if i < 0 {
		return -1
	}
	from, _ := n.run(s)
	return i - from
}

// HasBelow reports whether some node of a choice or case is among the children.
func (n *Node) HasBelow(c *schema.Node) bool {
	for _, s := range c.DataBelow() {
		if from, to := n.run(s); to > from {
			return true
		}
	}
	return false
}

// Modules lists the modules that describe some node of the configuration, by
// name.
func (n *Node) Modules() []*schema.Module {
	seen := map[*schema.Module]bool{}
	var walk func(*Node)
	walk = func(n *Node) {
		if n.schema != nil {
			seen[n.schema.Module] = true
		}
		for c := range n.Each() {
			walk(c)
		}
	}
	walk(n)
	out := slices.Collect(maps.Keys(seen))
	slices.SortFunc(out, func(a, b *schema.Module) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// Unread reports whether anything at or below a node is carried without being
// understood.
func (n *Node) Unread() bool {
	if n.Opaque() != nil {
		return true
	}
	for c := range n.Each() {
		if c.inner != nil && c.Unread() {
			return true
		}
	}
	return false
}

// Entries gives the entries of the first list of that name, in their order.
func (n *Node) Entries(name string) []*Node {
	if first := n.Known(name); first != nil && first.Schema() != nil {
		return n.All(first.Schema())
	}
	return nil
}

// Text gives the value of the first leaf of that name, or the fallback.
func (n *Node) Text(name, fallback string) string {
	if l := n.Known(name); l != nil && l.Opaque() == nil {
		return l.Value()
	}
	return fallback
}

// Under gives a node some steps down by names; nil where there is none.
func (n *Node) Under(names ...string) *Node {
	for _, name := range names {
		n = n.Known(name)
	}
	return n
}
