package main

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/dalzilio/rudd"

	"oakenlatch/core/flow"
	"oakenlatch/core/treetest"
)

// filters are the lists of rules a figure is about; a seed gives the same ones in
// each process.
type filters struct{ before, after []flow.Rule }

// listsOf gives lists of n rules: a pair with some edits, one that has nothing to do
// with the other, or one that does the same and is written otherwise.
func listsOf(kind string, n int) filters {
	rnd := rand.New(rand.NewPCG(8519, uint64(n)))
	nets := treetest.Networks(rnd, 300)
	f := filters{before: treetest.Filter(rnd, nets, n)}
	switch kind {
	case "edited":
		f.after = treetest.Touched(rnd, nets, f.before, 3)
	case "unrelated":
		f.after = treetest.Filter(rnd, nets, n)
	case "rewritten":
		f.after = treetest.Rewritten(rnd, f.before)
	}
	return f
}

// flow measures what filters do against a solver and a library of decision
// diagrams, which say yes or no to the same question. Diagrams, and what they are
// set against, run in processes of their own, for their memory.
func (b *bench) flow() error {
	ours, whole := b.effect(10_000)
	z3, err := b.solver(listsOf("edited", 10_000), !whole)
	if err != nil {
		return err
	}
	b.figure("flow-edits-10000", ours, z3, 0.01)
	large, _ := b.effect(100_000)
	b.figure("flow-edits-growth", large, ours, 15)

	for _, kind := range []string{"unrelated", "rewritten"} {
		ours, err := b.part("ours", kind, 1_000)
		if err != nil {
			return err
		}
		theirs, err := b.part("diagrams", kind, 1_000)
		if err != nil {
			return err
		}
		if ours.same != theirs.same {
			return fmt.Errorf("flow, %s: we say the same is %v, and the diagrams say %v", kind, ours.same, theirs.same)
		}
		z3, err := b.solver(listsOf(kind, 1_000), theirs.same)
		if err != nil {
			return err
		}
		b.figure("flow-"+kind+"-1000", ours.took, min(z3, theirs.took), 0.5)
	}
	for _, kind := range []string{"unrelated", "rewritten", "standing"} {
		ours, err := b.part("ours", kind, 10_000)
		if err != nil {
			return err
		}
		theirs, err := b.part("diagrams", kind, 10_000)
		if err != nil {
			return err
		}
		if ours.same != theirs.same || ours.count != theirs.count {
			return fmt.Errorf(
				"flow, %s: we say %v, %d, and the diagrams say %v, %d", kind, ours.same, ours.count, theirs.same,
				theirs.count,
			)
		}
		if kind == "standing" {
			b.figure("flow-standing-10000", ours.took, theirs.took, 0.05)
			continue
		}
		b.figure("flow-"+kind+"-10000", ours.took, theirs.took, 0.1)
		fmt.Printf(
			"%-28s %9.1f MB   diagrams  %9.1f MB\n", "flow-"+kind+"-memory", float64(ours.peak)/1e3,
			float64(theirs.peak)/1e3,
		)
		b.ratio("flow-"+kind+"-memory", float64(ours.peak)/float64(theirs.peak), 0.25)
	}
	b.onePacket()
	return nil
}

// effect is how long the complete sets take, with the rules that decide an
// example before and after.
func (b *bench) effect(n int) (took time.Duration, differ bool) {
	f := listsOf("edited", n)
	took = best(7, func() {
		c := flow.Differ(flow.Filter{Rules: f.before}, flow.Filter{Rules: f.after})
		differ = !c.NoEffect
	})
	return took, differ
}

// onePacket asks what becomes of one packet, against going through the rules one
// after another, and how the making of the index for that grows.
func (b *bench) onePacket() {
	var builds [2]time.Duration
	for i, n := range []int{1_000, 10_000} {
		rules := listsOf("", n).before
		builds[i] = best(5, func() { flow.NewIndex(rules) })
	}
	rules := listsOf("", 10_000).before
	rnd := rand.New(rand.NewPCG(1, 2))
	packets := make([]flow.Packet, 500)
	s := flow.NewSpace(flow.Limits{})
	for i := range packets {
		packets[i], _ = s.Matching(rules[rnd.IntN(len(rules))].Match).Example()
	}
	index, plain := flow.NewIndex(rules), flow.Filter{Rules: rules}
	find := best(7, func() {
		for _, p := range packets {
			index.Find(rules, p)
		}
	}) / time.Duration(len(packets))
	walk := best(3, func() {
		for _, p := range packets {
			plain.Decides(p)
		}
	}) / time.Duration(len(packets))
	b.figure("flow-packet", find, walk, 0.1)
	b.figure("flow-index-growth", builds[1], builds[0], 15)
}

