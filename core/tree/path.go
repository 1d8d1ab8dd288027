package tree

import (
	"fmt"
	"net/url"
	"strings"

	"oakenlatch/core/schema"
)

// Path leads from the root to a node (RFC 8040 section 3.5.3).
type Path []Step

// Step is one node on a path. Keys are the key values of a list entry or the
// value of a leaf-list; nil there means all entries. A step with no schema
// node is opaque content and ends the path.
type Step struct {
	Node   *schema.Node
	Keys   []string
	Opaque string // the element's name, where Node is nil
	Any    bool   // shown as any entry of a list
}

// PathError is a path that leads nowhere, with the nearest names that do.
type PathError struct {
	Path    string
	At      string // the step in question
	Msg     string
	Nearest []string
}

func (e *PathError) Error() string { return fmt.Sprintf("path %s: %s", e.Path, e.Reason()) }

// Reason is the message without the path.
func (e *PathError) Reason() string {
	if len(e.Nearest) == 0 {
		return e.Msg
	}
	return e.Msg + "; there is " + strings.Join(e.Nearest, ", ")
}

// ParsePath reads an api-path. Module names may be left out where only one
// node of that name is there.
func ParsePath(s *schema.Schema, text string) (Path, error) {
	if text == "/" || text == "" {
		return nil, nil
	}
	if !strings.HasPrefix(text, "/") {
		return nil, &PathError{Path: text, Msg: "a path starts with /"}
	}
	var out Path
	var at *schema.Node
	for _, part := range strings.Split(strings.TrimSuffix(text[1:], "/"), "/") {
		step, err := parseStep(s, at, part)
		if err != nil {
			err.Path = text
			return nil, err
		}
		out = append(out, step)
		at = step.Node
	}
	return out, nil
}

func parseStep(s *schema.Schema, at *schema.Node, part string) (Step, *PathError) {
	ident, rest, keyed := strings.Cut(part, "=")
	name, err := url.PathUnescape(ident)
	if err != nil {
		return Step{}, &PathError{At: part, Msg: fmt.Sprintf("%q is not well percent-encoded", part)}
	}
	node, perr := ChildNamed(s, at, name)
	if perr != nil {
		return Step{}, perr
	}
	step := Step{Node: node}
	switch node.Kind {
	case schema.List:
		if keyed {
			step.Keys, perr = parseKeys(s, node, rest)
		}
	case schema.LeafList:
		if keyed {
			v, uerr := url.PathUnescape(rest)
			if uerr != nil {
				return Step{}, &PathError{At: part, Msg: fmt.Sprintf("%q is not well percent-encoded", part)}
			}
			canon, cerr := s.Canonical(node.Type, v, s.NameResolver(node.Module))
			if cerr != nil {
				return Step{}, &PathError{At: part, Msg: fmt.Sprintf("%s: %v", node.Name, cerr)}
			}
			step.Keys = []string{canon}
		}
	default:
		if keyed {
			perr = &PathError{At: part, Msg: fmt.Sprintf("%s is a %s and takes no =key", node.Name, node.Kind)}
		}
	}
	return step, perr
}

func parseKeys(s *schema.Schema, list *schema.Node, text string) ([]string, *PathError) {
	parts := strings.Split(text, ",")
	if len(parts) != len(list.Keys) {
		return nil, &PathError{
			At: text,
			Msg: fmt.Sprintf(
				"an entry of %s is named by %d values (%s), got %d", list.Name, len(list.Keys),
				strings.Join(list.Keys, ","), len(parts),
			),
		}
	}
	keys := make([]string, len(parts))
	for i, p := range parts {
		v, err := url.PathUnescape(p)
		if err != nil {
			return nil, &PathError{At: text, Msg: fmt.Sprintf("%q is not well percent-encoded", p)}
		}
		leaf := list.Child(list.Module, list.Keys[i])
		if keys[i], err = s.Canonical(leaf.Type, v, s.NameResolver(leaf.Module)); err != nil {
			return nil, &PathError{At: text, Msg: fmt.Sprintf("key %s of %s: %v", leaf.Name, list.Name, err)}
		}
	}
	return keys, nil
}

