package diff

import (
	"slices"
	"strings"

	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// Edits gives the edit document that makes New of Old. Its default operation
// is none: only what differs is named.
func (d *Difference) Edits() *tree.Edit {
	return &tree.Edit{Op: tree.None, Children: edits(d.Changes, d.New)}
}

// Forms gives edit documents that make New of Old, each naming fewer neighbours
// than the one before: entries placed one by one, the nodes written anew in which
// lists of another order stand, the top of the configuration written anew where it
// differs, the whole configuration. Without any order there is but one. The default
// operation of each is the Op of its root.
func (d *Difference) Forms() []*tree.Edit {
	if !d.HasOrder() {
		return []*tree.Edit{d.Edits()}
	}
	return []*tree.Edit{d.Edits(), d.Rebuilt(), d.topAnew(), d.allAnew()}
}

// allAnew replaces the whole configuration (RFC 6241 section 7.2, default-operation
// replace). Entries whose order the user gives come in that order and name nobody, those
// of a list that stands in no node too.
func (d *Difference) allAnew() *tree.Edit {
	root := &tree.Edit{Op: tree.Replace}
	for c := range d.New.Each() {
		root.Children = append(root.Children, content(c, tree.Inherit, true))
	}
	return root
}

// topAnew replaces every top-level node that differs.
func (d *Difference) topAnew() *tree.Edit {
	root := &tree.Edit{Op: tree.None}
	var plain []*Change
	for _, c := range d.Changes {
		if c.Kind == Contains {
			root.Children = append(root.Children, whole(c.New, tree.Replace))
		} else {
			plain = append(plain, c)
		}
	}
	root.Children = append(edits(plain, d.New), root.Children...)
	return root
}

// Tails deletes, of every list whose order differs, the entries from the first that
// another takes the place of: what is then missing is added at the end, one after
// another, and no order has to be asked for.
func (d *Difference) Tails() *tree.Edit {
	return &tree.Edit{Op: tree.None, Children: tails(d.Changes, d.Old, d.New)}
}

func tails(changes []*Change, old, now *tree.Node) (out []*tree.Edit) {
	gone := map[string]bool{}
	var lists []*schema.Node
	for _, c := range changes {
		s := c.node().Schema()
		if !c.Placed || slices.Contains(lists, s) {
			continue
		}
		lists = append(lists, s)
		a, b := old.All(s), now.All(s)
		n := 0
		for n < len(a) && n < len(b) && listKey(a[n]) == listKey(b[n]) {
			n++
		}
		for _, e := range a[n:] {
			gone[listKey(e)] = true
			out = append(out, bare(e, tree.Delete))
		}
	}
	for _, c := range changes {
		if c.Kind != Contains || gone[listKey(c.Old)] {
			continue
		}
		if kids := tails(c.Children, c.Old, c.New); len(kids) > 0 {
			e := bare(c.New, tree.None)
			e.Children = kids
			out = append(out, e)
		}
	}
	return out
}

// Invert gives the difference that takes this one back.
func (d *Difference) Invert() *Difference { return Compare(d.New, d.Old) }

// edits are those of the children of a node, which are to be as in now.
func edits(changes []*Change, now *tree.Node) []*tree.Edit {
	var out []*tree.Edit
	place := places(changes, now)
	if anew := nameless(changes, now, place); anew != nil {
		changes, place = anew, places(anew, now)
	}
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
			if c.Placed && place[c] != atEnd { // a new entry goes last by itself
				position(e, c, place[c])
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
				e.Children = edits(c.Children, c.New)
			}
			position(e, c, place[c])
			out = append(out, e)
		case Contains:
			e := bare(c.New, tree.None)
			e.Children = edits(c.Children, c.New)
			out = append(out, e)
		}
	}
	return frontFirst(out, place)
}

// where is how an entry is placed with the fewest neighbours.
type where int

const (
	behind  where = iota // the one before it is named
	atFront              // first; of several the last one goes first
	atEnd                // last, one after another
)

// places tells for each entry that is placed how: those at the end of their list go
// last one after another, those at its front first in turn, and name nobody, as
// there are devices that take no neighbour's name, or none of the same edit.
func places(changes []*Change, now *tree.Node) map[*Change]where {
	placed := map[string]*Change{}
	var lists []*schema.Node
	for _, c := range changes {
		if c.Placed {
			placed[listKey(c.New)] = c
			if s := c.New.Schema(); !slices.Contains(lists, s) {
				lists = append(lists, s)
			}
		}
	}
	if len(placed) == 0 {
		return nil
	}
	out := map[*Change]where{}
	for _, s := range lists {
		all := now.All(s)
		end := len(all)
		for end > 0 && placed[listKey(all[end-1])] != nil {
			end--
			out[placed[listKey(all[end])]] = atEnd
		}
		for n := 0; n < end && placed[listKey(all[n])] != nil; n++ {
			out[placed[listKey(all[n])]] = atFront
		}
	}
	return out
}

