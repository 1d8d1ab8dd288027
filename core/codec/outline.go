package codec

import (
	"strconv"
	"strings"

	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// OutlineLine is one line of the outline: Depth levels in, about the node that
// Path leads to.
type OutlineLine struct {
	Depth int
	Text  string
	Path  tree.Path
	Node  *tree.Node
}

// Outline gives a configuration, or the children of any node that path leads
// to, as the lines people read.
func Outline(n *tree.Node, path tree.Path) []OutlineLine {
	var out []OutlineLine
	var walk func(n *tree.Node, p tree.Path, depth int)
	walk = func(n *tree.Node, p tree.Path, depth int) {
		for _, c := range n.Children() {
			if c.Schema() != nil && c.Schema().KeyIndex() >= 0 {
				continue
			}
			cp := p.Down(c)
			for i, text := range Heads(c) {
				out = append(out, OutlineLine{Depth: depth + min(i, 1), Text: text, Path: cp, Node: c})
			}
			walk(c, cp, depth+1)
		}
	}
	walk(n, path, 0)
	return out
}

// OutlineText gives the outline as text, two spaces a level.
func OutlineText(n *tree.Node) string {
	var b strings.Builder
	for _, l := range Outline(n, nil) {
		b.WriteString(strings.Repeat("  ", l.Depth))
		b.WriteString(l.Text)
		b.WriteByte('\n')
	}
	return b.String()
}

// Text gives a node as text: a leaf's value, what is carried unread as XML,
// anything else as its outline; "" for nil.
func Text(n *tree.Node) string {
	switch {
	case n == nil:
		return ""
	case n.Opaque() != nil:
		return string(n.Opaque().XML)
	case n.Schema() != nil && n.Schema().IsLeaf():
		return n.Value()
	}
	return WholeText(n)
}

// WholeText gives a node with all below it as an outline, a leaf too; "" for nil.
func WholeText(n *tree.Node) string {
	if n == nil {
		return ""
	}
	lines := Heads(n)
	for i := range lines[1:] {
		lines[1+i] = "  " + lines[1+i]
	}
	for _, l := range Outline(n, nil) {
		lines = append(lines, strings.Repeat("  ", l.Depth+1)+l.Text)
	}
	return strings.Join(lines, "\n")
}

// Heads gives a node's own lines without its children: one, or more for
// content that is carried unread and for values of several lines.
func Heads(n *tree.Node) []string {
	if o := n.Opaque(); o != nil {
		out := []string{"? " + o.Local + " (carried unread, namespace " + o.Space + ")"}
		for _, l := range strings.Split(string(o.XML), "\n") {
			out = append(out, "| "+l)
		}
		return out
	}
	s := n.Schema()
	if s.IsLeaf() && inBlock(n.Value()) {
		out := []string{Name(s) + ": |" + notes(n.Annotations())}
		for _, l := range strings.Split(n.Value(), "\n") {
			out = append(out, strings.TrimRight("| "+l, " "))
		}
		return out
	}
	return []string{Head(s, n.Keys(), n.Value()) + notes(n.Annotations())}
}

// inBlock reports whether a value is written as lines of their own: one of
// several lines that no editor would harm.
func inBlock(v string) bool {
	if !strings.Contains(v, "\n") {
		return false
	}
	for _, l := range strings.Split(v, "\n") {
		if strings.HasSuffix(l, " ") {
			return false
		}
		for _, r := range l {
			if !strconv.IsPrint(r) && r != '\t' {
				return false
			}
		}
	}
	return true
}

// notes gives metadata as the outline has it, behind the line it belongs to.
func notes(list []tree.Annotation) string {
	var b strings.Builder
	for _, a := range list {
		if a.Module == "" {
			b.WriteString(" @{" + a.Space + "}" + a.Name)
		} else {
			b.WriteString(" @" + a.Module + ":" + a.Name)
		}
		b.WriteString("=" + strconv.Quote(a.Value))
	}
	return b.String()
}

// Name is how the outline names a schema node: with its module only where a
// sibling of another module has the same name.
func Name(s *schema.Node) string {
	if s.Ambiguous {
		return s.Module.Name + ":" + s.Name
	}
	return s.Name
}

// Head is the outline's line of a node that the schema describes.
func Head(s *schema.Node, keys []string, value string) string {
	switch s.Kind {
	case schema.List:
		quoted := make([]string, len(keys))
		for i, k := range keys {
			quoted[i] = Quote(k)
		}
		return Name(s) + " [" + strings.Join(quoted, ", ") + "]"
	case schema.Leaf, schema.LeafList:
		if s.Type.Base == schema.Empty {
			return Name(s) + ":"
		}
		return Name(s) + ": " + Quote(value)
	}
	return Name(s)
}

// Quote writes a value, in double quotes where it would not stand by itself.
func Quote(v string) string {
	if v == "" || strings.ContainsAny(v, " \t\n\r\"\\[],#|") || v[0] == '?' || v[0] == '@' {
		return strconv.Quote(v)
	}
	for _, r := range v {
		if !strconv.IsPrint(r) {
			return strconv.Quote(v)
		}
	}
	return v
}
