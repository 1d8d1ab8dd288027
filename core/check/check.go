// Package check finds what is wrong with a configuration before a device is
// asked, and what is legal but seldom meant.
//
// [Tree] checks what RFC 7950 section 8.1 demands of valid data: values, keys,
// mandatory nodes, numbers of entries, unique, references, must and when. What
// it cannot decide is left to the device's own validate, and the result says
// so. [Lint] says what practitioners wish to be told.
package check

import (
	"fmt"
	"slices"
	"strings"

	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/core/xpath"
)

// Severity of a finding: an Error is what a device must refuse, a Warning is
// most likely a mistake, a Hint may well be meant.
type Severity string

// The severities.
const (
	Error   Severity = "error"
	Warning Severity = "warning"
	Hint    Severity = "hint"
)

// Finding is something wrong at a path.
type Finding struct {
	Severity Severity `json:"severity"`
	Path     string   `json:"path"`
	Message  string   `json:"message"`
	Fix      *Fix     `json:"fix,omitempty"` // the edit that would mend it, where there is one
}

// Fix is an edit that mends a finding. Edit is "delete" or "put".
type Fix struct {
	Edit  string `json:"edit" jsonschema:"enum=put,enum=delete,enum=move"`
	Path  string `json:"path"`
	Value string `json:"value,omitempty"`
}

// Result is what a check came to.
type Result struct {
	Findings  []Finding
	Unchecked int      // conditions and references left to the device
	Reasons   []string // why, each once
}

// Tree checks a configuration against its schema.
func Tree(s *schema.Schema, root *tree.Node) Result {
	c := checker{data: newData(s, root)}
	c.children(c.data.root)
	return c.res
}

// Change checks what a change makes of a base: Tree and Lint of the result,
// told as what this change does. What it must not take away can be put back.
func Change(s *schema.Schema, base, result *tree.Node) Result {
	c := checker{data: newData(s, result), base: base}
	c.children(c.data.root)
	c.res.Findings = append(c.res.Findings, Lint(s, base, result)...)
	return c.res
}

// mostFindings bounds what is listed: behind it nobody reads.
const mostFindings = 1000

type checker struct {
	data *data
	base *tree.Node // what a change started from, if it is known
	res  Result
}

func (c *checker) find(at *cursor, fix *Fix, format string, args ...any) {
	c.findAt(at.path(), fix, format, args...)
}

func (c *checker) findAt(p tree.Path, fix *Fix, format string, args ...any) {
	if len(c.res.Findings) < mostFindings {
		c.res.Findings = append(c.res.Findings, Finding{Error, p.String(), fmt.Sprintf(format, args...), fix})
	}
}

func (c *checker) undecided(err error) {
	c.res.Unchecked++
	if why := reasonOf(err); len(c.res.Reasons) < 20 && !slices.Contains(c.res.Reasons, why) {
		c.res.Reasons = append(c.res.Reasons, why)
	}
}

func remove(at *cursor) *Fix { return &Fix{Edit: "delete", Path: at.path().String()} }

func (c *checker) children(at *cursor) {
	for _, s := range at.known() {
		if !s.Config {
			continue
		}
		var have []*tree.Node
		if at.node != nil {
			have = at.node.All(s)
		}
		if len(have) == 0 {
			c.absent(at, s)
			continue
		}
		here := append(at.path(), tree.Step{Node: s})
		if uint64(len(have)) < s.Min {
			c.findAt(here, nil, "has %d entries, at least %d are needed", len(have), s.Min)
		}
		if s.Max > 0 && uint64(len(have)) > s.Max {
			c.findAt(here, nil, "has %d entries, at most %d are allowed", len(have), s.Max)
		}
		entries := at.all(s)
		for _, names := range s.Unique {
			c.unique(s, names, entries)
		}
		for _, child := range entries {
			c.node(child)
		}
	}
	c.choices(at)
}

