package reach

import (
	"net/netip"
	"strconv"

	"oakenlatch/core/tree"
)

// packet is one of a TCP connection to the management port: to it, where far
// is set, or an answer from it. The other port is one of our choosing, of
// which nothing is known.
type packet struct {
	from, to netip.Addr
	port     uint16
	far      bool
}

func (p packet) answer() packet { return packet{from: p.to, to: p.from, port: p.port} }

// match says whether a rule fits a packet: it may depend on what is not known.
type match int

const (
	no match = iota
	perhaps
	yes
)

func (m match) and(n match) match { return min(m, n) }

// filters takes a packet through the filters (RFC 8519) that work on an
// interface in one direction: the first rule that fits decides, and what none
// fits is dropped.
func (d device) filters(name, side string, p packet) found {
	acls := d.cfg.Known("acls")
	for _, at := range list(below(acls, "attachment-points"), "interface") {
		if leaf(at, "interface-id", "") != name {
			continue
		}
		sets := list(below(at, side, "acl-sets"), "acl-set")
		if len(sets) == 0 {
			return found{}
		}
		where := "/acls/attachment-points/interface=" + name + "/" + side
		for _, set := range sets {
			f, decided := d.filter(acls, leaf(set, "name", ""), p)
			if decided {
				return f
			}
			if len(sets) > 1 {
				return found{}.at(unsure, where, "no rule of the first of several filters fits, and what follows then is not laid down")
			}
		}
		return found{}.at(shut, where, "no rule of filter %s fits %s, so it is dropped", leaf(sets[0], "name", ""), p)
	}
	return found{}
}

func (p packet) String() string {
	if p.far {
		return "what goes to port " + strconv.Itoa(int(p.port)) + " of " + p.to.String()
	}
	return "what answers from port " + strconv.Itoa(int(p.port)) + " to " + p.to.String()
}

// filter takes a packet through one filter; decided is false where no rule fits.
func (d device) filter(acls *tree.Node, name string, p packet) (f found, decided bool) {
	base := "/acls/acl=" + name + "/aces/ace="
	var maybe []string // rules that may fit, and what they do
	passes, drops := false, false
	for _, acl := range list(acls, "acl") {
		if leaf(acl, "name", "") != name {
			continue
		}
		for _, ace := range list(acl.Known("aces"), "ace") {
			m := fits(ace.Known("matches"), p)
			if m == no {
				continue
			}
			path := base + leaf(ace, "name", "")
			action := below(ace, "actions")
			accept := leaf(action, "forwarding", "") == "ietf-access-control-list:accept"
			if accept {
				passes = true
			} else {
				drops = true
			}
			if m == perhaps {
				maybe = append(maybe, path)
				continue
			}
			switch {
			case passes && drops:
				return found{}.at(unsure, maybe[0], "whether rule %s fits %s cannot be told", maybe[0], p), true
			case accept:
				return found{}, true
			}
			return found{}.at(shut, path, "rule %s of filter %s drops %s", leaf(ace, "name", ""), name, p), true
		}
	}
	if len(maybe) == 0 {
		return found{}, false
	}
	if passes {
		return found{}.at(unsure, maybe[0], "whether rule %s fits %s cannot be told", maybe[0], p), true
	}
	return found{}.at(shut, maybe[0], "filter %s drops %s", name, p), true
}

// all matches every part of a rule; one that no module describes may fit.
func all(n *tree.Node, part func(c *tree.Node) match) match {
	out := yes
	for c := range n.Each() {
		if c.Schema() == nil {
			out = out.and(perhaps)
			continue
		}
		out = out.and(part(c))
	}
	return out
}

// fits matches a rule against a packet.
func fits(n *tree.Node, p packet) match {
	if n == nil {
		return yes
	}
	return all(n, func(c *tree.Node) match {
		switch c.Schema().Name {
		case "ipv4":
			return address(c, p, p.from.Is4())
		case "ipv6":
			return address(c, p, !p.from.Is4())
		case "tcp":
			return transport(c, p)
		case "udp", "icmp":
			return no
		}
		return perhaps
	})
}

// address matches the part of a rule about IP headers.
func address(n *tree.Node, p packet, family bool) match {
	if !family {
		return no
	}
	return all(n, func(c *tree.Node) match {
		switch c.Schema().Name {
		case "protocol":
			return sure(c.Value() == "6")
		case "source-ipv4-network", "source-ipv6-network":
			return within(c.Value(), p.from)
		case "destination-ipv4-network", "destination-ipv6-network":
			return within(c.Value(), p.to)
		}
		return perhaps
	})
}

func sure(b bool) match {
	if b {
		return yes
	}
	return no
}

func within(prefix string, a netip.Addr) match {
	p, err := netip.ParsePrefix(prefix)
	if err != nil {
		return perhaps
	}
	return sure(p.Masked().Contains(a))
}

// transport matches the part of a rule about the TCP header.
func transport(n *tree.Node, p packet) match {
	return all(n, func(c *tree.Node) match {
		switch c.Schema().Name {
		case "source-port":
			return port(c, p.port, !p.far)
		case "destination-port":
			return port(c, p.port, p.far)
		}
		return perhaps
	})
}

// port matches a range or comparison; the port is known or one of our choosing.
func port(n *tree.Node, have uint16, known bool) match {
	lo, hi, inside := ports(n)
	switch {
	case lo < 0:
		return perhaps
	case known:
		return sure((lo <= int(have) && int(have) <= hi) == inside)
	case lo <= 0 && hi >= 65535:
		return sure(inside)
	}
	return perhaps
}

// ports reads which ports are meant: those in the range, or those outside it;
// lo is below 0 where that is not understood.
func ports(n *tree.Node) (lo, hi int, inside bool) {
	number := func(name string, fallback int) int {
		v, err := strconv.Atoi(leaf(n, name, ""))
		if err != nil {
			return fallback
		}
		return v
	}
	if lo = number("lower-port", -1); lo >= 0 {
		return lo, number("upper-port", lo), true
	}
	want := number("port", -1)
	if want < 0 {
		return -1, 0, true
	}
	switch leaf(n, "operator", "eq") {
	case "lte":
		return 0, want, true
	case "gte":
		return want, 65535, true
	case "neq":
		return want, want, false
	case "eq":
		return want, want, true
	}
	return -1, 0, true
}
