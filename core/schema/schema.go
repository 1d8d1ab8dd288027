// Package schema compiles YANG modules (RFC 6020, RFC 7950) into the tree of
// data nodes that every other part of the core reads.
//
// goyang's parser turns the text into statements; the meaning is worked out
// here, because a configuration may only be trusted to the last leaf when
// augments, refinements, deviations and features are all applied as the RFC
// says. What does not compile is named in [Schema.Problems] and left out of
// the tree; the codec then carries such content through as opaque XML.
//
// A Schema does not change once compiled and may be shared.
package schema

import (
	"crypto/sha512"
	"slices"
	"sort"
	"strings"
)

// Kind says what a schema node is.
type Kind uint8

// The kinds of schema nodes (RFC 7950 section 4.2.2). Choice and Case never
// appear in data.
const (
	Container Kind = iota + 1
	List
	Leaf
	LeafList
	AnyData
	AnyXML
	Choice
	Case
)

var kindNames = [...]string{"", "container", "list", "leaf", "leaf-list", "anydata", "anyxml", "choice", "case"}

func (k Kind) String() string { return kindNames[k] }

// Module is one YANG module of the set.
type Module struct {
	Name, Namespace, Prefix, Revision string

	// Implemented is false for a module that is only there for others to
	// import: its data nodes and augments do not count (RFC 7950 section 5.6.5).
	Implemented bool

	// Annotations are the metadata the module defines (RFC 7952), by name.
	Annotations map[string]*Type
}

// Problem is something in the modules that could not be understood.
type Problem struct {
	Module string // the module or submodule
	Where  string // file, line and column, or ""
	Msg    string
}

func (p Problem) String() string {
	if p.Where != "" {
		return p.Where + ": " + p.Msg
	}
	return p.Module + ": " + p.Msg
}

// Schema is a compiled set of modules.
type Schema struct {
	Modules  []*Module // by name
	Problems []Problem

	roots   []*Node
	choices []*Node
	index   map[Key]*Node
	byName  map[string]*Module
	byNS    map[string]*Module
	idents  map[identKey]*Identity
}

// Key names a data node among its siblings.
type Key struct {
	Module *Module
	Name   string
}

// Node is a schema node.
type Node struct {
	Name   string
	Module *Module // whose namespace the node's data is in
	Kind   Kind
	Parent *Node // nil at the top

	Config      bool
	Mandatory   bool
	Presence    bool
	UserOrdered bool
	Keys        []string // a list's, in order
	Unique      [][]string
	Min, Max    uint64 // elements; Max 0 is unbounded
	Type        *Type  // a leaf's or leaf-list's
	Defaults    []string
	Units       string
	Description string
	Must, When  []Constraint
	Default     string // a choice's default case

	// Order is the node's place among its data siblings, keys of a list first:
	// the canonical order of data.
	Order int

	// Ambiguous is set where a sibling in data has the same name in another
	// module, so that paths need the module's name.
	Ambiguous bool

	children []*Node
	data     []*Node
	index    map[Key]*Node
	identity [16]byte
	key      int // place in the list's key, plus one

	denied, isSecret, hasSecrets bool
}

// Constraint is an XPath expression with what is needed to evaluate it.
type Constraint struct {
	XPath    string
	Prefixes map[string]*Module // "" is the module it stands in
	Message  string
	Tag      string

	// OfParent is set for a when of an augment or uses: its context node is the
	// parent of the node it stands at here (RFC 7950 section 7.21.5).
	OfParent bool
}

// Children are the node's schema children, choices and cases among them.
func (n *Node) Children() []*Node { return n.children }

// Data are the node's data children, those within choices included, in
// canonical order.
func (n *Node) Data() []*Node { return n.data }

// Child gives the data child of that module and name, or nil.
func (n *Node) Child(m *Module, name string) *Node { return n.index[Key{m, name}] }

// Named gives all data children of that name; they differ in module.
func (n *Node) Named(name string) []*Node { return named(n.data, name) }

// KeyIndex is the place of a key leaf in its list's key, or -1.
func (n *Node) KeyIndex() int { return n.key - 1 }

// Identity stands for the node's module and name in digests: the same in every
// schema that has them.
func (n *Node) Identity() [16]byte { return n.identity }

