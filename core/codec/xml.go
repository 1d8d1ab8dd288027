// Package codec turns configurations into text and back: XML (RFC 7950 section
// 7, RFC 6241) and the outline that people read (docs/outline.md).
//
// Reading XML loses nothing: what the schema does not describe becomes opaque
// nodes that are written out again as they came.
package codec

import (
	"fmt"
	"strings"

	"oakenlatch/core/markup"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// Namespaces of the XML encodings.
const (
	NetconfNS = "urn:ietf:params:xml:ns:netconf:base:1.0"
	YangNS    = "urn:ietf:params:xml:ns:yang:1"
)

// Error is XML that is not a configuration, in the terms of RFC 6241 appendix
// A: Tag is unknown-element, missing-element, invalid-value, bad-attribute,
// data-exists or unknown-namespace.
type Error struct {
	Tag, Path, Msg string
}

func (e *Error) Error() string { return e.Path + ": " + e.Msg }

// Decoder reads XML with a schema.
type Decoder struct {
	Schema *schema.Schema

	// Strict refuses unknown elements and values the schema does not allow, as
	// a device does with what it is sent. Without it, as is right for what a
	// device sent, both are carried as they came.
	Strict bool
}

// Tree reads the children of an element (a <data> or <config>) as a
// configuration.
func (d Decoder) Tree(el *markup.Element) (*tree.Node, error) {
	if el == nil {
		return tree.Empty, nil
	}
	children, err := d.children(nil, el, nil)
	if err != nil {
		return nil, err
	}
	return tree.Root(children), nil
}

// ParseTree reads a document whose element holds a configuration.
func (d Decoder) ParseTree(doc []byte) (*tree.Node, error) {
	el, err := markup.Parse(doc, markup.Limits{})
	if err != nil {
		return nil, err
	}
	return d.Tree(el)
}

// lookup finds the schema node of a child element.
func (d Decoder) lookup(parent *schema.Node, name markup.Name) *schema.Node {
	m := d.Schema.ModuleByNamespace(name.Space)
	if m == nil {
		return nil
	}
	if parent == nil {
		return d.Schema.Root(m, name.Local)
	}
	return parent.Child(m, name.Local)
}

func (d Decoder) unknown(at tree.Path, c *markup.Element) error {
	tag := "unknown-element"
	msg := fmt.Sprintf("element %s of namespace %q is not known here", c.Name.Local, c.Name.Space)
	if d.Schema.ModuleByNamespace(c.Name.Space) == nil {
		tag = "unknown-namespace"
	}
	return &Error{tag, at.String(), msg}
}

func (d Decoder) children(parent *schema.Node, el *markup.Element, at tree.Path) ([]*tree.Node, error) {
	if strings.TrimSpace(el.Text) != "" {
		return nil, &Error{"bad-element", at.String(), fmt.Sprintf("holds text %q where only elements belong", clip(el.Text))}
	}
	out := make([]*tree.Node, 0, len(el.Children))
	seen := map[string]bool{}
	for _, c := range el.Children {
		s := d.lookup(parent, c.Name)
		if s == nil {
			if d.Strict {
				return nil, d.unknown(at, c)
			}
			out = append(out, tree.NewOpaque(nil, opaque(c)))
			continue
		}
		n, err := d.node(s, c, at)
		if err != nil {
			return nil, err
		}
		id := s.Module.Name + ":" + s.Name + "\x00" + strings.Join(n.Keys(), "\x00")
		keyless := s.Kind == schema.List && len(s.Keys) == 0 || s.Kind == schema.LeafList && !s.Config
		if seen[id] && !keyless {
			return nil, &Error{"data-exists", at.Down(n).String(), "stands twice"}
		}
		seen[id] = true
		out = append(out, n)
	}
	return out, nil
}

func (d Decoder) node(s *schema.Node, el *markup.Element, at tree.Path) (*tree.Node, error) {
	here := append(at[:len(at):len(at)], tree.Step{Node: s})
	switch s.Kind {
	case schema.AnyData, schema.AnyXML:
		return tree.NewOpaque(s, opaque(el)), nil
	case schema.Leaf, schema.LeafList:
		v, err := d.value(s, el, here)
		if err != nil {
			return nil, err
		}
		return tree.NewLeaf(s, v), nil
	}
	if s.Kind == schema.List {
		keys, err := d.keys(s, el, here)
		if err != nil && s.Config {
			return nil, err
		}
		here[len(here)-1].Keys = keys
	}
	children, err := d.children(s, el, here)
	if err != nil {
		return nil, err
	}
	return tree.New(s, children), nil
}

func (d Decoder) value(s *schema.Node, el *markup.Element, at tree.Path) (string, error) {
	if len(el.Children) > 0 {
		return "", &Error{"bad-element", at.String(), fmt.Sprintf("is a %s and cannot hold element %s", s.Kind, el.Children[0].Name.Local)}
	}
	v, err := d.Schema.Canonical(s.Type, el.Text, d.resolver(el))
	if err == nil {
		return v, nil
	}
	if d.Strict {
		return "", &Error{"invalid-value", at.String(), err.Error()}
	}
	return strings.TrimSpace(el.Text), nil
}

func (d Decoder) resolver(el *markup.Element) schema.Resolver {
	return func(prefix string) *schema.Module {
		space, ok := el.Resolve(prefix)
		if !ok {
			return nil
		}
		return d.Schema.ModuleByNamespace(space)
	}
}

// keys reads the key leaves of a list entry.
func (d Decoder) keys(s *schema.Node, el *markup.Element, at tree.Path) ([]string, error) {
	keys := make([]string, len(s.Keys))
	for i, k := range s.Keys {
		leaf := s.Child(s.Module, k)
		c := el.Child(s.Module.Namespace, k)
		if c == nil || leaf == nil {
			return nil, &Error{"missing-element", at.String(), fmt.Sprintf("an entry has no key %s", k)}
		}
		v, err := d.value(leaf, c, append(at[:len(at):len(at)], tree.Step{Node: leaf}))
		if err != nil {
			return nil, err
		}
		keys[i] = v
	}
	return keys, nil
}

func opaque(el *markup.Element) tree.Opaque {
	return tree.Opaque{Space: el.Name.Space, Local: el.Name.Local, XML: el.Standalone()}
}

func clip(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	if len(s) > 60 {
		return s[:60] + "…"
	}
	return s
}

// Encode writes the configuration's top-level elements into w.
func Encode(w *markup.Writer, s *schema.Schema, n *tree.Node) {
	for _, c := range n.Children() {
		encode(w, s, c)
	}
}

// XML gives the configuration inside an element of the given name, indented.
func XML(s *schema.Schema, n *tree.Node, outer markup.Name) []byte {
	w := &markup.Writer{Indent: "  "}
	w.Start(outer)
	Encode(w, s, n)
	w.End()
	return append(w.Bytes(), '\n')
}

func encode(w *markup.Writer, s *schema.Schema, n *tree.Node) {
	if o := n.Opaque(); o != nil {
		w.Raw(o.XML)
		return
	}
	name := markup.Name{Space: n.Schema().Module.Namespace, Local: n.Schema().Name}
	if n.Schema().IsLeaf() {
		text, decl := valueXML(s, n.Schema(), n.Value())
		w.Leaf(name, text, decl...)
		return
	}
	w.Start(name)
	for _, c := range n.Children() {
		encode(w, s, c)
	}
	w.End()
}

// valueXML gives a value's text with prefixes for XML and the namespace
// declarations that it needs.
func valueXML(s *schema.Schema, n *schema.Node, value string) (text string, decl []string) {
	switch concrete(s, n.Type, value).Base {
	case schema.IdentityRef:
		module, name, ok := strings.Cut(value, ":")
		m := s.ModuleByName(module)
		if !ok || m == nil {
			return value, nil
		}
		return m.Prefix + ":" + name, []string{"xmlns:" + m.Prefix, m.Namespace}
	case schema.InstanceIdentifier:
		return instanceXML(s, value)
	}
	return value, nil
}

// instanceXML gives every module named in an instance-identifier a prefix of
// its own name's: module names are legal prefixes.
func instanceXML(s *schema.Schema, value string) (string, []string) {
	var decl []string
	for _, m := range s.Modules {
		if strings.Contains(value, m.Name+":") {
			decl = append(decl, "xmlns:"+m.Name, m.Namespace)
		}
	}
	return value, decl
}

// concrete follows leafrefs and unions to the type that a value is of.
func concrete(s *schema.Schema, t *schema.Type, value string) *schema.Type {
	switch t.Base {
	case schema.LeafRef:
		if t.Target != nil && t.Target.Type != nil {
			return concrete(s, t.Target.Type, value)
		}
	case schema.Union:
		for _, m := range t.Members {
			if _, err := s.Canonical(m, value, s.NameResolver(nil)); err == nil {
				return concrete(s, m, value)
			}
		}
	}
	return t
}
