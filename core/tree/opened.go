package tree

import (
	"container/list"
	"fmt"
	"slices"
	"sort"
	"strings"

	"oakenlatch/core/schema"
)

// opened is the children of a node while an edit document works on them. It
// keeps what becomes of each place and makes the new siblings at the end, so
// that many edits of one long list cost what they touch.
type opened struct {
	base    *Node
	places  map[int]*Node             // what stands at a place of base now; nil: nothing
	added   map[addedKey]*Node        // new nodes with an identity
	unnamed []*Node                   // new nodes of unknown content, or of runs set at once
	runs    map[*schema.Node]*userRun // lists and leaf-lists whose order the user gives
	last    *Edit                     // the edit that lastAt was looked up for
	lastAt  int
	chosen  map[*schema.Node]*schema.Node // case by choice, where the others are cleared
}

type addedKey struct {
	schema   *schema.Node
	identity string
}

// userRun is a list or leaf-list whose order the user gives.
type userRun struct {
	from, to int // its places in base
	order    *list.List
	at       map[string]*list.Element
}

func userOrdered(s *schema.Node) bool {
	return s != nil && s.UserOrdered && (s.Kind == schema.List || s.Kind == schema.LeafList)
}

func (w *opened) run(s *schema.Node) *userRun {
	if r := w.runs[s]; r != nil {
		return r
	}
	r := &userRun{order: list.New(), at: map[string]*list.Element{}}
	r.from, r.to = w.base.run(s)
	for c := range w.base.kids().between(r.from, r.to) {
		r.at[Identity(c)] = r.order.PushBack(c)
	}
	if w.runs == nil {
		w.runs = map[*schema.Node]*userRun{}
	}
	w.runs[s] = r
	return r
}

func (e *Edit) identity() string { return strings.Join(e.Keys, "\x00") }

// get gives the node of the moment that an edit is about. Of unknown content,
// exact asks for the very same and not for another of its name.
func (w *opened) get(e *Edit, exact bool) *Node {
	switch {
	case userOrdered(e.Schema):
		if el := w.run(e.Schema).at[e.identity()]; el != nil {
			return el.Value.(*Node)
		}
		return nil
	case e.Schema == nil:
		n, _ := w.unknown(e.Opaque, exact)
		return n
	}
	if n := w.added[addedKey{e.Schema, e.identity()}]; n != nil {
		return n
	}
	return w.place(w.index(e))
}

func (w *opened) index(e *Edit) int {
	if w.last != e {
		var keys []string
		if e.Schema.Kind == schema.List || e.Schema.Kind == schema.LeafList {
			keys = e.Keys
		}
		w.last, w.lastAt = e, w.base.index(e.Schema, keys)
	}
	return w.lastAt
}

// place gives what stands at a place of the base now.
func (w *opened) place(i int) *Node {
	if i < 0 {
		return nil
	}
	if n, ok := w.places[i]; ok {
		return n
	}
	return w.base.kids().at(i)
}

// unknown finds content that no schema describes: the very same, or else the
// only one of its name. Where several have the name nobody can say which is
// meant. The place is that in base, or that in unnamed, counted from -2 down.
func (w *opened) unknown(o *Opaque, exact bool) (*Node, int) {
	var of []*Node
	var at []int
	kids := w.base.kids()
	first := kids.search(func(c *Node) bool {
		return c.schema == nil && compareNames(c.Opaque(), o) >= 0
	})
	for i := first; i < kids.len() && compareNames(kids.at(i).Opaque(), o) == 0; i++ {
		if n := w.place(i); n != nil {
			of, at = append(of, n), append(at, i)
		}
	}
	for i, n := range w.unnamed {
		if n != nil && compareNames(n.Opaque(), o) == 0 {
			of, at = append(of, n), append(at, -2-i)
		}
	}
	for i, n := range of {
		if string(n.Opaque().XML) == string(o.XML) {
			return n, at[i]
		}
	}
	if len(of) == 1 && !exact {
		return of[0], at[0]
	}
	return nil, -1
}

func (w *opened) put(i int, n *Node) {
	if w.places == nil {
		w.places = map[int]*Node{}
	}
	w.places[i] = n
}

// set puts what an edit made in its place; n is nil where the node is gone.
func (w *opened) set(e *Edit, exact bool, n *Node, at *editPath) error {
	switch {
	case userOrdered(e.Schema):
		return w.run(e.Schema).set(e, n, at)
	case e.Schema == nil:
		_, i := w.unknown(e.Opaque, exact)
		// Merging into one of several that are not told apart adds one.
		switch {
		case i >= 0:
			w.put(i, n)
		case i < -1:
			w.unnamed[-2-i] = n
		case n != nil:
			w.unnamed = append(w.unnamed, n)
		}
		return nil
	}
	if e.Insert != "" {
		return &Error{"bad-attribute", at.to(e).String(), "its order is the system's: it cannot be inserted at a place"}
	}
	key := addedKey{e.Schema, e.identity()}
	if w.added[key] == nil {
		if i := w.index(e); i >= 0 {
			w.put(i, n)
			return nil
		}
	}
	if w.added == nil {
		w.added = map[addedKey]*Node{}
	}
	w.added[key] = n
	return nil
}