// said is what a process of its own measured.
type said struct {
	took  time.Duration
	same  bool
	count int
	peak  int64 // KB that it held at most
}

// part measures in a process of its own.
func (b *bench) part(who, kind string, n int) (out said, err error) {
	self, err := os.Executable()
	if err != nil {
		return out, err
	}
	cmd := exec.Command(self, "flow-part", fmt.Sprintf("%s %s %d", who, kind, n))
	cmd.Stderr = os.Stderr
	text, err := cmd.Output()
	if err != nil {
		return out, fmt.Errorf("flow, %s %s %d: %w", who, kind, n, err)
	}
	if _, err := fmt.Sscan(string(text), &out.took, &out.same, &out.count, &out.peak); err != nil {
		return out, fmt.Errorf("flow, %s %s %d: %q: %w", who, kind, n, text, err)
	}
	return out, nil
}

// flowPart is such a process: it prints how long it took, whether the lists do
// the same, and how many rules are never reached or redundant.
func flowPart(what string) {
	var who, kind string
	var n int
	if _, err := fmt.Sscan(what, &who, &kind, &n); err != nil {
		panic(err)
	}
	f := listsOf(kind, n)
	start := time.Now()
	var same bool
	var count int
	switch {
	case who == "ours" && kind == "standing":
		s := flow.NewSpace(flow.Limits{})
		for _, st := range s.Inspect(f.before) {
			if st != flow.Needed {
				count++
			}
		}
		if s.Err() != nil {
			panic(s.Err())
		}
	case who == "ours":
		s := flow.NewSpace(flow.Limits{})
		same = s.Compare(f.before, f.after).None()
		if s.Err() != nil {
			panic(s.Err())
		}
	case kind == "standing":
		count = newDiagrams(n).standing(f.before)
	default:
		d := newDiagrams(n)
		same = d.bdd.Equal(d.permitted(f.before), d.permitted(f.after))
	}
	fmt.Println(time.Since(start).Nanoseconds(), same, count, mostHeld())
}

// mostHeld is the most memory that this process held so far, in KB. What a parent
// learns of a child's is no less than what it held itself when it began it.
func mostHeld() (kb int64) {
	text, err := os.ReadFile("/proc/self/status")
	if err != nil {
		panic(err)
	}
	_, rest, _ := strings.Cut(string(text), "VmHWM:")
	if _, err := fmt.Sscan(rest, &kb); err != nil {
		panic(err)
	}
	return kb
}

// asked are the fields that the generator's rules are about, and their bits.
var asked = []struct {
	field flow.Field
	name  string
	bits  int
}{
	{flow.Protocol, "protocol", 8}, {flow.Destination, "destination", 32}, {flow.Source, "source", 32},
	{flow.DestinationPort, "dport", 16}, {flow.SourcePort, "sport", 16}, {flow.ICMPType, "itype", 8},
}

// diagrams answers with a general library of binary decision diagrams, a variable
// a bit.
type diagrams struct {
	bdd   *rudd.BDD
	first map[flow.Field]int // its variable of the most significant bit
}

func newDiagrams(n int) *diagrams {
	d := &diagrams{first: map[flow.Field]int{}}
	count := 0
	for _, a := range asked {
		d.first[a.field] = count
		count += a.bits
	}
	var err error
	if d.bdd, err = rudd.New(count, rudd.Nodesize(n*100), rudd.Cachesize(n*50)); err != nil {
		panic(err)
	}
	return d
}

// bound gives the values of a field on one side of a bound.
func (d *diagrams) bound(first, bits int, bound uint64, least bool) rudd.Node {
	acc := d.bdd.True()
	for i := bits - 1; i >= 0; i-- {
		set := bound>>(bits-1-i)&1 == 1
		v := d.bdd.Ithvar(first + i)
		switch {
		case least && set:
			acc = d.bdd.And(v, acc)
		case least:
			acc = d.bdd.Or(v, acc)
		case set:
			acc = d.bdd.Or(d.bdd.NIthvar(first+i), acc)
		default:
			acc = d.bdd.And(d.bdd.NIthvar(first+i), acc)
		}
	}
	return acc
}

func (d *diagrams) match(m flow.Match) rudd.Node {
	acc := d.bdd.True()
	for k := len(asked) - 1; k >= 0; k-- {
		for _, spans := range m.Spans(asked[k].field, flow.IPv4) {
			any := d.bdd.False()
			for _, sp := range spans {
				first, bits := d.first[asked[k].field], asked[k].bits
				any = d.bdd.Or(any, d.bdd.And(d.bound(first, bits, sp[0], true), d.bound(first, bits, sp[1], false)))
			}
			acc = d.bdd.And(any, acc)
		}
	}
	return acc
}

