package flow

import (
	"encoding/binary"
	"hash/maphash"
	"slices"
)

// Effect is how two filters differ.
type Effect struct {
	Permitted Set // the second permits and the first does not
	Denied    Set // the first permits and the second does not
	Answered  Set // neither permits; the sender is told of it by one of them alone
}

// None reports whether they do the same with every packet.
func (e Effect) None() bool { return e.Permitted.Empty() && e.Denied.Empty() && e.Answered.Empty() }

// Compare works out how two lists of rules differ. Rules that both have in the
// same order need not be looked at but where others fit.
func (s *Space) Compare(before, after []Rule) Effect {
	e := Effect{s.Nothing(), s.Nothing(), s.Nothing()}
	odd := unaligned(before, after)
	if len(odd) == 0 {
		return e
	}
	for fam := range families {
		if len(odd) > mostBoxes {
			e.add(s, fam, s.pairs(fam, compiled{}, before, after), s.terminal(1))
			continue
		}
		for _, r := range odd {
			if box, ok := s.compileOne(fam, r); ok {
				e.add(s, fam, s.pairs(fam, box, before, after), s.box(fam, box))
			}
		}
	}
	return e
}

// mostBoxes is up to how many rules that are not in both lists are looked at one
// by one; beyond that the whole is.
const mostBoxes = 300

// pairs gives both actions for every packet of a box.
func (s *Space) pairs(fam Family, box compiled, before, after []Rule) *node {
	a, pa := s.within(box, fam, before)
	b, pb := s.within(box, fam, after)
	return s.apply(opPair, s.actions(fam, before, a, pa), s.actions(fam, after, b, pb))
}

func (e *Effect) add(s *Space, fam Family, pairs, in *node) {
	for _, x := range []struct {
		into *Set
		is   func(a, b Action) bool
	}{
		{&e.Permitted, func(a, b Action) bool { return !a.Permits() && b.Permits() }},
		{&e.Denied, func(a, b Action) bool { return a.Permits() && !b.Permits() }},
		{&e.Answered, func(a, b Action) bool { return !a.Permits() && !b.Permits() && a != b }},
	} {
		n := s.mapped(pairs, func(r int32) int32 {
			if r == 0 {
				return 0
			}
			return one(x.is(Action((r-1)/3), Action((r-1)%3)))
		})
		x.into.roots[fam] = s.apply(opOr, x.into.roots[fam], s.apply(opAnd, n, in))
	}
}

var seed = maphash.MakeSeed()

// content names what a rule does, whatever it is called.
func (r *Rule) content() uint64 {
	var h maphash.Hash
	h.SetSeed(seed)
	var buf []byte
	flag := func(b bool) { buf = append(buf, byte(one(b))) }
	flag(r.Match.never)
	for _, o := range r.Match.only {
		flag(o)
	}
	buf = append(buf, byte(r.Action))
	for _, c := range r.Match.ands {
		buf = append(buf, byte(c.field), byte(c.fam), byte(len(c.spans)))
		for _, sp := range c.spans {
			for _, v := range []value{sp.lo, sp.hi} {
				buf = binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64(buf, v.hi), v.lo)
			}
		}
	}
	for _, f := range r.Facts {
		buf = append(append(buf, f...), 0)
	}
	_, _ = h.Write(buf)
	return h.Sum64()
}

// unaligned gives the rules of two lists that are left when those are taken out
// that both have in the same order. As few as can be, where that is few.
func unaligned(a, b []Rule) (out []*Rule) {
	for len(a) > 0 && len(b) > 0 && a[0].same(&b[0]) {
		a, b = a[1:], b[1:]
	}
	for len(a) > 0 && len(b) > 0 && a[len(a)-1].same(&b[len(b)-1]) {
		a, b = a[:len(a)-1], b[:len(b)-1]
	}
	ka, kb := make([]uint64, len(a)), make([]uint64, len(b))
	for i := range a {
		ka[i] = a[i].content()
	}
	for i := range b {
		kb[i] = b[i].content()
	}
	keepA, keepB, ok := shortest(ka, kb)
	for i := range a {
		if !ok || !keepA[i] {
			out = append(out, &a[i])
		}
	}
	for i := range b {
		if !ok || !keepB[i] {
			out = append(out, &b[i])
		}
	}
	return out
}

// same reports whether two rules do the same, whatever they are called.
func (r *Rule) same(q *Rule) bool {
	if r.Action != q.Action || r.Match.never != q.Match.never || r.Match.only != q.Match.only ||
		len(r.Match.ands) != len(q.Match.ands) || !slices.Equal(r.Facts, q.Facts) {
		return false
	}
	for i := range r.Match.ands {
		x, y := &r.Match.ands[i], &q.Match.ands[i]
		if x.field != y.field || x.fam != y.fam || x.every != y.every || !slices.Equal(x.spans, y.spans) {
			return false
		}
	}
	return true
}

// mostSteps is how many differences are looked for before all counts as
// different.
const mostSteps = 2 * mostBoxes

// shortest finds the longest list of equal keys in order, by the differences one
// after another (Myers, "An O(ND) Difference Algorithm", 1986).
func shortest(a, b []uint64) (keepA, keepB []bool, ok bool) {
	n, m := len(a), len(b)
	most := min(n+m, mostSteps)
	v := map[int]int{1: 0}
	var trace []map[int]int
	for d := 0; d <= most; d++ {
		was := make(map[int]int, 2*d+3)
		for k := -d - 1; k <= d+1; k++ {
			if x, there := v[k]; there {
				was[k] = x
			}
		}
		trace = append(trace, was)
		for k := -d; k <= d; k += 2 {
			x := v[k-1] + 1
			if k == -d || k != d && v[k-1] < v[k+1] {
				x = v[k+1]
			}
			y := x - k
			for x < n && y < m && a[x] == b[y] {
				x, y = x+1, y+1
			}
			v[k] = x
			if x >= n && y >= m {
				keepA, keepB = make([]bool, n), make([]bool, m)
				back(trace, n, m, keepA, keepB)
				return keepA, keepB, true
			}
		}
	}
	return nil, nil, false
}

// back follows the way that was found, marking what is kept.
func back(trace []map[int]int, x, y int, keepA, keepB []bool) {
	for d := len(trace) - 1; d >= 0; d-- {
		v := trace[d]
		k := x - y
		prev := k - 1
		if k == -d || k != d && v[k-1] < v[k+1] {
			prev = k + 1
		}
		px := v[prev]
		py := px - prev
		if d == 0 {
			px, py = 0, 0
		}
		for x > px && y > py {
			x, y = x-1, y-1
			keepA[x], keepB[y] = true, true
		}
		if d > 0 {
			x, y = px, py
		}
	}
}
