package tree

import (
	"fmt"
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
	children, err := applyChildren(base, e.Children, def, nil)
	if err != nil {
		return nil, err
	}
	return Root(children), nil
}

func applyChildren(n *Node, edits []*Edit, op Op, at Path) ([]*Node, error) {
	out := slices.Clone(n.children)
	for _, e := range edits {
		// The node of the moment: earlier edits of this document count.
		cur := &Node{schema: n.schema, children: out}
		if e.Schema != nil && e.Schema.Kind == schema.List && e.Keys == nil {
			var err error
			if out, err = removeAll(cur, e, op, at); err != nil {
				return nil, err
			}
			continue
		}
		i := cur.locate(e)
		var old *Node
		if i >= 0 {
			old = out[i]
		}
		res, err := applyOne(old, e, op, at)
		if err != nil {
			return nil, err
		}
		switch {
		case res == nil && i >= 0:
			out = slices.Delete(slices.Clone(out), i, i+1)
		case res == nil:
		case i >= 0 && e.Insert == "":
			out[i] = res
		default:
			if i >= 0 {
				out = slices.Delete(slices.Clone(out), i, i+1)
			}
			if out, err = place(out, res, e, at); err != nil {
				return nil, err
			}
		}
		out = arrange(dropOtherCases(out, res))
	}
	return out, nil
}

// locate finds the child an edit is about, by schema and keys or, for unknown
// content, by name.
func (n *Node) locate(e *Edit) int {
	if e.Schema != nil {
		if e.Schema.IsLeaf() && e.Schema.Kind == schema.Leaf || e.Schema.Kind == schema.Container {
			return n.index(e.Schema, nil)
		}
		return n.index(e.Schema, e.Keys)
	}
	for i, c := range n.children {
		if c.schema == nil && c.opaque.Space == e.Opaque.Space && c.opaque.Local == e.Opaque.Local {
			return i
		}
	}
	return -1
}

func removeAll(n *Node, e *Edit, op Op, at Path) ([]*Node, error) {
	if e.Op != Inherit {
		op = e.Op
	}
	if op != Delete && op != Remove {
		return nil, &Error{"bad-element", append(at[:len(at):len(at)], Step{Node: e.Schema}).String(), "names no entry; give the entry's keys"}
	}
	from, to := n.run(e.Schema)
	if from == to && op == Delete {
		return nil, &Error{"data-missing", append(at[:len(at):len(at)], Step{Node: e.Schema}).String(), "there is no entry to delete"}
	}
	return slices.Delete(slices.Clone(n.children), from, to), nil
}

func (e *Edit) path(at Path) Path {
	step := Step{Node: e.Schema, Keys: e.Keys}
	if e.Schema == nil {
		step.Opaque = e.Opaque.Local
	}
	return append(at[:len(at):len(at)], step)
}

// applyOne gives what an edit makes of a node: nil where it is gone.
func applyOne(old *Node, e *Edit, op Op, at Path) (*Node, error) {
	if e.Op != Inherit {
		op = e.Op
	}
	at = e.path(at)
	switch op {
	case Delete:
		if old == nil {
			return nil, &Error{"data-missing", at.String(), "is not there, so it cannot be deleted"}
		}
		return nil, nil
	case Remove:
		return nil, nil
	case Create:
		if old != nil {
			return nil, &Error{"data-exists", at.String(), "is there already, so it cannot be created"}
		}
	case None:
		if old == nil && !(e.Schema != nil && e.Schema.Kind == schema.Container && !e.Schema.Presence) {
			if e.Schema != nil && e.Schema.KeyIndex() < 0 {
				return nil, &Error{"data-missing", at.String(), "is not there"}
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
func rebuild(old *Node, e *Edit, op Op, at Path) (*Node, error) {
	switch {
	case e.Opaque != nil:
		return NewOpaque(e.Schema, *e.Opaque), nil
	case e.Schema.Kind == schema.Leaf:
		return NewLeaf(e.Schema, e.Value), nil
	case e.Schema.Kind == schema.LeafList:
		return NewLeaf(e.Schema, e.Keys[0]), nil
	}
	if old == nil {
		old = &Node{schema: e.Schema}
		if e.Schema.Kind == schema.List {
			for i, k := range e.Schema.Keys {
				old.children = append(old.children, NewLeaf(e.Schema.Child(e.Schema.Module, k), e.Keys[i]))
			}
		}
	}
	var rest []*Edit
	for _, c := range e.Children {
		if c.Schema != nil && c.Schema.KeyIndex() >= 0 {
			continue // the keys are already right
		}
		rest = append(rest, c)
	}
	children, err := applyChildren(old, rest, op, at)
	if err != nil {
		return nil, err
	}
	return New(e.Schema, children), nil
}

// place puts a new entry of a list or leaf-list among its siblings.
func place(list []*Node, n *Node, e *Edit, at Path) ([]*Node, error) {
	cur := &Node{children: list}
	if n.schema == nil {
		return append(list, n), nil
	}
	from, to := cur.run(n.schema)
	pos := to
	switch e.Insert {
	case "first":
		pos = from
	case "before", "after":
		i := cur.index(n.schema, e.InsertKeys)
		if i < 0 || e.InsertKeys == nil {
			return nil, &Error{"bad-attribute", e.path(at).String(), fmt.Sprintf("cannot be put %s %v: that entry is not there", e.Insert, e.InsertKeys)}
		}
		pos = i
		if e.Insert == "after" {
			pos++
		}
	}
	return slices.Insert(slices.Clone(list), pos, n), nil
}

// dropOtherCases removes the nodes of the other cases of a choice once a node
// of one case is set (RFC 7950 section 7.9).
func dropOtherCases(list []*Node, set *Node) []*Node {
	if set == nil || set.schema == nil {
		return list
	}
	for c := set.schema.Parent; c != nil && c.Kind == schema.Case; c = c.Parent.Parent {
		choice := c.Parent
		list = slices.DeleteFunc(slices.Clone(list), func(o *Node) bool {
			return o.schema != nil && under(o.schema, choice) && !under(o.schema, c)
		})
	}
	return list
}

func under(n, top *schema.Node) bool {
	for p := n.Parent; p != nil && (p.Kind == schema.Case || p.Kind == schema.Choice); p = p.Parent {
		if p == top {
			return true
		}
	}
	return false
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
