package codec

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"

	"oakenlatch/core/markup"
	"oakenlatch/core/tree"
)

// InstanceNS is the namespace of instance data files (RFC 9195).
const InstanceNS = "urn:ietf:params:xml:ns:yang:ietf-yang-instance-data"

const (
	instanceModule = "ietf-yang-instance-data"
	instanceSet    = "instance-data-set"
)

// Instance is an instance data set (RFC 9195 section 2): a configuration with
// what is known of it. Times are RFC 3339 texts, as the file has them.
type Instance struct {
	Name, Description, Contact string
	Organization               []string
	Datastore                  string // an identity of ietf-datastores, such as "ietf-datastores:running"
	Timestamp                  string
	Modules                    []string // name@revision, the simplified content schema of section 2.2.2
	Revisions                  []InstanceRevision
	Content                    *tree.Node
}

// InstanceRevision is one entry of a set's history.
type InstanceRevision struct{ Date, Description string }

// header lists the texts of an instance data set in the order of RFC 9195;
// both encodings write them the same way.
func (in *Instance) header() []struct {
	name string
	text *string
} {
	return []struct {
		name string
		text *string
	}{
		{"name", &in.Name}, {"description", &in.Description}, {"contact", &in.Contact},
		{"datastore", &in.Datastore}, {"timestamp", &in.Timestamp},
	}
}

// InstanceXML writes an instance data file in XML.
func (d Decoder) InstanceXML(in *Instance) []byte {
	w := &markup.Writer{Indent: "  "}
	name := func(local string) markup.Name { return markup.Name{Space: InstanceNS, Local: local} }
	w.Start(name(instanceSet))
	if len(in.Modules) > 0 {
		w.Start(name("content-schema"))
		for _, m := range in.Modules {
			w.Leaf(name("module"), m)
		}
		w.End()
	}
	for _, f := range in.header() {
		if *f.text == "" {
			continue
		}
		if module, _, ok := strings.Cut(*f.text, ":"); f.name == "datastore" && ok {
			w.Leaf(name(f.name), *f.text, "xmlns:"+module, "urn:ietf:params:xml:ns:yang:"+module)
			continue
		}
		w.Leaf(name(f.name), *f.text)
	}
	for _, o := range in.Organization {
		w.Leaf(name("organization"), o)
	}
	for _, r := range in.Revisions {
		w.Start(name("revision"))
		w.Leaf(name("date"), r.Date)
		if r.Description != "" {
			w.Leaf(name("description"), r.Description)
		}
		w.End()
	}
	w.Start(name("content-data"))
	Encode(w, d.Schema, in.Content)
	w.End()
	w.End()
	return append(w.Bytes(), '\n')
}

// InstanceJSON writes an instance data file in JSON.
func (d Decoder) InstanceJSON(in *Instance) []byte {
	w := &jsonWriter{s: d.Schema}
	first := true
	member := func(name string, depth int) {
		if !first {
			w.buf.WriteByte(',')
		}
		first = false
		w.newline(depth)
		w.text(name)
		w.buf.WriteString(": ")
	}
	texts := func(list []string) {
		w.buf.WriteByte('[')
		for i, t := range list {
			if i > 0 {
				w.buf.WriteString(", ")
			}
			w.text(t)
		}
		w.buf.WriteByte(']')
	}
	w.buf.WriteString("{\n  \"" + instanceModule + ":" + instanceSet + "\": {")
	if len(in.Modules) > 0 {
		member("content-schema", 2)
		w.buf.WriteString("{ \"module\": ")
		texts(in.Modules)
		w.buf.WriteString(" }")
	}
	for _, f := range in.header() {
		if *f.text != "" {
			member(f.name, 2)
			w.text(*f.text)
		}
	}
	if len(in.Organization) > 0 {
		member("organization", 2)
		texts(in.Organization)
	}
	if len(in.Revisions) > 0 {
		member("revision", 2)
		w.buf.WriteByte('[')
		for i, r := range in.Revisions {
			if i > 0 {
				w.buf.WriteString(", ")
			}
			w.buf.WriteString("{ \"date\": ")
			w.text(r.Date)
			w.buf.WriteString(", \"description\": ")
			w.text(r.Description)
			w.buf.WriteString(" }")
		}
		w.buf.WriteByte(']')
	}
	member("content-data", 2)
	w.object(in.Content, nil, 2)
	w.buf.WriteString("\n  }\n}\n")
	return w.buf.Bytes()
}

// instanceFromXML reads an instance-data-set element.
func (d Decoder) instanceFromXML(el *markup.Element) (*Instance, error) {
	in := &Instance{Content: tree.Empty}
	for _, c := range el.Children {
		if c.Name.Space != InstanceNS {
			continue
		}
		switch c.Name.Local {
		case "content-schema":
			for _, m := range c.Children {
				switch m.Name.Local {
				case "module":
					in.Modules = append(in.Modules, m.Value())
				case "inline-yang-library":
					in.Modules = append(in.Modules, libraryModules(m)...)
				}
			}
		case "organization":
			in.Organization = append(in.Organization, c.Value())
		case "revision":
			in.Revisions = append(
				in.Revisions,
				InstanceRevision{c.Child(InstanceNS, "date").Value(), c.Child(InstanceNS, "description").Value()},
			)
		case "content-data":
			var err error
			if in.Content, err = d.Tree(c); err != nil {
				return nil, err
			}
		default:
			in.set(c.Name.Local, c.Value())
		}
	}
	return in, nil
}