// absent checks what must be there. Nothing is demanded of a case that is not
// the one in use, nor under a condition that does not hold.
func (c *checker) absent(at *cursor, s *schema.Node) {
	container := s.Kind == schema.Container && !s.Presence
	if s.IsLeaf() && len(s.Defaults) > 0 && len(s.Must) > 0 {
		for _, d := range at.implied(s) { // RFC 7950 section 7.5.3: for every node of the accessible tree
			c.musts(d)
		}
	}
	if !container && !s.Mandatory && s.Min == 0 || container && !demands(s) {
		return
	}
	parent := at.node
	if parent == nil {
		parent = tree.Empty
	}
	for p := s.Parent; p != nil && p.Kind == schema.Case; p = p.Parent.Parent {
		if !parent.HasBelow(p) && !(parent.CaseInUse(s) && container) {
			return
		}
	}
	gone := &cursor{d: c.data, parent: at, schema: s}
	if failed, err := gone.unmet(); failed != nil || err != nil {
		if err != nil {
			c.undecided(err)
		}
		return
	}
	switch {
	case container:
		c.musts(gone)
		c.children(gone)
	case s.Mandatory:
		c.find(gone, c.putBack(gone), "is mandatory and not set")
	default:
		c.find(gone, nil, "has no entries, at least %d are needed", s.Min)
	}
}

// putBack is the edit that restores a leaf the base had.
func (c *checker) putBack(gone *cursor) *Fix {
	if c.base == nil || !gone.schema.IsLeaf() {
		return nil
	}
	p := gone.path()
	if was := c.base.At(p); was != nil {
		return &Fix{Edit: "put", Path: p.String(), Value: was.Value()}
	}
	return nil
}

// demands reports whether a container that is not there has conditions or
// demands below it.
func demands(s *schema.Node) bool {
	if len(s.Must) > 0 {
		return true
	}
	for _, d := range s.Data() {
		switch {
		case !d.Config:
		case d.Mandatory, d.Min > 0, len(d.Must) > 0 && len(d.Defaults) > 0:
			return true
		case d.Kind == schema.Container && !d.Presence && demands(d):
			return true
		}
	}
	return slices.ContainsFunc(s.Children(), mandatoryChoice)
}

func mandatoryChoice(s *schema.Node) bool {
	return s.Kind == schema.Choice && s.Config && s.Mandatory
}

// choices checks that something of each mandatory choice is there.
func (c *checker) choices(at *cursor) {
	list := c.data.schema.Choices()
	if at.schema != nil {
		list = at.schema.Children()
	}
	for _, choice := range list {
		c.choice(at, choice)
	}
}

func (c *checker) choice(at *cursor, choice *schema.Node) {
	if choice.Kind != schema.Choice {
		return
	}
	node := at.node
	if node == nil {
		node = tree.Empty
	}
	for _, cs := range choice.Children() {
		if node.HasBelow(cs) {
			for _, inner := range cs.Children() {
				c.choice(at, inner)
			}
			return
		}
	}
	if !mandatoryChoice(choice) {
		return
	}
	for i := range choice.When {
		if ok, err := c.data.holds(&choice.When[i], choice.Module, at); !ok || err != nil {
			return
		}
	}
	var names []string
	for _, cs := range choice.Children() {
		names = append(names, cs.Name)
	}
	c.find(at, nil, "one of %s must be set (choice %s)", strings.Join(names, ", "), choice.Name)
}

func (c *checker) node(at *cursor) {
	if conditional(at.schema) {
		failed, err := at.unmet()
		switch {
		case err != nil:
			c.undecided(err)
		case failed != nil:
			c.find(at, remove(at), "is set, but only allowed when %s", strings.Join(strings.Fields(failed.XPath), " "))
			return
		}
	}
	c.musts(at)
	switch {
	case at.node.Opaque() != nil:
	case at.schema.IsLeaf():
		c.value(at, at.schema.Type, at.Text())
	default:
		c.children(at)
	}
}

func (c *checker) musts(at *cursor) {
	for i := range at.schema.Must {
		m := &at.schema.Must[i]
		ok, err := c.data.holds(m, at.schema.Module, at)
		switch {
		case err != nil:
			c.undecided(err)
		case !ok && m.Message != "":
			c.find(at, nil, "%s (must %s)", m.Message, strings.Join(strings.Fields(m.XPath), " "))
		case !ok:
			c.find(at, nil, "the condition %s does not hold", strings.Join(strings.Fields(m.XPath), " "))
		}
	}
}

