package schema

import "strings"

// aim finds what a leaf's leafrefs point at.
func (c *compiler) aim(n *Node) {
	if !n.IsLeaf() {
		return
	}
	n.Type = c.aimed(n.Type, n)
	resolve := func(prefix string) *Module { return c.scopes[n][prefix] }
	for i, d := range n.Defaults {
		canon, err := c.s.Canonical(n.Type, d, resolve)
		if err != nil {
			c.problem(nil, nil, "default %q of %s is not a value of its type: %v", d, n.Path(), err)
			continue
		}
		n.Defaults[i] = canon
	}
}

// aimed gives the type with leafref targets set, a copy where one is needed:
// a typedef's leafref points elsewhere from each place it is used.
func (c *compiler) aimed(t *Type, at *Node) *Type {
	switch t.Base {
	case LeafRef:
		if t.Target != nil {
			return t
		}
		copied := *t
		copied.Target = c.s.target(t, at, 0)
		return &copied
	case Union:
		copied := *t
		copied.Members = make([]*Type, len(t.Members))
		for i, m := range t.Members {
			copied.Members[i] = c.aimed(m, at)
		}
		return &copied
	}
	return t
}

// target follows a leafref's path over the schema (RFC 7950 section 9.9.2),
// through further leafrefs to the leaf that has a type of its own.
func (s *Schema) target(t *Type, at *Node, hops int) *Node {
	if hops > 16 {
		return nil
	}
	path := dropPredicates(t.Path)
	var cur *Node
	if !strings.HasPrefix(path, "/") {
		cur = at
	}
	for _, step := range strings.Split(strings.Trim(path, "/"), "/") {
		step = strings.TrimSpace(step)
		if step == ".." {
			if cur == nil {
				return nil
			}
			cur = cur.DataParent()
			continue
		}
		prefix, name := splitName(step)
		m := t.PathPrefixes[prefix]
		if prefix == "" && cur != nil {
			m = cur.Module
			if at.Module != nil && cur.Child(m, name) == nil {
				m = at.Module
			}
		}
		if cur == nil {
			if prefix == "" {
				m = at.Module
			}
			cur = s.Root(m, name)
		} else {
			cur = cur.Child(m, name)
		}
		if cur == nil {
			return nil
		}
	}
	if cur == nil || !cur.IsLeaf() {
		return nil
	}
	return cur
}

func dropPredicates(path string) string {
	var b strings.Builder
	depth := 0
	for _, r := range path {
		switch {
		case r == '[':
			depth++
		case r == ']':
			depth--
		case depth == 0:
			b.WriteRune(r)
		}
	}
	return strings.TrimPrefix(strings.TrimSpace(b.String()), "deref(")
}
