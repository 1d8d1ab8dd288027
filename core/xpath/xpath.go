// Package xpath evaluates XPath 1.0 expressions with the functions that YANG
// adds (RFC 7950 section 10) over nodes behind a small interface.
//
// An expression is parsed once, with the prefixes of the module it stands in,
// and evaluated from any number of context nodes. What the evaluator cannot
// decide (a function or module it does not know, work beyond a bound) is an
// error, never a guess.
//
// Comparing with an index: where a step has a predicate like [name = E] and E
// does not depend on the node the predicate is asked of, the Node is asked for
// the children with that value at once instead of one by one.
package xpath

import (
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"

	"oakenlatch/core/schema"
)

// Node is a node of the tree that expressions are evaluated over. Nodes are
// compared by Same.
type Node interface {
	// Schema is the node's schema node; nil for the root.
	Schema() *schema.Node
	// Parent is nil for the root.
	Parent() Node
	// Children gives all children in document order.
	Children() []Node
	// Named gives the children of one name in document order; a nil module
	// stands for any.
	Named(m *schema.Module, name string) []Node
	// With gives the children of one name of which a child leaf has that value.
	// It is false where asking one by one is as good.
	With(m *schema.Module, name string, leaf *schema.Node, value string) ([]Node, bool)
	// Text is the canonical value of a leaf or leaf-list, "" for all others.
	Text() string
	// Deref gives the nodes that a leafref or instance-identifier refers to.
	Deref() ([]Node, error)
	// Same reports whether two handles are of one node.
	Same(Node) bool
	// Place is where the node stands among its parent's children: the schema's
	// order first, then the place among the nodes of one schema node.
	Place() (order, index int)
}

// ErrUndecided is wrapped by errors for expressions that cannot be decided
// here, as opposed to those that are no XPath at all.
var ErrUndecided = errors.New("cannot be decided here")

// Names is what names in an expression mean.
type Names struct {
	Schema   *schema.Schema
	Prefixes map[string]*schema.Module // of the module the expression stands in
	Local    *schema.Module            // of names without a prefix
}

// Expr is a parsed expression. It does not change and may be shared.
type Expr struct {
	text  string
	names Names
	root  expr
}

func (e *Expr) String() string { return e.text }

// Budget bounds the work of evaluations together, in visits of a node.
type Budget struct{ Left int }

// Bool evaluates an expression from a context node, as the argument of a must
// or when statement.
func (e *Expr) Bool(at Node, b *Budget) (bool, error) {
	v, err := e.eval(at, b)
	if err != nil {
		return false, err
	}
	return v.boolean(), nil
}

// Nodes evaluates an expression that gives a set of nodes.
func (e *Expr) Nodes(at Node, b *Budget) ([]Node, error) {
	v, err := e.eval(at, b)
	if err != nil {
		return nil, err
	}
	if v.kind != isNodes {
		return nil, fmt.Errorf("%s gives no nodes", e.text)
	}
	return v.nodes, nil
}

// Text evaluates an expression as a string.
func (e *Expr) Text(at Node, b *Budget) (string, error) {
	v, err := e.eval(at, b)
	if err != nil {
		return "", err
	}
	return v.text(), nil
}

func (e *Expr) eval(at Node, b *Budget) (v value, err error) {
	ev := &evaluation{names: e.names, current: at, budget: b}
	defer func() {
		if r := recover(); r != nil {
			f, ok := r.(failure)
			if !ok {
				panic(r)
			}
			err = f.err
		}
	}()
	return ev.eval(e.root, context{node: at, position: 1, size: 1}), nil
}

// failure carries an error up through an evaluation.
type failure struct{ err error }

func undecided(format string, args ...any) {
	panic(failure{fmt.Errorf("%w: %s", ErrUndecided, fmt.Sprintf(format, args...))})
}

type kind uint8

const (
	isNodes kind = iota
	isNumber
	isText
	isBool
)

// value is one of the four types of XPath (XPath 1.0 section 1).
type value struct {
	kind  kind
	nodes []Node // in document order
	num   float64
	str   string
	yes   bool
}

func number(f float64) value { return value{kind: isNumber, num: f} }
func text(s string) value    { return value{kind: isText, str: s} }
func boolean(b bool) value   { return value{kind: isBool, yes: b} }
func nodes(l []Node) value   { return value{kind: isNodes, nodes: l} }

// textOf is a node's string-value: of a node that is no leaf the values of all
// leaves below it (XPath 1.0 section 5.2).
func textOf(n Node) string {
	if s := n.Schema(); s != nil && len(s.Data()) == 0 {
		return n.Text()
	}
	var b strings.Builder
	for _, c := range n.Children() {
		b.WriteString(textOf(c))
	}
	return b.String()
}

func (v value) text() string {
	switch v.kind {
	case isNodes:
		if len(v.nodes) == 0 {
			return ""
		}
		return textOf(v.nodes[0])
	case isNumber:
		return formatNumber(v.num)
	case isBool:
		return strconv.FormatBool(v.yes)
	}
	return v.str
}

// formatNumber writes a number as XPath 1.0 section 4.2 has it.
func formatNumber(f float64) string {
	switch {
	case math.IsNaN(f):
		return "NaN"
	case math.IsInf(f, 1):
		return "Infinity"
	case math.IsInf(f, -1):
		return "-Infinity"
	case f == 0:
		return "0"
	}
	return strconv.FormatFloat(f, 'f', -1, 64)
}

// parseNumber reads a number as XPath 1.0 section 4.4 has it: digits with a
// point, no exponent and no plus sign.
func parseNumber(s string) float64 {
	s = strings.Trim(s, " \t\r\n")
	digits := strings.TrimPrefix(s, "-")
	for i := range len(digits) {
		if c := digits[i]; (c < '0' || c > '9') && c != '.' {
			return math.NaN()
		}
	}
	f, err := strconv.ParseFloat(s, 64)
	if err != nil && !math.IsInf(f, 0) {
		return math.NaN()
	}
	return f
}

func (v value) number() float64 {
	switch v.kind {
	case isNumber:
		return v.num
	case isBool:
		if v.yes {
			return 1
		}
		return 0
	}
	return parseNumber(v.text())
}

func (v value) boolean() bool {
	switch v.kind {
	case isNodes:
		return len(v.nodes) > 0
	case isNumber:
		return v.num != 0 && !math.IsNaN(v.num)
	case isText:
		return v.str != ""
	}
	return v.yes
}