// Single reports whether no two siblings in data may be the same instance of
// the node: true but for lists without keys and leaf-lists of state data.
func (n *Node) Single() bool {
	return !(n.Kind == List && len(n.Keys) == 0 || n.Kind == LeafList && !n.Config)
}

// DataParent is the nearest ancestor that appears in data, or nil at the top.
func (n *Node) DataParent() *Node {
	p := n.Parent
	for p != nil && (p.Kind == Choice || p.Kind == Case) {
		p = p.Parent
	}
	return p
}

// IsLeaf reports whether the node holds a value: a leaf or leaf-list.
func (n *Node) IsLeaf() bool { return n.Kind == Leaf || n.Kind == LeafList }

// Path is the node's schema path, module names where they change.
func (n *Node) Path() string {
	var parts []string
	for m := n; m != nil; m = m.DataParent() {
		p := m.DataParent()
		name := m.Name
		if p == nil || p.Module != m.Module {
			name = m.Module.Name + ":" + name
		}
		parts = append(parts, name)
	}
	var b strings.Builder
	for i := len(parts) - 1; i >= 0; i-- {
		b.WriteByte('/')
		b.WriteString(parts[i])
	}
	return b.String()
}

// Roots are the top-level data nodes, in canonical order.
func (s *Schema) Roots() []*Node { return s.roots }

// Choices are the choices that stand at the top.
func (s *Schema) Choices() []*Node { return s.choices }

// Root gives the top-level data node of that module and name, or nil.
func (s *Schema) Root(m *Module, name string) *Node { return s.index[Key{m, name}] }

// Named gives all top-level data nodes of that name; they differ in module.
func (s *Schema) Named(name string) []*Node { return named(s.roots, name) }

// ModuleByNamespace gives the module that owns an XML namespace, or nil.
func (s *Schema) ModuleByNamespace(ns string) *Module { return s.byNS[ns] }

// ModuleByName gives a module by its name, or nil.
func (s *Schema) ModuleByName(name string) *Module { return s.byName[name] }

// Walk calls f for every data node, parents first.
func (s *Schema) Walk(f func(*Node)) {
	var walk func([]*Node)
	walk = func(ns []*Node) {
		for _, n := range ns {
			f(n)
			walk(n.data)
		}
	}
	walk(s.roots)
}

func named(list []*Node, name string) []*Node {
	var out []*Node
	for _, n := range list {
		if n.Name == name {
			out = append(out, n)
		}
	}
	return out
}

// finish fixes the derived fields of a list of siblings and all below them.
func finish(parent *Node, children []*Node) (data []*Node, index map[Key]*Node) {
	var flat func([]*Node)
	flat = func(ns []*Node) {
		for _, n := range ns {
			if n.Kind == Choice || n.Kind == Case {
				flat(n.children)
				continue
			}
			data = append(data, n)
		}
	}
	flat(children)
	for _, n := range data {
		whole := sha512.Sum512_256([]byte(n.Module.Name + "\x00" + n.Name))
		copy(n.identity[:], whole[:])
		if parent != nil && parent.Kind == List && n.Module == parent.Module {
			n.key = slices.Index(parent.Keys, n.Name) + 1
		}
	}
	if parent != nil && parent.Kind == List {
		rank := func(n *Node) int {
			if i := n.KeyIndex(); i >= 0 {
				return i
			}
			return len(parent.Keys)
		}
		sort.SliceStable(data, func(i, j int) bool { return rank(data[i]) < rank(data[j]) })
	}
	index = make(map[Key]*Node, len(data))
	count := make(map[string]int, len(data))
	for _, n := range data {
		count[n.Name]++
	}
	for i, n := range data {
		n.Order, n.Ambiguous = i, count[n.Name] > 1
		index[Key{n.Module, n.Name}] = n
	}
	var down func([]*Node)
	down = func(ns []*Node) {
		for _, n := range ns {
			if n.Kind == Choice || n.Kind == Case {
				down(n.children)
				continue
			}
			n.data, n.index = finish(n, n.children)
		}
	}
	down(children)
	return data, index
}

// DataBelow lists the data nodes of a choice or case, through further choices.
func (n *Node) DataBelow() []*Node {
	var out []*Node
	for _, c := range n.children {
		if c.Kind == Choice || c.Kind == Case {
			out = append(out, c.DataBelow()...)
		} else {
			out = append(out, c)
		}
	}
	return out
}
