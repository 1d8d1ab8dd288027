package xpath

import (
	"math"
	"slices"

	"oakenlatch/core/schema"
)

type evaluation struct {
	names   Names
	current Node
	budget  *Budget
}

type context struct {
	node           Node
	position, size int
}

func (ev *evaluation) work(n int) {
	if ev.budget.Left -= n + 1; ev.budget.Left < 0 {
		undecided("the conditions take more work than is spent on them")
	}
}

func (ev *evaluation) eval(e expr, c context) value {
	ev.work(0)
	switch x := e.(type) {
	case literal:
		return text(string(x))
	case numeral:
		return number(float64(x))
	case negated:
		return number(-ev.eval(x.of, c).number())
	case call:
		return functions[x.name].run(ev, c, x.args)
	case binary:
		return ev.binary(x, c)
	case path:
		start := []Node{c.node}
		if x.absolute {
			start[0] = rootOf(c.node)
		}
		return nodes(ev.steps(start, x.steps))
	case filtered:
		v := ev.eval(x.of, c)
		if v.kind != isNodes {
			undecided("a predicate or step follows what is no set of nodes")
		}
		list := v.nodes
		for _, p := range x.predicates {
			list = ev.filter(list, p)
		}
		return nodes(ev.steps(list, x.steps))
	}
	return value{}
}

func rootOf(n Node) Node {
	for n.Parent() != nil {
		n = n.Parent()
	}
	return n
}

func (ev *evaluation) binary(b binary, c context) value {
	switch b.op {
	case "or":
		return boolean(ev.eval(b.left, c).boolean() || ev.eval(b.right, c).boolean())
	case "and":
		return boolean(ev.eval(b.left, c).boolean() && ev.eval(b.right, c).boolean())
	}
	l, r := ev.eval(b.left, c), ev.eval(b.right, c)
	switch b.op {
	case "|":
		if l.kind != isNodes || r.kind != isNodes {
			undecided("| joins what is no set of nodes")
		}
		return nodes(ordered(append(slices.Clone(l.nodes), r.nodes...)))
	case "+":
		return number(l.number() + r.number())
	case "-":
		return number(l.number() - r.number())
	case "*":
		return number(l.number() * r.number())
	case "div":
		return number(l.number() / r.number())
	case "mod":
		return number(math.Mod(l.number(), r.number()))
	}
	return boolean(ev.compare(b.op, l, r))
}

// compare carries out a comparison (XPath 1.0 section 3.4): a set of nodes
// compares as any of its nodes does, but with a boolean as a whole.
func (ev *evaluation) compare(op string, l, r value) bool {
	switch {
	case l.kind == isNodes && r.kind == isBool:
		return atoms(op, boolean(l.boolean()), r)
	case l.kind == isBool && r.kind == isNodes:
		return atoms(op, l, boolean(r.boolean()))
	case l.kind == isNodes && r.kind == isNodes:
		ev.work(len(l.nodes) + len(r.nodes))
		if op == "=" && len(l.nodes) > 8 && len(r.nodes) > 1 {
			seen := make(map[string]bool, len(l.nodes))
			for _, n := range l.nodes {
				seen[textOf(n)] = true
			}
			return slices.ContainsFunc(r.nodes, func(n Node) bool { return seen[textOf(n)] })
		}
		for _, a := range l.nodes {
			ev.work(len(r.nodes))
			for _, b := range r.nodes {
				if atoms(op, text(textOf(a)), text(textOf(b))) {
					return true
				}
			}
		}
		return false
	case l.kind == isNodes:
		return slices.ContainsFunc(
			l.nodes, func(n Node) bool { ev.work(1); return atoms(op, text(textOf(n)), ev.typed(r, n)) },
		)
	case r.kind == isNodes:
		return slices.ContainsFunc(
			r.nodes, func(n Node) bool { ev.work(1); return atoms(op, ev.typed(l, n), text(textOf(n))) },
		)
	}
	return atoms(op, l, r)
}

// typed gives a string that a leaf is compared with in the canonical form of
// the leaf's type: names in it carry the prefixes of the expression's module
// (RFC 7950 section 6.4.1), the leaf's value the module's name.
func (ev *evaluation) typed(v value, n Node) value {
	s := n.Schema()
	if v.kind != isText || s == nil || !s.IsLeaf() {
		return v
	}
	return text(ev.canonical(v.str, s.Type, n.Text()))
}

