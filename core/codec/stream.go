package codec

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"oakenlatch/core/clip"
	"oakenlatch/core/markup"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// WithDefaultsNS is the namespace of the attribute that marks a value as the
// device's own default (RFC 6243 section 6.3).
const WithDefaultsNS = "urn:ietf:params:xml:ns:netconf:default:1.0"

// Tree reads the children of an element (a <data> or <config>) as a
// configuration.
func (d Decoder) Tree(el *markup.Element) (*tree.Node, error) {
	if el == nil {
		return tree.Empty, nil
	}
	return d.stream(el.Reader(), false)
}

// ParseTree reads a document whose element holds a configuration.
func (d Decoder) ParseTree(doc []byte) (*tree.Node, error) {
	r, err := markup.NewReader(doc, d.Limits)
	if err != nil {
		return nil, err
	}
	return d.stream(r, true)
}

// stream reads a document straight into a tree.
func (d Decoder) stream(r *markup.Reader, located bool) (*tree.Node, error) {
	x := &xmlReader{d: d, r: r, values: map[*schema.Type]map[string]string{}}
	if _, err := r.Next(); err != nil {
		return nil, err
	}
	root, err := x.content(nil)
	if err == nil {
		_, err = r.Next()
	}
	if e, ok := err.(*Error); ok && located && e.Line == 0 {
		e.Line, e.Column = r.Where()
	}
	return root, err
}

// NodeBelow reads an element as one child of a schema node; nil is the top.
func (d Decoder) NodeBelow(parent *schema.Node, el *markup.Element) (*tree.Node, error) {
	x := &xmlReader{d: d, r: el.Reader(), values: map[*schema.Type]map[string]string{}}
	if _, err := x.r.Next(); err != nil {
		return nil, err
	}
	x.way = append(x.way, level{schema: parent})
	if err := x.child(); err != nil {
		return nil, err
	}
	if len(x.kids) == 0 {
		return nil, &Error{Tag: "bad-element", Msg: el.Name.Local + " is marked as a default and so holds nothing"}
	}
	return x.kids[0], nil
}

// xmlReader is the reading of one document.
type xmlReader struct {
	d      Decoder
	r      *markup.Reader
	way    []level // from the top down to the node being read
	kids   []*tree.Node
	build  tree.Builder
	values map[*schema.Type]map[string]string // canonical forms already worked out

	resolve schema.Resolver // module, made once
	scoped  bool            // a prefix was resolved for the last value
}

// level is an element being read; its children so far are kids[from:].
type level struct {
	schema *schema.Node
	from   int
	guess  int // the place of the child that probably comes next
}

// mostValues bounds the values remembered for one type.
const mostValues = 4096

// path is where the reading is: only worked out for errors.
func (x *xmlReader) path(more ...*schema.Node) tree.Path {
	var p tree.Path
	for i, l := range x.way {
		if l.schema == nil {
			continue
		}
		step := tree.Step{Node: l.schema}
		if l.schema.Kind == schema.List {
			to := len(x.kids)
			if i+1 < len(x.way) {
				to = x.way[i+1].from
			}
			step.Keys = keysOf(l.schema, x.kids[l.from:to])
		}
		p = append(p, step)
	}
	for _, s := range more {
		p = append(p, tree.Step{Node: s})
	}
	return p
}

// keysOf gives the keys among an entry's children; nil if one is missing.
func keysOf(s *schema.Node, kids []*tree.Node) []string {
	keys := make([]string, len(s.Keys))
	found := 0
	for _, c := range kids {
		if c.Schema() != nil && c.Schema().KeyIndex() >= 0 {
			keys[c.Schema().KeyIndex()] = c.Value()
			found++
		}
	}
	if found < len(keys) {
		return nil
	}
	return keys
}

