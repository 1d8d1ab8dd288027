package treetest

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"

	"oakenlatch/core/flow"
)

// Networks are the prefixes that generated filters are about: some hundreds, one
// within the other.
func Networks(rnd *rand.Rand, n int) []netip.Prefix {
	out := make([]netip.Prefix, 0, n)
	for len(out) < n {
		a := netip.AddrFrom4([4]byte{10, byte(64 + rnd.IntN(16)), byte(rnd.IntN(256)), byte(rnd.IntN(256))})
		out = append(
			out,
			netip.PrefixFrom(
				a, []int{18, 20, 22, 24, 24, 24, 24, 24, 24, 25, 26, 27, 28, 29, 30, 32}[rnd.IntN(16)],
			).Masked(),
		)
	}
	return out
}

// services are ports that rules are about.
var services = []uint64{22, 25, 53, 80, 123, 161, 443, 514, 830, 3306, 5432, 6514, 8080, 8443}

// Filter makes rules as people write them: mixed prefixes, ports and protocols,
// a refusal of all the rest at the end.
func Filter(rnd *rand.Rand, nets []netip.Prefix, n int) []flow.Rule {
	rules := make([]flow.Rule, n)
	for i := range rules {
		rules[i] = FilterRule(rnd, nets)
		rules[i].Name = fmt.Sprintf("rule-%d", i+1)
	}
	if n > 0 {
		rules[n-1] = flow.Rule{Name: "the-rest", Action: flow.Drop}
	}
	return rules
}

// FilterRule makes one of them.
func FilterRule(rnd *rand.Rand, nets []netip.Prefix) flow.Rule {
	r := flow.Rule{Action: flow.Accept}
	if rnd.IntN(3) == 0 {
		r.Action = flow.Drop
	}
	m := flow.Match{}.In(flow.IPv4)
	open := rnd.IntN(40) // whether it is about anybody's packets
	if open != 0 {
		m = m.Prefix(flow.Source, nets[rnd.IntN(len(nets))])
	}
	if open != 1 {
		m = m.Prefix(flow.Destination, nets[rnd.IntN(len(nets))])
	}
	switch k := rnd.IntN(10); {
	case k < 6:
		m = m.Number(flow.Protocol, flow.TCP, flow.TCP)
	case k < 8:
		m = m.Number(flow.Protocol, flow.UDP, flow.UDP)
	case k < 9:
		m = m.Number(flow.Protocol, flow.ICMP, flow.ICMP)
		if rnd.IntN(2) == 0 {
			m = m.Number(flow.ICMPType, 8, 8)
		}
		r.Match = m
		return r
	default:
		r.Match = m
		return r
	}
	switch rnd.IntN(6) {
	case 0:
		lo := uint64(1024 + rnd.IntN(30000))
		m = m.Number(flow.DestinationPort, lo, lo+uint64(rnd.IntN(2000)))
	case 1:
		m = m.Number(flow.DestinationPort, 1024, 65535)
	case 2:
	default:
		p := services[rnd.IntN(len(services))]
		m = m.Number(flow.DestinationPort, p, p)
	}
	if rnd.IntN(10) == 0 {
		m = m.Number(flow.SourcePort, 1024, 65535)
	}
	r.Match = m
	return r
}

// Touched gives a copy of rules with some edits: one more, one less, another
// action, another place.
func Touched(rnd *rand.Rand, nets []netip.Prefix, rules []flow.Rule, edits int) []flow.Rule {
	out := slices.Clone(rules)
	for range edits {
		i := rnd.IntN(max(len(out)-1, 1))
		switch rnd.IntN(4) {
		case 0:
			out = slices.Insert(out, i, FilterRule(rnd, nets))
		case 1:
			out = slices.Delete(out, i, i+1)
		case 2:
			out[i].Action = flow.Accept - out[i].Action
		default:
			j := rnd.IntN(max(len(out)-1, 1))
			out[i], out[j] = out[j], out[i]
		}
	}
	return out
}

// Rewritten gives rules that do the same and are written otherwise: prefixes cut
// in two, rules put in that no packet gets to, neighbours that have nothing in
// common swapped.
func Rewritten(rnd *rand.Rand, rules []flow.Rule) []flow.Rule {
	var out []flow.Rule
	for i, r := range rules {
		halves := r.Match.Halves(flow.Source)
		switch rnd.IntN(3) {
		case 0:
			for _, h := range halves {
				out = append(out, flow.Rule{Name: r.Name, Match: h, Action: r.Action})
			}
		case 1:
			out = append(
				out, r, flow.Rule{Name: fmt.Sprintf("never-%d", i), Match: halves[0], Action: flow.Accept - r.Action},
			)
		default:
			out = append(out, r)
		}
	}
	return out
}
