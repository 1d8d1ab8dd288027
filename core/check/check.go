// Package check finds what is wrong with a configuration before a device is
// asked: mandatory nodes, numbers of entries, references to what is not there.
//
// What it cannot decide (conditions in XPath, what only the device knows) is
// left to the device's own validate, and Unchecked says so.
package check

import (
	"fmt"

	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// Severity of a finding: an Error is what a device must refuse.
type Severity string

// The severities.
const (
	Error   Severity = "error"
	Warning Severity = "warning"
)

// Finding is something wrong at a path.
type Finding struct {
	Severity Severity `json:"severity"`
	Path     string   `json:"path"`
	Message  string   `json:"message"`
}

// Result is what a check came to.
type Result struct {
	Findings  []Finding
	Unchecked int // conditions (must, when) left to the device
}

// Tree checks a configuration against its schema.
func Tree(s *schema.Schema, root *tree.Node) Result {
	c := checker{root: root, targets: map[*schema.Node]map[string]bool{}}
	c.children(root, s.Roots(), nil)
	return c.res
}

type checker struct {
	root    *tree.Node
	targets map[*schema.Node]map[string]bool
	res     Result
}

func (c *checker) find(at tree.Path, format string, args ...any) {
	c.res.Findings = append(c.res.Findings, Finding{Error, at.String(), fmt.Sprintf(format, args...)})
}

func (c *checker) children(n *tree.Node, known []*schema.Node, at tree.Path) {
	for _, s := range known {
		if !s.Config {
			continue
		}
		have := n.All(s)
		here := append(at[:len(at):len(at)], tree.Step{Node: s})
		if len(have) == 0 {
			c.absent(n, s, here)
			continue
		}
		if uint64(len(have)) < s.Min {
			c.find(here, "has %d entries, at least %d are needed", len(have), s.Min)
		}
		if s.Max > 0 && uint64(len(have)) > s.Max {
			c.find(here, "has %d entries, at most %d are allowed", len(have), s.Max)
		}
		for _, child := range have {
			c.node(child, at.Down(child))
		}
	}
}

// absent checks what must be there. Nothing is demanded of a choice's case
// that is not the one in use, nor under a condition only the device evaluates.
func (c *checker) absent(parent *tree.Node, s *schema.Node, at tree.Path) {
	if s.Kind == schema.Container && !s.Presence {
		c.children(tree.Empty, s.Data(), at)
		return
	}
	if !s.Mandatory && s.Min == 0 {
		return
	}
	for p := s; p != nil && (p == s || p.Kind == schema.Case || p.Kind == schema.Choice); p = p.Parent {
		if len(p.When) > 0 || p.Kind == schema.Case && !caseUsed(parent, p) {
			return
		}
	}
	if s.Mandatory {
		c.find(at, "is mandatory and not set")
	} else {
		c.find(at, "has no entries, at least %d are needed", s.Min)
	}
}

func caseUsed(parent *tree.Node, cs *schema.Node) bool {
	for _, child := range parent.Children() {
		if child.Schema() == nil {
			continue
		}
		for p := child.Schema().Parent; p != nil && (p.Kind == schema.Case || p.Kind == schema.Choice); p = p.Parent {
			if p == cs {
				return true
			}
		}
	}
	return false
}

func (c *checker) node(n *tree.Node, at tree.Path) {
	s := n.Schema()
	c.res.Unchecked += len(s.Must) + len(s.When)
	if s.IsLeaf() {
		c.reference(s.Type, n.Value(), at)
		return
	}
	if n.Opaque() == nil {
		c.children(n, s.Data(), at)
	}
}

// reference checks that a leafref points at a value that is there.
func (c *checker) reference(t *schema.Type, value string, at tree.Path) {
	if t.Base != schema.LeafRef || t.NoRequire || t.Target == nil || !t.Target.Config {
		return
	}
	set, ok := c.targets[t.Target]
	if !ok {
		set = map[string]bool{}
		collect(c.root, chain(t.Target), set)
		c.targets[t.Target] = set
	}
	if !set[value] {
		c.find(at, "refers to %q, which is not among %s", value, t.Target.Path())
	}
}

// chain lists the data nodes from the top down to s.
func chain(s *schema.Node) []*schema.Node {
	var out []*schema.Node
	for ; s != nil; s = s.DataParent() {
		out = append([]*schema.Node{s}, out...)
	}
	return out
}

func collect(n *tree.Node, way []*schema.Node, set map[string]bool) {
	for _, c := range n.All(way[0]) {
		if len(way) == 1 {
			set[c.Value()] = true
		} else {
			collect(c, way[1:], set)
		}
	}
}
