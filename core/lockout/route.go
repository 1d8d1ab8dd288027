package lockout

import (
	"net/netip"
	"slices"

	"oakenlatch/core/tree"
)

// exit is where packets leave: by which interface, to which neighbour on it.
type exit struct {
	out       string
	neighbour netip.Addr
}

// route is one way to somewhere: to a neighbour, to a network that an interface is
// on, or nowhere.
type route struct {
	prefix    netip.Prefix
	path      string
	connected bool
	out       string
	hop       netip.Addr
	special   string
	odd       bool // there is more to it than is understood
}

// routes are all of a device: the networks of its interfaces that are up, and the
// static routes (RFC 8349).
func (d *device) routes() (out []route) {
	for _, i := range d.list {
		if !i.ip || d.up(i.name).state != open {
			continue
		}
		for _, a := range i.addresses {
			out = append(
				out,
				route{
					prefix: a.Masked(),
					path:   interfacePath(i.name) + "/" + d.family() + "/address=" + a.Addr().String(), connected: true,
					out: i.name,
				},
			)
		}
	}
	protocols := d.cfg.Known("routing").Known("control-plane-protocols")
	for _, proto := range protocols.Entries("control-plane-protocol") {
		at := "/routing/control-plane-protocols/control-plane-protocol=" + proto.Keys()[0] + "," + proto.Keys()[1] +
			"/static-routes/" + d.family() + "/route="
		for _, r := range proto.Under("static-routes", d.family()).Entries("route") {
			p, err := netip.ParsePrefix(r.Text("destination-prefix", ""))
			if err != nil {
				continue
			}
			read := readRoute(r, p.Masked())
			read.path = at + p.String()
			out = append(out, read)
		}
	}
	return out
}

func readRoute(r *tree.Node, p netip.Prefix) route {
	out := route{prefix: p}
	next := r.Known("next-hop")
	if next == nil {
		out.odd = true
		return out
	}
	for c := range next.Each() {
		switch {
		case c.Schema() == nil:
			out.odd = true
		case c.Schema().Name == "next-hop-address":
			hop, err := netip.ParseAddr(c.Value())
			out.hop, out.odd = hop, out.odd || err != nil
		case c.Schema().Name == "outgoing-interface":
			out.out = c.Value()
		case c.Schema().Name == "special-next-hop":
			out.special = c.Value()
		default:
			out.odd = true // a list of next hops
		}
	}
	return out
}

// learnsRoutes reports whether there is a routing protocol beside static routes.
func (d *device) learnsRoutes() bool {
	for _, proto := range d.cfg.Known("routing").Known("control-plane-protocols").Entries("control-plane-protocol") {
		if t := proto.Text("type", ""); t != "ietf-routing:static" && t != "ietf-routing:direct" {
			return true
		}
	}
	return false
}

// exit finds where packets to an address leave: by the longest prefix of all
// routes, the device's own addresses before any (RFC 1122 section 3.3.1, RFC 1812
// section 5.2.4.3).
func (d *device) exit(to netip.Addr) (exit, found) {
	if names, _ := d.holder(to); len(names) > 0 {
		return exit{}, d.own(to, names[0])
	}
	all := d.routes()
	if f := d.broadcast(to, all); f.state != open {
		return exit{}, f
	}
	var fits []route
	for _, r := range all {
		if r.prefix.Contains(to) {
			fits = append(fits, r)
		}
	}
	slices.SortStableFunc(fits, func(a, b route) int {
		if n := b.prefix.Bits() - a.prefix.Bits(); n != 0 {
			return n
		}
		if a.connected != b.connected { // nearer than any that is told
			if a.connected {
				return -1
			}
			return 1
		}
		return 0
	})
	doubt := found{}
	for n, r := range fits {
		e, f, inEffect := d.by(r, to, all)
		if !inEffect {
			maybe := f.state == unsure || doubt.state == unsure // one of them may lead back
			if doubt = worst(doubt, f); maybe {
				doubt.state = unsure
			}
			continue
		}
		if doubt.state != open { // either that one or this
			doubt.state = unsure
			return exit{}, doubt
		}
		if r.connected && len(fits) > 1 || !r.connected {
			if f2 := d.another(r, e, to, fits[n+1:], all); f2.state != open {
				return exit{}, f2
			}
		}
		if f.state == open && !r.connected && d.learnsRoutes() {
			f = is(unsure, r.path, "which way the route to %s takes is not understood: others are learned", to)
		}
		return e, f
	}
	switch {
	case doubt.state != open:
		return exit{}, doubt
	case d.learnsRoutes():
		return exit{}, is(
			unsure, "/routing",
			"there is no static route to %s, and whether one is learned the configuration does not tell", to,
		)
	}
	return exit{}, d.lost(to, fits, all)
}

// own says what becomes of packets to an address of the device itself. One of IPv6
// that somebody else has is not put to use, if the device looks (RFC 4862 section
// 5.4).
func (d *device) own(to netip.Addr, name string) found {
	path := interfacePath(name) + "/" + d.family() + "/address=" + to.String()
	if d.four {
		return is(shut, path, "%s is an address of the device itself: what goes there does not leave it", to)
	}
	return is(
		unsure, path,
		"%s is an address of the device itself; whether it takes one that somebody else has cannot be told", to,
	)
}

