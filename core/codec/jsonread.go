package codec

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"oakenlatch/core/markup"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// ParseJSON reads a configuration from JSON (RFC 7951). What no module
// describes is an error: JSON has no namespace to carry it under.
func (d Decoder) ParseJSON(doc []byte) (*tree.Node, error) {
	v, err := parseJSON(doc, d.Limits)
	if err != nil {
		return nil, err
	}
	return d.jsonTree(doc, v)
}

func (d Decoder) jsonTree(doc []byte, v *value) (*tree.Node, error) {
	r := &jsonReader{d: d, doc: doc}
	if v.kind != '{' {
		return nil, r.fail(v, nil, "malformed-message", "a configuration is an object, { … }")
	}
	if len(v.members) == 1 && v.members[0].value.kind == '{' && jsonEnvelopes[v.members[0].name] {
		v = v.members[0].value
	}
	kids, notes, err := r.members(nil, v, nil)
	if err != nil {
		return nil, err
	}
	return r.node(nil, kids, notes, v, nil)
}

// JSONNodeBelow reads an object with one member as a child of a schema node;
// nil is the top.
func (d Decoder) JSONNodeBelow(parent *schema.Node, doc []byte) (*tree.Node, error) {
	v, err := parseJSON(doc, d.Limits)
	if err != nil {
		return nil, err
	}
	r := &jsonReader{d: d, doc: doc}
	kids, _, err := r.members(parent, v, nil)
	if err == nil && len(kids) != 1 {
		err = r.fail(v, nil, "bad-element", "holds %d nodes where one belongs", len(kids))
	}
	if err != nil {
		return nil, err
	}
	return kids[0], nil
}

type jsonReader struct {
	d     Decoder
	doc   []byte
	build tree.Builder
}

func (r *jsonReader) fail(v *value, at tree.Path, tag, format string, args ...any) error {
	e := &Error{Tag: tag, Msg: fmt.Sprintf(format, args...)}
	e.Line, e.Column = place(r.doc, v.at)
	if len(at) > 0 {
		e.Path = at.String()
	}
	return e
}

func (r *jsonReader) node(
	s *schema.Node, kids []*tree.Node, notes []tree.Annotation, v *value, at tree.Path,
) (*tree.Node, error) {
	n, twice := r.build.Node(s, kids, notes)
	if twice != nil {
		return nil, r.fail(v, at.Down(twice), "data-exists", "stands twice")
	}
	return n, nil
}

// members reads the members of an object as children of a node of schema s.
func (r *jsonReader) members(
	s *schema.Node, v *value, at tree.Path,
) (kids []*tree.Node, notes []tree.Annotation, err error) {
	described := map[string]*value{} // metadata of leaves, by their name
	for _, m := range v.members {
		switch {
		case m.name == "@":
			if notes, err = r.notes(m.value, at); err != nil {
				return nil, nil, err
			}
		case strings.HasPrefix(m.name, "@"):
			described[m.name[1:]] = m.value
		}
	}
	for _, m := range v.members {
		if strings.HasPrefix(m.name, "@") {
			continue
		}
		if m.name == unreadMember {
			raw, err := r.unread(m.value, at)
			if err != nil {
				return nil, nil, err
			}
			for _, o := range raw {
				kids = append(kids, tree.NewOpaque(nil, o))
			}
			continue
		}
		c, perr := tree.ChildNamed(r.d.Schema, s, m.name)
		if perr == nil && s == nil && !strings.Contains(m.name, ":") && r.d.Strict {
			perr = &tree.PathError{Path: "/", Msg: m.name + " needs its module's name before it at the top"}
		}
		if perr != nil {
			return nil, nil, r.fail(m.value, at, "unknown-element", "%s", perr.Reason())
		}
		read, err := r.child(c, m.value, described[m.name], at)
		if err != nil {
			return nil, nil, err
		}
		delete(described, m.name)
		kids = append(kids, read...)
	}
	for name, v := range described {
		return nil, nil, r.fail(v, at, "bad-attribute", "the metadata @%s is of a value that is not there", name)
	}
	return kids, notes, nil
}

func (r *jsonReader) child(s *schema.Node, v, about *value, at tree.Path) ([]*tree.Node, error) {
	here := append(at[:len(at):len(at)], tree.Step{Node: s})
	switch s.Kind {
	case schema.Leaf:
		n, err := r.leaf(s, v, about, here)
		if n == nil {
			return nil, err
		}
		return []*tree.Node{n}, err
	case schema.List, schema.LeafList:
		if v.kind != '[' {
			return nil, r.fail(v, here, "invalid-value", "is a %s and written as an array, [ … ]", s.Kind)
		}
		var out []*tree.Node
		for i, item := range v.array {
			var n *tree.Node
			var err error
			if s.Kind == schema.LeafList {
				var note *value
				if about != nil && about.kind == '[' && i < len(about.array) && about.array[i].kind == '{' {
					note = about.array[i]
				}
				n, err = r.leaf(s, item, note, here)
			} else {
				n, err = r.inner(s, item, here)
			}
			if err != nil {
				return nil, err
			}
			if n != nil {
				out = append(out, n)
			}
		}
		return out, nil
	case schema.Container:
		n, err := r.inner(s, v, here)
		return []*tree.Node{n}, err
	}
	n, err := r.any(s, v, here)
	return []*tree.Node{n}, err
}

