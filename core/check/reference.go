package check

import (
	"fmt"
	"strings"

	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/core/xpath"
)

// reference is how a leafref's path is followed: up so many nodes, or to the
// root, and down by names; or, with predicates or deref(), as an expression.
type reference struct {
	up   int // -1: from the root
	down []qname
	expr *xpath.Expr
	err  error
}

type qname struct {
	module *schema.Module
	name   string
}

type setKey struct {
	from *tree.Node
	t    *schema.Type
}

// reference reads a leafref's path (RFC 7950 section 9.9.2).
func (d *data) reference(t *schema.Type, at *schema.Node) reference {
	if r, ok := d.refs[t]; ok {
		return r
	}
	r := reference{}
	path := strings.TrimSpace(t.Path)
	if strings.ContainsAny(path, "[(") {
		r.expr, r.err = d.parse(path, t.PathPrefixes, at.Module)
	} else {
		if strings.HasPrefix(path, "/") {
			r.up = -1
		}
		for _, step := range strings.Split(strings.Trim(path, "/"), "/") {
			step = strings.TrimSpace(step)
			if step == ".." {
				r.up++
				continue
			}
			prefix, name, ok := strings.Cut(step, ":")
			m := at.Module
			if ok {
				m = t.PathPrefixes[prefix]
			} else {
				name = prefix
			}
			r.down = append(r.down, qname{m, name})
		}
		if t.Target == nil {
			r.err = fmt.Errorf("%w: the path %s leads to no node that is known", xpath.ErrUndecided, path)
		}
	}
	d.refs[t] = r
	return r
}

// start gives the node that the names of a path begin at.
func (r *reference) start(c *cursor) *cursor {
	if r.up < 0 {
		return c.d.root
	}
	for range r.up {
		if c.parent == nil {
			return c
		}
		c = c.parent
	}
	return c
}

// targets gives the nodes that a leafref may refer to.
func (d *data) targets(t *schema.Type, c *cursor) ([]*cursor, error) {
	r := d.reference(t, c.schema)
	if r.err != nil {
		return nil, r.err
	}
	if r.expr != nil {
		found, err := r.expr.Nodes(c, &d.budget)
		out := make([]*cursor, 0, len(found))
		for _, n := range found {
			out = append(out, n.(*cursor))
		}
		return out, err
	}
	list := []*cursor{r.start(c)}
	for _, q := range r.down {
		var next []*cursor
		for _, n := range list {
			for _, s := range n.named(q.module, q.name) {
				next = append(next, n.all(s)...)
			}
		}
		list = next
	}
	return list, nil
}

// refers reports whether some node that a leafref may refer to has its value.
func (d *data) refers(t *schema.Type, c *cursor, value string) (bool, error) {
	r := d.reference(t, c.schema)
	if r.expr != nil || r.err != nil {
		list, err := d.targets(t, c)
		for _, n := range list {
			if n.Text() == value {
				return true, err
			}
		}
		return false, err
	}
	key := setKey{r.start(c).node, t}
	set, ok := d.sets[key]
	if !ok {
		set = map[string]bool{}
		list, err := d.targets(t, c)
		if err != nil {
			return false, err
		}
		for _, n := range list {
			set[n.Text()] = true
		}
		d.sets[key] = set
	}
	return set[value], nil
}

// aim is what the type says the leafref points at, for messages.
func aim(t *schema.Type) string {
	if t.Target != nil {
		return t.Target.Path()
	}
	return t.Path
}
