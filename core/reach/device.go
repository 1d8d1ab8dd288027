package reach

import (
	"net/netip"
	"slices"
	"strconv"

	"oakenlatch/core/tree"
)

// device is a configuration as one address family sees it: RFC 8343, 8344 and
// 8349 for interfaces, addresses and routes.
type device struct {
	cfg  *tree.Node
	four bool
}

func (d device) family() string {
	if d.four {
		return "ipv4"
	}
	return "ipv6"
}

// What is read of a configuration by names; n may be nil.
func list(n *tree.Node, name string) []*tree.Node     { return n.Entries(name) }
func leaf(n *tree.Node, name, fallback string) string { return n.Text(name, fallback) }
func below(n *tree.Node, names ...string) *tree.Node  { return n.Under(names...) }

func interfacePath(name string) string { return "/interfaces/interface=" + name }

func (d device) iface(name string) *tree.Node {
	for _, i := range list(d.cfg.Known("interfaces"), "interface") {
		if leaf(i, "name", "") == name {
			return i
		}
	}
	return nil
}

// addressed is an address on an interface with its network.
type addressed struct{ prefix netip.Prefix }

// addresses lists an interface's, whether or not it is up.
func (d device) addresses(i *tree.Node) []addressed {
	ip := i.Known(d.family())
	if ip == nil || leaf(ip, "enabled", "true") != "true" {
		return nil
	}
	var out []addressed
	for _, a := range list(ip, "address") {
		addr, err := netip.ParseAddr(leaf(a, "ip", ""))
		if err != nil || addr.Is4() != d.four {
			continue
		}
		out = append(out, addressed{netip.PrefixFrom(addr, length(a, addr))})
	}
	return out
}

// length reads the length of an address's prefix: as such, or as a netmask
// (RFC 8344, feature ipv4-non-contiguous-netmasks).
func length(a *tree.Node, addr netip.Addr) int {
	if n, err := strconv.Atoi(leaf(a, "prefix-length", "")); err == nil && n <= addr.BitLen() {
		return n
	}
	mask, err := netip.ParseAddr(leaf(a, "netmask", ""))
	if err != nil {
		return addr.BitLen()
	}
	n := 0
	for _, b := range mask.AsSlice() {
		for bit := 7; bit >= 0; bit-- {
			if b&(1<<bit) == 0 {
				return n
			}
			n++
		}
	}
	return n
}

// home finds an interface that has an address and is up.
func (d device) home(address netip.Addr) found {
	f := found{}.at(shut, "/interfaces", "no interface has the address %s", address)
	for _, i := range list(d.cfg.Known("interfaces"), "interface") {
		name := leaf(i, "name", "")
		for _, a := range list(i.Known(d.family()), "address") {
			if got, err := netip.ParseAddr(leaf(a, "ip", "")); err != nil || got != address {
				continue
			}
			if leaf(i.Known(d.family()), "enabled", "true") != "true" {
				f = found{}.at(shut, interfacePath(name)+"/"+d.family()+"/enabled", "%s is off on %s, which has the address %s", d.family(), name, address)
			} else if f = d.up(name); f.state == open {
				return f
			}
		}
	}
	return f
}

// up reports whether an interface would be up: it is enabled, and so is what it
// stands on.
func (d device) up(name string) found {
	for range 8 { // one on another, as deep as anybody stacks them
		i := d.iface(name)
		if i == nil {
			return found{}.at(shut, interfacePath(name), "interface %s is gone", name)
		}
		if leaf(i, "enabled", "true") != "true" {
			return found{}.at(shut, interfacePath(name)+"/enabled", "interface %s is shut down", name)
		}
		if vlan := leaf(i, "vlan", ""); vlan != "" {
			return d.vlan(name, vlan)
		}
		parent := leaf(i, "parent-interface", "")
		if parent == "" {
			return found{}
		}
		name = parent
	}
	return found{}.at(unsure, interfacePath(name), "interfaces stand on each other without end")
}

// vlan reports whether a routed VLAN has a port that carries it.
func (d device) vlan(name, id string) found {
	exists := slices.ContainsFunc(list(d.cfg.Known("vlans"), "vlan"), func(v *tree.Node) bool { return leaf(v, "id", "") == id })
	if !exists {
		return found{}.at(shut, "/vlans/vlan="+id, "VLAN %s, which %s rests on, is gone", id, name)
	}
	for _, i := range list(d.cfg.Known("interfaces"), "interface") {
		port := i.Known("bridge-port")
		carries := leaf(port, "untagged", "") == id || slices.ContainsFunc(list(port, "tagged"), func(v *tree.Node) bool { return v.Value() == id })
		if carries && leaf(i, "enabled", "true") == "true" {
			return found{}
		}
	}
	return found{}.at(shut, "/vlans/vlan="+id, "no port that is up carries VLAN %s, which %s rests on", id, name)
}

// connected gives the interface whose network an address is in; "" if none.
func (d device) connected(a netip.Addr) string {
	best, name := -1, ""
	for _, i := range list(d.cfg.Known("interfaces"), "interface") {
		if d.up(leaf(i, "name", "")).state != open {
			continue
		}
		for _, have := range d.addresses(i) {
			if have.prefix.Masked().Contains(a) && have.prefix.Bits() > best {
				best, name = have.prefix.Bits(), leaf(i, "name", "")
			}
		}
	}
	return name
}