// content reads the content of the element just opened, up to its end tag.
func (x *xmlReader) content(s *schema.Node) (*tree.Node, error) {
	notes := x.annotations()
	x.way = append(x.way, level{schema: s, from: len(x.kids)})
	for {
		ev, err := x.r.Next()
		if err != nil {
			return nil, err
		}
		if text := x.r.Text(); len(bytes.TrimSpace(text)) > 0 {
			return nil, &Error{
				Tag: "bad-element", Path: x.path().String(),
				Msg: fmt.Sprintf("holds text %q where only elements belong", clip.Line(string(text), mostTold)),
			}
		}
		if ev == markup.End {
			break
		}
		if err := x.child(); err != nil {
			return nil, err
		}
	}
	l := x.way[len(x.way)-1]
	if s != nil && s.Kind == schema.List && s.Config && len(s.Keys) > 0 {
		if err := x.hasKeys(s, x.kids[l.from:]); err != nil {
			return nil, err
		}
	}
	n, twice := x.build.Node(s, x.kids[l.from:], notes)
	if twice != nil {
		return nil, &Error{Tag: "data-exists", Path: x.path().Down(twice).String(), Msg: "stands twice"}
	}
	x.kids = x.kids[:l.from]
	x.way = x.way[:len(x.way)-1]
	return n, nil
}

func (x *xmlReader) hasKeys(s *schema.Node, kids []*tree.Node) error {
	have := 0
	for _, c := range kids {
		if c.Schema() != nil && c.Schema().KeyIndex() >= 0 {
			have++
		}
	}
	if have >= len(s.Keys) {
		return nil
	}
	for _, k := range s.Keys {
		leaf := s.Child(s.Module, k)
		found := false
		for _, c := range kids {
			found = found || c.Schema() == leaf
		}
		if !found {
			return &Error{Tag: "missing-element", Path: x.path().String(), Msg: "an entry has no key " + k}
		}
	}
	return nil
}

// child reads the element just opened as a child of the level it is in.
func (x *xmlReader) child() error {
	l := &x.way[len(x.way)-1]
	s := x.lookup(l)
	switch {
	case s == nil:
		if x.d.Strict {
			return x.d.unknown(x.path(), x.r.Name())
		}
		el, err := x.r.Element()
		if err != nil {
			return err
		}
		x.kids = append(x.kids, tree.NewOpaque(nil, opaque(el)))
		return nil
	case s.Kind == schema.AnyData || s.Kind == schema.AnyXML:
		el, err := x.r.Element() // its metadata stays among its attributes
		if err != nil {
			return err
		}
		x.kids = append(x.kids, tree.NewOpaque(s, known(s, el)))
		return nil
	case s.IsLeaf():
		return x.leaf(s)
	}
	n, err := x.content(s)
	if err != nil {
		return err
	}
	x.kids = append(x.kids, n)
	return nil
}

// lookup finds the schema node of the element just opened. Children mostly
// come in the order of the schema, or are of the list before.
func (x *xmlReader) lookup(l *level) *schema.Node {
	name := x.r.Name()
	data := x.d.Schema.Roots()
	if l.schema != nil {
		data = l.schema.Data()
	}
	for i := l.guess; i < len(data) && i < l.guess+3; i++ {
		if data[i].Name == name.Local && data[i].Module.Namespace == name.Space {
			l.guess = i
			return data[i]
		}
	}
	s := x.d.lookup(l.schema, name)
	if s != nil {
		l.guess = s.Order
	}
	return s
}

func (x *xmlReader) leaf(s *schema.Node) error {
	notes := x.annotations()
	isDefault := false
	for _, a := range x.r.Attrs() {
		isDefault = isDefault || a.Name.Space == WithDefaultsNS && a.Name.Local == "default" && (a.Value == "true" ||
			a.Value == "1")
	}
	ev, err := x.r.Next()
	if err != nil {
		return err
	}
	if ev == markup.Start {
		return &Error{
			Tag: "bad-element", Path: x.path(s).String(),
			Msg: fmt.Sprintf("is a %s and cannot hold element %s", s.Kind, x.r.Name().Local),
		}
	}
	v, err := x.value(s)
	if err != nil {
		return err
	}
	if isDefault && s.IsDefault(v) {
		return nil // in use on the device, but set by nobody
	}
	x.kids = append(x.kids, x.build.Leaf(s, v).Annotated(notes))
	return nil
}