// broadcast says whether an address is that of all hosts on a network of the
// device (RFC 1122 section 3.3.6).
func (d *device) broadcast(a netip.Addr, all []route) found {
	if !d.four {
		return found{}
	}
	for _, r := range all {
		if !r.connected || r.prefix.Bits() > 30 || !r.prefix.Contains(a) {
			continue
		}
		last := r.prefix.Addr().As4()
		for bit := r.prefix.Bits(); bit < 32; bit++ {
			last[bit/8] |= 0x80 >> (bit % 8)
		}
		switch a {
		case netip.AddrFrom4(last):
			return is(shut, r.path, "%s would be the broadcast address of %s", a, r.prefix)
		case r.prefix.Addr():
			return is(
				unsure, r.path,
				"%s would be the address of the network %s itself; some devices take that for a broadcast", a, r.prefix,
			)
		}
	}
	return found{}
}

// ownHop says what becomes of a route whose next hop is an address of the device
// itself: some devices take it for one to that interface.
func (d *device) ownHop(r route, to netip.Addr) found {
	return is(
		unsure, r.path,
		"the next hop %s on the way to %s is an address of the device itself; what comes of such a route, "+
			"devices differ in",
		r.hop, to,
	)
}

// by follows one route. A route that leads to nobody is not in effect; where that
// is not sure, f says what would come of it.
func (d *device) by(r route, to netip.Addr, all []route) (e exit, f found, inEffect bool) {
	switch {
	case r.odd:
		return exit{}, is(unsure, r.path, "which way the route to %s takes is not understood", to), true
	case r.special != "":
		return exit{}, is(shut, r.path, "the route to %s leads nowhere: %s", to, r.special), true
	case r.connected:
		return exit{r.out, to}, d.whole(r), true
	case r.out != "" && !r.hop.IsValid():
		return d.onLink(r, to)
	case !r.hop.IsValid():
		return exit{}, is(unsure, r.path, "the route to %s names no next hop", to), true
	}
	if names, _ := d.holder(r.hop); len(names) > 0 {
		return exit{}, d.ownHop(r, to), false
	}
	if f := d.broadcast(r.hop, all); f.state != open {
		if f.state == shut {
			return exit{}, found{}, false
		}
		return exit{}, f, true
	}
	// The next hop must be on a network of an interface, and that must be the best
	// way to it.
	best := route{}
	found1 := false
	for _, o := range all {
		if o.path != r.path && o.prefix.Contains(r.hop) && (!found1 || o.prefix.Bits() > best.prefix.Bits() ||
			o.prefix.Bits() == best.prefix.Bits() && o.connected && !best.connected) {
			best, found1 = o, true
		}
	}
	switch {
	case !found1:
		return exit{}, found{}, false
	case best.connected:
		if r.out != "" && r.out != best.out {
			return exit{}, is(
				unsure, r.path, "the next hop %s on the way to %s is on %s, not on %s", r.hop, to, best.out, r.out,
			), true
		}
		for _, o := range all {
			if o.connected && o.prefix == best.prefix && o.out != best.out {
				return exit{}, is(
					unsure, o.path,
					"%s and %s are both on the network %s: by which of them the next hop %s is reached cannot be told",
					best.out, o.out, o.prefix, r.hop,
				), true
			}
		}
		return exit{best.out, r.hop}, d.whole(best), true
	case best.special != "":
		return exit{}, is(
			unsure, best.path, "the next hop %s on the way to %s is itself led nowhere by a route", r.hop, to,
		), false
	}
	return exit{}, is(unsure, r.path, "the next hop %s on the way to %s is itself reached by a route", r.hop, to), false
}

// whole says whether a network is one that devices agree in: a prefix of no length
// makes everybody a neighbour, or nobody.
func (d *device) whole(r route) found {
	if r.prefix.Bits() == 0 {
		return is(
			unsure, r.path,
			"an address with a prefix of length 0: whether everything is then on the network of %s, devices differ in",
			r.out,
		)
	}
	return found{}
}

// onLink follows a route to an interface: the neighbour is who has the address.
func (d *device) onLink(r route, to netip.Addr) (exit, found, bool) {
	f := d.up(r.out)
	if f.state != open {
		return exit{}, found{}, false
	}
	if !d.byName[r.out].ip {
		return exit{}, is(
			shut, r.path, "the route to %s leads to %s, on which %s does not run", to, r.out, d.family(),
		), false
	}
	return exit{r.out, to}, found{}, true
}

// another says whether a second route is as good as the one that was taken and
// leads elsewhere.
func (d *device) another(r route, e exit, to netip.Addr, rest, all []route) found {
	for _, o := range rest {
		if o.prefix != r.prefix || o.connected != r.connected {
			break
		}
		if other, _, ok := d.by(o, to, all); ok && other != e {
			return is(unsure, o.path, "two routes to %s are as good as each other: which is taken cannot be told", to)
		}
	}
	return found{}
}

// lost says why there is no way to an address.
func (d *device) lost(to netip.Addr, fits, all []route) found {
	for _, r := range fits {
		switch {
		case r.hop.IsValid():
			if f := d.broadcast(r.hop, all); f.state != open {
				return f
			}
			return is(shut, r.path, "the next hop %s on the way to %s is on no network that is up", r.hop, to)
		case r.out != "":
			return d.up(r.out)
		}
	}
	return is(shut, "/routing", "there is no route to %s", to)
}
