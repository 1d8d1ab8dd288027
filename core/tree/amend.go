package tree

import (
	"slices"

	"oakenlatch/core/schema"
)

// MoveTo is the edit that puts an entry whose order the user gives in another
// place: insert is first, last, before or after the entry of those keys.
func MoveTo(p Path, insert string, keys []string) *Edit {
	root := lead(p, None, Merge, "")
	at := root
	for range p {
		at = at.Children[0]
	}
	at.Insert, at.InsertKeys = insert, keys
	return root
}

// Fitted gives an edit document without what can no longer be carried out on a
// configuration: deletions of what is gone already. What leads to something
// new is made where it is gone.
func Fitted(base *Node, e *Edit) *Edit {
	out := *e
	out.Children = nil
	for i, c := range e.Children {
		if f := fitted(base, c, e.Children[:i]); f != nil {
			out.Children = append(out.Children, f)
		}
	}
	return &out
}

// fitted is Fitted for one element; before are those that are carried out
// before it.
func fitted(parent *Node, e *Edit, before []*Edit) *Edit {
	if e.Schema == nil && e.Op == Delete {
		out := *e
		out.Op = Remove // whether it is there or not
		return &out
	}
	if e.Schema == nil || (e.Schema.Kind == schema.List || e.Schema.Kind == schema.LeafList) && e.Keys == nil {
		return e
	}
	var old *Node
	if parent != nil {
		old = parent.Find(e.Schema, e.Keys)
	}
	out := *e
	switch e.Op {
	case Delete:
		if old == nil {
			return nil
		}
		return e
	case Create:
		out.Op = Merge
		return &out
	case None, Inherit, Merge:
	default:
		return e
	}
	made := func(b *Edit) bool {
		return b.Schema == e.Schema && slices.Equal(b.Keys, e.InsertKeys) && b.Op != Delete && b.Op != Remove
	}
	if out.InsertKeys != nil && (parent == nil || parent.Find(e.Schema, e.InsertKeys) == nil) &&
		!slices.ContainsFunc(before, made) {
		out.Insert, out.InsertKeys = "", nil // its neighbour is gone
	}
	if e.Op != None {
		return &out
	}
	out.Children = nil
	for i, c := range e.Children {
		if f := fitted(old, c, e.Children[:i]); f != nil {
			out.Children = append(out.Children, f)
		}
	}
	if len(out.Children) == 0 && len(e.Children) > 0 {
		return nil
	}
	if old == nil && !e.Schema.IsLeaf() {
		out.Op = Merge
	}
	return &out
}

// Without takes what an edit document, whose default operation is none, does at
// a path and below it out of the document. Cut counts the edits taken out.
// Whole is set where the document deletes or replaces something above the path
// as a whole, so that nothing can be taken out of it; it is the path of that.
func (e *Edit) Without(p Path) (out *Edit, cut int, whole Path) {
	return e.without(p, nil, None)
}

// without is Without for an element at a path; op is what its parent does.
func (e *Edit) without(p, at Path, op Op) (out *Edit, cut int, whole Path) {
	if e.Op != Inherit {
		op = e.Op
	}
	if op == Delete || op == Remove || op == Replace {
		return e, 0, at
	}
	copied := *e
	copied.Children = nil
	next := p[len(at)]
	for _, c := range e.Children {
		if !c.isAt(next) {
			copied.Children = append(copied.Children, c)
			continue
		}
		below := c.path(at)
		if len(below) == len(p) {
			cut += max(1, c.acts(op))
			continue
		}
		kept, n, w := c.without(p, below, op)
		if w != nil {
			return e, 0, w
		}
		cut += n
		if kept != nil {
			copied.Children = append(copied.Children, kept)
		}
	}
	if len(at) > 0 && len(copied.Children) == 0 && cut > 0 && op == None {
		return nil, cut, nil // it only led there
	}
	return &copied, cut, nil
}

// isAt reports whether a step leads to the element; one without keys leads to
// all entries.
func (e *Edit) isAt(s Step) bool {
	if e.Schema != s.Node || e.Schema == nil && (e.Opaque == nil || e.Opaque.Local != s.Opaque) {
		return false
	}
	return s.Keys == nil || e.Keys == nil || slices.Equal(s.Keys, e.Keys)
}

// acts counts what an element does: itself where it does something else than
// what is above it, and what is below.
func (e *Edit) acts(op Op) int {
	n := 0
	if e.Op != Inherit && e.Op != None && e.Op != op {
		n, op = 1, e.Op
	}
	for _, c := range e.Children {
		n += c.acts(op)
	}
	return n
}
