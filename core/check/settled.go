package check

import (
	"fmt"
	"strings"

	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// Settled gives what a device makes of a change beyond what it asks for: a node that
// was there, that the change leaves alone, and whose "when" it makes false, is deleted
// by the device (RFC 7950 section 8.2). What the change itself sets where that is not
// allowed stays, and is an error of its check. Each deletion is told as a hint.
func Settled(s *schema.Schema, base, result *tree.Node) (*tree.Node, []Finding) {
	var told []Finding
	if tree.Same(base, result) {
		return result, nil
	}
	w := falling{s: s, bears: map[*schema.Node]bool{}}
	var before map[string]bool // what was not allowed before the change either
	for {
		list := w.unmet(result)
		if len(list) > 0 && before == nil {
			before = map[string]bool{}
			for _, u := range w.unmet(base) {
				before[u.path.Full()] = true
			}
		}
		next := result
		for _, u := range list {
			if was := base.At(u.path); was == nil || !tree.Same(was, u.node) || before[u.path.Full()] {
				continue
			}
			pruned, err := tree.Apply(next, tree.DeleteAt(u.path), tree.None)
			if err != nil {
				continue // it went with what it stood in
			}
			next = pruned
			told = append(
				told,
				Finding{
					Hint, u.path.String(),
					fmt.Sprintf(
						"goes as well: the device deletes it, as it is only allowed when %s",
						strings.Join(strings.Fields(u.when), " "),
					),
					nil,
				},
			)
		}
		if next == result {
			return result, told
		}
		result = next // a condition may rest on what just went
	}
}

// falling finds nodes that are not allowed where they are.
type falling struct {
	s     *schema.Schema
	bears map[*schema.Node]bool // whether a condition stands on a node or below it
}

type unmet struct {
	path tree.Path
	node *tree.Node
	when string
}

func (w *falling) unmet(root *tree.Node) (out []unmet) {
	var walk func(at *cursor)
	walk = func(at *cursor) {
		for _, s := range at.known() {
			if !s.Config || !w.bearing(s) || len(at.node.All(s)) == 0 {
				continue
			}
			for _, c := range at.all(s) {
				if conditional(s) {
					if failed, err := c.unmet(); err == nil && failed != nil {
						out = append(out, unmet{c.path(), c.node, failed.XPath})
						continue
					}
				}
				if !s.IsLeaf() && c.node.Opaque() == nil {
					walk(c)
				}
			}
		}
	}
	walk(newData(w.s, root).root)
	return out
}

func (w *falling) bearing(s *schema.Node) bool {
	if b, ok := w.bears[s]; ok {
		return b
	}
	b := conditional(s)
	if !b && !s.IsLeaf() {
		for _, d := range s.Data() {
			if w.bearing(d) {
				b = true
				break
			}
		}
	}
	w.bears[s] = b
	return b
}
