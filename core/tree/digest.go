package tree

import (
	"encoding/binary"

	"golang.org/x/crypto/blake2b"
)

// Every piece that is digested carries its length or has a fixed one, and each
// kind of piece begins with a byte of its own, so that no two different nodes
// write the same bytes.
const (
	isLeaf = iota + 1
	isNode
	isStretch
)

func sum(buf []byte) (d Digest) {
	whole := blake2b.Sum256(buf)
	copy(d[:], whole[:])
	return d
}

func appendString(buf []byte, s string) []byte {
	buf = binary.AppendUvarint(buf, uint64(len(s)))
	return append(buf, s...)
}

// appendChild writes what a child contributes to its parent's digest: a plain
// leaf is written out, which is cheaper than digesting it by itself.
func appendChild(buf []byte, n *Node) []byte {
	if n.inner == nil {
		id := n.schema.Identity()
		buf = append(append(buf, isLeaf), id[:]...)
		return appendString(buf, n.value[0])
	}
	return append(append(buf, isNode), n.inner.digest[:]...)
}

func digestLeaf(n *Node) Digest {
	var space [256]byte
	return sum(appendChild(space[:0], n))
}

// digestAll digests a stretch of siblings.
func digestAll(nodes []*Node) Digest {
	var space [1024]byte
	buf := append(space[:0], isStretch)
	for _, n := range nodes {
		buf = appendChild(buf, n)
	}
	return sum(buf)
}

// seal computes a node's digest once its content is complete.
func seal(n *Node) *Node {
	var space [1024]byte
	buf := append(space[:0], isNode)
	if n.schema != nil {
		id := n.schema.Identity()
		buf = append(buf, id[:]...)
	}
	if n.schema != nil && n.schema.IsLeaf() {
		buf = appendString(buf, n.value[0])
	}
	if r := n.inner.rare; r != nil {
		buf = r.appendTo(buf)
	}
	if kids := n.inner.kids; kids.top != nil {
		buf = append(append(buf, 3), kids.top.digest[:]...)
	} else {
		buf = append(buf, 4)
		for _, c := range kids.flat {
			buf = appendChild(buf, c)
		}
	}
	n.inner.digest = sum(buf)
	return n
}

func (r *rare) appendTo(buf []byte) []byte {
	if o := r.opaque; o != nil {
		buf = appendString(appendString(append(buf, 1), o.Space), o.Local)
		buf = appendString(buf, string(o.XML))
	}
	for _, a := range r.annotations {
		buf = append(buf, 2)
		for _, s := range []string{a.Module, a.Space, a.Name, a.Value} {
			buf = appendString(buf, s)
		}
	}
	return buf
}
