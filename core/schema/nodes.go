package schema

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/openconfig/goyang/pkg/yang"
)

// maxDepth stops groupings that use themselves.
const maxDepth = 100

var kinds = map[string]Kind{
	"container": Container, "list": List, "leaf": Leaf, "leaf-list": LeafList,
	"anydata": AnyData, "anyxml": AnyXML, "choice": Choice, "case": Case,
}

// build makes the schema nodes of a block of statements. Their data will be in
// the namespace of module m, which for a grouping is the module that uses it.
func (c *compiler) build(stmts []*yang.Statement, sc *scope, m *Module, parent *Node) []*Node {
	if c.depth++; c.depth > maxDepth {
		c.depth--
		c.problem(sc.unit, nil, "groupings or containers nested deeper than %d", maxDepth)
		return nil
	}
	defer func() { c.depth-- }()
	var out []*Node
	for _, st := range stmts {
		if st.Keyword == "uses" {
			if !c.spend(1) {
				return out
			}
			out = append(out, c.uses(st, sc, m, parent)...)
			continue
		}
		switch st.Keyword {
		case "rpc", "action", "notification":
			c.operations[operation{parent, m, st.Argument}] = true
		}
		kind, ok := kinds[st.Keyword]
		if !ok || !c.enabled(st, sc) {
			continue
		}
		if !c.spend(1) {
			return out
		}
		n, err := c.node(kind, st, sc, m, parent)
		if err != nil {
			c.problem(sc.unit, st, "%s %s is carried unread: %v", st.Keyword, st.Argument, err)
			continue
		}
		if parent != nil && parent.Kind == Choice && kind != Case {
			n = implicitCase(n, parent)
		}
		out = append(out, n)
	}
	return out
}

// implicitCase wraps a short case (RFC 7950 section 7.9.2).
func implicitCase(n, choice *Node) *Node {
	wrap := &Node{Name: n.Name, Module: n.Module, Kind: Case, Parent: choice, children: []*Node{n}}
	n.Parent = wrap
	return wrap
}

func (c *compiler) node(kind Kind, st *yang.Statement, sc *scope, m *Module, parent *Node) (*Node, error) {
	n := &Node{Name: st.Argument, Module: m, Kind: kind, Parent: parent}
	inner := inside(st, sc)
	if kind == List {
		n.Keys = strings.Fields(arg(st, "key"))
	}
	for _, sub := range st.SubStatements() {
		if err := c.property(n, sub, inner); err != nil {
			return nil, err
		}
	}
	if n.IsLeaf() {
		if n.Type == nil {
			return nil, fmt.Errorf("has no type")
		}
		if n.Units == "" {
			n.Units = n.Type.Units
		}
		if len(n.Defaults) == 0 && n.Type.HasDefault && !n.Mandatory && n.Min == 0 {
			n.Defaults = []string{n.Type.DefaultValue}
			c.scopes[n] = n.Type.defaultScope
		}
		return n, nil
	}
	n.children = c.build(st.SubStatements(), inner, m, n)
	if kind == List {
		for _, k := range n.Keys {
			if !hasLeaf(n.children, m, k) {
				return nil, fmt.Errorf("its key %s is not among its leaves", k)
			}
		}
	}
	return n, nil
}

func hasLeaf(ns []*Node, m *Module, name string) bool {
	for _, n := range ns {
		if n.Kind == Leaf && n.Name == name && n.Module == m {
			return true
		}
	}
	return false
}

// property applies one sub-statement that says something of the node itself.
// Refinements and deviations use the same statements.
func (c *compiler) property(n *Node, st *yang.Statement, sc *scope) error {
	var err error
	switch st.Keyword {
	case "config":
		c.config[n] = st.Argument == "true"
	case "mandatory":
		n.Mandatory = st.Argument == "true"
	case "presence":
		n.Presence = true
	case "ordered-by":
		n.UserOrdered = st.Argument == "user"
	case "min-elements":
		n.Min, err = strconv.ParseUint(st.Argument, 10, 64)
	case "max-elements":
		n.Max = 0
		if st.Argument != "unbounded" {
			n.Max, err = strconv.ParseUint(st.Argument, 10, 64)
		}
	case "unique":
		n.Unique = append(n.Unique, strings.Fields(st.Argument))
	case "units":
		n.Units = st.Argument
	case "description":
		n.Description = strings.Join(strings.Fields(st.Argument), " ")
	case "default":
		if n.Kind == Choice {
			n.Default = st.Argument
		} else {
			n.Defaults = append(n.Defaults, st.Argument)
			c.scopes[n] = sc.unit.prefixes
		}
	case "type":
		if n.IsLeaf() {
			n.Type, err = c.typ(st, sc)
		}
	case "must":
		n.Must = append(n.Must, constraint(st, sc))
	case "when":
		n.When = append(n.When, constraint(st, sc))
	default:
		n.denied = n.denied || denied(st.Keyword, sc.unit.prefixes)
	}
	return err
}

