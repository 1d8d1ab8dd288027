package lockout

import (
	"slices"

	"oakenlatch/core/flow"
	"oakenlatch/core/tree"
)

// passage is the way through a device to another one and back, as things are.
type passage struct {
	d         *device
	w         ManagementPath
	near, far exit
	stands    []attachment // in is the wire towards us, out the one towards the other device
	space     *flow.Space
}

// newPassage finds by which wires packets go, by the configuration as it is.
func newPassage(before *tree.Node, w ManagementPath) (p *passage, f found) {
	p = &passage{d: newDevice(before, w.Us.Is4()), w: w, space: flow.NewSpace(flow.Limits{})}
	if p.near, f = p.d.exit(w.Us); f.state != open {
		return p, f
	}
	if p.far, f = p.d.exit(w.Address); f.state != open {
		return p, f
	}
	for _, name := range []string{p.near.out, p.far.out} {
		if f = p.d.forwards(name); f.state != open {
			return p, f
		}
		if len(p.d.wires(name)) == 0 {
			return p, is(shut, interfacePath(name), "no cable leads to %s", name)
		}
	}
	for _, in := range p.d.wires(p.near.out) {
		for _, out := range p.d.wires(p.far.out) {
			p.stands = append(p.stands, attachment{in, out, p.near.out})
		}
	}
	if len(p.stands) > 1 {
		first := p.stands[0]
		if p.stands = slices.DeleteFunc(
			p.stands, func(s attachment) bool { return p.barred(s).state == shut },
		); len(p.stands) == 0 {
			return p, p.barred(first)
		}
	}
	return p, found{}
}

// barred says whether a filter lets nothing pass between two wires.
func (p *passage) barred(s attachment) found {
	for _, l := range p.legs(s, p.near, p.far) {
		if l.need.session && p.d.permitted(p.space, l).Empty() && p.space.Err() == nil {
			return p.d.dropped(p.space, l, l.need.set(p.space))
		}
	}
	return found{}
}

// legs are what has to pass filters for a session with the other device.
func (p *passage) legs(s attachment, near, far exit) []leg {
	list := []leg{
		{near.out, s.in, "ingress", there(p.w)}, {far.out, s.out, "egress", there(p.w)},
		{far.out, s.out, "ingress", back(p.w)}, {near.out, s.in, "egress", back(p.w)},
	}
	if !p.w.Us.Is4() {
		list = append(list, discovery(near.out, s.in, p.d.byName[p.near.out].own(), p.near.neighbour, false)...)
		list = append(list, discovery(far.out, s.out, p.d.byName[p.far.out].own(), p.far.neighbour, false)...)
	}
	return list
}

// passed are the interfaces that packets pass as things are.
func (p *passage) passed() (out []string) {
	for _, s := range p.stands {
		out = append(out, p.d.passing(p.near.out, s.in)...)
		out = append(out, p.d.passing(p.far.out, s.out)...)
	}
	return out
}

// same follows a session through another configuration.
func (p *passage) same(after *tree.Node, w ManagementPath) found {
	a := newDevice(after, p.d.four)
	return every(p.stands, func(s attachment) found { return p.by(a, w, s) })
}

// by follows a session by two wires.
func (p *passage) by(a *device, w ManagementPath, s attachment) found {
	if f := kinds(p.d, a, append(p.d.passing(p.near.out, s.in), p.d.passing(p.far.out, s.out)...)); f.state != open {
		return f
	}
	near, f := a.exit(w.Us)
	far, g := a.exit(w.Address)
	doubts := []found{f, g, a.taken(p.d, p.near.neighbour), a.taken(p.d, p.far.neighbour)}
	for _, leg := range []struct {
		f        found
		wire     wire
		was, now exit
	}{{f, s.in, p.near, near}, {g, s.out, p.far, far}} {
		// What comes by the wire is passed on by the interface that it comes to.
		if in, f := a.inside(leg.wire, leg.was.out, addr{}); f.state != open {
			doubts = append(doubts, f)
		} else {
			doubts = append(doubts, a.forwards(in))
		}
		if leg.f.state != open {
			continue
		}
		doubts = append(
			doubts, leaving(a, leg.wire, leg.was, leg.now), sizes(p.d, a, leg.was.out, leg.now.out),
			narrower(p.d, a, leg.was.out, leg.now.out), p.found(a, leg.was.out, leg.now.out),
		)
	}
	if f = worst(doubts...); f.state != open {
		return f
	}
	was, now := p.legs(s, p.near, p.far), p.legs(s, near, far)
	for n := range now {
		doubts = append(doubts, through(p.space, p.d, a, was[n], now[n], false))
	}
	return worst(doubts...)
}

// narrower says whether smaller packets pass than did: those who send larger ones
// are told by ICMP, which may be filtered on the way (RFC 1191, RFC 8201, RFC 2923
// section 2.1).
func narrower(before, after *device, was, now string) found {
	if b, a := before.byName[was].mtu, after.byName[now].mtu; a != 0 && (b == 0 || a < b) && a < usual {
		return is(
			unsure, interfacePath(now)+"/"+after.family()+"/mtu",
			"packets of more than %d bytes would not pass %s any more; whether those who send them are told, the "+
				"configuration does not tell",
			a, now,
		)
	}
	return found{}
}

// found says whether neighbours still find the device where they send what is to
// pass through it: at one of its addresses on the interface.
func (p *passage) found(a *device, was, now string) found {
	for _, own := range p.d.byName[was].own() {
		if !a.byName[now].has(own) {
			return is(
				unsure, interfacePath(now)+"/"+a.family(),
				"%s has the address %s no longer, to which what passes may be sent", now, own,
			)
		}
	}
	return found{}
}

// forwards reports whether an interface passes on what it receives (RFC 8344,
// forwarding).
func (d *device) forwards(name string) found {
	if f := d.up(name); f.state != open {
		return f
	}
	if !d.byName[name].forwarding {
		return is(shut, interfacePath(name)+"/"+d.family()+"/forwarding", "%s does not pass on what it receives", name)
	}
	return found{}
}
