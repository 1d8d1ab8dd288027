package diff

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"oakenlatch/core/codec"
	"oakenlatch/core/markup"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// PatchNS is the namespace of YANG Patch (RFC 8072 section 3).
const PatchNS = "urn:ietf:params:xml:ns:yang:ietf-yang-patch"

const patchModule = "ietf-yang-patch:yang-patch"

// patchEdit is one edit of a YANG Patch (RFC 8072 section 2.5).
type patchEdit struct {
	id, operation, target, point, where string
	node                                *tree.Node // the value; nil for delete, remove and move
}

// patchEdits gives the difference as the edits of a YANG Patch on the root of
// a datastore.
func (d *Difference) patchEdits() []patchEdit {
	var out []patchEdit
	add := func(e patchEdit) {
		e.id = fmt.Sprintf("edit%d", len(out)+1)
		out = append(out, e)
	}
	var walk func(list []*Change)
	walk = func(list []*Change) {
		for _, c := range list {
			if c.Kind == Removed {
				add(patchEdit{operation: "delete", target: c.Path().Full(), node: onlyUnknown(c.Old)})
			}
		}
		for _, c := range list {
			switch c.Kind {
			case Contains:
				walk(c.Children)
			case Changed:
				add(patchEdit{operation: "replace", target: c.Path().Full(), node: c.New})
			case Added:
				e := patchEdit{operation: "create", target: c.Path().Full(), node: c.New}
				if c.Placed {
					e.operation = "insert"
					e.place(c)
				}
				add(e)
			case Moved:
				if tree.Same(c.Old, c.New) {
					e := patchEdit{operation: "move", target: c.Path().Full()}
					e.place(c)
					add(e)
					continue
				}
				add(patchEdit{operation: "delete", target: c.Path().Full()})
				e := patchEdit{operation: "insert", target: c.Path().Full(), node: c.New}
				e.place(c)
				add(e)
			}
		}
	}
	walk(d.Changes)
	return out
}

// onlyUnknown keeps the value of a node that a path alone cannot name.
func onlyUnknown(n *tree.Node) *tree.Node {
	if n.Schema() == nil {
		return n
	}
	return nil
}

func (e *patchEdit) place(c *Change) {
	if c.after == nil {
		e.where = "first"
		return
	}
	p := append(tree.Path{}, c.Path()...)
	p[len(p)-1].Keys = c.After()
	e.where, e.point = "after", p.Full()
}

// YangPatchXML renders the difference as a YANG Patch (RFC 8072) in XML.
func (d *Difference) YangPatchXML(s *schema.Schema, id string) []byte {
	w := &markup.Writer{Indent: "  "}
	name := func(local string) markup.Name { return markup.Name{Space: PatchNS, Local: local} }
	w.Start(name("yang-patch"))
	w.Leaf(name("patch-id"), id)
	for _, e := range d.patchEdits() {
		w.Start(name("edit"))
		for _, f := range e.texts() {
			if f.text != "" {
				w.Leaf(name(f.name), f.text)
			}
		}
		if e.node != nil {
			w.Start(name("value"))
			codec.EncodeNode(w, s, e.node)
			w.End()
		}
		w.End()
	}
	w.End()
	return append(w.Bytes(), '\n')
}

type patchText struct{ name, text string }

func (e patchEdit) texts() []patchText {
	return []patchText{
		{"edit-id", e.id}, {"operation", e.operation}, {"target", e.target}, {"point", e.point}, {"where", e.where},
	}
}

// YangPatchJSON renders the difference as a YANG Patch (RFC 8072) in JSON.
func (d *Difference) YangPatchJSON(s *schema.Schema, id string) []byte {
	edits := []map[string]any{}
	for _, e := range d.patchEdits() {
		m := map[string]any{}
		for _, f := range e.texts() {
			if f.text != "" {
				m[f.name] = f.text
			}
		}
		if e.node != nil {
			m["value"] = json.RawMessage(codec.JSONNode(s, e.node))
		}
		edits = append(edits, m)
	}
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	if err := enc.Encode(map[string]any{patchModule: map[string]any{"patch-id": id, "edit": edits}}); err != nil {
		return nil // texts and what JSONNode wrote always encode
	}
	return b.Bytes()
}

// ApplyYangPatch carries out a YANG Patch in XML or JSON on a configuration;
// all of it, or nothing.
func ApplyYangPatch(s *schema.Schema, base *tree.Node, doc []byte) (*tree.Node, error) {
	edits, err := parsePatch(s, doc)
	if err != nil {
		return nil, err
	}
	for _, e := range edits {
		doc, err := e.edit(s)
		if err == nil {
			base, err = tree.Apply(base, doc, tree.None)
		}
		if err != nil {
			return nil, fmt.Errorf("edit %s, %s %s: %w", e.id, e.operation, e.target, err)
		}
	}
	return base, nil
}

