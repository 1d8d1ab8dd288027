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
	"iter"
	"slices"
	"sort"
	"strings"

	"oakenlatch/core/schema"
)

// Digest identifies a subtree: equal digests mean equal canonical content.
//
// It is BLAKE2b-256 (RFC 7693) cut to 128 bits: no device can make two configurations
// that pass for one, and it does not depend on how a tree came to be.
type Digest [16]byte

// Node is one node of a configuration: the root, a container, a list entry, a
// leaf, one value of a leaf-list, or content that no schema describes.
//
// Most nodes are leaves and hold nothing but a schema node and a value: what
// only some nodes have stands behind pointers, to keep large trees small.
type Node struct {
	schema *schema.Node // nil: the root, or opaque
	value  [1]string    // of a leaf; an array so that a leaf-list's keys need no memory of their own
	inner  *inner       // nil for a plain leaf
}

// inner is what a node has that is not a plain leaf.
type inner struct {
	digest Digest
	kids   siblings
	*rare
}

// rare is what few nodes have.
type rare struct {
	keys        []string // of a list entry with several; a single one is the node's value
	opaque      *Opaque
	annotations []Annotation
}

// Opaque is content carried without being understood: an element that the
// schema does not know, or what is in an anydata or anyxml.
type Opaque struct {
	Space, Local string // the element's name
	XML          []byte // the element whole, all its namespaces declared
}

// Annotation is metadata of a node (RFC 7952). Where the annotation is not
// defined by any module at hand, Module is empty and Space has its namespace.
type Annotation struct {
	Module, Space, Name string
	Value               string
}

// Schema is the node's schema node; nil for the root and for unknown content.
func (n *Node) Schema() *schema.Node { return n.schema }

// Value is a leaf's or leaf-list value's canonical value.
func (n *Node) Value() string { return n.value[0] }

// Keys are a list entry's key values, or a leaf-list value by itself.
func (n *Node) Keys() []string {
	switch {
	case n.schema == nil:
		return nil
	case n.schema.Kind == schema.LeafList, n.schema.Kind == schema.List && len(n.schema.Keys) == 1:
		return n.value[:]
	case n.inner != nil && n.inner.rare != nil:
		return n.inner.rare.keys
	}
	return nil
}

// Children are the node's children in canonical order. They must not be
// changed. For a node of very many children they are gathered anew each time.
func (n *Node) Children() []*Node { return n.kids().list() }

// Opaque is set where the node's content is carried without being understood.
func (n *Node) Opaque() *Opaque {
	if n.inner == nil || n.inner.rare == nil {
		return nil
	}
	return n.inner.opaque
}

// Annotations are the node's metadata, in canonical order.
func (n *Node) Annotations() []Annotation {
	if n.inner == nil || n.inner.rare == nil {
		return nil
	}
	return n.inner.annotations
}

func (n *Node) kids() siblings {
	if n.inner == nil {
		return siblings{}
	}
	return n.inner.kids
}

// Digest is the digest of the node and all below it.
func (n *Node) Digest() Digest {
	if n.inner != nil {
		return n.inner.digest
	}
	return digestLeaf(n)
}

// Same reports whether two nodes are equal with all below them; nil equals nil.
func Same(a, b *Node) bool {
	switch {
	case a == b:
		return true
	case a == nil || b == nil:
		return false
	case a.inner == nil && b.inner == nil:
		return a.value == b.value && (a.schema == b.schema || a.schema.Identity() == b.schema.Identity())
	case a.inner == nil || b.inner == nil:
		return false
	}
	return a.inner.digest == b.inner.digest
}

// Empty is a configuration with nothing in it.
var Empty = Root(nil)

// NewLeaf makes a leaf or one value of a leaf-list. The value must be canonical.
func NewLeaf(s *schema.Node, value string) *Node {
	return &Node{schema: s, value: [1]string{value}}
}

