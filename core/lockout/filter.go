package lockout

import (
	"net/netip"
	"slices"

	"oakenlatch/core/flow"
	"oakenlatch/core/tree"
)

type addr = netip.Addr

type addresses []addr

// own are an interface's addresses without their prefixes.
func (i *iface) own() (out addresses) {
	for _, p := range i.addresses {
		out = append(out, p.Addr())
	}
	return out
}

func (i *iface) has(a addr) bool { return slices.Contains(i.own(), a) }

// need is packets that a session cannot do without.
type need struct {
	what    string
	session bool // its own packets; else those by which neighbours are found
	vital   bool // without them it is cut; else it may be
	leaving bool // they are for what leaves the device
	matches []flow.Match
}

func (n need) set(s *flow.Space) flow.Set {
	out := s.Nothing()
	for _, m := range n.matches {
		out = out.Union(s.Matching(m))
	}
	return out
}

// leg is packets on their way between a wire and an interface.
type leg struct {
	iface     string
	wire      wire
	direction string // ingress or egress
	need      need
}

func host(a addr) netip.Prefix { return netip.PrefixFrom(a, a.BitLen()) }

// tcp is what is asked of a packet of the session.
func tcp(from, to addr) flow.Match {
	fam := flow.IPv4
	if from.Is6() {
		fam = flow.IPv6
	}
	return flow.Match{}.In(fam).Number(
		flow.Protocol, flow.TCP, flow.TCP,
	).Prefix(flow.Source, host(from)).Prefix(flow.Destination, host(to))
}

// ours are the ports that we may come from (RFC 6056 section 3.2).
const ourLow, ourHigh = 1024, 65535

func there(w ManagementPath) need {
	port := uint64(w.Port)
	return need{
		"what goes to port " + itoa(w.Port) + " of " + w.Address.String(), true, true, false,
		[]flow.Match{
			tcp(w.Us, w.Address).Number(flow.DestinationPort, port, port).Number(flow.SourcePort, ourLow, ourHigh),
		},
	}
}

func back(w ManagementPath) need {
	port := uint64(w.Port)
	return need{
		"what answers from port " + itoa(w.Port) + " to " + w.Us.String(), true, true, true,
		[]flow.Match{
			tcp(w.Address, w.Us).Number(flow.SourcePort, port, port).Number(flow.DestinationPort, ourLow, ourHigh),
		},
	}
}

// Types of ICMPv6 (RFC 4861 section 4).
const (
	solicitation  = 135
	advertisement = 136
)

var linkLocal = netip.MustParsePrefix("fe80::/10")

// solicited gives the multicast address at which a host is asked for its own (RFC
// 4291 section 2.7.1).
func solicited(a addr) addr {
	b := a.As16()
	return netip.AddrFrom16([16]byte{0: 0xff, 1: 2, 11: 1, 12: 0xff, 13: b[13], 14: b[14], 15: b[15]})
}

