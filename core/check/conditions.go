package check

import (
	"fmt"
	"strings"

	"oakenlatch/core/schema"
)

// Conditions tells which conditions and references of a schema can never be held against
// a configuration here, because they cannot be read or lead nowhere: they are left to the
// device, and who counts on them has to know.
func Conditions(s *schema.Schema) (out []schema.Problem) {
	d := newData(s, nil)
	tell := func(n *schema.Node, format string, args ...any) {
		out = append(out, schema.Problem{Module: n.Module.Name, Msg: fmt.Sprintf(format, args...)})
	}
	seen := map[*schema.Type]bool{}
	var types func(n *schema.Node, t *schema.Type)
	types = func(n *schema.Node, t *schema.Type) {
		switch {
		case t == nil || seen[t]:
		case t.Base == schema.Union:
			for _, m := range t.Members {
				types(n, m)
			}
		case t.Base == schema.LeafRef:
			seen[t] = true
			if r := d.reference(t, n); r.err != nil {
				tell(n, "what %s refers to is not checked: %s", n.Path(), reasonOf(r.err))
			}
		}
	}
	check := func(n *schema.Node, kind string, list []schema.Constraint) {
		for _, c := range list {
			if _, err := d.parse(c.XPath, c.Prefixes, n.Module); err != nil {
				tell(
					n, "a condition of %s is not checked: %s %s: %s", n.Path(), kind,
					strings.Join(strings.Fields(c.XPath), " "), reasonOf(err),
				)
			}
		}
	}
	var walk func(list []*schema.Node)
	walk = func(list []*schema.Node) {
		for _, n := range list {
			if data := n.Kind != schema.Choice && n.Kind != schema.Case; data && !n.Config {
				continue
			}
			check(n, "must", n.Must)
			check(n, "when", n.When)
			if n.IsLeaf() {
				types(n, n.Type)
			}
			walk(n.Children())
		}
	}
	walk(s.Roots())
	return out
}