// value gives the canonical form of the text just read.
func (x *xmlReader) value(s *schema.Node) (string, error) {
	t, text := s.Type, x.r.Text()
	known := x.values[t]
	if v, ok := known[string(text)]; ok {
		return v, nil
	}
	secret := x.d.Lift != nil && s.Secret()
	if !x.d.Strict && t.Free() && !secret {
		return x.build.Text(text), nil
	}
	x.scoped = false
	if x.resolve == nil {
		x.resolve = x.module
	}
	v, err := x.d.Canonical(s, string(text), x.resolve)
	if err != nil {
		if x.d.Strict {
			return "", &Error{Tag: "invalid-value", Path: x.path(s).String(), Msg: err.Error()}
		}
		return strings.TrimSpace(string(text)), nil
	}
	if !x.scoped && !secret && len(known) < mostValues {
		if known == nil {
			known = map[string]string{}
			x.values[t] = known
		}
		known[string(text)] = v
	}
	return v, nil
}

// module resolves a prefix of a value. The same text may then mean something
// else elsewhere.
func (x *xmlReader) module(prefix string) *schema.Module {
	x.scoped = true
	space, ok := x.r.Resolve(prefix)
	if !ok {
		return nil
	}
	return x.d.Schema.ModuleByNamespace(space)
}

// annotations gives the metadata of the element just opened.
func (x *xmlReader) annotations() []tree.Annotation {
	if len(x.r.Attrs()) == 0 {
		return nil
	}
	return x.d.annotations(x.r.Attrs(), x.r.Resolve)
}

// annotations gives the metadata among attributes (RFC 7952 section 5.1):
// those of a namespace that is not the protocol's.
func (d Decoder) annotations(attrs []markup.Attr, resolve func(prefix string) (string, bool)) []tree.Annotation {
	var out []tree.Annotation
	for _, a := range attrs {
		switch a.Name.Space {
		case "", NetconfNS, YangNS, WithDefaultsNS, xmlNS:
			continue
		}
		note := tree.Annotation{Space: a.Name.Space, Name: a.Name.Local, Value: a.Value}
		if m := d.Schema.ModuleByNamespace(note.Space); m != nil {
			note.Module, note.Space = m.Name, ""
			if t := m.Annotations[note.Name]; t != nil {
				v, err := d.Schema.Canonical(t, note.Value, func(prefix string) *schema.Module {
					space, _ := resolve(prefix)
					return d.Schema.ModuleByNamespace(space)
				})
				if err == nil {
					note.Value = v
				}
			}
		}
		out = append(out, note)
	}
	return out
}

// annotation checks metadata that was written with module names: that XML can
// carry it, beside what the node has already, and its value.
func (d Decoder) annotation(a tree.Annotation, have []tree.Annotation) (tree.Annotation, error) {
	if m := d.Schema.ModuleByNamespace(a.Space); m != nil && a.Module == "" {
		a.Module, a.Space = m.Name, ""
	}
	m := d.Schema.ModuleByName(a.Module)
	switch {
	case slices.ContainsFunc(
		have, func(o tree.Annotation) bool { return o.Module == a.Module && o.Space == a.Space && o.Name == a.Name },
	):
		return a, fmt.Errorf("stands twice")
	case a == tree.DefaultAnnotation:
		return a, nil
	case a.Space == NetconfNS || a.Space == YangNS || a.Space == WithDefaultsNS || a.Space == xmlNS:
		return a, fmt.Errorf("namespace %s is the protocol's own", a.Space)
	case !isName(a.Name):
		return a, fmt.Errorf("%q is not a name", a.Name)
	case a.Module == "" && a.Space == "":
		return a, fmt.Errorf("has no module's name before it")
	case a.Module != "" && m == nil:
		return a, fmt.Errorf("there is no module %s here; its namespace may stand in braces before the name", a.Module)
	}
	t := &schema.Type{Base: schema.String}
	if m != nil && m.Annotations[a.Name] != nil {
		t = m.Annotations[a.Name]
	}
	_, err := d.Schema.Canonical(&schema.Type{Base: schema.String}, a.Space, nil)
	if err == nil {
		a.Value, err = d.Schema.Canonical(t, a.Value, d.Schema.NameResolver(m))
	}
	return a, err
}

// set gives a leaf that was set by somebody: nil for one that is marked as the
// default in use (RFC 6243), which nobody set.
func set(n *tree.Node) *tree.Node {
	notes := n.Annotations()
	i := slices.Index(notes, tree.DefaultAnnotation)
	switch {
	case i < 0:
		return n
	case n.Schema().IsDefault(n.Value()):
		return nil
	}
	return n.Annotated(slices.Delete(slices.Clone(notes), i, i+1))
}