func (ev *evaluation) canonical(word string, t *schema.Type, like string) string {
	t = ev.names.Schema.Concrete(t, like)
	switch t.Base {
	case schema.String, schema.Boolean, schema.Enumeration, schema.Empty:
		if t.Free() || t.Base != schema.String {
			return word
		}
	}
	canon, err := ev.names.Schema.Canonical(t, word, func(prefix string) *schema.Module {
		if prefix == "" {
			return ev.names.Local
		}
		if m := ev.names.Prefixes[prefix]; m != nil {
			return m
		}
		return ev.names.Schema.ModuleByName(prefix)
	})
	if err != nil {
		return word
	}
	return canon
}

// atoms compares two values of which neither is a set of nodes.
func atoms(op string, l, r value) bool {
	equality := op == "=" || op == "!="
	switch {
	case equality && (l.kind == isBool || r.kind == isBool):
		return (l.boolean() == r.boolean()) == (op == "=")
	case equality && l.kind == isText && r.kind == isText:
		return (l.str == r.str) == (op == "=")
	}
	a, b := l.number(), r.number()
	switch op {
	case "=":
		return a == b
	case "!=":
		return a != b
	case "<":
		return a < b
	case "<=":
		return a <= b
	case ">":
		return a > b
	}
	return a >= b
}

// steps follows a path from each of the nodes.
func (ev *evaluation) steps(from []Node, steps []step) []Node {
	list, nested := from, len(from) > 1
	for i := range steps {
		s := &steps[i]
		var next []Node
		for _, n := range list {
			next = append(next, ev.step(n, s)...)
		}
		ev.work(len(next))
		// From one node, or down to children from nodes none of which is above
		// another, the result is in order and without repetition.
		if len(list) > 1 && (nested || s.axis != "child" && s.axis != "self") {
			next = ordered(next)
		}
		nested = nested || s.axis != "child" && s.axis != "self" && s.axis != "parent"
		list = next
	}
	return list
}

func (ev *evaluation) step(n Node, s *step) []Node {
	var list []Node
	found := false
	if s.axis == "child" && s.name != "" && len(s.predicates) > 0 {
		list, found = ev.indexed(n, s)
	}
	if !found {
		list = ev.axis(n, s)
	}
	for _, p := range s.predicates {
		list = ev.filter(list, p)
	}
	switch s.axis {
	case "ancestor", "ancestor-or-self", "preceding", "preceding-sibling":
		list = slices.Clone(list)
		slices.Reverse(list) // positions count backwards on these axes
	}
	return list
}

// indexed asks for the children that the first predicate leaves, where it is
// [leaf = E] with an E that is the same for all of them.
func (ev *evaluation) indexed(n Node, s *step) ([]Node, bool) {
	leaf, want, ok := ev.lookup(n, s)
	if !ok {
		return nil, false
	}
	v := ev.eval(want, context{node: n, position: 1, size: 1})
	var words []string
	switch v.kind {
	case isText:
		words = []string{ev.canonical(v.str, leaf.Type, v.str)}
	case isNodes:
		for _, m := range v.nodes {
			words = append(words, textOf(m))
		}
	default:
		return nil, false
	}
	var out []Node
	for i, w := range words {
		found, ok := n.With(s.module, s.name, leaf, w)
		if !ok {
			return nil, false
		}
		if !slices.Contains(words[:i], w) {
			out = append(out, found...)
		}
	}
	if len(words) > 1 {
		out = ordered(out)
	}
	return out, true
}

// lookup recognises the predicate of indexed: also where it is the first of
// several joined by and.
func (ev *evaluation) lookup(n Node, s *step) (leaf *schema.Node, want expr, ok bool) {
	first := s.predicates[0]
	for {
		b, isBinary := first.(binary)
		if !isBinary {
			return nil, nil, false
		}
		if b.op == "and" {
			first = b.left
			continue
		}
		if b.op != "=" {
			return nil, nil, false
		}
		for _, sides := range [][2]expr{{b.left, b.right}, {b.right, b.left}} {
			p, isPath := sides[0].(path)
			if !isPath || p.absolute || len(p.steps) != 1 || p.steps[0].axis != "child" || p.steps[0].name == "" ||
				len(p.steps[0].predicates) > 0 || !constant(sides[1]) {
				continue
			}
			if list := ev.child(n, s); list != nil {
				leaf = list.Child(p.steps[0].module, p.steps[0].name)
			}
			if leaf != nil && leaf.Kind == schema.Leaf {
				return leaf, sides[1], true
			}
		}
		return nil, nil, false
	}
}

