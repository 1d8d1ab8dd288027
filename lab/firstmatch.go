package lab

import (
	"net/netip"
	"strconv"

	"oakenlatch/core/tree"
)

// Packet is a packet as a device of the lab sees it: its headers, nothing else.
type Packet struct {
	From, To         netip.Addr
	Protocol         uint8
	FromPort, ToPort uint16 // of TCP and UDP
	Type, Code       uint8  // of ICMP
}

// Forwards reports whether a filter of a configuration lets a packet pass: its
// rules are tried one after another, the first that matches decides, and without
// one it does not pass. It is the plain reading of the rules that the product's
// own answers are held against, and shares nothing with them.
func Forwards(cfg *tree.Node, filter string, p Packet) bool {
	passes, _ := decides(cfg, filter, p)
	return passes
}

// decides reports what a filter does with a packet; decided is false where none of
// its rules matches. A filter of one family's type is about that family alone.
func decides(cfg *tree.Node, filter string, p Packet) (passes, decided bool) {
	acls := cfg.Known("acls")
	if acls == nil {
		return false, false
	}
	for acl := range acls.Each() {
		if acl.Schema().Name != "acl" || valueOf(acl, "name") != filter {
			continue
		}
		switch valueOf(acl, "type") {
		case "ietf-access-control-list:ipv4-acl-type":
			if !p.From.Is4() {
				return false, false
			}
		case "ietf-access-control-list:ipv6-acl-type":
			if p.From.Is4() {
				return false, false
			}
		}
		aces := acl.Known("aces")
		if aces == nil {
			return false, false
		}
		for ace := range aces.Each() {
			if matchesAll(ace.Known("matches"), p) {
				return valueOf(ace.Known("actions"), "forwarding") == "ietf-access-control-list:accept", true
			}
		}
	}
	return false, false
}

func valueOf(n *tree.Node, name string) string {
	if n == nil {
		return ""
	}
	if l := n.Known(name); l != nil {
		return l.Value()
	}
	return ""
}

func matchesAll(m *tree.Node, p Packet) bool {
	if m == nil {
		return true
	}
	for header := range m.Each() {
		name := header.Schema().Name
		switch {
		case name == "ipv4" && !p.From.Is4(), name == "ipv6" && p.From.Is4():
			return false
		case name == "tcp" && p.Protocol != 6, name == "udp" && p.Protocol != 17:
			return false
		case name == "icmp" && !(p.Protocol == 1 && p.From.Is4() || p.Protocol == 58 && !p.From.Is4()):
			return false
		}
		for field := range header.Each() {
			if !matchesField(field, p) {
				return false
			}
		}
	}
	return true
}

func matchesField(f *tree.Node, p Packet) bool {
	within := func(a netip.Addr) bool {
		net, err := netip.ParsePrefix(f.Value())
		return err == nil && net.Contains(a)
	}
	switch f.Schema().Name {
	case "protocol":
		return f.Value() == strconv.Itoa(int(p.Protocol))
	case "source-ipv4-network", "source-ipv6-network":
		return within(p.From)
	case "destination-ipv4-network", "destination-ipv6-network":
		return within(p.To)
	case "source-port":
		return matchesPort(f, int(p.FromPort))
	case "destination-port":
		return matchesPort(f, int(p.ToPort))
	case "type":
		return f.Value() == strconv.Itoa(int(p.Type))
	case "code":
		return f.Value() == strconv.Itoa(int(p.Code))
	}
	return false
}

func matchesPort(n *tree.Node, have int) bool {
	number := func(name string) int { v, _ := strconv.Atoi(valueOf(n, name)); return v }
	if valueOf(n, "lower-port") != "" {
		return have >= number("lower-port") && have <= number("upper-port")
	}
	switch want := number("port"); valueOf(n, "operator") {
	case "lte":
		return have <= want
	case "gte":
		return have >= want
	case "neq":
		return have != want
	default:
		return have == want
	}
}
