package diff

import "oakenlatch/core/tree"

// joint walks the siblings of both sides at once, keys of list entries left out, in an order that is the order of
// either side: what is on one side only comes with nil for the other, a moved entry once with each. The change is
// nil where both sides are the same.
func joint(old, new *tree.Node, changes []*Change, each func(a, b *tree.Node, c *Change)) {
	byOld, byNew := map[*tree.Node]*Change{}, map[*tree.Node]*Change{}
	for _, c := range changes {
		if c.Old != nil {
			byOld[c.Old] = c
		}
		if c.New != nil {
			byNew[c.New] = c
		}
	}
	key := func(n *tree.Node) bool { return n.Schema() != nil && n.Schema().KeyIndex() >= 0 }
	a, b := old.Children(), new.Children()
	for i, j := 0, 0; i < len(a) || j < len(b); {
		switch gone, come := i < len(a) && goes(byOld[a[i]]), j < len(b) && comes(byNew[b[j]]); {
		case i < len(a) && key(a[i]):
			i++
		case j < len(b) && key(b[j]):
			j++
		case gone && !(come && comesFirst(b[j], a[i])):
			each(a[i], nil, byOld[a[i]])
			i++
		case come:
			each(nil, b[j], byNew[b[j]])
			j++
		default:
			each(a[i], b[j], byNew[b[j]])
			i, j = i+1, j+1
		}
	}
}

// goes and comes hold for what stands on one side only, or elsewhere.
func goes(c *Change) bool  { return c != nil && (c.Kind == Removed || c.Kind == Moved) }
func comes(c *Change) bool { return c != nil && (c.Kind == Added || c.Kind == Moved) }

// comesFirst tells whether what comes stands before what goes, by the order that is the same for everybody; where
// the user gives the order, what goes is told first.
func comesFirst(come, gone *tree.Node) bool {
	if !sameGroup(gone, come) {
		return before(come, gone)
	}
	if gone.Schema() == nil || gone.Schema().UserOrdered {
		return false
	}
	return tree.CompareKeys(come.Keys(), gone.Keys()) < 0
}
