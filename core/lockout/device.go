package lockout

import (
	"net/netip"
	"slices"
	"strconv"

	"oakenlatch/core/tree"
)

// device is a configuration as one address family sees it: RFC 8343 and 8344 for
// interfaces and addresses, IEEE 802.1Q for VLANs.
type device struct {
	cfg    *tree.Node
	four   bool
	list   []*iface
	byName map[string]*iface
	vlans  map[string]bool
}

// iface is an interface.
type iface struct {
	name     string
	kind     string
	enabled  bool
	vlan     string // of a routed VLAN, or of what stands on another interface: its tag
	parent   string
	untagged string
	tagged   []string

	ip         bool // the family runs on it
	addresses  []netip.Prefix
	mtu        int // 0 where it is not told
	forwarding bool
}

func (i *iface) loopback() bool { return i.kind == "iana-if-type:softwareLoopback" }

// port reports whether a cable may be plugged into it.
func (i *iface) port() bool { return i.vlan == "" && i.parent == "" && !i.loopback() }

// bridged reports whether it is a port of the bridge.
func (i *iface) bridged() bool { return i.untagged != "" || len(i.tagged) > 0 }

// wire is where frames enter and leave a device: a port, and the VLAN whose tag
// they have there, "" without.
type wire struct{ port, tag string }

func family(four bool) string {
	if four {
		return "ipv4"
	}
	return "ipv6"
}

func (d *device) family() string { return family(d.four) }

func interfacePath(name string) string { return "/interfaces/interface=" + name }

func newDevice(cfg *tree.Node, four bool) *device {
	d := &device{cfg: cfg, four: four, byName: map[string]*iface{}, vlans: map[string]bool{}}
	for _, n := range cfg.Known("interfaces").Entries("interface") {
		i := &iface{
			name: n.Text("name", ""), kind: n.Text("type", ""), enabled: n.Text("enabled", "true") == "true",
			vlan: n.Text("vlan", ""), parent: n.Text("parent-interface", ""),
		}
		port := n.Known("bridge-port")
		i.untagged = port.Text("untagged", "")
		for _, t := range port.Entries("tagged") {
			i.tagged = append(i.tagged, t.Value())
		}
		if ip := n.Known(d.family()); ip != nil {
			i.ip = ip.Text("enabled", "true") == "true"
			i.mtu, _ = strconv.Atoi(ip.Text("mtu", ""))
			i.forwarding = ip.Text("forwarding", "false") == "true"
			for _, a := range ip.Entries("address") {
				if addr, err := netip.ParseAddr(a.Text("ip", "")); err == nil && addr.Is4() == four {
					i.addresses = append(i.addresses, netip.PrefixFrom(addr, length(a, addr)))
				}
			}
		}
		d.list = append(d.list, i)
		d.byName[i.name] = i
	}
	for _, v := range cfg.Known("vlans").Entries("vlan") {
		d.vlans[v.Text("id", "")] = true
	}
	return d
}

