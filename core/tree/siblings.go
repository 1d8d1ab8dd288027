package tree

import (
	"iter"
	"slices"
	"sort"
)

// siblings are the children of one node in canonical order: a few as a plain
// slice, many as a tree of stretches. Where one stretch ends and the next
// begins follows from the nodes' own names and keys, never from how the tree
// came to be: equal siblings are cut the same way, so that equal stretches are
// shared and recognised whatever stands around them. An edit copies the few
// stretches on the way to it, comparing skips those that are equal.
type siblings struct {
	flat []*Node
	top  *stretch
}

// stretch is a run of siblings: nodes at the bottom, stretches above.
type stretch struct {
	digest Digest
	nodes  []*Node
	parts  []*stretch
	last   *Node
	size   int  // nodes in all
	height int8 // 0 at the bottom
	ends   int8 // the level of its last node
}

const (
	// flatMost is the most children that are kept as a plain slice.
	flatMost = 48
	// A node ends a stretch with the chance of one in 1<<cutBits, on each level anew.
	cutBits   = 3
	cutLevels = 8
)

// level says up to which height a stretch ends with this node: 0 for none.
func level(n *Node) int8 {
	h := uint64(14695981039346656037) // FNV-1a, then mixed: short keys differ in few bits
	add := func(s string) {
		for i := range len(s) {
			h = (h ^ uint64(s[i])) * 1099511628211
		}
		h = (h ^ 0xff) * 1099511628211
	}
	if n.schema != nil {
		add(n.schema.Name)
	} else {
		add(n.Opaque().Local)
	}
	for _, k := range n.Keys() {
		add(k)
	}
	h ^= h >> 33
	h *= 0xff51afd7ed558ccd
	h ^= h >> 33
	l := int8(0)
	for l < cutLevels && h&(1<<cutBits-1) == 0 {
		l++
		h >>= cutBits
	}
	return l
}

// gather makes siblings of an arranged list, which it does not keep.
func gather(list []*Node) siblings {
	if len(list) <= flatMost {
		return siblings{flat: slices.Clone(list)}
	}
	return siblings{top: raise(cutNodes(list))}
}

func cutNodes(list []*Node) []*stretch {
	var out []*stretch
	for from, i := 0, 0; i < len(list); i++ {
		if l := level(list[i]); i == len(list)-1 || l > 0 {
			nodes := slices.Clone(list[from : i+1])
			out = append(
				out, &stretch{digest: digestAll(nodes), nodes: nodes, last: list[i], size: len(nodes), ends: l},
			)
			from = i + 1
		}
	}
	return out
}

// raise builds the levels above until one stretch is left.
func raise(parts []*stretch) *stretch {
	for h := int8(1); len(parts) > 1; h++ {
		parts = cutParts(parts, h, nil)
	}
	return parts[0]
}

// cutParts groups stretches of height h-1 into those of height h, using again
// those of the old ones that came out the same.
func cutParts(parts []*stretch, h int8, old []*stretch) []*stretch {
	again := make(map[*stretch]*stretch, len(old))
	for _, o := range old {
		again[o.parts[0]] = o
	}
	var out []*stretch
	for from, i := 0, 0; i < len(parts); i++ {
		if i < len(parts)-1 && (h > cutLevels || parts[i].ends <= h) {
			continue
		}
		group := parts[from : i+1]
		from = i + 1
		if o := again[group[0]]; o != nil && slices.Equal(o.parts, group) {
			out = append(out, o)
			continue
		}
		end := group[len(group)-1]
		s := &stretch{parts: slices.Clone(group), last: end.last, height: h, ends: end.ends}
		buf := make([]byte, 0, 1+len(group)*len(s.digest))
		buf = append(buf, isStretch)
		for _, p := range group {
			s.size += p.size
			buf = append(buf, p.digest[:]...)
		}
		s.digest = sum(buf)
		out = append(out, s)
	}
	return out
}

func (k siblings) len() int {
	if k.top != nil {
		return k.top.size
	}
	return len(k.flat)
}

func (k siblings) at(i int) *Node {
	if k.top == nil {
		return k.flat[i]
	}
	s := k.top
	for s.height > 0 {
		for _, p := range s.parts {
			if i < p.size {
				s = p
				break
			}
			i -= p.size
		}
	}
	return s.nodes[i]
}

// search gives the place of the first node for which f is true; f must be
// false for all before it and true for all behind it.
func (k siblings) search(f func(*Node) bool) int {
	if k.top == nil {
		return sort.Search(len(k.flat), func(i int) bool { return f(k.flat[i]) })
	}
	before, s := 0, k.top
	for s.height > 0 {
		i := sort.Search(len(s.parts), func(i int) bool { return f(s.parts[i].last) })
		for _, p := range s.parts[:i] {
			before += p.size
		}
		if i == len(s.parts) {
			return before
		}
		s = s.parts[i]
	}
	return before + sort.Search(len(s.nodes), func(i int) bool { return f(s.nodes[i]) })
}

// between gives the nodes of the places from up to to.
func (k siblings) between(from, to int) iter.Seq[*Node] {
	return func(yield func(*Node) bool) {
		if k.top == nil {
			for _, n := range k.flat[from:to] {
				if !yield(n) {
					return
				}
			}
			return
		}
		k.top.between(from, to, yield)
	}
}

