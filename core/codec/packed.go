package codec

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"

	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// The packed form of an edit document is for records, not for people: what a
// history keeps between one configuration and the next. It is read many times
// faster than XML, and docs/architecture.md describes it.
//
// A document is the byte 1 and a list of edits. A list is its length and the
// edits; every number is a varint, every text its length and its bytes. An edit
// is
//
//	a byte of the operation, and of which of the following are there
//	its name, unless it has no schema: 0, module and name for one that is new, else which of those before, from 1
//	the keys, of a list or leaf-list: their number and 1 more (0: all entries), the texts
//	the value, of a leaf that is not deleted
//	the opaque content: namespace, name, XML
//	the metadata: how many; module, namespace, name and value of each
//	where it is inserted: a text; the number of keys and 1 more (0: none), the texts
//	its children, of a container or list entry: a list
const packedVersion = 1

// What is there of an edit beside its operation.
const (
	packedOp      = 7
	packedOpaque  = 8
	packedNotes   = 16
	packedInsert  = 32
	packedUnknown = 64
)

// IsPacked tells the packed form from XML.
func IsPacked(text []byte) bool { return len(text) > 0 && text[0] == packedVersion }

var packedOps = []tree.Op{tree.Inherit, tree.Merge, tree.Replace, tree.Create, tree.Delete, tree.Remove, tree.None}

type packedName struct{ module, local string }

type packer struct {
	out   []byte
	names map[packedName]uint64
}

// PackEdit writes an edit document.
func PackEdit(root *tree.Edit) []byte {
	p := &packer{out: []byte{packedVersion}, names: map[packedName]uint64{}}
	p.list(root.Children)
	return p.out
}

func (p *packer) number(n int) { p.out = binary.AppendUvarint(p.out, uint64(n)) }

func (p *packer) text(s string) {
	p.number(len(s))
	p.out = append(p.out, s...)
}

// texts writes a list that may be none at all, which is another thing than one
// of no length.
func (p *packer) texts(list []string) {
	if list == nil {
		p.number(0)
		return
	}
	p.number(len(list) + 1)
	for _, s := range list {
		p.text(s)
	}
}

func isKey(e *tree.Edit) bool { return e.Schema != nil && e.Schema.KeyIndex() >= 0 }

func (p *packer) list(edits []*tree.Edit) {
	n := 0
	for _, e := range edits {
		if !isKey(e) {
			n++
		}
	}
	p.number(n)
	for _, e := range edits {
		if !isKey(e) {
			p.edit(e)
		}
	}
}

func (p *packer) edit(e *tree.Edit) {
	head := byte(slices.Index(packedOps, e.Op))
	for bit, there := range map[byte]bool{
		packedOpaque: e.Opaque != nil, packedNotes: len(e.Annotations) > 0, packedInsert: e.Insert != "",
		packedUnknown: e.Schema == nil,
	} {
		if there {
			head |= bit
		}
	}
	p.out = append(p.out, head)
	if e.Schema != nil {
		name := packedName{e.Schema.Module.Name, e.Schema.Name}
		have := p.names[name]
		p.out = binary.AppendUvarint(p.out, have)
		if have == 0 {
			p.names[name] = uint64(len(p.names) + 1)
			p.text(name.module)
			p.text(name.local)
		}
		switch {
		case e.Schema.Kind == schema.List || e.Schema.Kind == schema.LeafList:
			p.texts(e.Keys)
		case e.Schema.Kind == schema.Leaf && !gone(e.Op):
			p.text(e.Value)
		}
	}
	if o := e.Opaque; o != nil {
		p.text(o.Space)
		p.text(o.Local)
		p.text(string(o.XML))
	}
	if len(e.Annotations) > 0 {
		p.number(len(e.Annotations))
		for _, a := range e.Annotations {
			for _, s := range []string{a.Module, a.Space, a.Name, a.Value} {
				p.text(s)
			}
		}
	}
	if e.Insert != "" {
		p.text(e.Insert)
		p.texts(e.InsertKeys)
	}
	if inner(e) {
		p.list(e.Children)
	}
}

func gone(op tree.Op) bool { return op == tree.Delete || op == tree.Remove }

// inner tells whether an edit may have children.
func inner(e *tree.Edit) bool {
	return e.Schema != nil && e.Opaque == nil && !e.Schema.IsLeaf() && e.Schema.Kind != schema.AnyData &&
		e.Schema.Kind != schema.AnyXML && !gone(e.Op)
}

var errPacked = errors.New("packed edits end in the middle, or are none")

// unpacker reads; the first thing that is wrong stays.
type unpacker struct {
	schema *schema.Schema
	text   string
	names  []packedName
	err    error
}