// mostValid bounds the values remembered as valid, of one type.
const mostValid = 4096

// value checks a value against its type, and that what it refers to is there.
func (c *checker) value(at *cursor, t *schema.Type, value string) {
	if !t.Anything() {
		known := c.data.valid[t]
		if !known[value] {
			if _, err := c.data.schema.Canonical(t, value, c.data.schema.NameResolver(at.schema.Module)); err != nil {
				c.find(at, nil, "%s", err)
				return
			}
			if known == nil {
				known = map[string]bool{}
				c.data.valid[t] = known
			}
			if len(known) < mostValid {
				known[value] = true
			}
		}
	}
	c.required(at, t, value)
}

func (c *checker) required(at *cursor, t *schema.Type, value string) {
	ok, undecided := c.present(at, t, value)
	switch {
	case undecided != nil:
		c.undecided(undecided)
	case !ok:
		what := aim(t)
		if t.Base == schema.Union {
			what = "what it may refer to"
		}
		var fix *Fix
		if at.schema.KeyIndex() < 0 && !at.schema.Mandatory {
			fix = remove(at)
		}
		if t.Base == schema.InstanceIdentifier {
			c.find(at, fix, "refers to %s, which is not there", value)
			return
		}
		c.find(at, fix, "refers to %q, which is not among %s", value, what)
	}
}

// present reports whether what a value of a type refers to is there. A union
// is satisfied by any member that takes the value.
func (c *checker) present(at *cursor, t *schema.Type, value string) (ok bool, err error) {
	switch t.Base {
	case schema.LeafRef:
		if t.NoRequire || t.Target != nil && !t.Target.Config {
			return true, nil
		}
		return c.data.refers(t, at, value)
	case schema.InstanceIdentifier:
		if t.NoRequire {
			return true, nil
		}
		n, err := c.data.instance(value)
		return n != nil, err
	case schema.Union:
		for _, m := range t.Members {
			if v, err := c.data.schema.Canonical(
				m, value, c.data.schema.NameResolver(at.schema.Module),
			); err != nil || v != value {
				continue
			}
			if ok, err := c.present(at, m, value); ok || err != nil {
				return ok, err
			}
		}
		return !refersSomewhere(t), nil
	}
	return true, nil
}

func refersSomewhere(t *schema.Type) bool {
	return slices.ContainsFunc(t.Members, func(m *schema.Type) bool {
		return m.Base == schema.LeafRef || m.Base == schema.InstanceIdentifier || refersSomewhere(m)
	})
}

// unique checks a unique statement (RFC 7950 section 7.8.3): entries that have
// all its leaves differ in one of them.
func (c *checker) unique(s *schema.Node, names []string, entries []*cursor) {
	var leaves [][]*schema.Node
	for _, name := range names {
		var way []*schema.Node
		at := s
		for _, step := range strings.Split(name, "/") {
			if _, local, ok := strings.Cut(step, ":"); ok {
				step = local
			}
			fit := at.Named(strings.TrimSpace(step))
			if len(fit) == 0 {
				return
			}
			at = fit[0]
			way = append(way, at)
		}
		leaves = append(leaves, way)
	}
	seen := map[string]*cursor{}
	for _, e := range entries {
		var key strings.Builder
		whole := true
		for _, way := range leaves {
			at := []*cursor{e}
			for _, s := range way {
				if len(at) == 0 {
					break
				}
				at = at[0].all(s)
			}
			if len(at) == 0 {
				whole = false
				break
			}
			key.WriteString(at[0].Text() + "\x00")
		}
		if !whole {
			continue
		}
		if other := seen[key.String()]; other != nil {
			c.find(e, nil, "has the same %s as %s", strings.Join(names, " and "), other.path())
			continue
		}
		seen[key.String()] = e
	}
}

// Accessible gives a configuration as XPath sees it (RFC 7950 section 6.4.1):
// its root, with defaults in use and implied containers below.
func Accessible(s *schema.Schema, root *tree.Node) xpath.Node { return newData(s, root).root }
