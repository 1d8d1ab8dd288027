package tree

import (
	"slices"

	"oakenlatch/core/schema"
)

// Op is an edit operation (RFC 6241 section 7.2). None only descends.
type Op string

// The operations. Inherit stands for that of the parent element.
const (
	Inherit Op = ""
	Merge   Op = "merge"
	Replace Op = "replace"
	Create  Op = "create"
	Delete  Op = "delete"
	Remove  Op = "remove"
	None    Op = "none"
)

// Edit is one element of an edit document; its root has neither schema nor
// opaque content, only children.
type Edit struct {
	Schema   *schema.Node
	Op       Op
	Keys     []string // of a list entry or leaf-list value; nil on a list with Delete or Remove: all entries
	Value    string   // of a leaf, canonical
	Opaque   *Opaque
	Children []*Edit

	// Annotations replace a node's metadata; nil leaves that of a container or
	// list entry as it is, and gives a leaf none.
	Annotations []Annotation

	// Insert places an entry whose order the user gives (RFC 7950 sections
	// 7.7.9 and 7.8.6): first, last, or before or after the one of InsertKeys.
	Insert     string
	InsertKeys []string
}

// Error is a refused edit, in the terms of RFC 6241 appendix A.
type Error struct {
	Tag  string // data-exists, data-missing, bad-attribute, operation-not-supported
	Path string
	Msg  string
}

func (e *Error) Error() string { return e.Path + ": " + e.Msg }

// Apply carries out an edit document on a configuration and gives the result.
// def is the default-operation: Merge, Replace or None.
func Apply(base *Node, e *Edit, def Op) (*Node, error) {
	if def == Replace && e.Schema == nil {
		base = Empty
	}
	kids, err := applyChildren(base, e.Children, def, nil)
	if err != nil {
		return nil, err
	}
	return assemble(nil, kids, base.Annotations()), nil
}

func applyChildren(n *Node, edits []*Edit, op Op, at *editPath) (siblings, error) {
	w := opened{base: n}
	for _, e := range edits {
		if e.Schema != nil && (e.Schema.Kind == schema.List || e.Schema.Kind == schema.LeafList) && e.Keys == nil {
			if err := w.removeAll(e, op, at); err != nil {
				return siblings{}, err
			}
			continue
		}
		// Of what stands in a node that is made or replaced, all is new.
		exact := e.Op == Create || e.Op == Inherit && (op == Create || op == Replace)
		old := w.get(e, exact)
		res, err := applyOne(old, e, op, at)
		if err != nil {
			return siblings{}, err
		}
		if res != nil && res.Void() {
			res = nil
		}
		if err := w.set(e, exact, res, at); err != nil {
			return siblings{}, err
		}
		if res != nil {
			w.dropOtherCases(res)
		}
	}
	return w.close(), nil
}

func (w *opened) removeAll(e *Edit, op Op, at *editPath) error {
	if e.Op != Inherit {
		op = e.Op
	}
	if op != Delete && op != Remove {
		return &Error{"bad-element", at.to(e).String(), "names no entry; give the entry's keys"}
	}
	if w.drop(e.Schema) == 0 && op == Delete {
		return &Error{"data-missing", at.to(e).String(), "there is no entry to delete"}
	}
	return nil
}

// editPath is the edits that lead to one: a path that is made only where it is told.
type editPath struct {
	up   *editPath
	edit *Edit
}

func (w *editPath) path() Path {
	if w == nil {
		return nil
	}
	return w.up.to(w.edit)
}

// to gives the path of an edit below.
func (w *editPath) to(e *Edit) Path { return e.path(w.path()) }

func (e *Edit) path(at Path) Path {
	step := Step{Node: e.Schema, Keys: e.Keys}
	if e.Schema == nil {
		step.Opaque = e.Opaque.Local
	}
	return append(at[:len(at):len(at)], step)
}

// applyOne gives what an edit makes of a node: nil where it is gone.
func applyOne(old *Node, e *Edit, op Op, at *editPath) (*Node, error) {
	if e.Op != Inherit {
		op = e.Op
	}
	at = &editPath{at, e}
	switch op {
	case Delete:
		if old == nil {
			return nil, &Error{"data-missing", at.path().String(), "is not there, so it cannot be deleted"}
		}
		return nil, nil
	case Remove:
		return nil, nil
	case Create:
		if old != nil {
			return nil, &Error{"data-exists", at.path().String(), "is there already, so it cannot be created"}
		}
	case None:
		if old == nil && !(e.Schema != nil && e.Schema.Kind == schema.Container && !e.Schema.Presence) {
			if e.Schema != nil && e.Schema.KeyIndex() < 0 {
				return nil, &Error{"data-missing", at.path().String(), "is not there"}
			}
			return nil, nil
		}
		if e.Schema == nil || e.Schema.IsLeaf() || e.Opaque != nil {
			return old, nil
		}
	case Replace:
		old = nil
	}
	return rebuild(old, e, op, at)
}

// rebuild gives the node with the edit's content put on top of the old one.
func rebuild(old *Node, e *Edit, op Op, at *editPath) (*Node, error) {
	switch {
	case e.Opaque != nil:
		return NewOpaque(e.Schema, *e.Opaque), nil
	case e.Schema.Kind == schema.Leaf:
		return NewLeaf(e.Schema, e.Value).Annotated(e.Annotations), nil
	case e.Schema.Kind == schema.LeafList:
		return NewLeaf(e.Schema, e.Keys[0]).Annotated(e.Annotations), nil
	}
	if old == nil {
		var keys []*Node
		if e.Schema.Kind == schema.List {
			for i, k := range e.Schema.Keys {
				keys = append(keys, NewLeaf(e.Schema.Child(e.Schema.Module, k), e.Keys[i]))
			}
		}
		old = New(e.Schema, keys)
	}
	rest := e.Children
	if e.Schema.Kind == schema.List {
		rest = slices.DeleteFunc(slices.Clone(rest), func(c *Edit) bool {
			return c.Schema != nil && c.Schema.KeyIndex() >= 0 // the keys are already right
		})
	}
	kids, err := applyChildren(old, rest, op, at)
	if err != nil {
		return nil, err
	}
	notes := e.Annotations
	if notes == nil {
		notes = old.Annotations()
	}
	return assemble(e.Schema, kids, notes), nil
}

// Put is the edit that sets what a path leads to, making what leads there. The
// value is a leaf's, canonical; a leaf-list's is in the path's keys.
func Put(p Path, value string) *Edit { return lead(p, Merge, Merge, value) }

// DeleteAt is the edit that deletes what a path leads to; it must be there.
func DeleteAt(p Path) *Edit { return lead(p, None, Delete, "") }

func lead(p Path, way, end Op, value string) *Edit {
	root := &Edit{}
	at := root
	for i, s := range p {
		e := &Edit{Schema: s.Node, Keys: s.Keys, Op: way}
		if i == len(p)-1 {
			e.Op, e.Value = end, value
		}
		at.Children = append(at.Children, e)
		at = e
	}
	return root
}
