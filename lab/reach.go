package lab

import (
	"net/netip"
	"strconv"

	"oakenlatch/core/tree"
)

// Management says where a device's management is in the simulated network.
type Management struct {
	Address  netip.Addr // the device's, as the operators know it
	Operator netip.Addr // where they connect from
	Port     uint16     // TCP port as filters see it: 830 (RFC 6242 section 6)
}

// reachable works out whether the management packet finds its way in and back:
// the address on an interface that is up, a route back, no filter in the way.
func (m Management) reachable(cfg *tree.Node) bool {
	var home *tree.Node
	var connected []netip.Prefix
	for _, i := range list(cfg.Known("interfaces"), "interface") {
		if leaf(i, "enabled", "true") != "true" {
			continue
		}
		ip := i.Known("ipv4")
		if ip == nil || leaf(ip, "enabled", "true") != "true" {
			continue
		}
		for _, a := range list(ip, "address") {
			addr, err := netip.ParseAddr(leaf(a, "ip", ""))
			bits, berr := strconv.Atoi(leaf(a, "prefix-length", ""))
			if err != nil || berr != nil {
				continue
			}
			if p, err := addr.Prefix(bits); err == nil {
				connected = append(connected, p)
			}
			if addr == m.Address {
				home = i
			}
		}
	}
	return home != nil && m.routed(cfg, connected) && m.admitted(cfg, leaf(home, "name", ""))
}

// routed looks for the longest prefix that covers the operator and whether its
// next hop can be reached.
func (m Management) routed(cfg *tree.Node, connected []netip.Prefix) bool {
	within := func(a netip.Addr) bool {
		for _, p := range connected {
			if p.Contains(a) {
				return true
			}
		}
		return false
	}
	if within(m.Operator) {
		return true
	}
	best, found := -1, false
	for _, proto := range list(cfg.Known("routing").Known("control-plane-protocols"), "control-plane-protocol") {
		for _, r := range list(proto.Known("static-routes").Known("ipv4"), "route") {
			p, err := netip.ParsePrefix(leaf(r, "destination-prefix", ""))
			if err != nil || !p.Contains(m.Operator) || p.Bits() < best {
				continue
			}
			hop, err := netip.ParseAddr(leaf(r.Known("next-hop"), "next-hop-address", ""))
			best, found = p.Bits(), err == nil && within(hop)
		}
	}
	return found
}

// admitted follows the filters on the way in; the first rule that matches
// decides, and where there are filters and none matches, the packet is lost.
func (m Management) admitted(cfg *tree.Node, on string) bool {
	acls := cfg.Known("acls")
	for _, at := range list(acls.Known("attachment-points"), "interface") {
		if leaf(at, "interface-id", "") != on {
			continue
		}
		sets := list(at.Known("ingress").Known("acl-sets"), "acl-set")
		for _, set := range sets {
			for _, acl := range list(acls, "acl") {
				if leaf(acl, "name", "") != leaf(set, "name", "") {
					continue
				}
				for _, ace := range list(acl.Known("aces"), "ace") {
					if m.matches(ace.Known("matches")) {
						return leaf(ace.Known("actions"), "forwarding", "") == "ietf-access-control-list:accept"
					}
				}
			}
		}
		return len(sets) == 0
	}
	return true
}

func (m Management) matches(match *tree.Node) bool {
	ip := match.Known("ipv4")
	if p := leaf(ip, "protocol", "6"); p != "6" {
		return false
	}
	for name, addr := range map[string]netip.Addr{"source-ipv4-network": m.Operator, "destination-ipv4-network": m.Address} {
		if v := leaf(ip, name, ""); v != "" {
			p, err := netip.ParsePrefix(v)
			if err != nil || !p.Contains(addr) {
				return false
			}
		}
	}
	if match.Known("udp") != nil || match.Known("icmp") != nil {
		return false
	}
	port := match.Known("tcp").Known("destination-port")
	number := func(name string) int {
		n, err := strconv.Atoi(leaf(port, name, "-1"))
		if err != nil {
			return -1
		}
		return n
	}
	have := int(m.Port)
	if lo := number("lower-port"); lo >= 0 {
		return lo <= have && have <= number("upper-port")
	}
	want := number("port")
	if want < 0 {
		return true
	}
	switch leaf(port, "operator", "eq") {
	case "lte":
		return have <= want
	case "gte":
		return have >= want
	case "neq":
		return have != want
	}
	return have == want
}

// list gives the entries of a list or leaf-list below n; n may be nil.
func list(n *tree.Node, name string) []*tree.Node {
	if n == nil {
		return nil
	}
	if first := n.Known(name); first != nil {
		return n.All(first.Schema())
	}
	return nil
}

// leaf gives a leaf's value below n, or the fallback; n may be nil.
func leaf(n *tree.Node, name, fallback string) string {
	if l := n.Known(name); l != nil {
		return l.Value()
	}
	return fallback
}