func (r *jsonReader) inner(s *schema.Node, v *value, at tree.Path) (*tree.Node, error) {
	if v.kind != '{' {
		return nil, r.fail(v, at, "invalid-value", "is a %s and written as an object, { … }", s.Kind)
	}
	if s.Kind == schema.List && len(s.Keys) > 0 {
		at = append(at[:len(at)-1:len(at)-1], tree.Step{Node: s, Keys: r.keys(s, v)})
	}
	kids, notes, err := r.members(s, v, at)
	if err != nil {
		return nil, err
	}
	if s.Kind == schema.List && s.Config && keysOf(s, kids) == nil && len(s.Keys) > 0 {
		return nil, r.fail(v, at, "missing-element", "an entry has not all its keys (%s)", strings.Join(s.Keys, ", "))
	}
	return r.node(s, kids, notes, v, at)
}

// keys gives an entry's keys as they are written, for messages.
func (r *jsonReader) keys(s *schema.Node, v *value) []string {
	var out []string
	for _, k := range s.Keys {
		for _, m := range v.members {
			if _, name, ok := strings.Cut(m.name, ":"); m.name == k || ok && name == k {
				out = append(out, fmt.Sprint(m.value.scalar))
			}
		}
	}
	return out
}

func (r *jsonReader) leaf(s *schema.Node, v, about *value, at tree.Path) (*tree.Node, error) {
	text, err := r.scalar(s, s.Type, v, s.Module)
	if err != nil {
		return nil, r.fail(v, at, "invalid-value", "%s", err)
	}
	n := r.build.Leaf(s, text)
	if about == nil {
		return n, nil
	}
	notes, err := r.notes(about, at)
	return set(n.Annotated(notes)), err
}

// scalar gives the canonical value of what JSON wrote (RFC 7951 section 6).
func (r *jsonReader) scalar(s *schema.Node, t *schema.Type, v *value, local *schema.Module) (string, error) {
	text, shape := "", ""
	switch x := v.scalar.(type) {
	case string:
		text, shape = x, "string"
	case json.Number:
		text, shape = x.String(), "number"
	case bool:
		text, shape = fmt.Sprint(x), "boolean"
	}
	if v.kind == '[' && len(v.array) == 1 && v.array[0].kind == 0 && v.array[0].scalar == nil {
		shape = "[null]"
	}
	if shape == "" {
		return "", fmt.Errorf(
			"takes one value, not %s", map[byte]string{'{': "an object", '[': "an array", 0: "null"}[v.kind],
		)
	}
	var err error
	if s != nil {
		text, err = r.d.Canonical(s, text, r.d.Schema.NameResolver(local))
	} else {
		text, err = r.d.Schema.Canonical(t, text, r.d.Schema.NameResolver(local))
	}
	if err != nil {
		return "", err
	}
	if want := shapeOf(r.d.Schema.Concrete(t, text)); want != shape && !loosely(r.d.Schema, t, text, shape) {
		return "", fmt.Errorf("is a %s, which JSON writes as a %s, not as a %s", t.Name, want, shape)
	}
	return text, nil
}

// shapeOf is the JSON type of a YANG type's values.
func shapeOf(t *schema.Type) string {
	switch t.Base {
	case schema.Int8, schema.Int16, schema.Int32, schema.Uint8, schema.Uint16, schema.Uint32:
		return "number"
	case schema.Boolean:
		return "boolean"
	case schema.Empty:
		return "[null]"
	}
	return "string"
}

// loosely reports whether some member of a union takes the text in that shape:
// the canonical text alone does not tell 5 from "5".
func loosely(s *schema.Schema, t *schema.Type, text, shape string) bool {
	if t.Base == schema.LeafRef && t.Target != nil {
		return loosely(s, t.Target.Type, text, shape)
	}
	for _, m := range t.Members {
		if v, err := s.Canonical(
			m, text, s.NameResolver(nil),
		); err == nil && v == text && (shapeOf(s.Concrete(m, text)) == shape || loosely(s, m, text, shape)) {
			return true
		}
	}
	return false
}

