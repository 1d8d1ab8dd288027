package diff

import (
	"slices"

	"oakenlatch/core/tree"
)

// Edits gives the edit document that makes New of Old. Its default operation
// is none: only what differs is named.
func (d *Difference) Edits() *tree.Edit {
	return &tree.Edit{Op: tree.None, Children: edits(d.Changes)}
}

// Invert gives the difference that takes this one back.
func (d *Difference) Invert() *Difference { return Compare(d.New, d.Old) }

func edits(changes []*Change) []*tree.Edit {
	var out []*tree.Edit
	// What goes, goes first: another case of a choice may take its place.
	for _, c := range changes {
		if c.Kind == Removed {
			out = append(out, bare(c.Old, tree.Delete))
		}
	}
	for _, c := range changes {
		switch c.Kind {
		case Added:
			e := whole(c.New, tree.Merge)
			if c.Placed {
				position(e, c.After())
			}
			out = append(out, e)
		case Changed:
			op := tree.Replace // what is not understood, and a node with other metadata, is put there whole
			if s := c.New.Schema(); s != nil && s.IsLeaf() {
				op = tree.Merge
			}
			out = append(out, whole(c.New, op))
		case Moved:
			e := bare(c.New, tree.Merge)
			switch {
			case c.New.Schema().IsLeaf():
				e = whole(c.New, tree.Merge)
			case !slices.Equal(c.Old.Annotations(), c.New.Annotations()):
				e = whole(c.New, tree.Replace)
			default:
				e.Children = edits(c.Children)
			}
			position(e, c.After())
			out = append(out, e)
		case Within:
			e := bare(c.New, tree.None)
			e.Children = edits(c.Children)
			out = append(out, e)
		}
	}
	return out
}

// position puts an entry behind the one of those keys: first for nil.
func position(e *tree.Edit, after []string) {
	e.Insert, e.InsertKeys = "after", after
	if after == nil {
		e.Insert = "first"
	}
}

// bare is an edit of a node by itself, without what is below it.
func bare(n *tree.Node, op tree.Op) *tree.Edit {
	return &tree.Edit{Schema: n.Schema(), Op: op, Keys: n.Keys(), Value: n.Value(), Opaque: n.Opaque()}
}

// whole is an edit of a node with all that is below it. Entries whose order
// the user gives come in that order.
func whole(n *tree.Node, op tree.Op) *tree.Edit {
	e := bare(n, op)
	if n.Schema() == nil && (op == tree.Merge || op == tree.Inherit) {
		e.Op = tree.Create // merging into another of its name is not what is meant
	}
	e.Annotations = n.Annotations()
	for c := range n.Each() {
		e.Children = append(e.Children, whole(c, tree.Inherit))
	}
	return e
}

// Rebuilt gives the edits of a difference with every list whose order changed
// written anew by replacing the node it stands in. It is the other way for
// devices that answer an insertion without carrying it out.
func (d *Difference) Rebuilt() *tree.Edit {
	return &tree.Edit{Op: tree.None, Children: rebuilt(d.Changes)}
}

func rebuilt(changes []*Change) []*tree.Edit {
	var plain []*Change
	var out []*tree.Edit
	for _, c := range changes {
		if c.Kind == Within && slices.ContainsFunc(c.Children, func(k *Change) bool { return k.Placed }) {
			out = append(out, whole(c.New, tree.Replace))
			continue
		}
		if c.Kind == Within {
			e := bare(c.New, tree.None)
			e.Children = rebuilt(c.Children)
			out = append(out, e)
			continue
		}
		plain = append(plain, c)
	}
	return append(edits(plain), out...)
}

// OrderOnly reports whether two configurations differ in nothing but the order
// of entries.
func OrderOnly(d *Difference) bool {
	only := !d.Empty()
	d.Walk(func(c *Change) {
		if c.Kind != Moved || len(c.Children) > 0 {
			only = false
		}
	})
	return only
}

// HasOrder reports whether a difference places any entries.
func (d *Difference) HasOrder() bool {
	found := false
	d.Walk(func(c *Change) { found = found || c.Placed })
	return found
}