// ChildNamed finds the child that a name as in a path stands for, with or
// without its module's name; at is nil for the top.
func ChildNamed(s *schema.Schema, at *schema.Node, ident string) (*schema.Node, *PathError) {
	module, name, prefixed := strings.Cut(ident, ":")
	if !prefixed {
		name = ident
	}
	siblings, where := s.Roots(), "the top"
	if at != nil {
		siblings, where = at.Data(), at.Name
	}
	var fit, other []*schema.Node
	for _, n := range siblings {
		if n.Name != name {
			continue
		}
		if prefixed && n.Module.Name != module {
			other = append(other, n)
			continue
		}
		fit = append(fit, n)
	}
	if !prefixed && len(fit) > 1 && at != nil {
		// RFC 8040: without a prefix the module of the parent is meant.
		for _, n := range fit {
			if n.Module == at.Module {
				return n, nil
			}
		}
	}
	switch {
	case len(fit) == 1:
		return fit[0], nil
	case len(fit) > 1:
		return nil, &PathError{
			At: ident, Msg: fmt.Sprintf("%s stands in several modules, name one", name), Nearest: qualified(fit),
		}
	case len(other) > 0:
		return nil, &PathError{
			At: ident, Msg: fmt.Sprintf("%s under %s is not of module %s", name, where, module),
			Nearest: qualified(other),
		}
	case at != nil && len(siblings) == 0:
		return nil, &PathError{At: ident, Msg: fmt.Sprintf("%s is a %s and has nothing below it", at.Name, at.Kind)}
	}
	near := deeper(name, siblings, "", 3)
	if len(near) == 0 {
		near = nearest(name, siblings)
	}
	return nil, &PathError{At: ident, Msg: fmt.Sprintf("%s is not under %s", ident, where), Nearest: near}
}

// deeper gives the ways to nodes of exactly that name further down.
func deeper(name string, nodes []*schema.Node, way string, levels int) []string {
	var out []string
	for _, n := range nodes {
		if !n.Config || len(out) >= 5 {
			continue
		}
		if n.Name == name && way != "" {
			out = append(out, way+n.Name)
		}
		if levels > 0 {
			step := n.Name
			if n.Kind == schema.List {
				step += "=" + strings.ToUpper(strings.Join(n.Keys, ","))
			}
			out = append(out, deeper(name, n.Data(), way+step+"/", levels-1)...)
		}
	}
	return out[:min(5, len(out))]
}

func qualified(nodes []*schema.Node) []string {
	out := make([]string, len(nodes))
	for i, n := range nodes {
		out[i] = n.Module.Name + ":" + n.Name
	}
	return out
}

// nearest gives up to five names, those most like the given one first.
func nearest(name string, nodes []*schema.Node) []string {
	name = name[:min(len(name), 64)] // nobody means more
	type scored struct {
		name  string
		score int
	}
	var list []scored
	for _, n := range nodes {
		if n.Config {
			shown := n.Name
			if n.Ambiguous {
				shown = n.Module.Name + ":" + n.Name
			}
			list = append(list, scored{shown, distance(name, n.Name)})
		}
	}
	sortStable(list, func(a, b scored) bool { return a.score < b.score })
	var out []string
	for _, s := range list[:min(5, len(list))] {
		out = append(out, s.name)
	}
	return out
}

func sortStable[T any](list []T, less func(a, b T) bool) {
	for i := 1; i < len(list); i++ {
		for j := i; j > 0 && less(list[j], list[j-1]); j-- {
			list[j], list[j-1] = list[j-1], list[j]
		}
	}
}