func constraint(st *yang.Statement, sc *scope) Constraint {
	return Constraint{
		XPath: st.Argument, Prefixes: sc.unit.prefixes,
		Message: strings.Join(strings.Fields(arg(st, "error-message")), " "), Tag: arg(st, "error-app-tag"),
	}
}

// uses expands a grouping (RFC 7950 section 7.13).
func (c *compiler) uses(st *yang.Statement, sc *scope, m *Module, parent *Node) []*Node {
	if !c.enabled(st, sc) {
		return nil
	}
	d, err := c.find(st.Argument, sc, func(s *scope) map[string]def { return s.groupings })
	if err != nil {
		c.problem(sc.unit, st, "uses %s: %v", st.Argument, err)
		return nil
	}
	nodes := c.build(d.stmt.SubStatements(), inside(d.stmt, d.scope), m, parent)
	for _, when := range all(st, "when") {
		for _, n := range nodes {
			cond := constraint(when, sc)
			cond.OfParent = true
			n.When = append(n.When, cond)
		}
	}
	for _, ref := range all(st, "refine") {
		n, err := c.descend(nodes, ref.Argument, sc, m)
		if err != nil {
			c.problem(sc.unit, ref, "refine %s: %v", ref.Argument, err)
			continue
		}
		if len(all(ref, "default")) > 0 {
			n.Defaults = nil
		}
		for _, sub := range ref.SubStatements() {
			if err := c.property(n, sub, sc); err != nil {
				c.problem(sc.unit, sub, "refine %s: %v", ref.Argument, err)
			}
		}
	}
	for _, aug := range all(st, "augment") {
		n, err := c.descend(nodes, aug.Argument, sc, m)
		if err != nil {
			c.problem(sc.unit, aug, "augment %s: %v", aug.Argument, err)
			continue
		}
		c.augment(n, aug, sc, m)
	}
	return nodes
}

func (c *compiler) augment(target *Node, st *yang.Statement, sc *scope, m *Module) {
	if !c.enabled(st, sc) {
		return
	}
	added := c.build(st.SubStatements(), inside(st, sc), m, target)
	for _, when := range all(st, "when") {
		for _, n := range added {
			cond := constraint(when, sc)
			cond.OfParent = true
			n.When = append(n.When, cond)
		}
	}
	target.children = append(target.children, added...)
}

// descend follows a schema node identifier (RFC 7950 section 6.5). Within a
// uses all steps are in the module that uses the grouping, whatever prefix
// they carry there; elsewhere the prefixes decide.
func (c *compiler) descend(nodes []*Node, path string, sc *scope, local *Module) (*Node, error) {
	var at *Node
	for _, step := range strings.Split(strings.Trim(path, "/"), "/") {
		prefix, name := splitName(strings.TrimSpace(step))
		m, err := sc.module(prefix)
		if err != nil {
			return nil, err
		}
		if local != nil && m == sc.unit.module {
			m = local
		}
		at = nil
		for _, n := range nodes {
			if n.Name == name && n.Module.Name == m.Name {
				at = n
				break
			}
		}
		if at == nil {
			return nil, fmt.Errorf("%s is not there", step)
		}
		nodes = at.children
	}
	return at, nil
}

