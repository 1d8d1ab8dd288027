package codec

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"

	"oakenlatch/core/markup"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// unreadMember is the member of a JSON object that carries, as strings of XML,
// what has no JSON form of its own: elements that no module describes, and
// anydata that says more than JSON can.
const unreadMember = "oaken-latch:unread"

// JSON gives a configuration as JSON (RFC 7951), with metadata as RFC 7952
// section 5.2 has it, indented.
func JSON(s *schema.Schema, n *tree.Node) []byte {
	w := &jsonWriter{s: s}
	w.object(n, nil, 0)
	w.buf.WriteByte('\n')
	return w.buf.Bytes()
}

// JSONNode gives one node and all below it as JSON: an object with one member.
func JSONNode(s *schema.Schema, n *tree.Node) []byte {
	w := &jsonWriter{s: s}
	w.buf.WriteByte('{')
	w.members([]*tree.Node{n}, nil, 0, false)
	w.buf.WriteByte('}')
	var out bytes.Buffer
	if json.Compact(&out, w.buf.Bytes()) != nil {
		return w.buf.Bytes()
	}
	return out.Bytes()
}

type jsonWriter struct {
	s   *schema.Schema
	buf bytes.Buffer
}

func (w *jsonWriter) newline(depth int) {
	w.buf.WriteByte('\n')
	for range depth {
		w.buf.WriteString("  ")
	}
}

func (w *jsonWriter) text(v string) {
	enc := json.NewEncoder(&w.buf)
	enc.SetEscapeHTML(false)
	if enc.Encode(v) == nil { // strings always encode
		w.buf.Truncate(w.buf.Len() - 1)
	}
}

// name is a member's name: with its module where that is not the parent's.
func memberName(s *schema.Node, parent *schema.Module) string {
	if s.Module != parent {
		return s.Module.Name + ":" + s.Name
	}
	return s.Name
}

func (w *jsonWriter) object(n *tree.Node, parent *schema.Module, depth int) {
	w.buf.WriteByte('{')
	some := false
	if notes := n.Annotations(); len(notes) > 0 {
		w.newline(depth + 1)
		w.buf.WriteString(`"@": `)
		w.notes(notes, depth+1)
		some = true
	}
	some = w.members(n.Children(), parent, depth, some)
	if some {
		w.newline(depth)
	}
	w.buf.WriteByte('}')
}

// members writes siblings, gathering the entries of lists into arrays.
func (w *jsonWriter) members(kids []*tree.Node, parent *schema.Module, depth int, some bool) bool {
	member := func(name string) {
		if some {
			w.buf.WriteByte(',')
		}
		some = true
		w.newline(depth + 1)
		w.text(name)
		w.buf.WriteString(": ")
	}
	for i := 0; i < len(kids); {
		s := kids[i].Schema()
		j := i + 1
		for j < len(kids) && kids[j].Schema() == s {
			j++
		}
		group := kids[i:j]
		i = j
		if s == nil {
			member(unreadMember)
			w.unread(group, depth+1)
			continue
		}
		member(memberName(s, parent))
		switch s.Kind {
		case schema.List:
			w.array(group, depth+1, func(n *tree.Node) { w.object(n, s.Module, depth+2) })
		case schema.LeafList:
			w.array(group, depth+1, func(n *tree.Node) { w.value(s, n.Value()) })
		case schema.Leaf:
			w.value(s, group[0].Value())
		case schema.Container:
			w.object(group[0], s.Module, depth+1)
		default:
			w.any(group[0], depth+1)
		}
		if s.IsLeaf() && slices.ContainsFunc(group, func(n *tree.Node) bool { return len(n.Annotations()) > 0 }) {
			member("@" + memberName(s, parent))
			if s.Kind == schema.Leaf {
				w.notes(group[0].Annotations(), depth+1)
			} else {
				w.array(group, depth+1, func(n *tree.Node) { w.notes(n.Annotations(), depth+2) })
			}
		}
	}
	return some
}

func (w *jsonWriter) array(group []*tree.Node, depth int, one func(*tree.Node)) {
	w.buf.WriteByte('[')
	for i, n := range group {
		if i > 0 {
			w.buf.WriteByte(',')
		}
		w.newline(depth + 1)
		one(n)
	}
	w.newline(depth)
	w.buf.WriteByte(']')
}

func (w *jsonWriter) unread(group []*tree.Node, depth int) {
	w.array(group, depth, func(n *tree.Node) { w.text(string(n.Opaque().XML)) })
}

