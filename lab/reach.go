package lab

import (
	"net/netip"
	"slices"
	"strconv"

	"oakenlatch/core/tree"
)

// Management says where a device's management is in the simulated network. The
// zero value is a device that answers whatever its configuration says.
type Management struct {
	Address  netip.Addr // the device's, as the operators know it
	Operator netip.Addr // where they connect from
	Port     uint16     // TCP port as filters see it: 830 (RFC 6242 section 6)

	// What the cables lead to stays as it was when the device was put up: by which
	// wires packets of the operators come and go, to which neighbour, and whether
	// the service is set up by the configuration.
	cables map[netip.Addr]cable
	served bool

	// Behind is the device that passes packets on to this one, nil if none.
	Behind *Device

	// Others are more addresses that the network carries to this device, each
	// with where it then listens: it answers there while it has the address.
	Others map[netip.Addr]string
}

// cable is where an operator stands: behind a port, by frames with a tag or
// without (""), and the neighbour on that wire to whom answers go.
type cable struct {
	port, tag string
	neighbour netip.Addr
}

// ephemeral is the port that operators' connections come from.
const ephemeral = 49152

// putUp looks where the cables lead, by the configuration as it is.
func (m *Management) putUp(cfg *tree.Node) {
	m.cables = map[netip.Addr]cable{}
	m.served = cfg.Known("netconf-server") != nil
	if !m.Address.IsValid() {
		return
	}
	v := view{cfg, m.Address.Is4()}
	out, neighbour := v.wayTo(m.Operator)
	for _, w := range v.wires(out) {
		w.neighbour = neighbour
		// Of several ports of one VLAN, the operators are behind one that has its tag.
		if have, ok := m.cables[m.Operator]; !ok || have.tag == "" && w.tag != "" {
			m.cables[m.Operator] = w
		}
	}
}

// reaches works out whether a connection to an address of the device comes
// about: the packet finds its way there, the answer its way out, and the service
// is there. The lab's rules are written apart from what forecasts them, and held
// against the kernel with it (test/kernel).
func (m Management) reaches(cfg *tree.Node, address netip.Addr) bool {
	if !m.Address.IsValid() {
		return true
	}
	if m.Behind != nil && !m.Behind.passes(address, m.Port, m.Operator) {
		return false
	}
	c, known := m.cables[m.Operator]
	v := view{cfg, address.Is4()}
	home := v.owner(address)
	out, neighbour := v.wayTo(m.Operator)
	if !known || home == "" || v.owner(m.Operator) != "" || v.owner(c.neighbour) != "" || neighbour != c.neighbour {
		return false
	}
	there := Packet{From: m.Operator, To: address, Protocol: 6, FromPort: ephemeral, ToPort: m.Port}
	in := v.arrives(c)
	return in != "" && v.leaves(out, c) && v.admits(in, "ingress", c, there) && v.admits(
		out, "egress", c, there.back(),
	) &&
		v.finds(in, c, address) && m.serves(cfg, address)
}

// passes reports whether a device in the middle carries a connection of the
// operators to an address behind it.
func (d *Device) passes(to netip.Addr, port uint16, operator netip.Addr) bool {
	d.mu.Lock()
	cfg, dead, factory := d.effective, d.down, d.startedWith
	d.mu.Unlock()
	v, was := view{cfg, to.Is4()}, view{factory, to.Is4()}
	near, mine := v.wayTo(operator)
	far, his := v.wayTo(to)
	wasFar, wasHis := was.wayTo(to)
	c := d.Spec.Management.cables[operator]
	if far == "" {
		return false
	}
	ends := was.wires(wasFar)
	if len(ends) == 0 {
		ends = v.wires(far) // nobody was there yet: wherever it leads
		wasHis = his
	}
	if len(ends) == 0 {
		return false
	}
	e := ends[0]
	for _, w := range ends {
		if w.tag != "" {
			e = w
			break
		}
	}
	there := Packet{From: operator, To: to, Protocol: 6, FromPort: ephemeral, ToPort: port}
	return !dead && near != "" && mine == c.neighbour && his == wasHis && v.owner(mine) == "" && v.owner(his) == "" &&
		v.owner(to) == "" &&
		v.leaves(near, c) && v.leaves(far, e) && v.passesOn(near) && v.passesOn(far) &&
		v.admits(near, "ingress", c, there) && v.admits(far, "egress", e, there) &&
		v.admits(far, "ingress", e, there.back()) && v.admits(near, "egress", c, there.back())
}

func (p Packet) back() Packet {
	p.From, p.To, p.FromPort, p.ToPort = p.To, p.From, p.ToPort, p.FromPort
	return p
}