// length reads the length of an address's prefix: as such, or as a netmask
// (RFC 8344, feature ipv4-non-contiguous-netmasks).
func length(a *tree.Node, addr netip.Addr) int {
	if n, err := strconv.Atoi(a.Text("prefix-length", "")); err == nil && n <= addr.BitLen() {
		return n
	}
	mask, err := netip.ParseAddr(a.Text("netmask", ""))
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

// deepest is how many interfaces may stand one on another.
const deepest = 8

// up reports whether an interface would be up: it is enabled, and so is what it
// stands on; a routed VLAN is up while a port that is up carries it.
func (d *device) up(name string) found {
	for range deepest {
		i := d.byName[name]
		switch {
		case i == nil:
			return is(shut, interfacePath(name), "interface %s is gone", name)
		case !i.enabled:
			return is(shut, interfacePath(name)+"/enabled", "interface %s is shut down", name)
		case i.parent != "":
			name = i.parent
			continue
		case i.vlan == "":
			return found{}
		case !d.vlans[i.vlan]:
			return is(shut, "/vlans/vlan="+i.vlan, "VLAN %s, which %s rests on, is gone", i.vlan, name)
		case len(d.carriers(i.vlan)) == 0:
			return is(
				shut, "/vlans/vlan="+i.vlan, "no port that is up carries VLAN %s, which %s rests on", i.vlan, name,
			)
		}
		return found{}
	}
	return is(unsure, interfacePath(name), "interfaces stand on each other without end")
}

// carriers are the wires of a VLAN at the ports of the bridge that are up.
func (d *device) carriers(vlan string) (out []wire) {
	for _, p := range d.list {
		if !p.enabled || !p.port() {
			continue
		}
		switch { // what is untagged at a port leaves it so (IEEE 802.1Q, untagged set)
		case p.untagged == vlan:
			out = append(out, wire{p.name, ""})
		case slices.Contains(p.tagged, vlan):
			out = append(out, wire{p.name, vlan})
		}
	}
	return out
}

// below lists the interfaces that one stands on, the nearest first; tag is that
// which its frames have on the last of them, ok is false where they have two.
func (d *device) below(i *iface) (chain []*iface, tag string, ok bool) {
	for range deepest {
		if i.parent == "" {
			return chain, tag, true
		}
		if i.vlan != "" {
			if tag != "" {
				return nil, "", false
			}
			tag = i.vlan
		}
		next := d.byName[i.parent]
		if next == nil {
			return nil, "", false
		}
		chain = append(chain, next)
		i = next
	}
	return nil, "", false
}

// wires are where the frames of an interface enter and leave.
func (d *device) wires(name string) []wire {
	i := d.byName[name]
	switch {
	case i == nil || d.up(name).state == shut || i.loopback():
		return nil
	case i.parent != "":
		chain, tag, ok := d.below(i)
		if !ok {
			return nil
		}
		if base := chain[len(chain)-1]; base.vlan == "" {
			return []wire{{base.name, tag}}
		}
		if tag != "" {
			return nil // a tag of its own within a VLAN
		}
		return d.carriers(chain[len(chain)-1].vlan)
	case i.vlan != "":
		return d.carriers(i.vlan)
	}
	return []wire{{name, ""}}
}

// passing lists the interfaces that frames between an interface and one of its
// wires pass, the port first and itself last.
func (d *device) passing(name string, w wire) (out []string) {
	out = []string{w.port}
	chain, _, _ := d.below(d.byName[name])
	slices.Reverse(chain)
	for _, i := range chain {
		if i.name != w.port {
			out = append(out, i.name)
		}
	}
	if name != w.port {
		out = append(out, name)
	}
	return out
}

// shared reports whether a port that has an interface's own frames is one of the
// bridge as well: devices differ in whether it still has them then.
func (d *device) shared(name string, w wire) found {
	p := d.byName[w.port]
	if w.tag == "" && p.bridged() && d.base(name) == w.port {
		return is(
			unsure, interfacePath(p.name)+"/bridge-port",
			"%s is a port of the bridge; whether it still has an address of its own then, devices differ in", p.name,
		)
	}
	return found{}
}

// base is the interface that one stands on in the end, itself where on none.
func (d *device) base(name string) string {
	if chain, _, ok := d.below(d.byName[name]); ok && len(chain) > 0 {
		return chain[len(chain)-1].name
	}
	return name
}

// holder finds the interfaces with an address that are up; f says why there is
// none.
func (d *device) holder(address netip.Addr) (names []string, f found) {
	f = is(shut, "/interfaces", "no interface has the address %s", address)
	for _, i := range d.list {
		if !slices.ContainsFunc(i.addresses, func(p netip.Prefix) bool { return p.Addr() == address }) {
			continue
		}
		if !i.ip {
			f = is(
				shut, interfacePath(i.name)+"/"+d.family()+"/enabled", "%s is off on %s, which has the address %s",
				d.family(), i.name, address,
			)
		} else if up := d.up(i.name); up.state != open {
			f = up
		} else {
			names = append(names, i.name)
		}
	}
	if len(names) > 0 {
		return names, found{}
	}
	for _, r := range d.routes() {
		if r.special == "receive" && r.prefix.Contains(address) && f.state == shut {
			return nil, is(
				unsure, r.path, "no interface has the address %s, but a route says that what goes there is received",
				address,
			)
		}
	}
	return nil, f
}