func (w *jsonWriter) notes(notes []tree.Annotation, depth int) {
	if len(notes) == 0 {
		w.buf.WriteString("null")
		return
	}
	w.buf.WriteByte('{')
	for i, a := range notes {
		if i > 0 {
			w.buf.WriteByte(',')
		}
		w.newline(depth + 1)
		if a.Module == "" {
			w.text("{" + a.Space + "}" + a.Name) // no module at hand has it
		} else {
			w.text(a.Module + ":" + a.Name)
		}
		w.buf.WriteString(": ")
		if m := w.s.ModuleByName(a.Module); m != nil && m.Annotations[a.Name] != nil {
			w.typed(m.Annotations[a.Name], a.Value)
		} else {
			w.text(a.Value)
		}
	}
	w.newline(depth)
	w.buf.WriteByte('}')
}

func (w *jsonWriter) value(s *schema.Node, value string) { w.typed(s.Type, value) }

// typed writes a value as RFC 7951 section 6 has it.
func (w *jsonWriter) typed(t *schema.Type, value string) {
	t = w.s.Concrete(t, value)
	switch t.Base {
	case schema.Int8, schema.Int16, schema.Int32, schema.Uint8, schema.Uint16, schema.Uint32, schema.Boolean:
		if json.Valid([]byte(value)) {
			w.buf.WriteString(value)
			return
		}
	case schema.Empty:
		w.buf.WriteString("[null]")
		return
	case schema.InstanceIdentifier:
		if in, err := schema.ParseInstance(value, w.s.NameResolver(nil)); err == nil {
			w.text(in.Short())
			return
		}
	}
	w.text(value)
}

// any writes anydata as the JSON it stands for (RFC 7951 section 5.5) where
// that says all there is, else as its XML.
func (w *jsonWriter) any(n *tree.Node, depth int) {
	raw := n.Opaque().XML
	el, err := markup.Parse(raw, markup.Limits{})
	if err == nil {
		var b bytes.Buffer
		if anyJSON(w.s, &b, el, n.Schema().Module) {
			if back, err := anyXML(w.s, n.Schema(), b.Bytes()); err == nil && bytes.Equal(back, raw) {
				var out bytes.Buffer
				if json.Indent(&out, b.Bytes(), strings.Repeat("  ", depth), "  ") == nil {
					w.buf.Write(out.Bytes())
					return
				}
			}
		}
	}
	w.buf.WriteByte('{')
	w.newline(depth + 1)
	w.text(unreadMember)
	w.buf.WriteString(": ")
	w.unread([]*tree.Node{n}, depth+1)
	w.newline(depth)
	w.buf.WriteByte('}')
}

// anyJSON writes an element's content without a schema: elements as members,
// repeated ones as arrays, text as strings. False where JSON cannot say it.
func anyJSON(s *schema.Schema, b *bytes.Buffer, el *markup.Element, parent *schema.Module) bool {
	if len(el.Attrs) > 0 {
		return false
	}
	if len(el.Children) == 0 {
		if el.Text == "" && el.Name.Local != "" {
			b.WriteString("{}")
			return true
		}
		out, err := json.Marshal(el.Text)
		b.Write(out)
		return err == nil
	}
	if strings.TrimSpace(el.Text) != "" {
		return false
	}
	members, ok := anyMembers(s, el, parent)
	if !ok {
		return false
	}
	b.WriteByte('{')
	for i, m := range members {
		if i > 0 {
			b.WriteByte(',')
		}
		name, err := json.Marshal(m.name)
		if err != nil {
			return false
		}
		b.Write(name)
		b.WriteByte(':')
		if len(m.els) > 1 {
			b.WriteByte('[')
		}
		for j, c := range m.els {
			if j > 0 {
				b.WriteByte(',')
			}
			if !anyJSON(s, b, c, m.mod) {
				return false
			}
		}
		if len(m.els) > 1 {
			b.WriteByte(']')
		}
	}
	b.WriteByte('}')
	return true
}

// anyMember is the elements of one name below an element of anydata.
type anyMember struct {
	name string
	els  []*markup.Element
	mod  *schema.Module
}

// anyMembers gathers an element's children by their names in JSON. False where
// their order would be lost, or a namespace has no module.
func anyMembers(s *schema.Schema, el *markup.Element, parent *schema.Module) ([]anyMember, bool) {
	var members []anyMember
	for _, c := range el.Children {
		m := s.ModuleByNamespace(c.Name.Space)
		if m == nil && c.Name.Space != "" {
			return nil, false
		}
		name := c.Name.Local
		switch {
		case m == nil && parent != nil:
			name = ":" + name // no namespace at all
		case m != parent:
			name = m.Name + ":" + name
		}
		if n := len(members); n > 0 && members[n-1].name == name {
			members[n-1].els = append(members[n-1].els, c)
			continue
		}
		if slices.ContainsFunc(members, func(o anyMember) bool { return o.name == name }) {
			return nil, false
		}
		members = append(members, anyMember{name, []*markup.Element{c}, m})
	}
	return members, true
}