func (s *stretch) between(from, to int, yield func(*Node) bool) bool {
	if s.height == 0 {
		for _, n := range s.nodes[max(0, from):min(to, len(s.nodes))] {
			if !yield(n) {
				return false
			}
		}
		return true
	}
	for _, p := range s.parts {
		if from < p.size && to > 0 && !p.between(from, to, yield) {
			return false
		}
		from, to = from-p.size, to-p.size
		if to <= 0 {
			break
		}
	}
	return true
}

func (k siblings) list() []*Node {
	if k.top == nil {
		return k.flat
	}
	out := make([]*Node, 0, k.top.size)
	k.top.between(0, k.top.size, func(n *Node) bool { out = append(out, n); return true })
	return out
}

// splice replaces the siblings of the places from up to to by others.
type splice struct {
	from, to int
	with     []*Node
}

// splice gives the siblings with all the splices made. They must be in order
// and not overlap; what they put in must keep canonical order.
func (k siblings) splice(all []splice) siblings {
	size := k.len()
	for _, s := range all {
		size += len(s.with) - (s.to - s.from)
	}
	switch {
	case len(all) == 0:
		return k
	case k.top == nil || size <= flatMost:
		return gather(spliceNodes(k.list(), 0, all))
	}
	if k.top.height == 0 {
		return gather(spliceNodes(k.top.nodes, 0, all))
	}
	parts := spliceParts(k.top.parts, k.top.height, 0, all)
	for h := k.top.height; len(parts) > 1; h++ {
		parts = cutParts(parts, h, nil)
	}
	top := parts[0]
	for top.height > 0 && len(top.parts) == 1 {
		top = top.parts[0]
	}
	return siblings{top: top}
}

func spliceNodes(list []*Node, off int, all []splice) []*Node {
	out := make([]*Node, 0, len(list)+len(all))
	at := 0
	for _, s := range all {
		out = append(append(out, list[at:s.from-off]...), s.with...)
		at = s.to - off
	}
	return append(out, list[at:]...)
}

// spliceParts makes the splices in stretches of height h-1 that begin at the
// place off. Only those touched, and the one behind, are opened and cut anew.
func spliceParts(parts []*stretch, h int8, off int, all []splice) []*stretch {
	out := make([]*stretch, 0, len(parts)+len(all))
	for i := 0; i < len(parts); {
		end := off + parts[i].size
		lastPart := i == len(parts)-1
		if len(all) == 0 || all[0].from > end || all[0].from == end && !lastPart {
			out = append(out, parts[i])
			off = end
			i++
			continue
		}
		// Take in every part that these splices reach, and one more as long as
		// that brings others: a cut may have gone from the last one's end.
		j, n := i+1, 0
		for more := true; more; {
			before := n
			for n < len(all) && (all[n].from < end || j == len(parts)) {
				for all[n].to > end && j < len(parts) {
					end += parts[j].size
					j++
				}
				n++
			}
			if more = n > before && j < len(parts); more {
				end += parts[j].size
				j++
			}
		}
		out = append(out, reopen(parts[i:j], h, off, all[:n])...)
		all, off, i = all[n:], end, j
	}
	return out
}

// sizeOf counts the nodes of stretches.
func sizeOf(parts []*stretch) (n int) {
	for _, p := range parts {
		n += p.size
	}
	return n
}

// reopen makes the splices in a few neighbouring stretches of height h-1 and
// cuts the result anew.
func reopen(parts []*stretch, h int8, off int, all []splice) []*stretch {
	if h == 1 {
		if len(parts) == 1 {
			return cutNodes(spliceNodes(parts[0].nodes, off, all))
		}
		nodes := make([]*Node, 0, sizeOf(parts))
		for _, p := range parts {
			nodes = append(nodes, p.nodes...)
		}
		return cutNodes(spliceNodes(nodes, off, all))
	}
	below := parts[0].parts
	for _, p := range parts[1:] {
		below = append(below[:len(below):len(below)], p.parts...)
	}
	return cutParts(spliceParts(below, h-1, off, all), h-1, parts)
}

// Unshared gives the children of two nodes without the stretches that are
// equal on both sides; in canonical order.
func Unshared(a, b *Node) (as, bs []*Node) {
	ka, kb := a.kids(), b.kids()
	if ka.top == nil || kb.top == nil {
		return ka.list(), kb.list()
	}
	pa, pb := []*stretch{ka.top}, []*stretch{kb.top}
	for h := max(ka.top.height, kb.top.height); h >= 0; h-- {
		pa, pb = differing(broken(pa, h), broken(pb, h))
	}
	return nodesOf(pa), nodesOf(pb)
}

// broken gives the parts of stretches that are higher than h.
func broken(list []*stretch, h int8) []*stretch {
	if len(list) == 0 || list[0].height <= h {
		return list
	}
	var out []*stretch
	for _, s := range list {
		out = append(out, s.parts...)
	}
	return out
}

// differing drops the stretches that stand in both lists.
func differing(a, b []*stretch) (as, bs []*stretch) {
	i, j := 0, 0
	for i < len(a) && j < len(b) {
		if a[i] == b[j] || a[i].digest == b[j].digest {
			i, j = i+1, j+1
			continue
		}
		// Each ends at a node of its own choosing: the one that ends first
		// belongs to what only this side has, or was cut anew there.
		c := compareSiblings(a[i].last, b[j].last)
		if c <= 0 {
			as = append(as, a[i])
			i++
		}
		if c >= 0 {
			bs = append(bs, b[j])
			j++
		}
	}
	return append(as, a[i:]...), append(bs, b[j:]...)
}

func nodesOf(list []*stretch) []*Node {
	var out []*Node
	for _, s := range list {
		out = append(out, s.nodes...)
	}
	return out
}