func (r *jsonReader) notes(v *value, at tree.Path) ([]tree.Annotation, error) {
	if v.kind != '{' {
		return nil, r.fail(v, at, "bad-attribute", "metadata is an object, { … }")
	}
	var out []tree.Annotation
	for _, m := range v.members {
		a := tree.Annotation{}
		if space, ok := strings.CutPrefix(m.name, "{"); ok {
			a.Space, a.Name, _ = strings.Cut(space, "}")
		} else {
			a.Module, a.Name, _ = strings.Cut(m.name, ":")
		}
		if a.Name == "" {
			return nil, r.fail(m.value, at, "bad-attribute", "metadata %q has no module's name before it", m.name)
		}
		var err error
		if mod := r.d.Schema.ModuleByName(a.Module); mod != nil && mod.Annotations[a.Name] != nil {
			a.Value, err = r.scalar(nil, mod.Annotations[a.Name], m.value, mod)
		} else if a.Value = fmt.Sprint(m.value.scalar); m.value.kind != 0 {
			err = errors.New("takes one value")
		}
		if err == nil {
			a, err = r.d.annotation(a, out)
		}
		if err != nil {
			return nil, r.fail(m.value, at, "bad-attribute", "metadata %s: %s", m.name, err)
		}
		out = append(out, a)
	}
	return out, nil
}

func (r *jsonReader) unread(v *value, at tree.Path) ([]tree.Opaque, error) {
	var out []tree.Opaque
	for _, item := range v.array {
		text, _ := item.scalar.(string)
		el, err := markup.Parse([]byte(text), markup.Limits{})
		if err != nil {
			return nil, r.fail(item, at, "bad-element", "the XML in %s: %s", unreadMember, err)
		}
		out = append(out, opaque(el))
	}
	if len(out) == 0 {
		return nil, r.fail(v, at, "bad-element", "%s is an array of strings of XML", unreadMember)
	}
	return out, nil
}

func (r *jsonReader) any(s *schema.Node, v *value, at tree.Path) (*tree.Node, error) {
	var notes []tree.Annotation
	plain := *v
	plain.members = nil
	for _, m := range v.members {
		switch m.name {
		case "@":
			var err error
			if notes, err = r.notes(m.value, at); err != nil {
				return nil, err
			}
		case unreadMember:
			raw, err := r.unread(m.value, at)
			if err != nil {
				return nil, err
			}
			return tree.NewOpaque(s, raw[0]), nil
		default:
			plain.members = append(plain.members, m)
		}
	}
	w := &markup.Writer{}
	if err := writeAny(r.d.Schema, w, markup.Name{Space: s.Module.Namespace, Local: s.Name}, &plain); err != nil {
		return nil, r.fail(v, at, "bad-element", "%s", err)
	}
	xml := withAttrs(w.Bytes(), annotationAttrs(r.d.Schema, notes))
	return tree.NewOpaque(s, tree.Opaque{Space: s.Module.Namespace, Local: s.Name, XML: xml}), nil
}

// anyXML turns the JSON of anydata into its element.
func anyXML(s *schema.Schema, n *schema.Node, doc []byte) ([]byte, error) {
	v, err := parseJSON(doc, markup.Limits{})
	if err != nil {
		return nil, err
	}
	w := &markup.Writer{}
	err = writeAny(s, w, markup.Name{Space: n.Module.Namespace, Local: n.Name}, v)
	return w.Bytes(), err
}

func writeAny(s *schema.Schema, w *markup.Writer, name markup.Name, v *value) error {
	if v.kind == '[' {
		for _, item := range v.array {
			if item.kind == '[' {
				return fmt.Errorf("an array in an array has no form in XML")
			}
			if err := writeAny(s, w, name, item); err != nil {
				return err
			}
		}
		return nil
	}
	w.Start(name)
	defer w.End()
	switch x := v.scalar.(type) {
	case string:
		w.Text(x)
	case nil:
	default:
		w.Text(fmt.Sprint(x))
	}
	for _, m := range v.members {
		inner := markup.Name{Space: name.Space, Local: m.name}
		if module, local, ok := strings.Cut(m.name, ":"); ok {
			mod := s.ModuleByName(module)
			if mod == nil && module != "" {
				return fmt.Errorf("module %q of %s is not known", module, m.name)
			}
			inner = markup.Name{Local: local}
			if mod != nil {
				inner.Space = mod.Namespace
			}
		}
		if !isName(inner.Local) {
			return fmt.Errorf("%q is not a name", m.name)
		}
		if err := writeAny(s, w, inner, m.value); err != nil {
			return err
		}
	}
	return nil
}

// isName holds for YANG identifiers (RFC 7950 section 6.2), which any element
// of anydata has.
func isName(s string) bool {
	for i := range len(s) {
		c := s[i]
		letter := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_'
		if !letter && (i == 0 || !(c >= '0' && c <= '9' || c == '-' || c == '.')) {
			return false
		}
	}
	return s != ""
}