// libraryModules lists the modules of a YANG library (RFC 8525, RFC 7895).
func libraryModules(el *markup.Element) []string {
	var out []string
	for _, c := range el.Children {
		if c.Name.Local == "module" && c.Find("name") != nil {
			m := c.Find("name").Value()
			if r := c.Find("revision").Value(); r != "" {
				m += "@" + r
			}
			out = append(out, m)
			continue
		}
		out = append(out, libraryModules(c)...)
	}
	return out
}

func (in *Instance) set(name, text string) {
	for _, f := range in.header() {
		if f.name == name {
			*f.text = text
		}
	}
}

func (d Decoder) instanceFromJSON(doc []byte, v *value) (*Instance, error) {
	in := &Instance{Content: tree.Empty}
	texts := func(v *value) (out []string) {
		for _, item := range v.array {
			out = append(out, fmt.Sprint(item.scalar))
		}
		return out
	}
	for _, m := range v.members {
		switch m.name {
		case "content-schema":
			for _, c := range m.value.members {
				if c.name == "module" {
					in.Modules = texts(c.value)
				}
			}
		case "organization":
			in.Organization = texts(m.value)
		case "revision":
			for _, r := range m.value.array {
				var rev InstanceRevision
				for _, f := range r.members {
					text, _ := f.value.scalar.(string)
					switch f.name {
					case "date":
						rev.Date = text
					case "description":
						rev.Description = text
					}
				}
				in.Revisions = append(in.Revisions, rev)
			}
		case "content-data":
			var err error
			if in.Content, err = d.jsonTree(doc, m.value); err != nil {
				return nil, err
			}
		default:
			if text, ok := m.value.scalar.(string); ok {
				in.set(m.name, text)
			}
		}
	}
	return in, nil
}

// Format is how a document is written.
type Format string

// The formats that are read and written.
const (
	FormatXML     Format = "xml"
	FormatJSON    Format = "json"
	FormatOutline Format = "outline"
)

// Recognise says how a document is written, from its content.
func Recognise(doc []byte) Format {
	text := bytes.TrimLeft(bytes.TrimPrefix(doc, []byte("\xef\xbb\xbf")), " \t\r\n")
	switch {
	case bytes.HasPrefix(text, []byte("<")):
		return FormatXML
	case bytes.HasPrefix(text, []byte("{")):
		return FormatJSON
	}
	return FormatOutline
}

// Document is what was read of a file.
type Document struct {
	Format   Format
	Instance *Instance // set for an instance data file
	Content  *tree.Node
}

// Read reads a configuration in any of the formats, recognised by its content:
// an instance data file, the XML or JSON of a configuration with or without an
// envelope, or an outline.
func (d Decoder) Read(doc []byte) (*Document, error) {
	doc = bytes.TrimPrefix(doc, []byte("\xef\xbb\xbf"))
	out := &Document{Format: Recognise(doc)}
	var err error
	switch out.Format {
	case FormatXML:
		err = d.readXML(doc, out)
	case FormatJSON:
		var v *value
		if v, err = parseJSON(doc, d.Limits); err != nil {
			return nil, err
		}
		if len(v.members) == 1 && v.members[0].name == instanceModule+":"+instanceSet {
			out.Instance, err = d.instanceFromJSON(doc, v.members[0].value)
			break
		}
		out.Content, err = d.jsonTree(doc, v)
	default:
		out.Content, err = d.ParseOutline(string(doc))
	}
	if err == nil && out.Instance != nil {
		out.Content = out.Instance.Content
	}
	return out, err
}

// envelopes are the elements a configuration comes in.
var envelopes = map[markup.Name]bool{
	{Space: NetconfNS, Local: "config"}: true, {Space: NetconfNS, Local: "data"}: true,
	{Local: "config"}: true, {Local: "data"}: true,
	{Space: "urn:ietf:params:xml:ns:yang:ietf-restconf", Local: "data"}: true,
}

// jsonEnvelopes are those of JSON.
var jsonEnvelopes = map[string]bool{
	"ietf-netconf:config": true, "ietf-netconf:data": true, "ietf-restconf:data": true, "data": true, "config": true,
}

const wrapping = "<config>"

func (d Decoder) readXML(doc []byte, out *Document) error {
	r, err := markup.NewReader(doc, d.Limits)
	if err != nil {
		return err
	}
	if _, err := r.Next(); err != nil {
		return err
	}
	switch name := r.Name(); {
	case envelopes[name]:
		out.Content, err = d.ParseTree(doc)
	case name == markup.Name{
		Space: InstanceNS, Local: instanceSet,
	}, name == markup.Name{Space: NetconfNS, Local: "rpc-reply"}:
		el, perr := markup.Parse(doc, d.Limits)
		if perr != nil {
			return perr
		}
		if name.Space == InstanceNS {
			out.Instance, err = d.instanceFromXML(el)
			break
		}
		out.Content, err = d.Tree(el.Find("data"))
	default:
		// The nodes themselves, as many as there are.
		if end := bytes.Index(doc, []byte("?>")); end >= 0 && bytes.HasPrefix(bytes.TrimSpace(doc), []byte("<?")) {
			doc = append(bytes.Repeat([]byte(" "), end+2), doc[end+2:]...)
		}
		out.Content, err = d.ParseTree(slices.Concat([]byte(wrapping), doc, []byte("</config>")))
		var syn *markup.SyntaxError
		var bad *Error
		switch {
		case errors.As(err, &syn) && syn.Line == 1:
			syn.Column -= len(wrapping)
		case errors.As(err, &bad) && bad.Line == 1:
			bad.Column -= len(wrapping)
		}
	}
	return err
}