// NewOpaque makes a node of content that is carried unread; s is nil unless
// the schema knows the element as anydata or anyxml.
func NewOpaque(s *schema.Node, o Opaque) *Node {
	return seal(&Node{schema: s, inner: &inner{rare: &rare{opaque: &o}}})
}

// New makes a container or a list entry. Children may come in any order but
// for those whose order the user gives. The keys are read from the children.
func New(s *schema.Node, children []*Node) *Node {
	n, _ := (&Builder{}).Node(s, slices.Clone(children), nil)
	return n
}

// Annotated gives the node with that metadata and no other.
func (n *Node) Annotated(list []Annotation) *Node {
	if len(list) == 0 && len(n.Annotations()) == 0 {
		return n
	}
	if len(list) == 0 && n.inner.opaque == nil && n.schema.IsLeaf() {
		return NewLeaf(n.schema, n.value[0])
	}
	list = slices.Clone(list)
	slices.SortFunc(list, func(a, b Annotation) int {
		return cmp.Or(
			strings.Compare(a.Module, b.Module), strings.Compare(a.Space, b.Space), strings.Compare(a.Name, b.Name),
		)
	})
	out := &Node{
		schema: n.schema, value: n.value,
		inner: &inner{kids: n.kids(), rare: &rare{opaque: n.Opaque(), annotations: list}},
	}
	if n.inner != nil && n.inner.rare != nil {
		out.inner.keys = n.inner.keys
	}
	return seal(out)
}

// assemble makes an inner node of children that are already arranged.
func assemble(s *schema.Node, kids siblings, notes []Annotation) *Node {
	both := &whole{inner: inner{kids: kids}}
	return both.complete(s, notes)
}

// whole is an inner node in one piece of memory.
type whole struct {
	node  Node
	inner inner
}

func (w *whole) complete(s *schema.Node, notes []Annotation) *Node {
	n := &w.node
	n.schema, n.inner = s, &w.inner
	if len(notes) > 0 {
		w.inner.rare = &rare{annotations: notes}
	}
	if s == nil || s.Kind != schema.List || len(s.Keys) == 0 {
		return seal(n)
	}
	keys := n.value[:]
	if len(s.Keys) > 1 {
		keys = make([]string, len(s.Keys))
		w.inner.rare = &rare{keys: keys, annotations: notes}
	}
	for i := range min(len(s.Keys), w.inner.kids.len()) { // keys come first
		if c := w.inner.kids.at(i); c.schema != nil {
			if k := c.schema.KeyIndex(); k >= 0 {
				keys[k] = c.value[0]
			}
		}
	}
	return seal(n)
}

// Root makes a whole configuration of its top-level nodes.
func Root(children []*Node) *Node { return New(nil, children) }

// Void reports whether the node means nothing: a container without presence
// and without children.
func (n *Node) Void() bool {
	return n.schema != nil && n.schema.Kind == schema.Container && !n.schema.Presence && n.kids().len() == 0 &&
		len(n.Annotations()) == 0
}

// arrange gives siblings in canonical order without those that mean nothing,
// in the memory of the slice it is given.
func arrange(children []*Node) (list []*Node, twice *Node) {
	out := children[:0]
	sorted := true
	for _, c := range children {
		if c == nil || c.Void() {
			continue
		}
		if sorted && len(out) > 0 {
			sorted = compareSiblings(out[len(out)-1], c) <= 0
		}
		out = append(out, c)
	}
	if !sorted {
		sort.SliceStable(out, func(i, j int) bool { return compareSiblings(out[i], out[j]) < 0 })
	}
	return out, repeated(out)
}

// repeated finds a second node of one identity among arranged siblings.
func repeated(list []*Node) *Node {
	for i := 1; i < len(list); i++ {
		s := list[i].schema
		if s == nil || s != list[i-1].schema || !s.Single() {
			continue
		}
		if !s.UserOrdered {
			// Of a leaf, whatever its value, and of a container only one may be.
			if slices.Equal(list[i-1].Keys(), list[i].Keys()) {
				return list[i]
			}
			continue
		}
		seen := map[string]bool{Identity(list[i-1]): true}
		for ; i < len(list) && list[i].schema == s; i++ {
			k := Identity(list[i])
			if seen[k] {
				return list[i]
			}
			seen[k] = true
		}
		i--
	}
	return nil
}

