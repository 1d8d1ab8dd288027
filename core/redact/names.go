package redact

import "oakenlatch/core/tree"

// Names gives the places, by their path, where the name of a hidden value stands.
func Names(n *tree.Node) map[string]bool {
	into := map[string]bool{}
	namesAt(n, nil, into)
	return into
}

func namesAt(n *tree.Node, at tree.Path, into map[string]bool) {
	for c := range n.Each() {
		if s := c.Schema(); s != nil && s.IsLeaf() {
			if s.Secret() && IsName(c.Value()) {
				into[at.Down(c).String()] = true
			}
			continue
		}
		namesAt(c, at.Down(c), into)
	}
}