// distance is the edit distance of two names.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		diag := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := diag
			if a[i-1] != b[j-1] {
				cost++
			}
			diag = row[j]
			row[j] = min(cost, row[j]+1, row[j-1]+1)
		}
	}
	return row[len(b)]
}

// String gives the path with module names only where they are needed.
func (p Path) String() string { return p.text(false) }

// Full gives the path as RFC 8040 writes it: a module name at the first step
// and wherever the module changes.
func (p Path) Full() string { return p.text(true) }

func (p Path) text(full bool) string {
	if len(p) == 0 {
		return "/"
	}
	var b strings.Builder
	var m *schema.Module
	for _, s := range p {
		b.WriteByte('/')
		if s.Node == nil {
			b.WriteString(s.Opaque)
			break
		}
		if full && s.Node.Module != m || !full && s.Node.Ambiguous {
			b.WriteString(s.Node.Module.Name)
			b.WriteByte(':')
		}
		m = s.Node.Module
		b.WriteString(s.Node.Name)
		if s.Any {
			b.WriteString("=*")
		}
		for i, k := range s.Keys {
			b.WriteByte("=,"[min(i, 1)])
			b.WriteString(escapeKey(k, full))
		}
	}
	return b.String()
}

// escapeKey percent-encodes a key value. The short form leaves colons, which
// need no encoding in a path segment (RFC 3986) and keep addresses readable.
func escapeKey(k string, full bool) string {
	var b strings.Builder
	for i := 0; i < len(k); i++ {
		c := k[i]
		if c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' ||
			c == '-' || c == '.' || c == '_' || c == '~' || c == ':' && !full {
			b.WriteByte(c)
			continue
		}
		fmt.Fprintf(&b, "%%%02X", c)
	}
	return b.String()
}

// Last is the schema node the path ends at; nil for the root.
func (p Path) Last() *schema.Node {
	if len(p) == 0 {
		return nil
	}
	return p[len(p)-1].Node
}

// Down gives the path to a child of what p leads to.
func (p Path) Down(n *Node) Path {
	return append(p[:len(p):len(p)], StepTo(n))
}

// StepTo gives the step that leads to a node from what it stands in.
func StepTo(n *Node) Step {
	step := Step{Node: n.schema, Keys: n.Keys()}
	if o := n.Opaque(); n.schema == nil && o != nil {
		step.Opaque = o.Local
	}
	return step
}

// At gives the node a path leads to, nil where there is none. A path to a list
// or leaf-list without keys gives its first entry.
func (n *Node) At(p Path) *Node {
	for _, s := range p {
		if n == nil || s.Node == nil {
			return nil
		}
		n = n.Find(s.Node, s.Keys)
	}
	return n
}

// Cut gives the configuration reduced to what lies at or below the path, with
// the nodes that lead there and their keys.
func (n *Node) Cut(p Path) *Node {
	if len(p) == 0 {
		return n
	}
	if p[0].Node == nil {
		return n.With(nil)
	}
	var keep []*Node
	if n.schema != nil && n.schema.Kind == schema.List {
		for c := range n.Each() {
			if c.schema == nil || c.schema.KeyIndex() < 0 {
				break // keys come first
			}
			keep = append(keep, c)
		}
	}
	if p[0].Node.KeyIndex() < 0 {
		found := n.All(p[0].Node)
		if p[0].Keys != nil {
			found = found[:0:0]
			if one := n.Find(p[0].Node, p[0].Keys); one != nil {
				found = append(found, one)
			}
		}
		for _, c := range found {
			keep = append(keep, c.Cut(p[1:]))
		}
	}
	return n.With(keep)
}

// Undescribed gives the paths of what no module describes.
func (n *Node) Undescribed() []string { return n.undescribed(nil) }

func (n *Node) undescribed(at Path) (out []string) {
	for c := range n.Each() {
		switch {
		case c.Schema() == nil:
			out = append(out, at.Down(c).String())
		case c.Len() > 0:
			out = append(out, c.undescribed(at.Down(c))...)
		}
	}
	return out
}