// Identity is the node's keys as one string, to tell entries of a list apart.
func Identity(n *Node) string {
	keys := n.Keys()
	if len(keys) == 1 {
		return keys[0]
	}
	return strings.Join(keys, "\x00")
}

// Find gives the child of that schema node and, for lists and leaf-lists, of
// those keys; nil where there is none. Without keys it is the first.
func (n *Node) Find(s *schema.Node, keys []string) *Node {
	if i := n.index(s, keys); i >= 0 {
		return n.kids().at(i)
	}
	return nil
}

// Locate gives a single instance like Find, with its place for a Patch: -1
// where there is none.
func (n *Node) Locate(s *schema.Node, keys []string) (*Node, int) {
	if s.Kind != schema.List && s.Kind != schema.LeafList {
		keys = nil
	}
	i := n.index(s, keys)
	if i < 0 {
		return nil, i
	}
	return n.kids().at(i), i
}

func (n *Node) index(s *schema.Node, keys []string) int {
	kids := n.kids()
	if keys != nil && !s.UserOrdered {
		i := kids.search(func(c *Node) bool {
			return c.schema == nil || c.schema.Order > s.Order || c.schema == s && CompareKeys(c.Keys(), keys) >= 0
		})
		if i < kids.len() {
			if c := kids.at(i); c.schema == s && slices.Equal(c.Keys(), keys) {
				return i
			}
		}
		return -1
	}
	from, to := n.run(s)
	if from == to {
		return -1
	}
	if keys == nil {
		return from
	}
	i := from
	for c := range kids.between(from, to) {
		if slices.Equal(c.Keys(), keys) {
			return i
		}
		i++
	}
	return -1
}

// run gives the span of the children of one schema node.
func (n *Node) run(s *schema.Node) (from, to int) {
	kids := n.kids()
	from = kids.search(func(c *Node) bool { return c.schema == nil || c.schema.Order >= s.Order })
	if from == kids.len() || kids.at(from).schema != s {
		return from, from
	}
	if s.Kind != schema.List && s.Kind != schema.LeafList {
		return from, from + 1
	}
	return from, kids.search(func(c *Node) bool { return c.schema == nil || c.schema.Order > s.Order })
}

// All gives the children of one schema node.
func (n *Node) All(s *schema.Node) []*Node {
	from, to := n.run(s)
	if flat := n.kids().flat; flat != nil {
		return flat[from:to]
	}
	out := make([]*Node, 0, to-from)
	for c := range n.kids().between(from, to) {
		out = append(out, c)
	}
	return out
}

// Each gives the children in canonical order.
func (n *Node) Each() iter.Seq[*Node] {
	kids := n.kids()
	return kids.between(0, kids.len())
}

// Len is the number of children.
func (n *Node) Len() int { return n.kids().len() }

// Known gives the first child of that name, whatever its module; nil if none.
func (n *Node) Known(name string) *Node {
	if n == nil {
		return nil
	}
	for c := range n.Each() {
		if c.schema != nil && c.schema.Name == name {
			return c
		}
	}
	return nil
}

// With gives a node like n with other children.
func (n *Node) With(children []*Node) *Node {
	out, _ := (&Builder{}).Node(n.schema, slices.Clone(children), n.Annotations())
	return out
}

// Unknown gives the children that no schema describes of one name.
func (n *Node) Unknown(name *Opaque) []*Node {
	kids := n.kids()
	from := kids.search(func(c *Node) bool { return c.schema == nil && compareNames(c.Opaque(), name) >= 0 })
	var out []*Node
	for c := range kids.between(from, kids.len()) {
		if compareNames(c.Opaque(), name) != 0 {
			break
		}
		out = append(out, c)
	}
	return out
}
