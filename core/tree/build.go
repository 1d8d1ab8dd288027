package tree

import (
	"strings"

	"oakenlatch/core/schema"
)

// Builder makes the nodes of one tree. It takes memory for many at a time,
// which is what makes reading a large configuration fast; what it made then
// stays in memory together. The zero value is ready to use.
type Builder struct {
	leaves []Node
	wholes []whole
	lists  []*Node
	size   int
	text   strings.Builder
}

// mostAtOnce is the most nodes that memory is taken for in one go.
const mostAtOnce = 256

func (b *Builder) grow() int {
	b.size = min(max(1, 2*b.size), mostAtOnce)
	return b.size
}

// Leaf is NewLeaf.
func (b *Builder) Leaf(s *schema.Node, value string) *Node {
	if len(b.leaves) == 0 {
		b.leaves = make([]Node, b.grow())
	}
	n := &b.leaves[0]
	b.leaves = b.leaves[1:]
	n.schema, n.value[0] = s, value
	return n
}

// Node is New for a slice that may be overwritten, with metadata. Twice is a
// child that stands there twice though only one of its identity may be; nil
// where there is none.
func (b *Builder) Node(s *schema.Node, children []*Node, notes []Annotation) (n, twice *Node) {
	arranged, twice := arrange(children)
	if len(b.wholes) == 0 {
		b.wholes = make([]whole, b.grow())
	}
	w := &b.wholes[0]
	b.wholes = b.wholes[1:]
	if len(arranged) > flatMost {
		w.inner.kids = gather(arranged)
	} else {
		w.inner.kids.flat = b.list(arranged)
	}
	return w.complete(s, notes), twice
}

func (b *Builder) list(nodes []*Node) []*Node {
	k := len(nodes)
	if len(b.lists) < k {
		b.lists = make([]*Node, max(k, b.size))
	}
	out := b.lists[:k:k]
	b.lists = b.lists[k:]
	copy(out, nodes)
	return out
}

// textAtOnce is the memory taken for texts in one go.
const textAtOnce = 8 << 10

// Text gives a text as a string that shares its memory with others.
func (b *Builder) Text(text []byte) string {
	if len(text) > textAtOnce/8 || b.size < mostAtOnce {
		return string(text)
	}
	if b.text.Cap()-b.text.Len() < len(text) {
		b.text = strings.Builder{}
		b.text.Grow(textAtOnce)
	}
	from := b.text.Len()
	b.text.Write(text)
	return b.text.String()[from:]
}
