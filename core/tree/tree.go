// Package tree holds configurations as immutable trees.
//
// A node never changes once made: an edit gives a new tree that shares every
// untouched part with the old one. Each node knows a digest of all below it,
// so equal subtrees are recognised without descending into them. Children are
// kept in canonical order: schema order, entries of lists the system orders by
// their keys, entries of lists the user orders as they were given. A container
// without presence and without children means nothing (RFC 7950 section 7.5.1)
// and is not kept.
package tree

import (
	"cmp"
	"crypto/sha256"
	"encoding/binary"
	"slices"
	"sort"
	"strings"

	"oakenlatch/core/schema"
)

// Digest identifies a subtree: equal digests mean equal canonical content.
type Digest [16]byte

// Node is one node of a configuration: the root, a container, a list entry, a
// leaf, one value of a leaf-list, or content that no schema describes.
type Node struct {
	schema   *schema.Node // nil: the root, or opaque
	value    string
	keys     []string
	children []*Node
	opaque   *Opaque
	digest   Digest
}

// Opaque is content carried without being understood: an element that the
// schema does not know, or what is in an anydata or anyxml.
type Opaque struct {
	Space, Local string // the element's name
	XML          []byte // the element whole, all its namespaces declared
}

// Schema is the node's schema node; nil for the root and for unknown content.
func (n *Node) Schema() *schema.Node { return n.schema }

// Value is a leaf's or leaf-list value's canonical value.
func (n *Node) Value() string { return n.value }

// Keys are a list entry's key values, or a leaf-list value by itself.
func (n *Node) Keys() []string { return n.keys }

// Children are the node's children in canonical order.
func (n *Node) Children() []*Node { return n.children }

// Opaque is set where the node's content is carried without being understood.
func (n *Node) Opaque() *Opaque { return n.opaque }

// Digest is the digest of the node and all below it.
func (n *Node) Digest() Digest { return n.digest }

// Empty is a configuration with nothing in it.
var Empty = Root(nil)

// NewLeaf makes a leaf or one value of a leaf-list. The value must be canonical.
func NewLeaf(s *schema.Node, value string) *Node {
	n := &Node{schema: s, value: value}
	if s.Kind == schema.LeafList {
		n.keys = []string{value}
	}
	n.seal()
	return n
}

// NewOpaque makes a node of content that is carried unread; s is nil unless
// the schema knows the element as anydata or anyxml.
func NewOpaque(s *schema.Node, o Opaque) *Node {
	n := &Node{schema: s, opaque: &o}
	n.seal()
	return n
}

// New makes a container or a list entry. Children may come in any order but
// for those whose order the user gives. The keys are read from the children.
func New(s *schema.Node, children []*Node) *Node {
	n := &Node{schema: s, children: arrange(children)}
	if s != nil && s.Kind == schema.List {
		n.keys = make([]string, len(s.Keys))
		for i, k := range s.Keys {
			if kn := s.Child(s.Module, k); kn != nil {
				if leaf := n.Find(kn, nil); leaf != nil {
					n.keys[i] = leaf.value
				}
			}
		}
	}
	n.seal()
	return n
}

// Root makes a whole configuration of its top-level nodes.
func Root(children []*Node) *Node { return New(nil, children) }

// Void reports whether the node means nothing: a container without presence
// and without children.
func (n *Node) Void() bool {
	return n.schema != nil && n.schema.Kind == schema.Container && !n.schema.Presence && len(n.children) == 0
}

func arrange(children []*Node) []*Node {
	out := make([]*Node, 0, len(children))
	for _, c := range children {
		if c != nil && !c.Void() {
			out = append(out, c)
		}
	}
	if !slices.IsSortedFunc(out, compareSiblings) {
		sort.SliceStable(out, func(i, j int) bool { return compareSiblings(out[i], out[j]) < 0 })
	}
	return out
}

// compareSiblings gives the canonical order; zero where it is the user's.
func compareSiblings(a, b *Node) int {
	switch {
	case a.schema == nil && b.schema == nil:
		return cmp.Or(strings.Compare(a.opaque.Space, b.opaque.Space), strings.Compare(a.opaque.Local, b.opaque.Local))
	case a.schema == nil:
		return 1
	case b.schema == nil:
		return -1
	case a.schema != b.schema:
		return cmp.Compare(a.schema.Order, b.schema.Order)
	case a.schema.UserOrdered:
		return 0
	}
	return CompareKeys(a.keys, b.keys)
}