// permitted gives what a list lets through, from its end.
func (d *diagrams) permitted(rules []flow.Rule) rudd.Node {
	acc := d.bdd.False()
	for i := len(rules) - 1; i >= 0; i-- {
		acc = d.put(rules[i], acc)
	}
	return acc
}

func (d *diagrams) put(r flow.Rule, rest rudd.Node) rudd.Node {
	if r.Action.Permits() {
		return d.bdd.Or(d.match(r.Match), rest)
	}
	return d.bdd.And(d.bdd.Not(d.match(r.Match)), rest)
}

// standing counts the rules that no packet gets to or that do what would be done
// without them; the last of those that fit is needed, as with us.
func (d *diagrams) standing(rules []flow.Rule) (count int) {
	permit, reject := make([]rudd.Node, len(rules)+1), make([]rudd.Node, len(rules)+1) // by the rules from there on
	permit[len(rules)], reject[len(rules)] = d.bdd.False(), d.bdd.False()
	for i := len(rules) - 1; i >= 0; i-- {
		m := d.match(rules[i].Match)
		permit[i], reject[i] = d.put(rules[i], permit[i+1]), d.bdd.And(d.bdd.Not(m), reject[i+1])
		if !rules[i].Action.Permits() {
			reject[i] = d.bdd.Or(m, reject[i+1])
			reject[i] = d.bdd.And(reject[i], d.bdd.Not(permit[i]))
		}
	}
	left := d.bdd.True()
	for i, r := range rules {
		mine := d.bdd.And(left, d.match(r.Match))
		alike := reject[i+1]
		if r.Action.Permits() {
			alike = permit[i+1]
		}
		if d.bdd.Equal(d.bdd.And(mine, d.bdd.Not(alike)), d.bdd.False()) {
			count++
		}
		left = d.bdd.And(left, d.bdd.Not(d.match(r.Match)))
	}
	return count
}

// solver asks z3 whether two lists differ, and refuses another answer than ours.
func (b *bench) solver(f filters, same bool) (time.Duration, error) {
	file := filepath.Join(b.dir, "filters.smt2")
	var text bytes.Buffer
	text.WriteString("(set-logic QF_BV)\n")
	for _, a := range asked {
		fmt.Fprintf(&text, "(declare-const %s (_ BitVec %d))\n", a.name, a.bits)
	}
	for list, rules := range [][]flow.Rule{f.before, f.after} {
		// A named value a rule: written as functions, z3 puts the whole in each
		// place it is used, and takes minutes.
		for i := range len(rules) + 1 {
			fmt.Fprintf(&text, "(declare-const l%d_%d Bool)\n", list, i)
		}
		fmt.Fprintf(&text, "(assert (= l%d_%d false))\n", list, len(rules))
		for i, r := range rules {
			fmt.Fprintf(
				&text, "(assert (= l%d_%d (ite (and true%s) %v l%d_%d)))\n", list, i, smt(r.Match), r.Action.Permits(),
				list, i+1,
			)
		}
	}
	text.WriteString("(assert (distinct l0_0 l1_0))\n(check-sat)\n")
	if err := os.WriteFile(file, text.Bytes(), 0o600); err != nil {
		return 0, err
	}
	want := map[bool]string{true: "unsat", false: "sat"}[same]
	var failed error
	took := best(2, func() {
		out, err := exec.Command("z3", "-T:180", file).CombinedOutput()
		if err != nil {
			failed = fmt.Errorf("z3: %w\n%.200q", err, out)
		} else if got := strings.TrimSpace(string(out)); got != want {
			failed = fmt.Errorf("z3 says %.200q, and we %s", got, want)
		}
	})
	return took, failed
}

// smt writes a match for a solver.
func smt(m flow.Match) string {
	var out strings.Builder
	for _, a := range asked {
		for _, spans := range m.Spans(a.field, flow.IPv4) {
			out.WriteString(" (or false")
			for _, sp := range spans {
				bits := strconv.Itoa(a.bits)
				switch size := sp[1] - sp[0] + 1; {
				case sp[0] == 0 && size == 1<<a.bits:
					out.WriteString(" true")
				case size&(size-1) == 0 && sp[0]%size == 0: // a prefix
					low := 0
					for 1<<low < size {
						low++
					}
					fmt.Fprintf(
						&out, " (= ((_ extract %d %d) %s) (_ bv%d %d))", a.bits-1, low, a.name, sp[0]>>low, a.bits-low,
					)
				default:
					fmt.Fprintf(
						&out, " (and (bvuge %s (_ bv%d %s)) (bvule %s (_ bv%d %s)))", a.name, sp[0], bits, a.name,
						sp[1], bits,
					)
				}
			}
			out.WriteString(")")
		}
	}
	return out.String()
}