// serves reports whether the NETCONF service listens at the address, where its
// configuration says so at all.
func (m Management) serves(cfg *tree.Node, address netip.Addr) bool {
	server := cfg.Known("netconf-server")
	if server == nil {
		return !m.served
	}
	for _, e := range list(server.Under("listen", "endpoints"), "endpoint") {
		for _, b := range list(e.Under("ssh", "tcp-server-parameters"), "local-bind") {
			at, err := netip.ParseAddr(leaf(b, "local-address", ""))
			if err == nil && (at == address || at.IsUnspecified() && at.Is4() == address.Is4()) &&
				leaf(b, "local-port", "830") == strconv.Itoa(int(m.Port)) {
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
		if parent := leaf(i, "parent-interface", ""); parent != "" {
			name = parent
			continue
		}
		if id := leaf(i, "vlan", ""); id != "" {
			return len(v.carried(id)) > 0
		}
		return true
	}
	return false
}

// carried gives the wires of a VLAN at the ports that are up.
func (v view) carried(id string) (out []cable) {
	exists := false
	for _, vlan := range list(v.cfg.Known("vlans"), "vlan") {
		exists = exists || leaf(vlan, "id", "") == id
	}
	for _, i := range list(v.cfg.Known("interfaces"), "interface") {
		port := i.Known("bridge-port")
		if !exists || leaf(i, "enabled", "true") == "false" || !plugged(i) {
			continue
		}
		if leaf(port, "untagged", "") == id {
			out = append(out, cable{port: leaf(i, "name", "")})
			continue
		}
		for _, t := range list(port, "tagged") {
			if t.Value() == id {
				out = append(out, cable{port: leaf(i, "name", ""), tag: id})
			}
		}
	}
	return out
}

// plugged reports whether an interface is one with a cable.
func plugged(i *tree.Node) bool {
	return leaf(i, "vlan", "") == "" && leaf(
		i, "parent-interface", "",
	) == "" && leaf(i, "type", "") != "iana-if-type:softwareLoopback"
}

// wires gives by which ports, and with which tag, an interface's frames go.
func (v view) wires(name string) []cable {
	tag := ""
	for range 8 {
		i := v.find(name)
		if i == nil || !v.isUp(name) {
			return nil
		}
		id, parent := leaf(i, "vlan", ""), leaf(i, "parent-interface", "")
		switch {
		case parent == "" && id != "":
			if tag != "" {
				return nil
			}
			return v.carried(id)
		case parent == "" && plugged(i):
			return []cable{{port: name, tag: tag}}
		case parent == "":
			return nil
		case id != "" && tag != "":
			return nil
		case id != "":
			tag = id
		}
		name = parent
	}
	return nil
}

// leaves reports whether an interface's frames go by a wire.
func (v view) leaves(name string, c cable) bool {
	return slices.ContainsFunc(v.wires(name), func(w cable) bool { return w.port == c.port && w.tag == c.tag })
}

// arrives gives the interface that frames by a wire come to.
func (v view) arrives(c cable) string {
	for _, i := range list(v.cfg.Known("interfaces"), "interface") {
		if name := leaf(i, "name", ""); v.speaks(i) && v.leaves(name, c) {
			return name
		}
	}
	return ""
}

// speaks reports whether the family runs on an interface.
func (v view) speaks(i *tree.Node) bool {
	ip := v.ip(i)
	return ip != nil && leaf(ip, "enabled", "true") != "false"
}

// networks gives the addresses of each interface that speaks the family, with
// their prefixes.
func (v view) networks() map[string][]netip.Prefix {
	out := map[string][]netip.Prefix{}
	for _, i := range list(v.cfg.Known("interfaces"), "interface") {
		if !v.speaks(i) || !v.isUp(leaf(i, "name", "")) {
			continue
		}
		for _, a := range list(v.ip(i), "address") {
			p, err := netip.ParsePrefix(leaf(a, "ip", "") + "/" + leaf(a, "prefix-length", ""))
			if err == nil {
				out[leaf(i, "name", "")] = append(out[leaf(i, "name", "")], p)
			}
		}
	}
	return out
}

// owner gives an interface that has an address, "" if none.
func (v view) owner(a netip.Addr) string {
	for name, nets := range v.networks() {
		for _, p := range nets {
			if p.Addr() == a {
				return name
			}
		}
	}
	return ""
}

// path is one way of the routing table.
type path struct {
	net       netip.Prefix
	out       string
	neighbour netip.Addr // zero: whoever it is for
	nowhere   bool
}

// table gives all ways, those of networks that the device is on first. A static
// route whose next hop is on none of these is not among them.
func (v view) table() (out []path) {
	for name, nets := range v.networks() {
		for _, p := range nets {
			out = append(out, path{net: p.Masked(), out: name})
		}
	}
	slices.SortFunc(out, func(a, b path) int { // two of one network: always the same
		if a.out < b.out {
			return -1
		}
		return 1
	})
	on := len(out)
	family := "ipv6"
	if v.v4 {
		family = "ipv4"
	}
	for _, proto := range list(v.cfg.Under("routing", "control-plane-protocols"), "control-plane-protocol") {
		for _, r := range list(proto.Under("static-routes", family), "route") {
			net, err := netip.ParsePrefix(leaf(r, "destination-prefix", ""))
			if err != nil {
				continue
			}
			next := r.Known("next-hop")
			way := path{
				net: net.Masked(), out: leaf(next, "outgoing-interface", ""),
				nowhere: leaf(next, "special-next-hop", "") != "",
			}
			if hop, err := netip.ParseAddr(leaf(next, "next-hop-address", "")); err == nil {
				near := longest(out[:on], hop)
				if near == nil || v.owner(hop) != "" || v.broadcast(hop) {
					continue
				}
				way.out, way.neighbour = near.out, hop
			} else if !way.nowhere && !v.isUp(way.out) {
				continue
			}
			out = append(out, way)
		}
	}
	return out
}

// longest gives the way of the longest prefix, the first of those.
func longest(ways []path, a netip.Addr) (best *path) {
	for n := range ways {
		if ways[n].net.Contains(a) && (best == nil || ways[n].net.Bits() > best.net.Bits()) {
			best = &ways[n]
		}
	}
	return best
}

// broadcast reports whether an address is that of all hosts of a network.
func (v view) broadcast(a netip.Addr) bool {
	for _, nets := range v.networks() {
		for _, p := range nets {
			if v.v4 && p.Bits() < 31 && p.Contains(a) && !p.Contains(a.Next()) {
				return true
			}
		}
	}
	return false
}

// wayTo gives by which interface packets to an address leave, and to whom.
func (v view) wayTo(a netip.Addr) (string, netip.Addr) {
	best := longest(v.table(), a)
	if best == nil || best.nowhere || v.broadcast(a) {
		return "", netip.Addr{}
	}
	if !best.neighbour.IsValid() {
		return best.out, a
	}
	return best.out, best.neighbour
}

// passesOn reports whether an interface forwards what it receives.
func (v view) passesOn(name string) bool {
	return v.isUp(name) && leaf(v.ip(v.find(name)), "forwarding", "false") == "true"
}

// finds reports whether, with IPv6, the neighbour on a wire finds the device there
// and it the neighbour: filters see what they ask each other (RFC 4861).
func (v view) finds(name string, c cable, address netip.Addr) bool {
	if v.v4 {
		return true
	}
	group := func(a netip.Addr) netip.Addr {
		b := a.As16()
		return netip.AddrFrom16([16]byte{0: 0xff, 1: 2, 11: 1, 12: 0xff, 13: b[13], 14: b[14], 15: b[15]})
	}
	return v.admits(name, "ingress", c, Packet{From: c.neighbour, To: group(address), Protocol: 58, Type: 135}) &&
		v.admits(name, "egress", c, Packet{From: address, To: c.neighbour, Protocol: 58, Type: 136}) &&
		v.admits(name, "egress", c, Packet{From: address, To: group(c.neighbour), Protocol: 58, Type: 135}) &&
		v.admits(name, "ingress", c, Packet{From: c.neighbour, To: address, Protocol: 58, Type: 136})
}

// admits takes a packet through the filters on an interface and on all that its
// frames pass between it and a wire.
func (v view) admits(name, side string, c cable, p Packet) bool {
	for at := name; at != ""; at = leaf(v.find(at), "parent-interface", "") {
		if !v.lets(at, side, p) {
			return false
		}
		if at == c.port {
			return true
		}
	}
	return v.lets(c.port, side, p)
}

// lets takes a packet through the filters on one interface, one after another; the
// first rule that matches decides, and where there are filters and none matches,
// the packet is lost.
func (v view) lets(on, side string, p Packet) bool {
	for _, at := range list(v.cfg.Under("acls", "attachment-points"), "interface") {
		if leaf(at, "interface-id", "") != on {
			continue
		}
		sets := list(at.Under(side, "acl-sets"), "acl-set")
		for _, set := range sets {
			if passes, decided := decides(v.cfg, leaf(set, "name", ""), p); decided {
				return passes
			}
		}
		return len(sets) == 0
	}
	return true
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