func (e patchEdit) edit(s *schema.Schema) (*tree.Edit, error) {
	op := tree.Op(e.operation)
	var insert, beside string
	var besideKeys []string
	switch e.operation {
	case "create", "delete", "merge", "replace", "remove":
	case "insert", "move":
		op = map[string]tree.Op{"insert": tree.Create, "move": tree.None}[e.operation]
		insert, beside = e.where, e.point
		if insert == "" {
			insert = "last" // RFC 8072 section 3, leaf where
		}
		if insert == "before" || insert == "after" {
			p, err := tree.ParsePath(s, beside)
			if err == nil && len(p) == 0 {
				err = errors.New("it is the root, which is no entry")
			}
			if err != nil {
				return nil, fmt.Errorf("its point %q: %w", beside, err)
			}
			besideKeys = p[len(p)-1].Keys
		}
	default:
		return nil, fmt.Errorf(
			"operation %q is not one of create, delete, insert, merge, move, replace, remove", e.operation,
		)
	}
	if e.node != nil && e.node.Schema() == nil {
		cut := strings.LastIndexByte(e.target, '/')
		parent, err := tree.ParsePath(s, e.target[:max(0, cut)])
		if err != nil {
			return nil, err
		}
		if e.operation == "delete" || e.operation == "remove" {
			return under(parent, bare(e.node, op)), nil
		}
		return under(parent, whole(e.node, op)), nil
	}
	p, err := tree.ParsePath(s, e.target)
	if err != nil {
		return nil, err
	}
	if len(p) == 0 {
		return nil, fmt.Errorf("the target / is the whole configuration: name what is to be changed")
	}
	last := p[len(p)-1]
	out := &tree.Edit{Schema: last.Node, Keys: last.Keys, Op: op}
	needs := op == tree.Create || op == tree.Merge || op == tree.Replace
	switch {
	case e.operation == "move":
	case needs && e.node == nil:
		return nil, fmt.Errorf("needs a value")
	case needs && (e.node.Schema() != last.Node || tree.CompareKeys(e.node.Keys(), last.Keys) != 0):
		return nil, fmt.Errorf("its value is %s, not what the target names", strings.Join(codec.Heads(e.node), " "))
	case needs:
		out = whole(e.node, op)
	case last.Node.Kind == schema.List && last.Keys == nil && len(last.Node.Keys) > 0:
		return nil, fmt.Errorf("names no entry; give the entry's keys")
	}
	out.Insert, out.InsertKeys = insert, besideKeys
	return under(p[:len(p)-1], out), nil
}

// parsePatch reads the edits of a YANG Patch.
func parsePatch(s *schema.Schema, doc []byte) ([]patchEdit, error) {
	if codec.Recognise(doc) == codec.FormatJSON {
		return parsePatchJSON(s, doc)
	}
	root, err := markup.Parse(doc, markup.Limits{})
	if err != nil {
		return nil, err
	}
	if root.Name != (markup.Name{Space: PatchNS, Local: "yang-patch"}) {
		return nil, fmt.Errorf("not a YANG Patch: the document is %s of namespace %q", root.Name.Local, root.Name.Space)
	}
	var out []patchEdit
	for _, el := range root.Children {
		if el.Name.Local != "edit" {
			continue
		}
		text := func(name string) string { return el.Child(PatchNS, name).Value() }
		e := patchEdit{
			id: text("edit-id"), operation: text("operation"), target: text("target"), point: text("point"),
			where: text("where"),
		}
		if v := el.Child(PatchNS, "value"); v != nil && len(v.Children) > 0 {
			if e.node, err = (codec.Decoder{Schema: s}).NodeBelow(parentOf(s, e.target), v.Children[0]); err != nil {
				return nil, fmt.Errorf("edit %s: %w", e.id, err)
			}
		}
		out = append(out, e)
	}
	return out, nil
}

func parsePatchJSON(s *schema.Schema, doc []byte) ([]patchEdit, error) {
	var in map[string]struct {
		Edit []struct {
			ID        string `json:"edit-id"`
			Operation string
			Target    string
			Point     string
			Where     string
			Value     json.RawMessage
		}
	}
	if err := json.Unmarshal(doc, &in); err != nil {
		return nil, fmt.Errorf("not a YANG Patch: %w", err)
	}
	patch, ok := in[patchModule]
	if !ok {
		return nil, fmt.Errorf("not a YANG Patch: the document has no member %s", patchModule)
	}
	var out []patchEdit
	for _, f := range patch.Edit {
		e := patchEdit{id: f.ID, operation: f.Operation, target: f.Target, point: f.Point, where: f.Where}
		if len(f.Value) > 0 {
			var err error
			if e.node, err = (codec.Decoder{Schema: s}).JSONNodeBelow(parentOf(s, e.target), f.Value); err != nil {
				return nil, fmt.Errorf("edit %s: %w", e.id, err)
			}
		}
		out = append(out, e)
	}
	return out, nil
}

// parentOf gives the schema node that a target's parent is of, nil for the top
// or where it leads nowhere.
func parentOf(s *schema.Schema, target string) *schema.Node {
	p, err := tree.ParsePath(s, target[:max(0, strings.LastIndexByte(target, '/'))])
	if err != nil {
		return nil
	}
	return p.Last()
}