// set puts an entry among its siblings: where the edit says, else where it
// was, else last (RFC 7950 sections 7.7.9 and 7.8.6).
func (r *userRun) set(e *Edit, n *Node, at *editPath) error {
	id := e.identity()
	el := r.at[id]
	if n == nil {
		if el != nil {
			r.order.Remove(el)
			delete(r.at, id)
		}
		return nil
	}
	if el == nil {
		el = r.order.PushBack(n)
		r.at[id] = el
	}
	el.Value = n
	switch e.Insert {
	case "":
	case "first":
		r.order.MoveToFront(el)
	case "last":
		r.order.MoveToBack(el)
	case "before", "after":
		beside := r.at[strings.Join(e.InsertKeys, "\x00")]
		if beside == nil || e.InsertKeys == nil {
			return &Error{
				"bad-attribute", at.to(e).String(),
				fmt.Sprintf("cannot be put %s %v: that entry is not there", e.Insert, e.InsertKeys),
			}
		}
		if e.Insert == "before" {
			r.order.MoveBefore(el, beside)
		} else {
			r.order.MoveAfter(el, beside)
		}
	default:
		return &Error{
			"bad-attribute", at.to(e).String(),
			fmt.Sprintf("cannot be put %q: it is first, last, before or after", e.Insert),
		}
	}
	return nil
}

// drop removes all instances of a schema node and says how many there were.
func (w *opened) drop(s *schema.Node) int {
	if userOrdered(s) {
		r := w.run(s)
		n := r.order.Len()
		r.order.Init()
		clear(r.at)
		return n
	}
	count := 0
	for k, n := range w.added {
		if k.schema == s && n != nil {
			w.added[k] = nil
			count++
		}
	}
	from, to := w.base.run(s)
	for i := from; i < to; i++ {
		if w.place(i) != nil {
			w.put(i, nil)
			count++
		}
	}
	return count
}

// dropOtherCases removes the nodes of the other cases of a choice once a node
// of one case is set (RFC 7950 section 7.9).
func (w *opened) dropOtherCases(set *Node) {
	if set.schema == nil {
		return
	}
	for c := set.schema.Parent; c != nil && c.Kind == schema.Case; c = c.Parent.Parent {
		if w.chosen[c.Parent] == c {
			continue
		}
		if w.chosen == nil {
			w.chosen = map[*schema.Node]*schema.Node{}
		}
		w.chosen[c.Parent] = c
		for _, other := range c.Parent.Children() {
			if other != c {
				for _, s := range other.DataBelow() {
					w.drop(s)
				}
			}
		}
	}
}

// close makes the new siblings.
func (w *opened) close() siblings { return w.finish(nil) }

// finish makes the new siblings, with further stretches replaced.
func (w *opened) finish(all []splice) siblings {
	for i, n := range w.places {
		s := splice{from: i, to: i + 1}
		if n != nil {
			s.with = []*Node{n}
		}
		all = append(all, s)
	}
	fresh := slices.DeleteFunc(slices.Clone(w.unnamed), func(n *Node) bool { return n == nil })
	for _, n := range w.added {
		if n != nil {
			fresh = append(fresh, n)
		}
	}
	for _, r := range w.runs {
		var now []*Node
		for el := r.order.Front(); el != nil; el = el.Next() {
			now = append(now, el.Value.(*Node))
		}
		if r.from == r.to {
			fresh = append(fresh, now...)
			continue
		}
		all = append(all, splice{r.from, r.to, now})
	}
	slices.SortStableFunc(fresh, compareSiblings)
	kids := w.base.kids()
	for i := 0; i < len(fresh); {
		// A new one of unknown content goes behind those of its name.
		place := func(n *Node) int {
			return kids.search(func(c *Node) bool { return compareSiblings(c, n) > 0 })
		}
		at := place(fresh[i])
		j := i + 1
		for j < len(fresh) && place(fresh[j]) == at {
			j++
		}
		all = append(all, splice{at, at, fresh[i:j]})
		i = j
	}
	sort.SliceStable(all, func(i, j int) bool {
		return all[i].from < all[j].from || all[i].from == all[j].from && all[i].to < all[j].to
	})
	return kids.splice(all)
}

// Patch is one thing that becomes of a node's children.
type Patch struct {
	// A single instance, set or, with Node nil, gone; its place is that of
	// Locate.
	Schema *schema.Node
	Node   *Node
	Place  int

	// Or, with All set, all instances of Schema, or of the unknown name, at once.
	All     bool
	Unknown *Opaque
	List    []*Node
}

// Patched gives the node with some of its children changed, everything else
// shared, and that metadata.
func (n *Node) Patched(patches []Patch, notes []Annotation) *Node {
	kids := n.kids()
	w := opened{base: n}
	var all []splice
	for _, p := range patches {
		if !p.All {
			if p.Node != nil && p.Node.Void() {
				p.Node = nil
			}
			switch {
			case p.Place >= 0:
				w.put(p.Place, p.Node)
			case p.Node != nil:
				w.unnamed = append(w.unnamed, p.Node)
			}
			continue
		}
		s := splice{with: p.List}
		if p.Schema != nil {
			s.from, s.to = n.run(p.Schema)
		} else {
			s.from = kids.search(
				func(c *Node) bool { return c.schema == nil && compareNames(c.Opaque(), p.Unknown) >= 0 },
			)
			s.to = s.from + len(n.Unknown(p.Unknown))
		}
		if s.from == s.to {
			w.unnamed = append(w.unnamed, p.List...)
			continue
		}
		all = append(all, s)
	}
	return assemble(n.schema, w.finish(all), notes)
}
