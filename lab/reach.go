package lab

import (
	"net/netip"
	"strconv"

	"oakenlatch/core/tree"
)

// Management says where a device's management is in the simulated network. The
// zero value is a device that answers whatever its configuration says.
type Management struct {
	Address  netip.Addr // the device's, as the operators know it
	Operator netip.Addr // where they connect from
	Port     uint16     // TCP port as filters see it: 830 (RFC 6242 section 6)

	// Entry is the interface that is wired to the operators; "" is the one that
	// has the address at the factory.
	Entry string

	// Behind is the device that passes packets on to this one, nil if none.
	Behind *Device

	// Others are more addresses that the network carries to this device, each
	// with where it then listens: it answers there while it has the address.
	Others map[netip.Addr]string
}

// trip is a packet on its way through a device.
type trip struct {
	from, to     netip.Addr
	sport, dport uint16
}

func (t trip) back() trip { return trip{t.to, t.from, t.dport, t.sport} }

// ephemeral is the port that operators' connections come from.
const ephemeral = 49152

// reaches works out whether a connection to an address of the device comes
// about: the packet finds its way in, the answer its way out, and the service
// is there. The lab's rules are written apart from what forecasts them.
func (m Management) reaches(cfg *tree.Node, address netip.Addr) bool {
	if !m.Address.IsValid() {
		return true
	}
	if m.Behind != nil && !m.Behind.passes(address, m.Port, m.Operator) {
		return false
	}
	v := view{cfg, address.Is4()}
	home := ""
	for name, nets := range v.networks() {
		for _, p := range nets {
			if p.Addr() == address {
				home = name
			}
		}
	}
	in := trip{m.Operator, address, ephemeral, m.Port}
	return home != "" && v.isUp(m.Entry) && v.wayTo(m.Operator) == m.Entry &&
		v.admits(m.Entry, "ingress", in) && v.admits(m.Entry, "egress", in.back()) && serves(cfg, m.Port)
}

// passes reports whether a device in the middle carries a connection of the
// operators to an address behind it.
func (d *Device) passes(to netip.Addr, port uint16, operator netip.Addr) bool {
	d.mu.Lock()
	cfg, dead := d.effective, d.down
	d.mu.Unlock()
	v := view{cfg, to.Is4()}
	near, far := d.Spec.Management.Entry, v.wayTo(to)
	there := trip{operator, to, ephemeral, port}
	return !dead && far != "" && v.wayTo(operator) == near && v.passesOn(near) && v.passesOn(far) &&
		v.admits(near, "ingress", there) && v.admits(far, "egress", there) &&
		v.admits(far, "ingress", there.back()) && v.admits(near, "egress", there.back())
}

// serves reports whether the NETCONF service listens on the port, where its
// configuration says so at all.
func serves(cfg *tree.Node, port uint16) bool {
	server := cfg.Known("netconf-server")
	if server == nil {
		return true
	}
	listen := server.Known("listen")
	if listen == nil {
		return false
	}
	for _, e := range list(listen.Known("endpoints"), "endpoint") {
		ssh := e.Known("ssh")
		if ssh == nil {
			continue
		}
		for _, b := range list(ssh.Known("tcp-server-parameters"), "local-bind") {
			if leaf(b, "local-port", "830") == strconv.Itoa(int(port)) {
				return true
			}
		}
	}
	return false
}

// admitsAccount reports whether an account may sign in: any where the
// configuration has none.
func admitsAccount(cfg *tree.Node, user, password string) bool {
	sys := cfg.Known("system")
	if sys == nil {
		return true
	}
	users := list(sys.Known("authentication"), "user")
	for _, u := range users {
		if leaf(u, "name", "") == user {
			p := leaf(u, "password", "")
			return p == "" || p == "$0$"+password // clear text, as RFC 7317 has it
		}
	}
	return len(users) == 0
}

// view is a configuration as one address family sees it.
type view struct {
	cfg *tree.Node
	v4  bool
}

func (v view) ip(i *tree.Node) *tree.Node {
	name := "ipv6"
	if v.v4 {
		name = "ipv4"
	}
	return i.Known(name)
}

func (v view) find(name string) *tree.Node {
	for _, i := range list(v.cfg.Known("interfaces"), "interface") {
		if leaf(i, "name", "") == name {
			return i
		}
	}
	return nil
}

// isUp reports whether an interface is up with all that it stands on.
func (v view) isUp(name string) bool {
	seen := map[string]bool{}
	for !seen[name] {
		seen[name] = true
		i := v.find(name)
		if i == nil || leaf(i, "enabled", "true") == "false" {
			return false
		}
		if id := leaf(i, "vlan", ""); id != "" {
			return v.carried(id)
		}
		if name = leaf(i, "parent-interface", ""); name == "" {
			return true
		}
	}
	return false
}

// carried reports whether a VLAN exists and some port that is up carries it.
func (v view) carried(id string) bool {
	exists := false
	for _, vlan := range list(v.cfg.Known("vlans"), "vlan") {
		exists = exists || leaf(vlan, "id", "") == id
	}
	for _, i := range list(v.cfg.Known("interfaces"), "interface") {
		port := i.Known("bridge-port")
		has := leaf(port, "untagged", "") == id
		for _, t := range list(port, "tagged") {
			has = has || t.Value() == id
		}
		if exists && has && leaf(i, "enabled", "true") == "true" {
			return true
		}
	}
	return false
}

