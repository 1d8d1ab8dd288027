package flow

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Line is a part of a set as people read it: all packets that have one of these
// values in each of these fields. Lines of a set do not overlap.
type Line struct {
	Family Family
	s      *Space
	conds  []cond
}

// Lines gives a set in lines, at most so many; all is false where there are
// more. Together the lines are the set, and nothing else.
func (a Set) Lines(most int) (out []Line, all bool) {
	all = true
	for fam := range families {
		c := &cover{s: a.s, fam: fam, most: most - len(out)}
		c.walk(a.roots[fam], nil)
		out = append(out, c.lines...)
		all = all && !c.more
	}
	return merged(out), all
}

type cover struct {
	s     *Space
	fam   Family
	most  int
	lines []Line
	more  bool
}

// walk gathers the ways that lead to a result other than 0; stretches that lead
// to the same stand in one line.
func (c *cover) walk(n *node, conds []cond) {
	if n.terminal() {
		if n.result == 0 {
			return
		}
		if len(c.lines) >= c.most {
			c.more = true
			return
		}
		c.lines = append(c.lines, Line{c.fam, c.s, slices.Clone(conds)})
		return
	}
	done := map[*node]bool{}
	for _, k := range n.kids {
		if done[k] || dead(k) || c.more {
			continue
		}
		done[k] = true
		c.walk(k, append(conds, cond{field: n.field, spans: n.leading(k)}))
	}
}

// leading gives the values that lead to a kid.
func (n *node) leading(to *node) (out []span) {
	at := value{}
	for i, k := range n.kids {
		if k == to {
			out = append(out, span{at, n.ends[i]})
		}
		at = n.ends[i].next()
	}
	return out
}

// merged makes one of lines that differ in one field alone.
func merged(list []Line) []Line {
	for again := len(list) <= 400; again; {
		again = false
	search:
		for i := range list {
			for j := i + 1; j < len(list); j++ {
				if m, ok := list[i].merge(list[j]); ok {
					list[i] = m
					list = slices.Delete(list, j, j+1)
					again = true
					break search
				}
			}
		}
	}
	return list
}

func (l Line) merge(m Line) (Line, bool) {
	if l.Family != m.Family || len(l.conds) != len(m.conds) {
		return l, false
	}
	differs := -1
	for i := range l.conds {
		if l.conds[i].field != m.conds[i].field {
			return l, false
		}
		if !slices.Equal(l.conds[i].spans, m.conds[i].spans) {
			if differs >= 0 {
				return l, false
			}
			differs = i
		}
	}
	if differs < 0 {
		return l, true
	}
	conds := slices.Clone(l.conds)
	conds[differs].spans = join(l.conds[differs].spans, m.conds[differs].spans)
	if w := conds[differs].spans; len(w) == 1 && w[0] == whole(conds[differs].field, l.Family) {
		conds = slices.Delete(conds, differs, differs+1)
	}
	return Line{l.Family, l.s, conds}, true
}

// join gives what is in one of two lists of spans.
func join(a, b []span) (out []span) {
	all := append(slices.Clone(a), b...)
	slices.SortFunc(all, func(x, y span) int { return x.lo.compare(y.lo) })
	for _, sp := range all {
		if n := len(out); n > 0 && !out[n-1].hi.next().less(sp.lo) {
			if out[n-1].hi.less(sp.hi) {
				out[n-1].hi = sp.hi
			}
			continue
		}
		out = append(out, sp)
	}
	return out
}

// Example gives a packet of the line.
func (l Line) Example() Packet { return example(l.s, l.Family, l.s.box(l.Family, compiled{l.conds})) }

// of gives the spans of a field, nil where it may be anything.
func (l Line) of(f Field) []span {
	for _, c := range l.conds {
		if c.field == f {
			return c.spans
		}
	}
	return nil
}

// String writes a line in the words of an expectation.
func (l Line) String() string {
	protocols := "any"
	if spans := l.of(Protocol); spans != nil {
		protocols = values(Protocol, l.Family, spans)
	}
	parts := []string{protocols}
	if l.of(Source) == nil && l.of(Destination) == nil {
		parts = append(parts, l.Family.String())
	}
	for _, f := range []Field{
		Source, SourcePort, Destination, DestinationPort, ICMPType, ICMPCode, DSCP, ECN, Length, TTL, Offset,
		Identification, FlowLabel,
	} {
		if spans := l.of(f); spans != nil {
			parts = append(parts, clause(f, l.Family, spans))
		}
	}
	for i, name := range l.s.facts {
		if spans := l.of(Facts + Field(i)); spans != nil {
			if spans[0].lo.lo == 0 {
				name = "not " + name
			}
			parts = append(parts, "with "+name)
		}
	}
	return strings.Join(parts, " ")
}

// words of an expectation for fields.
var clauses = map[Field]string{
	Source: "from", SourcePort: "from-port", Destination: "to", DestinationPort: "port", ICMPType: "type",
	ICMPCode: "code",
}

func clause(f Field, fam Family, spans []span) string {
	word := clauses[f]
	if word == "" && f < Facts {
		word = fieldNames[f]
	}
	return strings.TrimSpace(word + " " + values(f, fam, spans))
}

// What is written of long lists.
const (
	mostPrefixes = 2
	mostValues   = 12
)

// values writes spans of a field.
func values(f Field, fam Family, spans []span) string {
	var out []string
	for i, sp := range spans {
		if i == mostValues {
			out = append(out, fmt.Sprintf("and %d more", len(spans)-i))
			break
		}
		switch {
		case f == Source || f == Destination:
			out = append(out, addresses(fam, sp))
		case f == Protocol:
			for n := sp.lo.lo; n <= sp.hi.lo; n++ {
				if sp.hi.lo-sp.lo.lo > 3 {
					out = append(out, fmt.Sprintf("protocols %d-%d", sp.lo.lo, sp.hi.lo))
					break
				}
				out = append(out, strings.TrimPrefix(protocolName(n), "protocol "))
			}
		case sp.lo == sp.hi:
			out = append(out, strconv.FormatUint(sp.lo.lo, 10))
		default:
			out = append(out, fmt.Sprintf("%d-%d", sp.lo.lo, sp.hi.lo))
		}
	}
	return strings.Join(out, ",")
}

// addresses writes a span of addresses: as prefixes, where they are few.
func addresses(fam Family, sp span) string {
	list := sp.prefixes(fam, mostPrefixes)
	if list == nil {
		return sp.lo.address(fam).String() + "-" + sp.hi.address(fam).String()
	}
	out := make([]string, len(list))
	for i, p := range list {
		out[i] = p.String()
		if p.Bits() == p.Addr().BitLen() {
			out[i] = p.Addr().String()
		}
	}
	return strings.Join(out, ",")
}