// nameless is for neighbours that cannot be named: a key with both kinds of quotes does
// not fit into a predicate (RFC 7950 section 9.13, XPath 1.0 section 3.7, Literal).
// All entries up to the one behind such a neighbour are placed then, so that they go to
// the front and name nobody. It gives nil where there is none.
func nameless(changes []*Change, now *tree.Node, place map[*Change]where) []*Change {
	upTo := map[*schema.Node]int{}
	for _, c := range changes {
		s := c.node().Schema()
		if !c.Placed || place[c] != behind || s.Kind != schema.List || !slices.ContainsFunc(c.After(), unnamed) {
			continue
		}
		all := now.All(s)
		n := slices.IndexFunc(all, func(e *tree.Node) bool { return listKey(e) == listKey(c.New) })
		upTo[s] = max(upTo[s], n)
	}
	if len(upTo) == 0 {
		return nil
	}
	of := map[string]*Change{}
	for _, c := range changes {
		if c.New != nil && c.New.Schema() != nil {
			of[listKey(c.New)] = c
		}
	}
	taken := map[*Change]bool{}
	var placed []*Change // of these lists, in order
	for s, last := range upTo {
		for n, e := range now.All(s) {
			c := of[listKey(e)]
			taken[c] = true
			switch {
			case c == nil && n <= last:
				c = &Change{Kind: Moved, Old: e, New: e, Placed: true}
			case c != nil && !c.Placed && n <= last:
				c = &Change{Kind: Moved, Old: c.Old, New: c.New, Children: c.Children, Placed: true}
			}
			if c != nil {
				placed = append(placed, c)
			}
		}
	}
	return append(slices.DeleteFunc(slices.Clone(changes), func(c *Change) bool { return taken[c] }), placed...)
}

func unnamed(key string) bool { return strings.Contains(key, "'") && strings.Contains(key, `"`) }

func listKey(n *tree.Node) string { return n.Schema().Path() + " " + tree.Identity(n) }

// frontFirst puts the edits of entries that go to the front into the order in which
// each goes before the last: behind all others, the hindmost first.
func frontFirst(list []*tree.Edit, place map[*Change]where) []*tree.Edit {
	if len(place) == 0 {
		return list
	}
	var front, out []*tree.Edit
	for _, e := range list {
		if e.Insert == "first" {
			front = append(front, e)
		} else {
			out = append(out, e)
		}
	}
	slices.Reverse(front)
	// Others may name one of them as their neighbour, so they come first.
	cut := slices.IndexFunc(out, func(e *tree.Edit) bool { return e.Insert != "" || e.Op != tree.Delete })
	if cut < 0 {
		return append(out, front...)
	}
	return slices.Concat(out[:cut], front, out[cut:])
}

// position places an entry.
func position(e *tree.Edit, c *Change, at where) {
	switch at {
	case atFront:
		e.Insert = "first"
	case atEnd:
		e.Insert = "last"
	default:
		follow(e, c.After())
	}
}

// follow puts an entry behind the one of those keys: first for nil.
func follow(e *tree.Edit, after []string) {
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
	return content(n, op, op == tree.Replace)
}

// content is whole; anew says that what the node stands in is replaced.
func content(n *tree.Node, op tree.Op, anew bool) *tree.Edit {
	e := bare(n, op)
	if n.Schema() == nil && (op == tree.Merge || op == tree.Inherit && !anew) {
		e.Op = tree.Create // merging into another of its name is not what is meant
	}
	e.Annotations = n.Annotations()
	for c := range n.Each() {
		e.Children = append(e.Children, content(c, tree.Inherit, anew))
	}
	return e
}

// Rebuilt gives the edits of a difference with every list whose order changed
// written anew by replacing the node it stands in. It is the other way for
// devices that answer an insertion without carrying it out.
func (d *Difference) Rebuilt() *tree.Edit {
	return &tree.Edit{Op: tree.None, Children: rebuilt(d.Changes, d.New)}
}

func rebuilt(changes []*Change, now *tree.Node) []*tree.Edit {
	var plain []*Change
	var out []*tree.Edit
	for _, c := range changes {
		if c.Kind == Contains && slices.ContainsFunc(c.Children, func(k *Change) bool { return k.Placed }) {
			out = append(out, whole(c.New, tree.Replace))
			continue
		}
		if c.Kind == Contains {
			e := bare(c.New, tree.None)
			e.Children = rebuilt(c.Children, c.New)
			out = append(out, e)
			continue
		}
		plain = append(plain, c)
	}
	return append(edits(plain, now), out...)
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
