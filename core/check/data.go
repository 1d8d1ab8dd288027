package check

import (
	"fmt"
	"strings"

	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/core/xpath"
)

// data is the accessible tree of RFC 7950 section 6.4.1: a configuration with
// the defaults that are in use and the containers that are implied.
type data struct {
	schema *schema.Schema
	root   *cursor
	budget xpath.Budget

	exprs   map[string]parsed               // by text and module
	indexes map[indexKey]map[string][]place // places of entries by the value of a leaf
	sets    map[setKey]map[string]bool      // what a leafref may refer to
	busy    map[conditionKey]bool           // conditions of defaults being evaluated
	refs    map[*schema.Type]reference      // how leafrefs are resolved
	valid   map[*schema.Type]map[string]bool
}

type parsed struct {
	expr *xpath.Expr
	err  error
}

// place is an entry of a list and where it stands.
type place struct {
	node  *tree.Node
	index int
}

type indexKey struct {
	parent *tree.Node
	list   *schema.Node
	leaf   *schema.Node
}

type conditionKey struct {
	parent *tree.Node
	schema *schema.Node
}

// work is what is spent on one configuration, in visits of nodes: a few
// seconds. The conditions of 100,000 interfaces take a tenth of it.
const work = 16_000_000

func newData(s *schema.Schema, root *tree.Node) *data {
	d := &data{
		schema: s, budget: xpath.Budget{Left: work}, exprs: map[string]parsed{},
		indexes: map[indexKey]map[string][]place{}, sets: map[setKey]map[string]bool{}, busy: map[conditionKey]bool{},
		refs: map[*schema.Type]reference{}, valid: map[*schema.Type]map[string]bool{},
	}
	d.root = &cursor{d: d, node: root}
	return d
}

// parse gives an expression of a module, parsed once.
func (d *data) parse(text string, prefixes map[string]*schema.Module, local *schema.Module) (*xpath.Expr, error) {
	key := local.Name + "\x00" + prefixes[""].Name + "\x00" + text
	p, ok := d.exprs[key]
	if !ok {
		p.expr, p.err = xpath.Parse(text, xpath.Names{Schema: d.schema, Prefixes: prefixes, Local: local})
		d.exprs[key] = p
	}
	return p.expr, p.err
}

// cursor is a node with the way to it: nodes of a tree do not know their
// parents. One without a node is implied: a container, or a default in use.
type cursor struct {
	d      *data
	parent *cursor
	schema *schema.Node
	node   *tree.Node
	value  string // of a default
	index  int    // among those of its schema node; -1 until asked for
}

var _ xpath.Node = (*cursor)(nil)

func (c *cursor) Schema() *schema.Node { return c.schema }

func (c *cursor) Parent() xpath.Node {
	if c.parent == nil {
		return nil
	}
	return c.parent
}

func (c *cursor) Text() string {
	if c.node != nil {
		return c.node.Value()
	}
	return c.value
}

func (c *cursor) Same(o xpath.Node) bool {
	other, ok := o.(*cursor)
	for a, b := c, other; ok; a, b = a.parent, b.parent {
		switch {
		case a == b:
			return true
		case a == nil || b == nil, a.node != b.node, a.schema != b.schema, a.value != b.value:
			return false
		}
	}
	return false
}

func (c *cursor) Place() (order, index int) {
	if c.schema == nil {
		return 0, 0
	}
	if c.index < 0 {
		c.index = c.parent.node.Position(c.schema, c.node.Keys())
	}
	return c.schema.Order, c.index
}

// path is the way to the node, for messages.
func (c *cursor) path() tree.Path {
	if c.parent == nil {
		return nil
	}
	step := tree.Step{Node: c.schema}
	if c.node != nil {
		step.Keys = c.node.Keys()
	}
	return append(c.parent.path(), step)
}

func (c *cursor) known() []*schema.Node {
	if c.schema == nil {
		return c.d.schema.Roots()
	}
	return c.schema.Data()
}

func (c *cursor) Children() []xpath.Node {
	var out []xpath.Node
	for _, s := range c.known() {
		for _, k := range c.all(s) {
			out = append(out, k)
		}
	}
	return out
}

func (c *cursor) Named(m *schema.Module, name string) []xpath.Node {
	var out []xpath.Node
	for _, s := range c.named(m, name) {
		for _, k := range c.all(s) {
			out = append(out, k)
		}
	}
	return out
}

func (c *cursor) named(m *schema.Module, name string) []*schema.Node {
	var one *schema.Node
	switch {
	case m == nil && c.schema == nil:
		return c.d.schema.Named(name)
	case m == nil:
		return c.schema.Named(name)
	case c.schema == nil:
		one = c.d.schema.Root(m, name)
	default:
		one = c.schema.Child(m, name)
	}
	if one == nil {
		return nil
	}
	return []*schema.Node{one}
}

// all gives the children of one schema node, implied ones too.
func (c *cursor) all(s *schema.Node) []*cursor {
	var list []*tree.Node
	if c.node != nil {
		list = c.node.All(s)
	}
	if len(list) == 0 {
		return c.implied(s)
	}
	block := make([]cursor, len(list))
	out := make([]*cursor, len(list))
	for i, n := range list {
		block[i] = cursor{d: c.d, parent: c, schema: s, node: n, index: i}
		out[i] = &block[i]
	}
	return out
}