// staticRoute is a route to somewhere.
type staticRoute struct {
	prefix    netip.Prefix
	hop       netip.Addr
	out       string // interface
	nowhere   bool   // a special next hop
	path      string
	odd       bool // there is more to it than is understood
	ambiguous bool // two protocols have one for the same prefix
}

// best gives the static route with the longest prefix that covers an address;
// its path is "" where there is none.
func (d device) best(to netip.Addr) staticRoute {
	best := staticRoute{}
	for _, proto := range list(below(d.cfg, "routing", "control-plane-protocols"), "control-plane-protocol") {
		for _, r := range list(below(proto, "static-routes", d.family()), "route") {
			p, err := netip.ParsePrefix(leaf(r, "destination-prefix", ""))
			if err != nil || !p.Contains(to) || best.path != "" && p.Bits() < best.prefix.Bits() {
				continue
			}
			again := best.path != "" && p.Bits() == best.prefix.Bits()
			best = readRoute(r, p)
			best.ambiguous = again
			best.path = "/routing/control-plane-protocols/control-plane-protocol=" + proto.Keys()[0] + "," + proto.Keys()[1] + "/static-routes/" + d.family() + "/route=" + p.String()
		}
	}
	return best
}

func readRoute(r *tree.Node, p netip.Prefix) staticRoute {
	out := staticRoute{prefix: p}
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
			out.nowhere = true
		default:
			out.odd = true // a list of next hops
		}
	}
	return out
}

// route finds by which interface packets to an address leave.
func (d device) route(to netip.Addr) (string, found) {
	if name := d.connected(to); name != "" {
		return name, found{}
	}
	r := d.best(to)
	switch {
	case r.path == "" && d.learnsRoutes():
		return "", found{}.at(unsure, "/routing", "there is no static route to %s, and whether one is learned the configuration does not tell", to)
	case r.path == "":
		return "", found{}.at(shut, "/routing", "there is no route to %s", to)
	case r.odd, r.ambiguous, d.learnsRoutes():
		return "", found{}.at(unsure, r.path, "which way the route to %s takes is not understood", to)
	case r.nowhere:
		return "", found{}.at(shut, r.path, "the route to %s leads nowhere", to)
	case r.out != "":
		f := d.up(r.out)
		return r.out, f
	case r.hop.IsValid():
		if name := d.connected(r.hop); name != "" {
			return name, found{}
		}
		if d.best(r.hop).path != "" {
			return "", found{}.at(unsure, r.path, "the next hop %s on the way to %s is itself reached by a route", r.hop, to)
		}
		return "", found{}.at(shut, r.path, "the next hop %s on the way to %s is on no network that is up", r.hop, to)
	}
	return "", found{}.at(unsure, r.path, "the route to %s names no next hop", to)
}

// learnsRoutes reports whether there is a routing protocol beside static routes.
func (d device) learnsRoutes() bool {
	for _, proto := range list(below(d.cfg, "routing", "control-plane-protocols"), "control-plane-protocol") {
		if leaf(proto, "type", "") != "ietf-routing:static" {
			return true
		}
	}
	return false
}

// forwards reports whether an interface passes on what it receives
// (RFC 8344, forwarding).
func (d device) forwards(name string) found {
	if f := d.up(name); f.state != open {
		return f
	}
	if leaf(d.iface(name).Known(d.family()), "forwarding", "false") != "true" {
		return found{}.at(shut, interfacePath(name)+"/"+d.family()+"/forwarding", "%s does not pass on what it receives", name)
	}
	return found{}
}

// service looks whether the account and the service are still there. Only what
// the configuration told of them before can be missed after.
func (d device) service(w Way) found {
	if users := list(below(d.cfg, "system", "authentication"), "user"); len(users) > 0 && w.Account != "" && user(d.cfg, w) == nil {
		return found{}.at(shut, "/system/authentication/user="+w.Account, "account %s, with which this service signs in, is not among the device's accounts", w.Account)
	}
	server := d.cfg.Known("netconf-server")
	if server == nil {
		return found{}
	}
	ports, sure := listens(server)
	switch {
	case slices.Contains(ports, strconv.Itoa(int(w.Port))):
	case !sure:
		return found{}.at(unsure, "/netconf-server", "on which ports its NETCONF service listens is not understood")
	default:
		return found{}.at(shut, "/netconf-server", "its NETCONF service does not listen on port %d", w.Port)
	}
	return found{}
}

// listens gathers the ports of a NETCONF server's endpoints; sure is false
// where one names none.
func listens(n *tree.Node) (ports []string, sure bool) {
	sure = true
	for c := range n.Each() {
		switch {
		case c.Schema() == nil:
			sure = false
		case c.Schema().Name == "local-port":
			ports = append(ports, c.Value())
		case !c.Schema().IsLeaf():
			some, ok := listens(c)
			ports, sure = append(ports, some...), sure && ok
		}
	}
	return ports, sure
}