// CompareKeys orders keys as people do: digits by their number.
func CompareKeys(a, b []string) int {
	for i := 0; i < len(a) && i < len(b); i++ {
		if a[i] != b[i] {
			return natural(a[i], b[i])
		}
	}
	return cmp.Compare(len(a), len(b))
}

func natural(a, b string) int {
	x, y := a, b
	for x != "" && y != "" {
		if digit(x[0]) && digit(y[0]) {
			i, j := digits(x), digits(y)
			p, q := strings.TrimLeft(x[:i], "0"), strings.TrimLeft(y[:j], "0")
			if c := cmp.Or(cmp.Compare(len(p), len(q)), strings.Compare(p, q)); c != 0 {
				return c
			}
			x, y = x[i:], y[j:]
			continue
		}
		if x[0] != y[0] {
			return cmp.Compare(x[0], y[0])
		}
		x, y = x[1:], y[1:]
	}
	return cmp.Or(cmp.Compare(len(x), len(y)), strings.Compare(a, b))
}

func digit(c byte) bool { return c >= '0' && c <= '9' }

func digits(s string) int {
	i := 0
	for i < len(s) && digit(s[i]) {
		i++
	}
	return i
}

// seal computes the digest. Each part is written with its length, so that no
// two different nodes write the same bytes.
func (n *Node) seal() {
	buf := make([]byte, 0, 128+len(n.value)+len(n.children)*len(n.digest))
	str := func(s string) {
		buf = binary.AppendUvarint(buf, uint64(len(s)))
		buf = append(buf, s...)
	}
	if n.schema != nil {
		str(n.schema.Module.Name)
		str(n.schema.Name)
	}
	if n.opaque != nil {
		str(n.opaque.Space)
		str(n.opaque.Local)
		str(string(n.opaque.XML))
	}
	str(n.value)
	for _, c := range n.children {
		buf = append(buf, c.digest[:]...)
	}
	sum := sha256.Sum256(buf)
	copy(n.digest[:], sum[:])
}

// Find gives the child of that schema node and, for lists and leaf-lists, of
// those keys; nil where there is none. Without keys it is the first.
func (n *Node) Find(s *schema.Node, keys []string) *Node {
	if i := n.index(s, keys); i >= 0 {
		return n.children[i]
	}
	return nil
}

func (n *Node) index(s *schema.Node, keys []string) int {
	from, to := n.run(s)
	if from == to {
		return -1
	}
	if keys == nil {
		return from
	}
	if !s.UserOrdered {
		i := from + sort.Search(to-from, func(i int) bool { return CompareKeys(n.children[from+i].keys, keys) >= 0 })
		if i < to && slices.Equal(n.children[i].keys, keys) {
			return i
		}
		return -1
	}
	for i := from; i < to; i++ {
		if slices.Equal(n.children[i].keys, keys) {
			return i
		}
	}
	return -1
}

// run gives the span of the children of one schema node.
func (n *Node) run(s *schema.Node) (from, to int) {
	from = sort.Search(len(n.children), func(i int) bool {
		c := n.children[i].schema
		return c == nil || c.Order >= s.Order
	})
	to = from
	for to < len(n.children) && n.children[to].schema == s {
		to++
	}
	return from, to
}

// All gives the children of one schema node.
func (n *Node) All(s *schema.Node) []*Node {
	from, to := n.run(s)
	return n.children[from:to]
}

// Known gives the first child of that name, whatever its module; nil if none.
func (n *Node) Known(name string) *Node {
	if n == nil {
		return nil
	}
	for _, c := range n.children {
		if c.schema != nil && c.schema.Name == name {
			return c
		}
	}
	return nil
}

// With gives a node like n with other children.
func (n *Node) With(children []*Node) *Node { return New(n.schema, children) }

// WithoutDefaults gives the tree without leaves that hold their default: the
// "trim" view of RFC 6243, in which a set default and an unset leaf agree.
func (n *Node) WithoutDefaults() *Node {
	changed := false
	out := make([]*Node, 0, len(n.children))
	for _, c := range n.children {
		d := c
		switch {
		case c.schema == nil || c.opaque != nil:
		case c.schema.Kind == schema.Leaf:
			if len(c.schema.Defaults) == 1 && c.schema.Defaults[0] == c.value && c.schema.KeyIndex() < 0 {
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
	out := make([]*Node, 0, len(n.children))
	for _, c := range n.children {
		if c.schema != nil && !c.schema.Config {
			changed = true
			continue
		}
		d := c
		if len(c.children) > 0 {
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
	if n.schema != nil && (n.schema.IsLeaf() || n.schema.Presence) || n.opaque != nil {
		total = 1
	}
	for _, c := range n.children {
		total += c.Count()
	}
	return total
}
