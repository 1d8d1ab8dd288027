package flow

import (
	"math/bits"
	"slices"
)

// Index finds the rule that decides a packet without trying them one after
// another: for each field, and each stretch of its values in which the same rules
// fit, it has the set of these; the first rule that is in all of them decides.
type Index struct {
	rules int
	parts [families][]part
	loose bool // fields were left out, for they would take too much room
}

// mostWords is how large the sets of an index may grow, in words: 128 MB.
const mostWords = 16 << 20

// part is one field of an index.
type part struct {
	field  Field
	starts []value
	fits   [][]uint64 // by stretch, a bit for each rule
}

// NewIndex makes the index of rules. Their facts are left out: a rule that asks
// for some is looked at once it is found.
func NewIndex(rules []Rule) *Index {
	x := &Index{rules: len(rules)}
	s := NewSpace(Limits{})
	words := (len(rules) + 63) / 64
	room := mostWords
	for fam := range families {
		c, places := s.compile(fam, rules)
		in := make([]uint64, words) // the rules that are about the family
		var fields [Facts]bool
		for i := range c {
			in[places[i]/64] |= 1 << (places[i] % 64)
			for _, k := range c[i].conds {
				if k.field < Facts {
					fields[k.field] = true
				}
			}
		}
		x.parts[fam] = append(x.parts[fam], part{Protocol, []value{{}}, [][]uint64{in}})
		for f := range Facts {
			if fields[f] {
				p := newPart(f, fam, c, places, in, room)
				if p == nil {
					x.loose = true
					continue
				}
				room -= len(p.fits) * words
				x.parts[fam] = append(x.parts[fam], *p)
			}
		}
	}
	return x
}

// newPart indexes a field, unless that takes more words than there is room for.
func newPart(f Field, fam Family, rules []compiled, places []int32, in []uint64, room int) *part {
	p := &part{field: f, starts: []value{{}}}
	most := last(f, fam)
	for i := range rules {
		for _, sp := range rules[i].of(f) {
			p.starts = append(p.starts, sp.lo)
			if sp.hi != most {
				p.starts = append(p.starts, sp.hi.next())
			}
		}
	}
	slices.SortFunc(p.starts, value.compare)
	p.starts = slices.Compact(p.starts)
	if len(p.starts)*len(in) > room {
		return nil
	}
	at := func(v value) int {
		k, _ := slices.BinarySearchFunc(p.starts, v, value.compare)
		return k
	}
	turns := make([][]int32, len(p.starts)) // rules that begin or cease to fit there
	fit := slices.Clone(in)                 // those that do not ask fit everywhere
	for i := range rules {
		spans := rules[i].of(f)
		if spans == nil {
			continue
		}
		fit[places[i]/64] &^= 1 << (places[i] % 64)
		for _, sp := range spans {
			turns[at(sp.lo)] = append(turns[at(sp.lo)], places[i])
			if sp.hi != most {
				turns[at(sp.hi.next())] = append(turns[at(sp.hi.next())], places[i])
			}
		}
	}
	p.fits = make([][]uint64, len(p.starts))
	for k := range p.fits {
		for _, i := range turns[k] {
			fit[i/64] ^= 1 << (i % 64)
		}
		p.fits[k] = slices.Clone(fit)
	}
	return p
}

func (c *compiled) of(f Field) []span {
	for i := range c.conds {
		if c.conds[i].field == f {
			return c.conds[i].spans
		}
	}
	return nil
}

// Find gives the place of the rule that decides a packet, -1 where none fits.
func (x *Index) Find(rules []Rule, p Packet) int {
	parts := x.parts[p.Family]
	var buf [16][]uint64
	sets := buf[:0]
	for i := range parts {
		var v value
		switch f := parts[i].field; f {
		case Source:
			v = addressValue(p.From)
		case Destination:
			v = addressValue(p.To)
		default:
			v = num(p.Numbers[f])
		}
		k, found := slices.BinarySearchFunc(parts[i].starts, v, value.compare)
		if !found {
			k--
		}
		sets = append(sets, parts[i].fits[k])
	}
	for w := range (x.rules + 63) / 64 {
		all := ^uint64(0)
		for _, s := range sets {
			all &= s[w]
		}
		for ; all != 0; all &= all - 1 {
			if i := w*64 + bits.TrailingZeros64(all); !x.loose && len(rules[i].Facts) == 0 ||
				rules[i].misses(p) == nil {
				return i
			}
		}
	}
	return -1
}