// networks gives the addresses of each interface that speaks the family, with
// their prefixes.
func (v view) networks() map[string][]netip.Prefix {
	out := map[string][]netip.Prefix{}
	for _, i := range list(v.cfg.Known("interfaces"), "interface") {
		ip := v.ip(i)
		if ip == nil || leaf(ip, "enabled", "true") == "false" || !v.isUp(leaf(i, "name", "")) {
			continue
		}
		for _, a := range list(ip, "address") {
			p, err := netip.ParsePrefix(leaf(a, "ip", "") + "/" + leaf(a, "prefix-length", ""))
			if err == nil {
				out[leaf(i, "name", "")] = append(out[leaf(i, "name", "")], p)
			}
		}
	}
	return out
}

// direct gives the interface on whose network an address is, "" if none.
func (v view) direct(a netip.Addr) string {
	best, name := -1, ""
	for i, nets := range v.networks() {
		for _, p := range nets {
			if p.Contains(a) && (p.Bits() > best || p.Bits() == best && i < name) {
				best, name = p.Bits(), i
			}
		}
	}
	return name
}

// wayTo gives the interface by which packets to an address leave: directly, or
// by the static route of the longest prefix.
func (v view) wayTo(a netip.Addr) string {
	if name := v.direct(a); name != "" {
		return name
	}
	family := "ipv6"
	if v.v4 {
		family = "ipv4"
	}
	best, out := -1, ""
	routing := v.cfg.Known("routing")
	if routing == nil {
		return ""
	}
	for _, proto := range list(routing.Known("control-plane-protocols"), "control-plane-protocol") {
		static := proto.Known("static-routes")
		if static == nil {
			continue
		}
		for _, r := range list(static.Known(family), "route") {
			p, err := netip.ParsePrefix(leaf(r, "destination-prefix", ""))
			if err != nil || !p.Contains(a) || p.Bits() <= best {
				continue
			}
			best, out = p.Bits(), ""
			next := r.Known("next-hop")
			if hop, err := netip.ParseAddr(leaf(next, "next-hop-address", "")); err == nil {
				out = v.direct(hop)
			} else if name := leaf(next, "outgoing-interface", ""); v.isUp(name) {
				out = name
			}
		}
	}
	return out
}

// passesOn reports whether an interface forwards what it receives.
func (v view) passesOn(name string) bool {
	return v.isUp(name) && leaf(v.ip(v.find(name)), "forwarding", "false") == "true"
}

// admits takes a packet through the filters on an interface; the first rule
// that matches decides, and where there are filters and none matches, the
// packet is lost.
func (v view) admits(on, side string, t trip) bool {
	acls := v.cfg.Known("acls")
	if acls == nil {
		return true
	}
	for _, at := range list(acls.Known("attachment-points"), "interface") {
		dir := at.Known(side)
		if leaf(at, "interface-id", "") != on || dir == nil {
			continue
		}
		sets := list(dir.Known("acl-sets"), "acl-set")
		for _, set := range sets {
			for _, acl := range list(acls, "acl") {
				if leaf(acl, "name", "") != leaf(set, "name", "") {
					continue
				}
				for _, ace := range list(acl.Known("aces"), "ace") {
					if t.matches(ace.Known("matches")) {
						return leaf(ace.Known("actions"), "forwarding", "") == "ietf-access-control-list:accept"
					}
				}
			}
		}
		return len(sets) == 0
	}
	return true
}

func (t trip) matches(match *tree.Node) bool {
	if match == nil {
		return true
	}
	v4, v6 := match.Known("ipv4"), match.Known("ipv6")
	if v4 != nil && !t.from.Is4() || v6 != nil && t.from.Is4() || match.Known("udp") != nil || match.Known("icmp") != nil {
		return false
	}
	for _, ip := range []*tree.Node{v4, v6} {
		if leaf(ip, "protocol", "6") != "6" {
			return false
		}
		for _, side := range []struct {
			name string
			addr netip.Addr
		}{{"source-ipv4-network", t.from}, {"source-ipv6-network", t.from}, {"destination-ipv4-network", t.to}, {"destination-ipv6-network", t.to}} {
			if want := leaf(ip, side.name, ""); want != "" {
				if p, err := netip.ParsePrefix(want); err != nil || !p.Contains(side.addr) {
					return false
				}
			}
		}
	}
	tcp := match.Known("tcp")
	return tcp == nil || portMatches(tcp.Known("source-port"), t.sport) && portMatches(tcp.Known("destination-port"), t.dport)
}

func portMatches(port *tree.Node, have uint16) bool {
	number := func(name string) int {
		n, err := strconv.Atoi(leaf(port, name, "-1"))
		if err != nil {
			return -1
		}
		return n
	}
	if lo := number("lower-port"); lo >= 0 {
		return lo <= int(have) && int(have) <= number("upper-port")
	}
	want := number("port")
	if want < 0 {
		return true
	}
	switch leaf(port, "operator", "eq") {
	case "lte":
		return int(have) <= want
	case "gte":
		return int(have) >= want
	case "neq":
		return int(have) != want
	}
	return int(have) == want
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