// augments applies the modules' augment statements until none of those left
// finds its target: an augment may add to what another one added.
func (c *compiler) augments() {
	type pending struct {
		st  *yang.Statement
		sc  *scope
		err error
	}
	var todo []pending
	for _, u := range c.inOrder() {
		if !u.module.Implemented {
			continue
		}
		for _, part := range c.tops[u.module].parts {
			for _, st := range all(part.stmt, "augment") {
				todo = append(todo, pending{st: st, sc: &scope{unit: part, outer: c.tops[u.module]}})
			}
		}
	}
	for {
		var left []pending
		for _, p := range todo {
			target, err := c.descend(c.roots, p.st.Argument, p.sc, nil)
			if err != nil {
				p.err = err
				left = append(left, p)
				continue
			}
			c.augment(target, p.st, p.sc, p.sc.unit.module)
		}
		if len(left) == len(todo) {
			break
		}
		todo = left
	}
	for _, p := range todo {
		if c.targetsData(p.st.Argument, p.sc) {
			c.problem(p.sc.unit, p.st, "augment %s is left out: %v", p.st.Argument, p.err)
		}
	}
}

// targetsData is false for augments of an rpc, an action or a notification,
// which are no part of a configuration.
func (c *compiler) targetsData(path string, sc *scope) bool {
	var at *Node
	nodes := c.roots
	for _, step := range strings.Split(strings.Trim(path, "/"), "/") {
		prefix, name := splitName(strings.TrimSpace(step))
		m, err := sc.module(prefix)
		if err != nil {
			return true
		}
		if c.operations[operation{at, m, name}] {
			return false
		}
		i := slices.IndexFunc(nodes, func(n *Node) bool { return n.Name == name && n.Module.Name == m.Name })
		if i < 0 {
			return true
		}
		at = nodes[i]
		nodes = at.children
	}
	return true
}

// operation is an rpc, action or notification; its parent is nil at the top.
type operation struct {
	parent *Node
	module *Module
	name   string
}

// deviations applies RFC 7950 section 7.20.3.
func (c *compiler) deviations() {
	for _, u := range c.inOrder() {
		for _, part := range c.tops[u.module].parts {
			sc := &scope{unit: part, outer: c.tops[u.module]}
			for _, st := range all(part.stmt, "deviation") {
				n, err := c.descend(c.roots, st.Argument, sc, nil)
				if err != nil {
					c.problem(part, st, "deviation of %s is left out: %v", st.Argument, err)
					continue
				}
				for _, dev := range all(st, "deviate") {
					c.deviate(n, dev, sc)
				}
			}
		}
	}
}

func (c *compiler) deviate(n *Node, dev *yang.Statement, sc *scope) {
	if dev.Argument == "not-supported" {
		if n.Parent == nil {
			c.roots = without(c.roots, n)
		} else {
			n.Parent.children = without(n.Parent.children, n)
		}
		return
	}
	if dev.Argument == "replace" && first(dev, "default") != nil {
		n.Defaults = nil
	}
	for _, sub := range dev.SubStatements() {
		if dev.Argument == "delete" {
			remove(n, sub)
			continue
		}
		if err := c.property(n, sub, sc); err != nil {
			c.problem(sc.unit, sub, "deviation: %v", err)
		}
	}
}

func without(list []*Node, n *Node) []*Node {
	var out []*Node
	for _, m := range list {
		if m != n {
			out = append(out, m)
		}
	}
	return out
}

// remove takes back a property that a deviation deletes.
func remove(n *Node, st *yang.Statement) {
	switch st.Keyword {
	case "units":
		n.Units = ""
	case "default":
		var keep []string
		for _, d := range n.Defaults {
			if d != st.Argument {
				keep = append(keep, d)
			}
		}
		n.Defaults = keep
	case "must":
		var keep []Constraint
		for _, m := range n.Must {
			if m.XPath != st.Argument {
				keep = append(keep, m)
			}
		}
		n.Must = keep
	case "unique":
		var keep [][]string
		for _, u := range n.Unique {
			if strings.Join(u, " ") != strings.Join(strings.Fields(st.Argument), " ") {
				keep = append(keep, u)
			}
		}
		n.Unique = keep
	}
}

// inherit passes config false down and fixes parents after augments.
func (c *compiler) inherit(nodes []*Node, config bool) {
	for _, n := range nodes {
		n.Config = config
		if explicit, ok := c.config[n]; ok {
			n.Config = config && explicit
		}
		c.inherit(n.children, n.Config)
	}
}
