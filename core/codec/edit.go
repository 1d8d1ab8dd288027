package codec

import (
	"bytes"
	"fmt"
	"regexp"
	"strings"

	"oakenlatch/core/clip"
	"oakenlatch/core/markup"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// Edit reads the children of a <config> element of an edit-config as an edit
// document (RFC 6241 section 7.2).
func (d Decoder) Edit(el *markup.Element) (*tree.Edit, error) {
	root := &tree.Edit{}
	var err error
	if root.Op, err = operation(el, nil); err != nil {
		return nil, err
	}
	root.Children, err = d.edits(nil, el, nil)
	return root, err
}

func operation(el *markup.Element, at tree.Path) (tree.Op, error) {
	v, ok := el.Attr(NetconfNS, "operation")
	switch op := tree.Op(v); {
	case !ok:
		return tree.Inherit, nil
	case op == tree.Merge, op == tree.Replace, op == tree.Create, op == tree.Delete, op == tree.Remove:
		return op, nil
	}
	return "", &Error{
		Tag: "bad-attribute", Path: at.String(),
		Msg: fmt.Sprintf("operation %q is not one of merge, replace, create, delete, remove", v),
	}
}

func (d Decoder) edits(parent *schema.Node, el *markup.Element, at tree.Path) ([]*tree.Edit, error) {
	if strings.TrimSpace(el.Text) != "" {
		return nil, &Error{
			Tag: "bad-element", Path: at.String(),
			Msg: fmt.Sprintf("holds text %q where only elements belong", clip.Line(el.Text, mostTold)),
		}
	}
	var out []*tree.Edit
	for _, c := range el.Children {
		s := d.lookup(parent, c.Name)
		if s == nil {
			if d.Strict {
				return nil, d.unknown(at, c.Name)
			}
			o := withoutOperation(c)
			op, err := operation(c, at)
			if err != nil {
				return nil, err
			}
			out = append(out, &tree.Edit{Op: op, Opaque: &o})
			continue
		}
		if d.Strict && !s.Config {
			return nil, &Error{
				Tag: "invalid-value", Path: append(at[:len(at):len(at)], tree.Step{Node: s}).String(),
				Msg: "is state, not configuration",
			}
		}
		e, err := d.edit(s, c, at)
		if err != nil {
			return nil, err
		}
		out = append(out, e)
	}
	return out, nil
}

func (d Decoder) edit(s *schema.Node, el *markup.Element, at tree.Path) (*tree.Edit, error) {
	here := append(at[:len(at):len(at)], tree.Step{Node: s})
	e := &tree.Edit{Schema: s}
	var err error
	if e.Op, err = operation(el, here); err != nil {
		return nil, err
	}
	if s.Kind != schema.AnyData && s.Kind != schema.AnyXML {
		e.Annotations = d.annotations(el.Attrs, el.Resolve)
	}
	gone := e.Op == tree.Delete || e.Op == tree.Remove
	switch s.Kind {
	case schema.AnyData, schema.AnyXML:
		o := withoutOperation(el)
		e.Opaque = &o
		return e, nil
	case schema.Leaf:
		if gone && strings.TrimSpace(el.Text) == "" {
			return e, nil // the value need not be told to delete a leaf
		}
		e.Value, err = d.value(s, el, here)
		return e, err
	case schema.LeafList:
		v, err := d.value(s, el, here)
		if err != nil {
			return nil, err
		}
		e.Keys = []string{v}
		here[len(here)-1].Keys = e.Keys
		return e, d.insertion(e, el, here)
	case schema.List:
		if e.Keys, err = d.keys(s, el, here); err != nil {
			return nil, err
		}
		here[len(here)-1].Keys = e.Keys
		if err := d.insertion(e, el, here); err != nil {
			return nil, err
		}
	}
	if !gone {
		e.Children, err = d.edits(s, el, here)
	}
	return e, err
}

// insertion reads the attributes that place an entry (RFC 7950 sections 7.7.9
// and 7.8.6).
func (d Decoder) insertion(e *tree.Edit, el *markup.Element, at tree.Path) error {
	where, ok := el.Attr(YangNS, "insert")
	if !ok {
		return nil
	}
	if !e.Schema.UserOrdered {
		return &Error{Tag: "bad-attribute", Path: at.String(), Msg: "insert is for lists whose order the user gives"}
	}
	e.Insert = where
	switch where {
	case "first", "last":
		return nil
	case "before", "after":
	default:
		return &Error{
			Tag: "bad-attribute", Path: at.String(),
			Msg: fmt.Sprintf("insert %q is not one of first, last, before, after", where),
		}
	}
	if e.Schema.Kind == schema.LeafList {
		v, ok := el.Attr(YangNS, "value")
		canon, err := d.Schema.Canonical(e.Schema.Type, v, d.resolver(el))
		if !ok || err != nil {
			return &Error{
				Tag: "missing-instance", Path: at.String(),
				Msg: fmt.Sprintf("insert %q needs the value of another entry, got %q", where, v),
			}
		}
		e.InsertKeys = []string{canon}
		return nil
	}
	v, _ := el.Attr(YangNS, "key")
	keys, err := d.keyPredicates(e.Schema, v, el)
	if err != nil {
		return &Error{Tag: "missing-instance", Path: at.String(), Msg: err.Error()}
	}
	e.InsertKeys = keys
	return nil
}

// keyPredicates reads [p:name='value']… into the list's key values.
func (d Decoder) keyPredicates(s *schema.Node, text string, el *markup.Element) ([]string, error) {
	keys := make([]string, len(s.Keys))
	found := 0
	for rest := strings.TrimSpace(text); rest != ""; rest = strings.TrimSpace(rest) {
		name, after, ok := strings.Cut(strings.TrimPrefix(rest, "["), "=")
		after = strings.TrimSpace(after)
		if !ok || rest[0] != '[' || after == "" || after[0] != '\'' && after[0] != '"' {
			return nil, fmt.Errorf("key %q is not of the form [name='value']", text)
		}
		value, tail, ok := strings.Cut(after[1:], after[:1])
		tail = strings.TrimSpace(tail)
		if !ok || !strings.HasPrefix(tail, "]") {
			return nil, fmt.Errorf("key %q is not of the form [name='value']", text)
		}
		rest = tail[1:]
		name = strings.TrimSpace(name)
		if i := strings.LastIndexByte(name, ':'); i >= 0 {
			name = name[i+1:]
		}
		for i, k := range s.Keys {
			if k == name {
				leaf := s.Child(s.Module, k)
				canon, err := d.Schema.Canonical(leaf.Type, value, d.resolver(el))
				if err != nil {
					return nil, err
				}
				keys[i] = canon
				found++
			}
		}
	}
	if found != len(keys) {
		return nil, fmt.Errorf("key %q does not name all of %s", text, strings.Join(s.Keys, ", "))
	}
	return keys, nil
}

// EditXML gives an edit document whole, in a <config>.
func EditXML(s *schema.Schema, e *tree.Edit) []byte {
	w := &markup.Writer{}
	w.Start(markup.Name{Space: NetconfNS, Local: "config"})
	EncodeEdit(w, s, e)
	w.End()
	return w.Bytes()
}

// EncodeEdit writes an edit document's top-level elements into w, for an
// edit-config with default-operation none.
func EncodeEdit(w *markup.Writer, s *schema.Schema, root *tree.Edit) {
	for _, e := range root.Children {
		encodeEdit(w, s, e, tree.None)
	}
}

func encodeEdit(w *markup.Writer, s *schema.Schema, e *tree.Edit, inherited tree.Op) {
	var attrs []string
	op := e.Op
	if op == tree.Inherit {
		op = inherited
	}
	if op != inherited && op != tree.None {
		attrs = append(attrs, "xmlns:nc", NetconfNS, "nc:operation", string(op))
	}
	if e.Opaque != nil {
		raw := e.Opaque.XML
		if len(attrs) > 0 {
			raw = withAttrs(raw, attrs)
		}
		w.Raw(raw)
		return
	}
	name := markup.Name{Space: e.Schema.Module.Namespace, Local: e.Schema.Name}
	attrs = append(attrs, insertAttrs(s, e)...)
	attrs = append(attrs, annotationAttrs(s, e.Annotations)...)
	if e.Schema.IsLeaf() {
		value := e.Value
		if e.Schema.Kind == schema.LeafList {
			value = e.Keys[0]
		}
		if e.Schema.Kind == schema.Leaf && (op == tree.Delete || op == tree.Remove) {
			value = ""
		}
		text, decl := valueXML(s, e.Schema, value)
		w.Leaf(name, text, append(attrs, decl...)...)
		return
	}
	w.Start(name, attrs...)
	for i, k := range e.Keys {
		leaf := e.Schema.Child(e.Schema.Module, e.Schema.Keys[i])
		text, decl := valueXML(s, leaf, k)
		w.Leaf(markup.Name{Space: leaf.Module.Namespace, Local: e.Schema.Keys[i]}, text, decl...)
	}
	for _, c := range e.Children {
		if c.Schema != nil && c.Schema.KeyIndex() >= 0 {
			continue
		}
		encodeEdit(w, s, c, op)
	}
	w.End()
}

func insertAttrs(s *schema.Schema, e *tree.Edit) []string {
	if e.Insert == "" {
		return nil
	}
	attrs := []string{"xmlns:yang", YangNS, "yang:insert", e.Insert}
	if e.InsertKeys == nil {
		return attrs
	}
	if e.Schema.Kind == schema.LeafList {
		text, decl := valueXML(s, e.Schema, e.InsertKeys[0])
		return append(append(attrs, decl...), "yang:value", text)
	}
	m := e.Schema.Module
	attrs = append(attrs, "xmlns:"+m.Prefix, m.Namespace)
	var b strings.Builder
	for i, k := range e.InsertKeys {
		leaf := e.Schema.Child(m, e.Schema.Keys[i])
		text, decl := valueXML(s, leaf, k)
		for j := 0; j+1 < len(decl); j += 2 {
			if decl[j] != "xmlns:"+m.Prefix {
				attrs = append(attrs, decl[j], decl[j+1])
			}
		}
		quote := "'"
		if strings.Contains(text, quote) {
			quote = `"`
		}
		fmt.Fprintf(&b, "[%s:%s=%s%s%s]", m.Prefix, e.Schema.Keys[i], quote, text, quote)
	}
	return append(attrs, "yang:key", b.String())
}

var operationAttr = regexp.MustCompile(`^(<[^>]*?)\s+([\w.-]+):operation\s*=\s*(?:"[^"]*"|'[^']*')`)

// withoutOperation gives opaque content without the attribute that says what
// to do with it, and without that attribute's prefix if nothing else needs it.
func withoutOperation(el *markup.Element) tree.Opaque {
	o := opaque(el)
	if _, ok := el.Attr(NetconfNS, "operation"); !ok {
		return o
	}
	m := operationAttr.FindSubmatch(o.XML)
	if m == nil {
		return o
	}
	o.XML = operationAttr.ReplaceAll(o.XML, []byte("$1"))
	if prefix := string(m[2]); !bytes.Contains(o.XML, []byte(prefix+":")) {
		decl := regexp.MustCompile(`^(<[^>]*?)\s+xmlns:` + regexp.QuoteMeta(prefix) + `\s*=\s*(?:"[^"]*"|'[^']*')`)
		o.XML = decl.ReplaceAll(o.XML, []byte("$1"))
	}
	return o
}

// withAttrs puts attributes into the start tag of a fragment.
func withAttrs(raw []byte, attrs []string) []byte {
	end := 1
	for end < len(raw) && !strings.ContainsRune(" \t\r\n/>", rune(raw[end])) {
		end++
	}
	var b strings.Builder
	b.Write(raw[:end])
	for i := 0; i+1 < len(attrs); i += 2 {
		fmt.Fprintf(&b, ` %s="%s"`, attrs[i], markup.EscapeAttr(attrs[i+1]))
	}
	b.Write(raw[end:])
	return []byte(b.String())
}

// PathFilter gives a subtree filter (RFC 6241 section 6) for what is at a path:
// the entries on the way by their keys, and the last node with all below it.
func PathFilter(s *schema.Schema, p tree.Path) []byte {
	w := &markup.Writer{}
	for i, step := range p {
		name := markup.Name{Space: step.Node.Module.Namespace, Local: step.Node.Name}
		if i == len(p)-1 && step.Keys == nil {
			w.Leaf(name, "")
			break
		}
		if step.Node.Kind == schema.LeafList {
			text, decl := valueXML(s, step.Node, step.Keys[0])
			w.Leaf(name, text, decl...)
			break
		}
		w.Start(name)
		for k, key := range step.Keys {
			leaf := step.Node.Child(step.Node.Module, step.Node.Keys[k])
			text, decl := valueXML(s, leaf, key)
			w.Leaf(markup.Name{Space: leaf.Module.Namespace, Local: leaf.Name}, text, decl...)
		}
	}
	for i, step := range p {
		if i == len(p)-1 && step.Keys == nil || step.Node.Kind == schema.LeafList {
			break
		}
		w.End()
	}
	return w.Bytes()
}
