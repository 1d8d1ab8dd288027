package diff

import (
	"fmt"
	"slices"
	"strings"

	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// ordered merges entries whose order the user gives.
func (m *merger) ordered(b, x, t []*tree.Node, at tree.Path) []*tree.Node {
	bm, xm, tm := byIdentity(b), byIdentity(x), byIdentity(t)
	kept := map[string]*tree.Node{}
	for _, list := range [][]*tree.Node{t, x} {
		for _, n := range list {
			k := tree.Identity(n)
			if kept[k] != nil {
				continue
			}
			if n := m.one(bm[k], xm[k], tm[k], at); n != nil {
				kept[k] = n
			}
		}
	}
	order, among := orderOf(kept, b, x, t)
	if len(among) > 0 {
		some := slices.Concat(x, t)[0]
		m.conflicts = append(m.conflicts, Conflict{
			Path: append(at[:len(at):len(at)], tree.Step{Node: some.Schema()}), Base: first(b), Mine: first(x),
			Theirs: first(t), Why: why(among), Order: &Order{names(b), names(x), names(t), among},
		})
	}
	out := make([]*tree.Node, 0, len(order))
	for _, k := range order {
		out = append(out, kept[k])
	}
	return out
}

func byIdentity(list []*tree.Node) map[string]*tree.Node {
	out := make(map[string]*tree.Node, len(list))
	for _, n := range list {
		out[tree.Identity(n)] = n
	}
	return out
}

// nameOf names an entry for people: its keys, or a leaf-list's value.
func nameOf(n *tree.Node) string {
	if n.Schema().Kind == schema.LeafList {
		return n.Value()
	}
	return strings.Join(n.Keys(), ",")
}

func names(list []*tree.Node) (out []string) {
	for _, n := range list {
		out = append(out, nameOf(n))
	}
	return out
}

// why says in words what of an order cannot be told.
func why(among [][]string) string {
	var groups []string
	for _, g := range among {
		const most = 12
		text := strings.Join(g[:min(len(g), most)], ", ")
		if more := len(g) - most; more > 0 {
			text += fmt.Sprintf(" and %d others", more)
		}
		groups = append(groups, text)
	}
	return "the order was changed here and on the device: which comes first of " + strings.Join(groups, "; of ")
}

// most is how many stretches are put in order: the work grows with their square.
const most = 4000

// stretch is what is put in order: an entry, or a run of entries that stand together
// on all sides in the same order.
type stretch struct {
	keys    []string
	b, x, t int  // places on the three sides, -1 where it is not
	still   bool // neither side moved or added it
}

// orderOf gives the order of what is kept of three lists, and groups of entries of
// which it cannot be told.
//
// Two entries are in the order of the side that has them both where the other does
// not; where both have them, they agree, or one of them turned them round and is
// followed. So each two give an order, but for those that one side added and the
// other too: these follow from what stands between. Entries whose orders go round
// in a circle, and those for which nothing follows, are told.
func orderOf(kept map[string]*tree.Node, b, x, t []*tree.Node) (out []string, among [][]string) {
	bs, xs, ts := keysOf(b, kept), keysOf(x, kept), keysOf(t, kept)
	switch {
	case len(ts) == len(kept) && (slices.Equal(xs, ts) || slices.Equal(bs, xs)):
		return ts, nil
	case len(xs) == len(kept) && slices.Equal(bs, ts):
		return xs, nil
	}
	items := runs(bs, xs, ts)
	if len(items) > most {
		var all []string
		for _, k := range sequence(ts, xs) {
			all = append(all, nameOf(kept[k]))
		}
		return sequence(ts, xs), [][]string{all}
	}
	g := newOrdering(items)
	for _, circle := range g.sorted() {
		some := g.within(circle)
		out = append(out, some...)
		if len(circle) > 1 {
			among = append(among, named(g.touchedFirst(some, circle), kept))
		}
	}
	for _, pair := range g.loose() {
		among = append(among, named(slices.Concat(items[pair[0]].keys, items[pair[1]].keys), kept))
	}
	return out, among
}

// keysOf gives the identities of those entries of a list that are kept.
func keysOf(list []*tree.Node, kept map[string]*tree.Node) (out []string) {
	for _, n := range list {
		if k := tree.Identity(n); kept[k] != nil {
			out = append(out, k)
		}
	}
	return out
}

func named(keys []string, kept map[string]*tree.Node) (out []string) {
	for _, k := range keys {
		out = append(out, nameOf(kept[k]))
	}
	return out
}

// runs puts entries together that no side moved and between which nothing stands
// that one did: what is left grows with what was changed, not with what there is.
func runs(b, x, t []string) (out []stretch) {
	place := func(list []string) map[string]int {
		at := make(map[string]int, len(list))
		for i, k := range list {
			at[k] = i
		}
		return at
	}
	bAt, xAt, tAt := place(b), place(x), place(t)
	// still gives the entries that stayed where they were on a side.
	still := func(side map[string]int, list []string) map[string]bool {
		var seq []int
		for _, k := range list {
			if i, ok := bAt[k]; ok {
				seq = append(seq, i)
			}
		}
		stays := map[string]bool{}
		for _, i := range increasing(seq) {
			stays[b[i]] = true
		}
		return stays
	}
	xStill, tStill := still(xAt, x), still(tAt, t)
	get := func(at map[string]int, k string) int {
		if i, ok := at[k]; ok {
			return i
		}
		return -1
	}
	seen := map[string]bool{}
	for _, k := range slices.Concat(t, x) {
		if seen[k] {
			continue
		}
		seen[k] = true
		i := stretch{[]string{k}, get(bAt, k), get(xAt, k), get(tAt, k), xStill[k] && tStill[k]}
		if i.still {
			// One that stayed goes with the one before it, if that is so on all sides.
			if n := len(out) - 1; n >= 0 {
				l := out[n].keys[len(out[n].keys)-1]
				if xStill[l] && tStill[l] && bAt[l] == i.b-1 && xAt[l] == i.x-1 && tAt[l] == i.t-1 {
					out[n].keys = append(out[n].keys, k)
					continue
				}
			}
		}
		out = append(out, i)
	}
	return out
}

// ordering is the graph of which item comes before which.
type ordering struct {
	items []stretch
	after [][]int // by item: those that come after it
	order []int   // in which things are looked at: as theirs has them, mine's behind
}

func newOrdering(items []stretch) *ordering {
	g := &ordering{items: items, after: make([][]int, len(items))}
	for i := range items {
		g.order = append(g.order, i)
		for j := range i {
			first, second := precede(items[j], items[i])
			if first {
				g.after[j] = append(g.after[j], i)
			}
			if second {
				g.after[i] = append(g.after[i], j)
			}
		}
	}
	return g
}

// precede says whether the first of two comes before the second, and the second
// before the first: both where the sides want it differently, neither where no side
// says.
func precede(p, q stretch) (first, second bool) {
	inX, inT := p.x >= 0 && q.x >= 0, p.t >= 0 && q.t >= 0
	switch {
	case inX && inT:
		x, t := p.x < q.x, p.t < q.t
		if x == t {
			return x, !x
		}
		if p.b < 0 || q.b < 0 {
			return true, true
		}
		turned := p.b > q.b // one of them did, and is followed
		return turned, !turned
	case inX:
		return p.x < q.x, p.x > q.x
	case inT:
		return p.t < q.t, p.t > q.t
	}
	return false, false
}

// sorted gives the items in order; those that go round in a circle together.
func (g *ordering) sorted() [][]int {
	circle := g.circles() // by item: which circle it is in
	n := 0
	for _, c := range circle {
		n = max(n, c+1)
	}
	members := make([][]int, n)
	for i, c := range circle {
		members[c] = append(members[c], i)
	}
	// Of what may come next, what theirs has first.
	waits := make([]int, n)
	for i, list := range g.after {
		for _, j := range list {
			if circle[i] != circle[j] {
				waits[circle[j]]++
			}
		}
	}
	rank := make([]int, n)
	for c := range members {
		rank[c] = slices.Min(members[c])
	}
	var ready []int
	push := func(c int) {
		at, _ := slices.BinarySearchFunc(ready, c, func(a, b int) int { return rank[a] - rank[b] })
		ready = slices.Insert(ready, at, c)
	}
	for c := range members {
		if waits[c] == 0 {
			push(c)
		}
	}
	var out [][]int
	for len(ready) > 0 {
		c := ready[0]
		ready = ready[1:]
		out = append(out, members[c])
		for _, i := range members[c] {
			for _, j := range g.after[i] {
				if d := circle[j]; d != c {
					if waits[d]--; waits[d] == 0 {
						push(d)
					}
				}
			}
		}
	}
	return out
}

// circles finds which items lead back to themselves, and through which others
// (Tarjan's strongly connected components, without recursion).
func (g *ordering) circles() []int {
	n := len(g.items)
	of, number, low := make([]int, n), make([]int, n), make([]int, n)
	on := make([]bool, n)
	for i := range number {
		number[i] = -1
	}
	type frame struct{ at, next int }
	var stack []int
	count, found := 0, 0
	for start := range n {
		if number[start] >= 0 {
			continue
		}
		way := []frame{{start, 0}}
		for len(way) > 0 {
			f := &way[len(way)-1]
			i := f.at
			if f.next == 0 {
				number[i], low[i] = count, count
				count++
				stack, on[i] = append(stack, i), true
			}
			if f.next < len(g.after[i]) {
				j := g.after[i][f.next]
				f.next++
				switch {
				case number[j] < 0:
					way = append(way, frame{j, 0})
				case on[j]:
					low[i] = min(low[i], number[j])
				}
				continue
			}
			if way = way[:len(way)-1]; len(way) > 0 {
				up := way[len(way)-1].at
				low[up] = min(low[up], low[i])
			}
			if low[i] != number[i] {
				continue
			}
			for {
				j := stack[len(stack)-1]
				stack, on[j], of[j] = stack[:len(stack)-1], false, found
				if j == i {
					break
				}
			}
			found++
		}
	}
	return of
}

// within gives the entries of a circle as theirs has them, those that only mine has
// behind the neighbour they have there.
func (g *ordering) within(circle []int) []string {
	side := func(at func(stretch) int) (out []string) {
		list := slices.DeleteFunc(slices.Clone(circle), func(i int) bool { return at(g.items[i]) < 0 })
		slices.SortFunc(list, func(i, j int) int { return at(g.items[i]) - at(g.items[j]) })
		for _, i := range list {
			out = append(out, g.items[i].keys...)
		}
		return out
	}
	return sequence(side(func(i stretch) int { return i.t }), side(func(i stretch) int { return i.x }))
}

// touchedFirst puts those entries first that a side moved or added.
func (g *ordering) touchedFirst(keys []string, circle []int) []string {
	still := map[string]bool{}
	for _, i := range circle {
		for _, k := range g.items[i].keys {
			still[k] = g.items[i].still
		}
	}
	var out, others []string
	for _, k := range keys {
		if still[k] {
			others = append(others, k)
		} else {
			out = append(out, k)
		}
	}
	return append(out, others...)
}

// loose gives pairs of items, one that only mine added and one that only theirs
// did, between which nothing says which comes first.
func (g *ordering) loose() (out [][2]int) {
	var mine, theirs []int
	for i, it := range g.items {
		switch {
		case it.b >= 0:
		case it.t < 0:
			mine = append(mine, i)
		case it.x < 0:
			theirs = append(theirs, i)
		}
	}
	if len(mine) == 0 || len(theirs) == 0 {
		return nil
	}
	reaches := func(from int) []bool {
		seen := make([]bool, len(g.items))
		todo := []int{from}
		for len(todo) > 0 {
			i := todo[len(todo)-1]
			todo = todo[:len(todo)-1]
			for _, j := range g.after[i] {
				if !seen[j] {
					seen[j] = true
					todo = append(todo, j)
				}
			}
		}
		return seen
	}
	from := make([][]bool, len(theirs))
	for n, i := range theirs {
		from[n] = reaches(i)
	}
	for _, i := range mine {
		to := reaches(i)
		for n, j := range theirs {
			if !to[j] && !from[n][i] {
				out = append(out, [2]int{i, j})
			}
		}
	}
	return out
}

// sequence gives the first list with what is only in the second put behind the
// neighbour it has there.
func sequence(first, second []string) []string {
	have := map[string]bool{}
	for _, k := range first {
		have[k] = true
	}
	extra := map[string][]string{} // by the key before them
	var front []string
	last, begun := "", false
	for _, k := range second {
		switch {
		case have[k]:
			last, begun = k, true
		case begun:
			extra[last] = append(extra[last], k)
		default:
			front = append(front, k)
		}
	}
	woven := front
	for _, k := range first {
		woven = append(woven, k)
		woven = append(woven, extra[k]...)
	}
	return woven
}