// UnpackEdit reads an edit document for a schema.
func UnpackEdit(s *schema.Schema, text []byte) (*tree.Edit, error) {
	if !IsPacked(text) {
		return nil, errPacked
	}
	u := &unpacker{schema: s, text: string(text[1:])}
	root := &tree.Edit{Children: u.list(nil, 0)}
	if u.err == nil && u.text != "" {
		u.err = errPacked
	}
	return root, u.err
}

func (u *unpacker) fail(err error) {
	if u.err == nil {
		u.err = err
	}
	u.text = ""
}

func (u *unpacker) number() int {
	var n uint64
	for i := 0; i < len(u.text) && i < binary.MaxVarintLen32; i++ {
		b := u.text[i]
		n |= uint64(b&0x7f) << (7 * i)
		if b < 0x80 {
			u.text = u.text[i+1:]
			return int(n)
		}
	}
	u.fail(errPacked)
	return 0
}

// size is a number of things of which each takes a byte at least.
func (u *unpacker) size() int {
	n := u.number()
	if n > len(u.text) {
		u.fail(errPacked)
		return 0
	}
	return n
}

func (u *unpacker) string() string {
	n := u.size()
	s := u.text[:n]
	u.text = u.text[n:]
	return s
}

func (u *unpacker) strings() []string {
	n := u.number()
	if n == 0 || n-1 > len(u.text) {
		if n != 0 {
			u.fail(errPacked)
		}
		return nil
	}
	out := make([]string, n-1)
	for i := range out {
		out[i] = u.string()
	}
	return out
}

// deepest is how deep an edit document may be.
const deepest = 256

func (u *unpacker) list(parent *schema.Node, depth int) []*tree.Edit {
	n := u.size()
	if n == 0 {
		return nil
	}
	if depth > deepest {
		u.fail(fmt.Errorf("packed edits are deeper than %d", deepest))
		return nil
	}
	edits := make([]tree.Edit, n)
	out := make([]*tree.Edit, n)
	for i := range edits {
		out[i] = &edits[i]
		if u.edit(out[i], parent, depth); u.err != nil {
			return nil
		}
	}
	return out
}

func (u *unpacker) edit(e *tree.Edit, parent *schema.Node, depth int) {
	if u.text == "" {
		u.fail(errPacked)
		return
	}
	head := u.text[0]
	u.text = u.text[1:]
	if int(head&packedOp) >= len(packedOps) || head > 127 || head&packedUnknown != 0 && head&packedOpaque == 0 {
		u.fail(errPacked)
		return
	}
	e.Op = packedOps[head&packedOp]
	if head&packedUnknown == 0 {
		if e.Schema = u.child(parent); e.Schema == nil {
			return
		}
		switch {
		case e.Schema.Kind == schema.List || e.Schema.Kind == schema.LeafList:
			u.keys(e)
		case e.Schema.Kind == schema.Leaf && !gone(e.Op):
			e.Value = u.string()
		}
	}
	if head&packedOpaque != 0 {
		e.Opaque = &tree.Opaque{Space: u.string(), Local: u.string(), XML: []byte(u.string())}
	}
	if head&packedNotes != 0 {
		for range u.size() {
			e.Annotations = append(
				e.Annotations,
				tree.Annotation{Module: u.string(), Space: u.string(), Name: u.string(), Value: u.string()},
			)
		}
	}
	if head&packedInsert != 0 {
		e.Insert, e.InsertKeys = u.string(), u.strings()
	}
	if u.err == nil && inner(e) {
		e.Children = u.list(e.Schema, depth+1)
	}
}

// child reads a name and gives the schema node of it.
func (u *unpacker) child(parent *schema.Node) *schema.Node {
	which := u.number()
	if which > len(u.names) {
		u.fail(errPacked)
		return nil
	}
	if which == 0 {
		u.names = append(u.names, packedName{strings.Clone(u.string()), strings.Clone(u.string())})
		which = len(u.names)
	}
	name := u.names[which-1]
	m := u.schema.ModuleByName(name.module)
	var s *schema.Node
	if m != nil && u.err == nil {
		if parent == nil {
			s = u.schema.Root(m, name.local)
		} else {
			s = parent.Child(m, name.local)
		}
	}
	if s == nil {
		u.fail(fmt.Errorf("packed edits name %s:%s where the modules have none", name.module, name.local))
	}
	return s
}

func (u *unpacker) keys(e *tree.Edit) {
	e.Keys = u.strings()
	want := 1
	if e.Schema.Kind == schema.List {
		want = len(e.Schema.Keys)
	}
	if len(e.Keys) != want && !(e.Keys == nil && gone(e.Op)) {
		u.fail(fmt.Errorf("packed edits have %d keys for %s, which has %d", len(e.Keys), e.Schema.Name, want))
	}
}
