package diff

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"oakenlatch/core/codec"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// Item is one change as data. Old and New are values of leaves, XML of what is
// carried unread, and the outline of anything else. Metadata stands with the
// outline; of a leaf that has any, Old and New are its outline too.
type Item struct {
	Kind Kind   `json:"kind"`
	Path string `json:"path"` // RFC 8040, with module names
	Old  string `json:"old,omitempty"`
	New  string `json:"new,omitempty"`

	// Outline says that Old and New are outlines though the path leads to a leaf.
	Outline bool `json:"outline,omitempty"`

	// Of an added or moved entry whose order the user gives: the keys of the
	// entry before it, or that it is the first.
	After []string `json:"after,omitempty"`
	First bool     `json:"first,omitempty"`
}

// Items lists the difference, one item a changed node, in the order of the
// configuration.
func (d *Difference) Items() []Item {
	var out []Item
	var walk func([]*Change)
	walk = func(list []*Change) {
		for _, c := range list {
			if c.Kind != Contains {
				out = append(out, item(c))
			}
			if c.Kind == Contains || c.Kind == Moved && len(c.Children) > 0 && sameNotes(c) {
				walk(c.Children)
			}
		}
	}
	walk(d.Changes)
	return out
}

func sameNotes(c *Change) bool {
	return len(c.Old.Annotations()) == 0 && len(c.New.Annotations()) == 0
}

func item(c *Change) Item {
	i := Item{Kind: c.Kind, Path: c.Path().Full()}
	text := codec.Text
	for _, n := range []*tree.Node{c.Old, c.New} {
		if n != nil && n.Opaque() == nil && n.Schema().IsLeaf() && len(n.Annotations()) > 0 {
			i.Outline = true
			text = codec.WholeText
		}
	}
	i.Old, i.New = text(c.Old), text(c.New)
	if c.Placed {
		i.After, i.First = c.After(), c.after == nil
	}
	return i
}

// JSON renders the difference as data.
func (d *Difference) JSON() []byte {
	items := d.Items()
	if items == nil {
		items = []Item{}
	}
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	if enc.Encode(items) != nil {
		return []byte("[]") // strings always encode
	}
	return bytes.TrimSpace(b.Bytes())
}

// ApplyItems carries out a difference that was rendered as data. What goes,
// goes first: another case of a choice may take its place.
func ApplyItems(s *schema.Schema, base *tree.Node, items []Item) (*tree.Node, error) {
	gone := func(i Item) bool { return i.Kind == Removed }
	rest := slices.DeleteFunc(slices.Clone(items), gone)
	first := slices.DeleteFunc(slices.Clone(items), func(i Item) bool { return !gone(i) })
	for _, i := range append(first, rest...) {
		e, err := i.edit(s)
		if err == nil {
			base, err = tree.Apply(base, e, tree.None)
		}
		if err != nil {
			return nil, fmt.Errorf("%s %s: %w", i.Kind, i.Path, err)
		}
	}
	return base, nil
}

func (i Item) edit(s *schema.Schema) (*tree.Edit, error) {
	p, n, err := i.node(s)
	if err != nil {
		return nil, err
	}
	op := map[Kind]tree.Op{Added: tree.Merge, Removed: tree.Delete, Changed: tree.Replace, Moved: tree.Replace}[i.Kind]
	if op == "" {
		return nil, fmt.Errorf("kind %q is not one of added, removed, changed, moved", i.Kind)
	}
	e := whole(n, op)
	if i.Kind == Removed {
		e = bare(n, op)
	}
	if i.First || i.After != nil {
		follow(e, i.After)
	}
	return under(p[:len(p)-1], e), nil
}

// node gives the node an item is about: as it is to be, or as it was.
func (i Item) node(s *schema.Schema) (tree.Path, *tree.Node, error) {
	text := i.New
	if i.Kind == Removed {
		text = i.Old
	}
	cut := strings.LastIndexByte(i.Path, '/')
	d := codec.Decoder{Schema: s}
	if strings.HasPrefix(text, "<") {
		p, err := tree.ParsePath(s, i.Path)
		value := err == nil && p.Last().Kind != schema.AnyData && p.Last().Kind != schema.AnyXML // that begins like XML
		if !value {
			parent, err := tree.ParsePath(s, i.Path[:max(0, cut)])
			if err != nil {
				return nil, nil, err
			}
			n, err := d.Unread(parent.Last(), text)
			return append(parent, tree.Step{}), n, err
		}
	}
	p, err := tree.ParsePath(s, i.Path)
	if err == nil && len(p) == 0 {
		err = errors.New("it is the root")
	}
	if err != nil {
		return nil, nil, fmt.Errorf("leads nowhere: %w", err)
	}
	if last := p.Last(); last.IsLeaf() && !i.Outline {
		return p, tree.NewLeaf(last, text), nil
	}
	nodes, err := d.OutlineBelow(p[:len(p)-1].Last(), text)
	if err == nil && len(nodes) != 1 {
		err = fmt.Errorf("it is %d", len(nodes))
	}
	if err != nil {
		return nil, nil, fmt.Errorf("its outline is not one node: %w", err)
	}
	return p, nodes[0], nil
}

// under puts an edit below the nodes that lead to it.
func under(way tree.Path, e *tree.Edit) *tree.Edit {
	root := &tree.Edit{Op: tree.None}
	at := root
	for _, s := range way {
		next := &tree.Edit{Schema: s.Node, Keys: s.Keys, Op: tree.None}
		at.Children = append(at.Children, next)
		at = next
	}
	at.Children = append(at.Children, e)
	return root
}

// Group is changes of one kind at one place of the schema that do the same to
// many instances: what lets thousands of changes be read.
type Group struct {
	Kind     Kind     `json:"kind"`
	Place    string   `json:"place"`         // the path with * for keys that differ
	Old      string   `json:"old,omitempty"` // of leaves, where all have the same
	New      string   `json:"new,omitempty"`
	Count    int      `json:"count"`
	Examples []string `json:"examples"` // paths of the first few
}

// mostExamples is how many paths a group names.
const mostExamples = 3

// Groups gathers the changes that do the same, in the order of the
// configuration.
func (d *Difference) Groups() []Group {
	var out []Group
	at := map[string]int{}
	d.Walk(func(c *Change) {
		g := Group{Kind: c.Kind, Place: placeOf(c.Path())}
		if n := c.New; n == nil || n.Opaque() == nil && n.Schema().IsLeaf() {
			if c.Old == nil || c.Old.Opaque() == nil && c.Old.Schema().IsLeaf() {
				g.Old, g.New = codec.Text(c.Old), codec.Text(c.New)
			}
		}
		key := string(g.Kind) + "\x00" + g.Place + "\x00" + g.Old + "\x00" + g.New
		i, ok := at[key]
		if !ok {
			i = len(out)
			at[key] = i
			out = append(out, g)
		}
		out[i].Count++
		if len(out[i].Examples) < mostExamples {
			out[i].Examples = append(out[i].Examples, c.Path().String())
		}
	})
	return out
}

// placeOf is a path without the keys of the list entries on the way.
func placeOf(p tree.Path) string {
	bare := make(tree.Path, len(p))
	for i, s := range p {
		bare[i] = tree.Step{Node: s.Node, Opaque: s.Opaque}
		if s.Node != nil && s.Node.Kind == schema.List {
			bare[i].Any = true
		}
	}
	return bare.String()
}
