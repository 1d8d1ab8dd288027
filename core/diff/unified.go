package diff

import (
	"fmt"
	"strings"

	"oakenlatch/core/codec"
	"oakenlatch/core/tree"
)

// Unified renders the difference as a unified diff of the two outlines, with
// that many lines of context: patch applies it to the outline of Old and makes
// the outline of New. It is empty where there is no difference.
func (d *Difference) Unified(oldName, newName string, context int) string {
	if d.Empty() {
		return ""
	}
	u := &unified{context: max(0, context), oldLine: 1, newLine: 1}
	fmt.Fprintf(&u.out, "--- %s\n+++ %s\n", oldName, newName)
	u.children(d.Old, d.New, d.Changes, 0)
	u.flush()
	return u.out.String()
}

// unified writes hunks while the lines of both outlines pass by.
type unified struct {
	context          int
	out              strings.Builder
	oldLine, newLine int      // of the line to come
	before           []string // the last unchanged lines
	hunk             []string
	fromOld, fromNew int // where the hunk begins
	quiet            int // unchanged lines at the hunk's end
}

func (u *unified) same(line string) {
	if u.hunk != nil {
		u.hunk = append(u.hunk, " "+line)
		if u.quiet++; u.quiet > 2*u.context {
			u.flush()
		}
	} else if u.context > 0 {
		if len(u.before) == u.context {
			u.before = u.before[1:]
		}
		u.before = append(u.before, line)
	}
	u.oldLine++
	u.newLine++
}

func (u *unified) differs(mark, line string) {
	if u.hunk == nil {
		u.fromOld, u.fromNew = u.oldLine-len(u.before), u.newLine-len(u.before)
		for _, b := range u.before {
			u.hunk = append(u.hunk, " "+b)
		}
		u.before = nil
	}
	u.quiet = 0
	u.hunk = append(u.hunk, mark+line)
	if mark == "-" {
		u.oldLine++
	} else {
		u.newLine++
	}
}

func (u *unified) flush() {
	if u.hunk == nil {
		return
	}
	surplus := max(0, u.quiet-u.context)
	for _, l := range u.hunk[len(u.hunk)-surplus:] {
		u.before = append(u.before, l[1:])
	}
	u.before = u.before[max(0, len(u.before)-u.context):]
	u.hunk = u.hunk[:len(u.hunk)-surplus]
	var old, now int
	for _, l := range u.hunk {
		if l[0] != '+' {
			old++
		}
		if l[0] != '-' {
			now++
		}
	}
	// A side without lines is counted from the line before (POSIX diff -u).
	fmt.Fprintf(&u.out, "@@ -%d,%d +%d,%d @@\n", u.fromOld-btoi(old == 0), old, u.fromNew-btoi(now == 0), now)
	for _, l := range u.hunk {
		u.out.WriteString(l + "\n")
	}
	u.hunk, u.quiet = nil, 0
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// lines gives all lines of a node.
func lines(n *tree.Node, depth int, each func(string)) {
	for i, h := range codec.Heads(n) {
		each(strings.Repeat("  ", depth+min(i, 1)) + h)
	}
	below(n, depth+1, each)
}

func below(n *tree.Node, depth int, each func(string)) {
	for c := range n.Each() {
		if c.Schema() == nil || c.Schema().KeyIndex() < 0 {
			lines(c, depth, each)
		}
	}
}

func (u *unified) whole(mark string, n *tree.Node, depth int) {
	lines(n, depth, func(l string) { u.differs(mark, l) })
}

// children walks the siblings of both sides at once.
func (u *unified) children(old, new *tree.Node, changes []*Change, depth int) {
	joint(old, new, changes, func(a, b *tree.Node, c *Change) {
		switch {
		case b == nil:
			u.whole("-", a, depth)
		case a == nil:
			u.whole("+", b, depth)
		default:
			u.pair(a, b, c, depth)
		}
	})
}

func (u *unified) pair(a, b *tree.Node, c *Change, depth int) {
	switch {
	case c == nil:
		lines(b, depth, u.same)
	case c.Kind == Contains:
		for _, h := range codec.Heads(b) {
			u.same(strings.Repeat("  ", depth) + h)
		}
		u.children(a, b, c.Children, depth+1)
	case len(c.Children) > 0 || a.Opaque() == nil && !a.Schema().IsLeaf():
		for _, side := range []struct {
			mark string
			n    *tree.Node
		}{{"-", a}, {"+", b}} {
			u.differs(side.mark, strings.Repeat("  ", depth)+codec.Heads(side.n)[0])
		}
		u.children(a, b, c.Children, depth+1)
	default:
		u.whole("-", a, depth)
		u.whole("+", b, depth)
	}
}
