package diff

import (
	"strings"

	"oakenlatch/core/codec"
	"oakenlatch/core/tree"
)

// The marks of a rendered difference; they always stand beside the colour.
const (
	MarkSame    = " "
	MarkAdded   = "+"
	MarkRemoved = "−"
	MarkChanged = "~"
	MarkMoved   = "↕"
)

// Line is one line of a difference as people read it.
type Line struct {
	Mark  string `json:"mark"`
	Depth int    `json:"depth"`
	Text  string `json:"text"`
	Path  string `json:"path,omitempty"` // of the changed node; empty for context
	Edit  int64  `json:"edit,omitempty"` // the staged edit that made it so, where that is told

	// Of a changed line: how it reads on either side.
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
}

// Sides gives a line as it stands on the old and on the new side, "" where it
// does not stand there.
func (l Line) Sides() (old, now string) {
	switch l.Mark {
	case MarkAdded:
		return "", l.Text
	case MarkRemoved:
		return l.Text, ""
	case MarkChanged:
		return l.Before, l.After
	}
	return l.Text, l.Text
}

// Lines renders the difference in outline form, with so many unchanged
// neighbours around each change and everything that leads to it.
func (d *Difference) Lines(context int) []Line {
	if d.Empty() {
		return nil
	}
	r := renderer{context: context}
	all := d.Changes
	if d.all != nil {
		all = d.all
	}
	r.children(d.Old, d.New, d.Changes, all, 0)
	return r.lines
}

// Text renders the difference as plain text.
func (d *Difference) Text(context int) string {
	var b strings.Builder
	for _, l := range d.Lines(context) {
		b.WriteString(l.Mark + " " + strings.Repeat("  ", l.Depth) + l.Text + "\n")
	}
	return b.String()
}

type renderer struct {
	context int
	lines   []Line
}

func (r *renderer) add(mark string, depth int, text string, path tree.Path) {
	l := Line{Mark: mark, Depth: depth, Text: text}
	if path != nil {
		l.Path = path.String()
	}
	r.lines = append(r.lines, l)
}

// slot is one sibling in the joint view of both sides.
type slot struct {
	same   *tree.Node
	change *Change
	beside bool // it changes, but is not what the difference was narrowed to
}

// children renders the siblings at one level: changes, and around them the
// unchanged neighbours. Of all that changes there, only changes are told.
func (r *renderer) children(old, new *tree.Node, changes, all []*Change, depth int) {
	slots := weave(old, new, changes, all)
	near := make([]bool, len(slots))
	for i, s := range slots {
		if s.change == nil {
			continue
		}
		for j := max(0, i-r.context); j <= min(len(slots)-1, i+r.context); j++ {
			near[j] = true
		}
	}
	gap := false
	for i, s := range slots {
		switch {
		case s.change != nil:
			r.change(s.change, depth)
			gap = false
		case near[i] && !s.beside:
			text := codec.Heads(s.same)[0]
			if len(s.same.Children()) > 0 && hidden(s.same) {
				text += " …"
			}
			r.add(MarkSame, depth, text, nil)
			gap = false
		case !gap:
			r.add(MarkSame, depth, "…", nil)
			gap = true
		}
	}
}

// hidden reports whether a node has children the outline would show.
func hidden(n *tree.Node) bool {
	for _, c := range n.Children() {
		if c.Schema() == nil || c.Schema().KeyIndex() < 0 {
			return true
		}
	}
	return false
}

// weave puts the changes among the unchanged children, each removed one where it stood.
func weave(old, new *tree.Node, changes, all []*Change) []slot {
	told := make(map[*Change]*Change, len(changes))
	for _, c := range changes {
		told[c] = c
		if c.of != nil {
			told[c.of] = c
		}
	}
	var out []slot
	joint(old, new, all, func(a, b *tree.Node, c *Change) {
		if b == nil && c.Kind == Moved {
			return // told where it stands now
		}
		out = append(out, slot{same: b, change: told[c], beside: c != nil && told[c] == nil})
	})
	return out
}

func (r *renderer) change(c *Change, depth int) {
	switch c.Kind {
	case Added:
		r.subtree(MarkAdded, c.New, c.Path(), depth)
	case Removed:
		r.subtree(MarkRemoved, c.Old, c.Path(), depth)
	case Moved:
		place := " (moved to the front)"
		if c.after != nil {
			place = " (moved behind " + strings.Join(c.After(), ", ") + ")"
		}
		r.add(MarkMoved, depth, codec.Heads(c.New)[0]+place, c.Path())
		if len(c.Children) > 0 {
			r.inside(c, depth)
		}
	case Contains:
		r.add(MarkSame, depth, codec.Heads(c.New)[0], nil)
		r.inside(c, depth)
	case Changed:
		old, now := codec.Heads(c.Old), codec.Heads(c.New)
		switch {
		case c.New.Opaque() != nil || len(old) > 1 || len(now) > 1:
		case c.New.Schema().IsLeaf():
			r.changed(depth, old[0], now[0], strings.TrimPrefix(now[0], codec.Name(c.New.Schema())+": "), c.Path())
			return
		default: // its metadata
			r.changed(depth, old[0], now[0], now[0], c.Path())
			r.inside(c, depth)
			return
		}
		r.subtree(MarkRemoved, c.Old, c.Path(), depth)
		r.subtree(MarkAdded, c.New, c.Path(), depth)
	}
}

// inside renders what is below both sides of a change.
func (r *renderer) inside(c *Change, depth int) {
	all := c.Children
	if c.of != nil {
		all = c.of.Children
	}
	r.children(c.Old, c.New, c.Children, all, depth+1)
}

func (r *renderer) changed(depth int, old, now, short string, path tree.Path) {
	r.add(MarkChanged, depth, old+" → "+short, path)
	l := &r.lines[len(r.lines)-1]
	l.Before, l.After = old, now
}

func (r *renderer) subtree(mark string, n *tree.Node, path tree.Path, depth int) {
	for i, h := range codec.Heads(n) {
		r.add(mark, depth+min(i, 1), h, path)
	}
	for _, l := range codec.Outline(n, path) {
		r.add(mark, depth+1+l.Depth, l.Text, l.Path)
	}
}