// discovery is what a device and its neighbour need to find each other on a link of
// IPv6 (RFC 4861 section 7.2): filters see it, unlike ARP. A neighbour that asks may
// do so in its address or in one of the link alone. direct says that the neighbour
// is whom the session is with: what it asked with tells the device where it is, so
// that the device may do without asking.
func discovery(name string, w wire, targets addresses, neighbour addr, direct bool) []leg {
	nd := func(kind uint64, from, to []netip.Prefix) (out []flow.Match) {
		for _, f := range from {
			for _, t := range to {
				out = append(out, flow.Match{}.In(flow.IPv6).Number(
					flow.Protocol, flow.ICMPv6, flow.ICMPv6,
				).Number(flow.ICMPType, kind, kind).Number(flow.ICMPCode, 0, 0).
					Number(flow.TTL, 255, 255).Prefix(flow.Source, f).Prefix(flow.Destination, t))
			}
		}
		return out
	}
	var asked, own []netip.Prefix
	for _, t := range targets {
		asked, own = append(asked, host(solicited(t))), append(own, host(t))
	}
	ownOrLink := append(slices.Clip(own), linkLocal)
	theirs := []netip.Prefix{host(neighbour), linkLocal}
	if direct {
		theirs = theirs[:1]
	}
	who := neighbour.String()
	return []leg{
		{
			name, w, "ingress",
			need{
				"the question of " + who + " for the device (neighbour solicitation)", false, true, false,
				nd(solicitation, theirs, asked),
			},
		},
		{
			name, w, "egress",
			need{
				"the answer to " + who + ", by which it finds the device (neighbour advertisement)", false, true, false,
				nd(advertisement, own, theirs),
			},
		},
		{
			name, w, "egress",
			need{
				"the question for " + who + " (neighbour solicitation)", false, !direct, true,
				nd(solicitation, ownOrLink, []netip.Prefix{host(solicited(neighbour))}),
			},
		},
		{
			name, w, "ingress",
			need{
				"the answer of " + who + " (neighbour advertisement)", false, !direct, true,
				nd(advertisement, theirs[:1], ownOrLink),
			},
		},
	}
}

// chain gives the filters that a leg's packets pass, one for each interface.
func (d *device) chain(l leg) (out []flow.Filter) {
	for _, name := range d.passing(l.iface, l.wire) {
		if f, ok := flow.At(d.cfg, name, l.direction); ok {
			out = append(out, f)
		}
	}
	return out
}

// permitted are a leg's packets that pass all filters.
func (d *device) permitted(s *flow.Space, l leg) flow.Set {
	set := l.need.set(s)
	for _, f := range d.chain(l) {
		set = s.PermittedWithin(set, f.Rules)
	}
	return set
}

// dropped tells which rule drops one of some packets.
func (d *device) dropped(s *flow.Space, l leg, lost flow.Set) found {
	p, ok := lost.Example()
	for _, f := range d.chain(l) {
		if !ok {
			break
		}
		action, n := f.Does(p)
		switch {
		case action.Permits():
		case n < 0:
			return is(shut, f.Path, "no rule of filter %s fits %s, so it is dropped", f.Name, l.need.what)
		default:
			return is(shut, f.Rules[n].Path, "rule %s of filter %s drops %s", f.Rules[n].Name, f.Name, l.need.what)
		}
	}
	return is(shut, "/acls", "filters drop %s", l.need.what)
}

// through says whether the packets that got through before still do.
func through(s *flow.Space, before, after *device, was, now leg, moved bool) found {
	if !moved && before.filtersAlike(after, was, now) {
		return found{}
	}
	had, has := before.permitted(s, was), after.permitted(s, now)
	if moved { // other packets than before: all of them are to pass
		had = now.need.set(s)
	}
	lost := had.Minus(has)
	switch {
	case s.Err() != nil:
		return is(unsure, "/acls", "what the filters do with %s is too much to be worked out", now.need.what)
	case now.need.session && had.Empty():
		f := before.dropped(s, was, was.need.set(s))
		return is(
			unsure, f.path,
			"by its configuration as it is the device would not answer, though it does, so its management "+
				"access is not "+
				"understood: %s",
			f.why,
		)
	case lost.Empty():
		return found{}
	}
	f := after.dropped(s, now, lost)
	if has.Both(had).Empty() && now.need.vital {
		return f
	}
	f.state = unsure
	f.why = "whether it is all of them cannot be told, but " + f.why
	return f
}

// filtersAlike reports whether packets meet the very same filters.
func (d *device) filtersAlike(after *device, was, now leg) bool {
	if was.direction != now.direction {
		return false
	}
	return slices.EqualFunc(d.attached(was), after.attached(now), tree.Same)
}

// attached are the filters that a leg meets, as they stand in the configuration.
func (d *device) attached(l leg) (out []*tree.Node) {
	for _, name := range d.passing(l.iface, l.wire) {
		out = append(out, flow.Attached(d.cfg, name, l.direction)...)
	}
	return out
}
