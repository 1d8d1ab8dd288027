package diff

import (
	"fmt"
	"slices"

	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// Place is the edit that makes a node, with all below it and nothing else,
// stand at a path; nil makes nothing stand there. What leads there is made.
func Place(p tree.Path, n *tree.Node) *tree.Edit {
	e := &tree.Edit{Schema: p.Last(), Op: tree.Remove, Keys: p[len(p)-1].Keys}
	if n != nil {
		e = whole(n, tree.Replace)
	}
	root := &tree.Edit{}
	at := root
	for _, s := range p[:len(p)-1] {
		next := &tree.Edit{Schema: s.Node, Keys: s.Keys, Op: tree.Merge}
		if n == nil {
			next.Op = tree.None
		}
		at.Children = append(at.Children, next)
		at = next
	}
	at.Children = append(at.Children, e)
	return root
}

// Onto is the edit that puts a configuration on top of another (merge): what
// it holds is set, everything else stays.
func Onto(n *tree.Node) *tree.Edit {
	root := &tree.Edit{Op: tree.Merge}
	for c := range n.Each() {
		root.Children = append(root.Children, whole(c, tree.Merge))
	}
	return root
}

// Decided gives the result of a merge with some of its conflicts decided for
// what mine has; the others stay as theirs has it.
func Decided(result, mine *tree.Node, list []Conflict) (*tree.Node, error) {
	for _, c := range list {
		way, last := c.Path[:len(c.Path)-1], c.Path[len(c.Path)-1]
		from, s := mine.At(way), last.Node
		if len(way) == 0 {
			from = mine
		}
		switch {
		case s == nil && from != nil: // content that is not understood is taken whole
			some := c.Mine
			if some == nil {
				some = c.Theirs
			}
			result = update(result, way, func(n *tree.Node) *tree.Node {
				return n.Patched(
					[]tree.Patch{{All: true, Unknown: some.Opaque(), List: from.Unknown(some.Opaque())}},
					n.Annotations(),
				)
			})
		case s == nil:
		case c.Mine != nil && c.Theirs != nil && !s.IsLeaf() && c.Mine.Opaque() == nil &&
			tree.Identity(c.Mine) == tree.Identity(c.Theirs) && c.Mine.Schema() == c.Theirs.Schema() &&
			(last.Keys != nil || s.Kind != schema.List):
			// Both have it, so it is its metadata alone.
			result = update(result, c.Path, func(n *tree.Node) *tree.Node { return n.Annotated(c.Mine.Annotations()) })
		case from == nil, last.Keys != nil, s.Kind == schema.Leaf && caseOf(s) == nil:
			next, err := tree.Apply(result, tree.Fitted(result, Place(c.Path, c.Mine)), tree.None)
			if err != nil {
				return nil, err
			}
			result = next
		default:
			result = update(
				result, way, func(n *tree.Node) *tree.Node { return n.Patched(asMine(from, n, s), n.Annotations()) },
			)
		}
	}
	return result, nil
}

// asMine gives what makes the entries of a schema node stand in mine's order,
// and a choice be chosen as mine has it.
func asMine(mine, n *tree.Node, s *schema.Node) []tree.Patch {
	var choice *schema.Node
	for c := caseOf(s); c != nil; c = caseOf(c.Parent) {
		choice = c.Parent
	}
	if choice != nil && chosen(mine, choice) != chosen(n, choice) {
		var out []tree.Patch
		for _, d := range choice.DataBelow() {
			out = append(out, tree.Patch{All: true, Schema: d, List: mine.All(d)})
		}
		return out
	}
	if !s.UserOrdered {
		return []tree.Patch{{All: true, Schema: s, List: mine.All(s)}}
	}
	have := map[string]*tree.Node{}
	for _, e := range n.All(s) {
		have[tree.Identity(e)] = e
	}
	var list []*tree.Node
	for _, k := range sequence(identities(mine.All(s)), identities(n.All(s))) {
		if have[k] != nil {
			list = append(list, have[k])
		}
	}
	return []tree.Patch{{All: true, Schema: s, List: list}}
}

func identities(list []*tree.Node) (out []string) {
	for _, n := range list {
		out = append(out, tree.Identity(n))
	}
	return out
}

// update gives a tree with the node at a path made anew; as it was where
// nothing stands there.
func update(n *tree.Node, p tree.Path, f func(*tree.Node) *tree.Node) *tree.Node {
	if len(p) == 0 {
		return f(n)
	}
	child, place := n.Locate(p[0].Node, p[0].Keys)
	if child == nil {
		return n
	}
	return n.Patched([]tree.Patch{{Schema: p[0].Node, Node: update(child, p[1:], f), Place: place}}, n.Annotations())
}

// Traced tells what several steps did to the lines that they touched.
type Traced struct {
	Last       map[string]int // the step that touched a line last, by the line's path
	Superseded []int          // the steps of whose lines each was touched again later
}

// Trace follows the lines that several steps touch. The trees are the configuration before the first step and after
// each of them.
func Trace(trees []*tree.Node) Traced {
	out := Traced{Last: map[string]int{}}
	touched := make([]bool, len(trees))
	for i := 1; i < len(trees); i++ {
		for _, l := range Compare(trees[i-1], trees[i]).Lines(0) {
			if l.Path != "" {
				out.Last[l.Path], touched[i-1] = i-1, true
			}
		}
	}
	stands := map[int]bool{}
	for _, i := range out.Last {
		stands[i] = true
	}
	for i, t := range touched {
		if t && !stands[i] {
			out.Superseded = append(out.Superseded, i)
		}
	}
	return out
}

// PlaceAll is the edit that makes these the entries of the list, or values of
// the leaf-list, that a path leads to, and no others.
func PlaceAll(p tree.Path, list []*tree.Node) *tree.Edit {
	root := Place(append(p[:len(p)-1:len(p)-1], tree.Step{Node: p.Last()}), nil)
	at := root
	for range p[:len(p)-1] {
		at = at.Children[0]
		at.Op = tree.Merge
	}
	for _, n := range list {
		at.Children = append(at.Children, whole(n, tree.Merge))
	}
	return root
}

// Restore gives a configuration with what stands at a path as it stands in
// another; the other itself where the path is the whole.
func Restore(base, target *tree.Node, path tree.Path) (*tree.Node, error) {
	if len(path) == 0 {
		return target, nil
	}
	last := path[len(path)-1]
	if last.Node == nil || !last.Node.Config {
		return nil, fmt.Errorf("%s is not configuration", path)
	}
	if last.Keys == nil && (last.Node.Kind == schema.List || last.Node.Kind == schema.LeafList) {
		var list []*tree.Node
		if from := above(target, path); from != nil {
			list = from.All(last.Node)
		}
		return tree.Apply(base, PlaceAll(path, list), tree.None)
	}
	here, there := base.At(path), target.At(path)
	switch {
	case there == nil && here == nil:
		return nil, fmt.Errorf("there is nothing at %s, neither then nor now", path)
	case there != nil && here != nil && tree.Same(there, here):
		return base, nil
	}
	next, err := tree.Apply(base, Place(path, there), tree.None)
	if err != nil || there == nil || !last.Node.UserOrdered {
		return next, err
	}
	// Its place among the others is a part of it.
	insert, keys := "first", []string(nil)
	for _, n := range above(target, path).All(last.Node) {
		if slices.Equal(n.Keys(), last.Keys) {
			break
		}
		if above(next, path).Find(last.Node, n.Keys()) != nil {
			insert, keys = "after", n.Keys()
		}
	}
	return tree.Apply(next, tree.MoveTo(path, insert, keys), tree.None)
}

// above gives the node that holds what a path leads to, nil where it is not there.
func above(n *tree.Node, p tree.Path) *tree.Node {
	if len(p) == 1 {
		return n
	}
	return n.At(p[:len(p)-1])
}