// child is the schema node of a step down to children.
func (ev *evaluation) child(n Node, s *step) *schema.Node {
	if n.Schema() == nil {
		return ev.names.Schema.Root(s.module, s.name)
	}
	return n.Schema().Child(s.module, s.name)
}

// constant reports whether an expression gives the same from every context
// node, within one evaluation.
func constant(e expr) bool {
	switch x := e.(type) {
	case literal, numeral:
		return true
	case call:
		if len(x.args) == 0 {
			return x.name == "current" || x.name == "true" || x.name == "false"
		}
		return x.name != "lang" && !slices.ContainsFunc(x.args, func(a expr) bool { return !constant(a) })
	case filtered:
		return constant(x.of)
	case path:
		return x.absolute
	case binary:
		return constant(x.left) && constant(x.right)
	case negated:
		return constant(x.of)
	}
	return false
}

func (ev *evaluation) filter(list []Node, predicate expr) []Node {
	var out []Node
	for i, n := range list {
		v := ev.eval(predicate, context{node: n, position: i + 1, size: len(list)})
		if v.kind == isNumber && v.num == float64(i+1) || v.kind != isNumber && v.boolean() {
			out = append(out, n)
		}
	}
	return out
}

func (s *step) matches(n Node) bool {
	sc := n.Schema()
	switch {
	case s.none:
		return false
	case s.any:
		return true
	case sc == nil:
		return false
	case s.text:
		return sc.IsLeaf() && n.Text() != ""
	}
	return (s.name == "" || sc.Name == s.name) && (s.module == nil || sc.Module.Name == s.module.Name)
}

// axis gives the nodes of a step without its predicates, in the order in which
// its positions count.
func (ev *evaluation) axis(n Node, s *step) []Node {
	var out []Node
	take := func(list ...Node) {
		for _, m := range list {
			if s.matches(m) {
				out = append(out, m)
			}
		}
	}
	switch s.axis {
	case "child":
		if s.name != "" {
			return n.Named(s.module, s.name)
		}
		if s.text { // the text of a leaf is the leaf itself here
			take(n)
			return out
		}
		take(n.Children()...)
	case "self":
		take(n)
	case "parent":
		if p := n.Parent(); p != nil {
			take(p)
		}
	case "ancestor", "ancestor-or-self":
		if s.axis == "ancestor-or-self" {
			take(n)
		}
		for p := n.Parent(); p != nil; p = p.Parent() {
			take(p)
		}
	case "descendant", "descendant-or-self":
		if s.axis == "descendant-or-self" {
			take(n)
		}
		ev.below(n, take)
	case "following-sibling", "preceding-sibling":
		take(ev.siblings(n, s.axis == "following-sibling")...)
	case "following", "preceding":
		for a := n; a != nil; a = a.Parent() {
			for _, sib := range ev.siblings(a, s.axis == "following") {
				if s.axis == "following" {
					take(sib)
					ev.below(sib, take)
					continue
				}
				var back []Node
				ev.below(sib, func(l ...Node) { back = append(back, l...) })
				slices.Reverse(back)
				take(back...)
				take(sib)
			}
		}
	}
	return out
}

func (ev *evaluation) below(n Node, take func(...Node)) {
	list := n.Children()
	ev.work(len(list))
	for _, c := range list {
		take(c)
		ev.below(c, take)
	}
}

// siblings gives the siblings behind a node, or before it with the nearest first.
func (ev *evaluation) siblings(n Node, behind bool) []Node {
	p := n.Parent()
	if p == nil {
		return nil
	}
	list := p.Children()
	ev.work(len(list))
	i := slices.IndexFunc(list, n.Same)
	if i < 0 {
		return nil
	}
	if behind {
		return list[i+1:]
	}
	out := slices.Clone(list[:i])
	slices.Reverse(out)
	return out
}

// ordered puts nodes into document order, each once.
func ordered(list []Node) []Node {
	if len(list) < 2 {
		return list
	}
	type placed struct {
		node Node
		at   []int
	}
	all := make([]placed, len(list))
	for i, n := range list {
		var at []int
		for m := n; m.Parent() != nil; m = m.Parent() {
			order, index := m.Place()
			at = append(at, index, order)
		}
		slices.Reverse(at)
		all[i] = placed{n, at}
	}
	slices.SortStableFunc(all, func(a, b placed) int { return slices.Compare(a.at, b.at) })
	out := list[:0:0]
	for i, p := range all {
		if i == 0 || slices.Compare(p.at, all[i-1].at) != 0 {
			out = append(out, p.node)
		}
	}
	return out
}
