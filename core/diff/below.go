package diff

import (
	"slices"

	"oakenlatch/core/tree"
)

// Below narrows the difference to what lies at or below a path. Of an entry that is added or removed with all it
// holds, what lies there remains. Old and New stay whole, so that what is told of places stays true.
func (d *Difference) Below(p tree.Path) *Difference {
	if len(p) == 0 {
		return d
	}
	return &Difference{Old: d.Old, New: d.New, Changes: narrowed(d.Changes, p), all: d.Changes}
}

func narrowed(changes []*Change, p tree.Path) (out []*Change) {
	for _, c := range changes {
		if !leads(p[0], c.node()) {
			continue
		}
		rest := p[1:]
		if len(rest) == 0 {
			out = append(out, c)
			continue
		}
		some := *c
		some.of = c
		switch c.Kind {
		case Added:
			some.New = c.New.Cut(rest)
		case Removed:
			some.Old = c.Old.Cut(rest)
		default: // that it was moved itself, or has other metadata, lies above
			some.Kind, some.Placed, some.Children = Contains, false, narrowed(c.Children, rest)
		}
		if len(some.Children) > 0 || some.Kind != Contains && reaches(c.node(), rest) {
			out = append(out, &some)
		}
	}
	return out
}

// leads tells whether a step of a path leads to a node.
func leads(s tree.Step, n *tree.Node) bool {
	if s.Node == nil || n.Schema() == nil {
		return s.Node == nil && n.Schema() == nil && n.Opaque().Local == s.Opaque
	}
	return s.Node == n.Schema() && (s.Keys == nil || slices.Equal(s.Keys, n.Keys()))
}

// reaches tells whether there is anything at a path below a node.
func reaches(n *tree.Node, p tree.Path) bool {
	if len(p) == 0 {
		return true
	}
	for c := range n.Each() {
		if leads(p[0], c) && reaches(c, p[1:]) {
			return true
		}
	}
	return false
}
