package flow

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// Packet is one packet, as far as rules may ask.
type Packet struct {
	Family   Family
	From, To netip.Addr
	Numbers  [Facts]uint64 // by field; those of addresses are not used
	Facts    map[string]bool
}

func (p Packet) value(s *Space, f Field) value {
	switch {
	case f == Source:
		return addressValue(p.From)
	case f == Destination:
		return addressValue(p.To)
	case f >= Facts:
		return num(uint64(one(p.Facts[s.facts[f-Facts]])))
	}
	return num(p.Numbers[f])
}

// fitsCond reports whether a packet meets a condition.
func (p Packet) meets(c cond) bool {
	var v value
	switch c.field {
	case Source:
		v = addressValue(p.From)
	case Destination:
		v = addressValue(p.To)
	default:
		v = num(p.Numbers[c.field])
	}
	return slices.ContainsFunc(c.spans, func(sp span) bool { return !v.less(sp.lo) && !sp.hi.less(v) })
}

// whyNot gives the first thing of a packet that a rule does not fit: "" where it
// fits.
func (r *Rule) whyNot(p Packet) string {
	why := r.misses(p)
	if why == nil {
		return ""
	}
	return why.String()
}

// miss is why a rule does not fit a packet: it is put in words only where somebody
// asks, for most rules fit most packets not.
type miss struct {
	never bool
	other Family // that it is about
	cond  *cond  // that the packet does not meet
	fact  string // that it does not have
	in    Family // the packet's
}

func (m *miss) String() string {
	switch {
	case m.never:
		return "it contradicts itself: it fits no packet"
	case m.cond != nil:
		return "it fits only " + clause(m.cond.field, m.in, m.cond.spans)
	case m.fact != "":
		return "it fits only what has: " + m.fact
	}
	return fmt.Sprintf("it is about %s", m.other)
}

func (r *Rule) misses(p Packet) *miss {
	if r.Match.never {
		return &miss{never: true}
	}
	if r.Match.only[1-p.Family] {
		return &miss{other: 1 - p.Family}
	}
	for i := range r.Match.ands {
		c := &r.Match.ands[i]
		if !c.every && c.fam != p.Family {
			return &miss{other: c.fam}
		}
		if !p.meets(*c) {
			return &miss{cond: c, in: p.Family}
		}
	}
	for _, f := range r.Facts {
		if !p.Facts[f] {
			return &miss{fact: f}
		}
	}
	return nil
}

// Decides gives the place of the rule that decides a packet, -1 where none fits.
func (f Filter) Decides(p Packet) int {
	for i := range f.Rules {
		if f.Rules[i].misses(p) == nil {
			return i
		}
	}
	return -1
}

// Does gives what a filter does with a packet.
func (f Filter) Does(p Packet) (Action, int) {
	i := f.Decides(p)
	if i < 0 {
		return Drop, i
	}
	return f.Rules[i].Action, i
}

// String writes a packet for people.
func (p Packet) String() string {
	var b strings.Builder
	proto := p.Numbers[Protocol]
	b.WriteString(protocolName(proto))
	port := func(f Field) string {
		if proto == TCP || proto == UDP || proto == 132 {
			if p.From.Is6() {
				return fmt.Sprintf("]:%d", p.Numbers[f])
			}
			return fmt.Sprintf(":%d", p.Numbers[f])
		}
		return ""
	}
	end := func(a netip.Addr, f Field) string {
		text := a.String()
		if tail := port(f); strings.HasPrefix(tail, "]") {
			return "[" + text + tail
		} else {
			return text + tail
		}
	}
	fmt.Fprintf(&b, " from %s to %s", end(p.From, SourcePort), end(p.To, DestinationPort))
	if proto == ICMP || proto == ICMPv6 {
		fmt.Fprintf(&b, " type %d code %d", p.Numbers[ICMPType], p.Numbers[ICMPCode])
	}
	for f := DSCP; f < Facts; f++ {
		if p.Numbers[f] != 0 {
			fmt.Fprintf(&b, ", %s %d", fieldNames[f], p.Numbers[f])
		}
	}
	var facts []string
	for name, holds := range p.Facts {
		if holds {
			facts = append(facts, name)
		}
	}
	slices.Sort(facts)
	for _, f := range facts {
		b.WriteString(", " + f)
	}
	return b.String()
}

// Example gives a packet of the set, ok is false where it is empty. Of several it
// takes one that people would think of.
func (a Set) Example() (p Packet, ok bool) {
	for fam := range families {
		if n := a.roots[fam]; !n.terminal() || n.result != 0 {
			return example(a.s, fam, n), true
		}
	}
	return p, false
}

// plain are the values that an example has where it may.
var plain = map[Field][]uint64{Protocol: {TCP, UDP, ICMP, ICMPv6}, SourcePort: {50000}, DestinationPort: {443, 22}}

func example(s *Space, fam Family, n *node) Packet {
	p := Packet{Family: fam, Facts: map[string]bool{}}
	p.From, p.To = netip.MustParseAddr("203.0.113.9"), netip.MustParseAddr("192.0.2.9")
	if fam == IPv6 {
		p.From, p.To = netip.MustParseAddr("2001:db8:9::9"), netip.MustParseAddr("2001:db8::9")
	}
	for f, list := range plain {
		p.Numbers[f] = list[0]
	}
	for !n.terminal() {
		v := p.value(s, n.field)
		k := n.at(v)
		for _, want := range plain[n.field] {
			if dead(k) {
				v = num(want)
				k = n.at(v)
			}
		}
		at := value{}
		for i := 0; dead(k); i++ {
			v, k = at, n.kids[i]
			// Not the network's own address, where there is another.
			if (n.field == Source || n.field == Destination) && v.less(n.ends[i]) {
				v = v.next()
			}
			at = n.ends[i].next()
		}
		p.set(s, n.field, v)
		n = k
	}
	return p
}

func dead(n *node) bool { return n.terminal() && n.result == 0 }

func (p *Packet) set(s *Space, f Field, v value) {
	switch {
	case f == Source:
		p.From = v.address(p.Family)
	case f == Destination:
		p.To = v.address(p.Family)
	case f >= Facts:
		p.Facts[s.facts[f-Facts]] = v.lo == 1
	default:
		p.Numbers[f] = v.lo
	}
}