// implied gives the container or the defaults that stand for a child that is
// not there.
func (c *cursor) implied(s *schema.Node) []*cursor {
	container := s.Kind == schema.Container && !s.Presence
	if !s.Config || !container && !(s.IsLeaf() && len(s.Defaults) > 0) {
		return nil
	}
	parent := c.node
	if parent == nil {
		parent = tree.Empty
	}
	if !parent.CaseInUse(s) {
		return nil
	}
	first := &cursor{d: c.d, parent: c, schema: s}
	if conditional(s) {
		key := conditionKey{c.node, s}
		if c.d.busy[key] {
			return nil
		}
		c.d.busy[key] = true
		defer delete(c.d.busy, key)
		if failed, err := first.unmet(); failed != nil || err != nil {
			return nil
		}
	}
	if container {
		return []*cursor{first}
	}
	out := []*cursor{first}
	first.value = s.Defaults[0]
	for i, v := range s.Defaults[1:] {
		out = append(out, &cursor{d: c.d, parent: c, schema: s, value: v, index: i + 1})
	}
	return out
}

// conditional reports whether a node stands under a condition of its own or of
// a choice or case around it.
func conditional(s *schema.Node) bool {
	for p := s; p != nil && (p == s || p.Kind == schema.Case || p.Kind == schema.Choice); p = p.Parent {
		if len(p.When) > 0 {
			return true
		}
	}
	return false
}

// unmet gives the first condition that does not hold for the node, nil where
// all do. The error is that of one that could not be decided.
func (c *cursor) unmet() (*schema.Constraint, error) {
	for p := c.schema; p != nil && (p == c.schema || p.Kind == schema.Case || p.Kind == schema.Choice); p = p.Parent {
		for i := range p.When {
			w := &p.When[i]
			at := c
			if p != c.schema || w.OfParent {
				at = c.parent
			}
			ok, err := c.d.holds(w, p.Module, at)
			if err != nil {
				return nil, err
			}
			if !ok {
				return w, nil
			}
		}
	}
	return nil, nil
}

func (d *data) holds(w *schema.Constraint, local *schema.Module, at *cursor) (bool, error) {
	e, err := d.parse(w.XPath, w.Prefixes, local)
	if err != nil {
		return false, err
	}
	return e.Bool(at, &d.budget)
}

// With gives entries by the value of a leaf: by the key, or by an index made
// once for each list and leaf.
func (c *cursor) With(m *schema.Module, name string, leaf *schema.Node, value string) ([]xpath.Node, bool) {
	list := c.named(m, name)
	if len(list) != 1 || c.node == nil || list[0].Kind != schema.List {
		return nil, false
	}
	s := list[0]
	if leaf.KeyIndex() >= 0 && len(s.Keys) == 1 && !s.UserOrdered {
		n := c.node.Find(s, []string{value})
		if n == nil {
			return nil, true
		}
		return []xpath.Node{&cursor{d: c.d, parent: c, schema: s, node: n, index: -1}}, true
	}
	key := indexKey{c.node, s, leaf}
	places, ok := c.d.indexes[key]
	if !ok {
		places = map[string][]place{}
		for i, e := range c.all(s) {
			for _, l := range e.all(leaf) {
				places[l.Text()] = append(places[l.Text()], place{e.node, i})
			}
		}
		c.d.indexes[key] = places
	}
	var out []xpath.Node
	for _, p := range places[value] {
		out = append(out, &cursor{d: c.d, parent: c, schema: s, node: p.node, index: p.index})
	}
	return out, true
}

// Deref gives what a leafref or instance-identifier refers to.
func (c *cursor) Deref() ([]xpath.Node, error) {
	if c.schema == nil || !c.schema.IsLeaf() {
		return nil, nil
	}
	switch c.schema.Type.Base {
	case schema.LeafRef:
		targets, err := c.d.targets(c.schema.Type, c)
		var out []xpath.Node
		for _, t := range targets {
			if t.Text() == c.Text() {
				out = append(out, t)
			}
		}
		return out, err
	case schema.InstanceIdentifier:
		n, err := c.d.instance(c.Text())
		if n == nil {
			return nil, err
		}
		return []xpath.Node{n}, err
	}
	return nil, nil
}

// instance finds what an instance-identifier refers to; nil where there is
// nothing.
func (d *data) instance(value string) (*cursor, error) {
	in, err := schema.ParseInstance(value, d.schema.NameResolver(nil))
	if err != nil {
		return nil, err
	}
	at := d.root
	for _, step := range in {
		list := at.named(d.schema.ModuleByName(step.Module), step.Name)
		if len(list) != 1 {
			return nil, fmt.Errorf(
				"%w: %s:%s is not described by the modules at hand", xpath.ErrUndecided, step.Module, step.Name,
			)
		}
		if at = at.chosen(list[0], step.Keys); at == nil {
			return nil, nil
		}
	}
	return at, nil
}

// chosen gives the child that the predicates of an instance-identifier name.
func (c *cursor) chosen(s *schema.Node, keys []schema.InstanceKey) *cursor {
	if c.node != nil && s.Kind == schema.List && len(keys) == len(s.Keys) {
		values := make([]string, len(keys))
		for _, k := range keys {
			for i, name := range s.Keys {
				if name == k.Name {
					values[i] = k.Value
				}
			}
		}
		if n := c.node.Find(s, values); n != nil {
			return &cursor{d: c.d, parent: c, schema: s, node: n, index: -1}
		}
	}
	for i, k := range c.all(s) {
		fits := true
		for _, key := range keys {
			switch key.Name {
			case "":
				fits = fits && fmt.Sprint(i+1) == key.Value
			case ".":
				fits = fits && k.Text() == key.Value
			default:
				leaf := k.schema.Child(c.d.schema.ModuleByName(key.Module), key.Name)
				fits = fits && leaf != nil && len(k.all(leaf)) == 1 && k.all(leaf)[0].Text() == key.Value
			}
		}
		if fits {
			return k
		}
	}
	return nil
}

// reasonOf is the message of an error without what every such error says.
func reasonOf(err error) string {
	return strings.TrimPrefix(err.Error(), xpath.ErrUndecided.Error()+": ")
}
