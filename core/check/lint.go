package check

import (
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"oakenlatch/core/redact"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// Lint finds what is legal but most likely not meant, on the standard models
// (RFC 8343 interfaces, RFC 8344 addresses, RFC 8349 routes, RFC 8519 filters) and by the schema
// alone. With a base, only what the base did not have already is told.
func Lint(s *schema.Schema, base, result *tree.Node) []Finding {
	l := linter{data: newData(s, result), base: base}
	l.addresses(result)
	l.overlaps()
	l.routes(result, nil)
	l.references()
	l.filters(base, result)
	l.named(result, nil)
	if base == nil {
		return l.found
	}
	l.shells(base, result, nil)
	before := map[[2]string]bool{}
	for _, f := range Lint(s, nil, base) {
		before[[2]string{f.Path, f.Message}] = true
	}
	return slices.DeleteFunc(l.found, func(f Finding) bool { return before[[2]string{f.Path, f.Message}] })
}

// named finds secrets whose value is the name of a hidden one: nobody means that.
func (l *linter) named(n *tree.Node, at tree.Path) {
	for c := range n.Each() {
		switch s := c.Schema(); {
		case s == nil || !s.HasSecrets():
		case !s.IsLeaf():
			l.named(c, at.Down(c))
		case strings.HasPrefix(c.Value(), redact.Prefix):
			l.find(Error, at.Down(c), nil, "is the name of a hidden value, and not a value: give the value itself")
		}
	}
}

type linter struct {
	data    *data
	base    *tree.Node // nil where there is none
	subnet  []connected
	holders map[netip.Addr]string      // interfaces by address
	subnets map[netip.Prefix]connected // the first interface in each
	found   []Finding
}

func (l *linter) find(sev Severity, p tree.Path, fix *Fix, format string, args ...any) {
	if len(l.found) < mostFindings {
		l.found = append(l.found, Finding{sev, p.String(), fmt.Sprintf(format, args...), fix})
	}
}

// connected is an address of an interface with its subnet.
type connected struct {
	iface   string
	addr    netip.Addr
	subnet  netip.Prefix
	enabled bool
	at      tree.Path
}

// known gives the child of a name, if it is of the module.
func known(n *tree.Node, module, name string) *tree.Node {
	if c := n.Known(name); c != nil && c.Schema().Module.Name == module {
		return c
	}
	return nil
}

// addresses finds addresses used twice and interfaces that share a subnet.
func (l *linter) addresses(root *tree.Node) {
	interfaces := known(root, "ietf-interfaces", "interfaces")
	if interfaces == nil {
		return
	}
	at := tree.Path(nil).Down(interfaces)
	for i := range interfaces.Each() {
		if i.Schema() == nil || i.Schema().Name != "interface" {
			continue
		}
		enabled := i.Known("enabled")
		for _, family := range []string{"ipv4", "ipv6"} {
			ip := known(i, "ietf-ip", family)
			if ip == nil {
				continue
			}
			here := at.Down(i).Down(ip)
			for a := range ip.Each() {
				if a.Schema() == nil || a.Schema().Name != "address" {
					continue
				}
				c := connected{iface: i.Keys()[0], enabled: enabled == nil || enabled.Value() == "true"}
				c.addr, c.subnet = subnetOf(a)
				if c.addr.IsValid() {
					l.address(here.Down(a), c)
				}
			}
		}
	}
}

// subnetOf reads an address with its prefix length or netmask.
func subnetOf(a *tree.Node) (netip.Addr, netip.Prefix) {
	addr, err := netip.ParseAddr(a.Keys()[0])
	if err != nil {
		return netip.Addr{}, netip.Prefix{}
	}
	bits := -1
	if p := a.Known("prefix-length"); p != nil {
		if n, err := strconv.Atoi(p.Value()); err == nil {
			bits = n
		}
	} else if m := a.Known("netmask"); m != nil {
		if mask, err := netip.ParseAddr(m.Value()); err == nil {
			bits = 0
			for _, b := range mask.AsSlice() {
				for ; b&0x80 != 0; b <<= 1 {
					bits++
				}
			}
		}
	}
	p, err := addr.WithZone("").Prefix(bits)
	if err != nil {
		return addr, netip.Prefix{}
	}
	return addr, p
}

func (l *linter) address(at tree.Path, c connected) {
	if c.addr.IsLinkLocalUnicast() {
		return // the same on many interfaces by intention
	}
	if o, ok := l.holders[c.addr]; ok && o != c.iface {
		l.find(Warning, at, &Fix{Edit: "delete", Path: at.String()}, "the address %s is on %s already", c.addr, o)
	}
	if l.holders == nil {
		l.holders = map[netip.Addr]string{}
	}
	l.holders[c.addr] = c.iface
	c.at = at
	l.subnet = append(l.subnet, c)
}

// overlaps tells of interfaces in one subnet. The widest subnets are looked at
// first, so that each only asks for those around it.
func (l *linter) overlaps() {
	l.subnets = map[netip.Prefix]connected{}
	slices.SortStableFunc(l.subnet, func(a, b connected) int { return a.subnet.Bits() - b.subnet.Bits() })
	for _, c := range l.subnet {
		if !c.enabled || !c.subnet.IsValid() || c.subnet.IsSingleIP() {
			continue
		}
		for p := range around(c.addr, c.subnet.Bits()) {
			if o, ok := l.subnets[p]; ok && o.iface != c.iface && o.addr != c.addr {
				l.find(Warning, c.at, nil, "%s and %s are both in the subnet %s", o.iface, c.iface, p)
				break
			}
		}
		if _, ok := l.subnets[c.subnet]; !ok {
			l.subnets[c.subnet] = c
		}
	}
}

// around gives the prefixes of at most so many bits that hold an address,
// longest first.
func around(a netip.Addr, bits int) iter.Seq[netip.Prefix] {
	return func(yield func(netip.Prefix) bool) {
		for ; bits >= 0; bits-- {
			if p, err := a.WithZone("").Prefix(bits); err != nil || !yield(p) {
				return
			}
		}
	}
}

// routes finds gateways that no connected subnet reaches.
func (l *linter) routes(n *tree.Node, at tree.Path) {
	for c := range n.Each() {
		s := c.Schema()
		switch {
		case s == nil || c.Opaque() != nil || !s.Config || len(at) == 0 && s.Module.Name != "ietf-routing":
		case s.Name == "next-hop-address":
			l.gateway(n, c, at.Down(c))
		case !s.IsLeaf():
			l.routes(c, at.Down(c))
		}
	}
}

func (l *linter) gateway(hop, c *tree.Node, at tree.Path) {
	gw, err := netip.ParseAddr(c.Value())
	if err != nil || gw.IsLinkLocalUnicast() || hop.Known("outgoing-interface") != nil {
		return
	}
	if iface, own := l.holders[gw]; own {
		l.find(Warning, at, nil, "the gateway %s is this device's own address on %s", gw, iface)
		return
	}
	for p := range around(gw, gw.BitLen()) {
		if _, ok := l.subnets[p]; ok {
			return
		}
	}
	l.find(Warning, at, nil, "no connected subnet reaches the gateway %s", gw)
}

// references finds references to what is absent where the schema allows that,
// and entries that others could refer to but none does.
func (l *linter) references() {
	targets := map[*schema.Node]map[string]bool{} // key leaf -> values referred to
	l.data.schema.Walk(func(n *schema.Node) {
		if n.Config && n.IsLeaf() {
			for _, t := range leafrefs(n.Type) {
				if k := t.Target; k != nil && k.Config && k.KeyIndex() == 0 && len(k.Parent.Keys) == 1 &&
					!inside(n, k.Parent) {
					targets[k] = map[string]bool{}
				}
			}
		}
	})
	l.uses(l.data.root, targets)
	l.data.schema.Walk(func(n *schema.Node) {
		// Interfaces are there to be used by packets, not by references.
		if n.Config && n.Kind == schema.List && len(n.Keys) == 1 && n.Module.Name != "ietf-interfaces" {
			if used := targets[n.Child(n.Module, n.Keys[0])]; used != nil {
				l.unused(n, used)
			}
		}
	})
}

func leafrefs(t *schema.Type) []*schema.Type {
	var out []*schema.Type
	if t.Base == schema.LeafRef {
		out = append(out, t)
	}
	for _, m := range t.Members {
		out = append(out, leafrefs(m)...)
	}
	return out
}

func inside(n, list *schema.Node) bool {
	for p := n; p != nil; p = p.Parent {
		if p == list {
			return true
		}
	}
	return false
}

// uses notes what the leafrefs below a node refer to.
func (l *linter) uses(at *cursor, targets map[*schema.Node]map[string]bool) {
	for _, s := range at.known() {
		if !s.Config || at.node == nil {
			continue
		}
		refs := []*schema.Type(nil)
		if s.IsLeaf() {
			if refs = leafrefs(s.Type); len(refs) == 0 {
				continue
			}
		}
		for _, c := range at.all(s) {
			if c.node == nil {
				continue
			}
			if c.node.Opaque() == nil && !s.IsLeaf() {
				l.uses(c, targets)
			}
			for _, t := range refs {
				if used := targets[t.Target]; used != nil {
					used[c.Text()] = true
				}
				if t.NoRequire && t.Target != nil && t.Target.Config {
					if ok, err := l.data.refers(t, c, c.Text()); err == nil && !ok && len(refs) == 1 &&
						s.Type.Base == schema.LeafRef {
						l.find(Warning, c.path(), remove(c), "refers to %q, which is not there", c.Text())
					}
				}
			}
		}
	}
}

// unused tells of entries of a list that nothing refers to.
func (l *linter) unused(list *schema.Node, used map[string]bool) {
	var way []*schema.Node
	for p := list; p != nil; p = p.DataParent() {
		way = append(way, p)
	}
	at := []*cursor{l.data.root}
	for _, s := range slices.Backward(way) {
		var next []*cursor
		for _, c := range at {
			next = append(next, c.all(s)...)
		}
		at = next
	}
	for _, c := range at {
		if c.node != nil && !used[c.node.Keys()[0]] {
			fix := remove(c)
			if l.base != nil && l.base.At(c.path()) == nil {
				fix = nil // it was just put there: what refers to it may be yet to come
			}
			l.find(Hint, c.path(), fix, "is used nowhere: nothing refers to this %s", list.Name)
		}
	}
}

// shells finds what a change left behind: an entry or a container with a
// meaning of its own of which all content was removed.
func (l *linter) shells(base, result *tree.Node, at tree.Path) {
	if tree.Same(base, result) {
		return
	}
	_, changed := tree.Unshared(base, result)
	find := finder(base)
	for _, n := range changed {
		s := n.Schema()
		if s == nil || n.Opaque() != nil || s.IsLeaf() || !s.Single() {
			continue
		}
		old := find(n)
		if old == nil || tree.Same(old, n) {
			continue
		}
		if content(old) > 0 && content(n) == 0 {
			p := at.Down(n)
			l.find(
				Hint, p, &Fix{Edit: "delete", Path: p.String()}, "is an empty shell: this change takes out all it held",
			)
			continue
		}
		l.shells(old, n, at.Down(n))
	}
}

// finder gives what finds the children of a node that are the same as others. Lists
// whose order the user gives are looked through once, not once for each entry.
func finder(base *tree.Node) func(n *tree.Node) *tree.Node {
	ordered := map[*schema.Node]map[string]*tree.Node{}
	return func(n *tree.Node) *tree.Node {
		s := n.Schema()
		if !s.UserOrdered {
			return base.Find(s, n.Keys())
		}
		if ordered[s] == nil {
			ordered[s] = map[string]*tree.Node{}
			for _, e := range base.All(s) {
				ordered[s][tree.Identity(e)] = e
			}
		}
		return ordered[s][tree.Identity(n)]
	}
}

// content counts the children that are no keys.
func content(n *tree.Node) int {
	return n.Len() - len(n.Schema().Keys)
}
