package check

import (
	"oakenlatch/core/flow"
	"oakenlatch/core/tree"
)

// filterSteps bounds what looking through one filter may cost: some seconds.
const filterSteps = 400_000_000

// filters finds rules of packet filters (RFC 8519) that no packet gets to. A base
// with the same filters has the same ones.
func (l *linter) filters(base, root *tree.Node) {
	acls := root.Known("acls")
	if acls == nil || base != nil && tree.Same(acls, base.Known("acls")) {
		return
	}
	for _, f := range flow.Read(root).Filters {
		s := flow.NewSpace(flow.Limits{Steps: filterSteps})
		standing := s.Inspect(f.Rules)
		if s.Err() != nil {
			continue // nothing is said of what could not be looked through
		}
		reached := map[string]bool{} // a rule of a configuration may be several here
		for i, r := range f.Rules {
			reached[r.Path] = reached[r.Path] || standing[i] != flow.Unreached
		}
		for _, r := range f.Rules {
			if !reached[r.Path] && len(l.found) < mostFindings {
				reached[r.Path] = true
				l.found = append(
					l.found,
					Finding{
						Warning, r.Path, "no packet gets to this rule: those before it decide all that it is about",
						&Fix{Edit: "delete", Path: r.Path},
					},
				)
			}
		}
	}
}
