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
	xmlNS     = "http://www.w3.org/XML/1998/namespace"
)

// Error is XML that is not a configuration, in the terms of RFC 6241 appendix
// A: Tag is unknown-element, missing-element, invalid-value, bad-attribute,
// data-exists or unknown-namespace.
type Error struct {
	Tag, Path, Msg string
	Line, Column   int // where in the text; 0 where that is not known
	Hint           string
}

func (e *Error) Error() string {
	s := e.Msg
	if e.Path != "" {
		s = e.Path + ": " + s
	}
	if e.Line > 0 {
		s = fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, s)
	}
	if e.Hint != "" {
		s += "; " + e.Hint
	}
	return s
}

// Decoder reads XML with a schema.
type Decoder struct {
	Schema *schema.Schema

	// Strict refuses unknown elements and values the schema does not allow, as
	// a device does with what it is sent. Without it, as is right for what a
	// device sent, both are carried as they came.
	Strict bool

	Limits markup.Limits // of a document; zero means the defaults

	// Lift gives what a text means that stands in the place of a secret: the value
	// itself, where the text is the name of one that was hidden. nil takes texts as
	// they are.
	Lift func(text string) (string, error)

	// Stands reports texts that stand in the place of a secret and are taken as they are, of whatever
	// type that is: where nobody can lift them. nil takes none so.
	Stands func(text string) bool
}

// Canonical gives the canonical form of a leaf's value. An error of a secret one
// does not tell the value.
func (d Decoder) Canonical(s *schema.Node, text string, resolve schema.Resolver) (string, error) {
	if !s.Secret() {
		return d.Schema.Canonical(s.Type, text, resolve)
	}
	if d.Lift != nil {
		var err error
		if text, err = d.Lift(text); err != nil {
			return "", err
		}
	}
	if d.Stands != nil && d.Stands(text) {
		return text, nil
	}
	v, err := d.Schema.Canonical(s.Type, text, resolve)
	if err != nil {
		err = fmt.Errorf("the value that was given is no %s; it is not shown, for it may be a secret", s.Type.Name)
	}
	return v, err
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

func (d Decoder) unknown(at tree.Path, name markup.Name) error {
	tag := "unknown-element"
	msg := fmt.Sprintf("element %s of namespace %q is not known here", name.Local, name.Space)
	if d.Schema.ModuleByNamespace(name.Space) == nil {
		tag = "unknown-namespace"
	}
	return &Error{Tag: tag, Path: at.String(), Msg: msg}
}

func (d Decoder) value(s *schema.Node, el *markup.Element, at tree.Path) (string, error) {
	if len(el.Children) > 0 {
		return "", &Error{
			Tag: "bad-element", Path: at.String(),
			Msg: fmt.Sprintf("is a %s and cannot hold element %s", s.Kind, el.Children[0].Name.Local),
		}
	}
	v, err := d.Canonical(s, el.Text, d.resolver(el))
	if err == nil {
		return v, nil
	}
	if d.Strict {
		return "", &Error{Tag: "invalid-value", Path: at.String(), Msg: err.Error()}
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
			return nil, &Error{Tag: "missing-element", Path: at.String(), Msg: fmt.Sprintf("an entry has no key %s", k)}
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

// known gives the content of anydata or anyxml. Of anydata only the elements
// matter (RFC 7950 section 7.10), so the white space between them is dropped.
func known(s *schema.Node, el *markup.Element) tree.Opaque {
	o := opaque(el)
	if s.Kind == schema.AnyData {
		o.XML = el.Compact()
	}
	return o
}

// mostTold is how much of a text that is out of place is told.
const mostTold = 60

// Encode writes the configuration's top-level elements into w.
func Encode(w *markup.Writer, s *schema.Schema, n *tree.Node) {
	for _, c := range n.Children() {
		EncodeNode(w, s, c)
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

// EncodeNode writes one node with all below it into w.
func EncodeNode(w *markup.Writer, s *schema.Schema, n *tree.Node) {
	if o := n.Opaque(); o != nil {
		w.Raw(o.XML)
		return
	}
	attrs := annotationAttrs(s, n.Annotations())
	name := markup.Name{Space: n.Schema().Module.Namespace, Local: n.Schema().Name}
	if n.Schema().IsLeaf() {
		text, decl := valueXML(s, n.Schema(), n.Value())
		w.Leaf(name, text, append(decl, attrs...)...)
		return
	}
	w.Start(name, attrs...)
	for c := range n.Each() {
		EncodeNode(w, s, c)
	}
	w.End()
}

// annotationAttrs gives metadata as attributes (RFC 7952 section 5.1), each
// with a prefix of its own: those of values are declared beside them.
func annotationAttrs(s *schema.Schema, notes []tree.Annotation) []string {
	var attrs []string
	for i, a := range notes {
		space := a.Space
		value := a.Value
		if m := s.ModuleByName(a.Module); m != nil {
			space = m.Namespace
			if t := m.Annotations[a.Name]; t != nil {
				text, decl := typedXML(s, t, value)
				value, attrs = text, append(attrs, decl...)
			}
		}
		prefix := fmt.Sprintf("md%d", i)
		attrs = append(attrs, "xmlns:"+prefix, space, prefix+":"+a.Name, value)
	}
	return attrs
}

// valueXML gives a value's text with prefixes for XML and the namespace
// declarations that it needs.
func valueXML(s *schema.Schema, n *schema.Node, value string) (text string, decl []string) {
	return typedXML(s, n.Type, value)
}

func typedXML(s *schema.Schema, t *schema.Type, value string) (text string, decl []string) {
	t = s.Concrete(t, value)
	switch {
	case t.Base == schema.IdentityRef:
		module, name, ok := strings.Cut(value, ":")
		m := s.ModuleByName(module)
		if !ok || m == nil {
			return value, nil
		}
		return m.Prefix + ":" + name, []string{"xmlns:" + m.Prefix, m.Namespace}
	case t.Base == schema.InstanceIdentifier || t.IsXPath():
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
