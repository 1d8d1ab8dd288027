package kernel

import (
	"fmt"
	"strings"
)

// rules writes a filter's entries as nftables rules of which the first that fits
// decides (RFC 8519 section 4). Its type says which family it is for; what none of
// its entries fits goes on to what comes behind.
func (c *Config) rules(name, accept, drop string) (out []string) {
	for _, f := range c.Filters {
		if f.Name != name {
			continue
		}
		family := ""
		switch bare(f.Type) {
		case "ipv4-acl-type":
			family = "ip"
		case "ipv6-acl-type":
			family = "ip6"
		}
		for _, e := range f.Entries {
			verdict := drop
			if bare(e.Action) == "accept" {
				verdict = accept
			}
			for _, fits := range e.fits(family) {
				out = append(out, fits+" "+verdict)
			}
		}
	}
	return out
}

// fits writes what an entry asks of a packet, once for each family it may be of.
// All that it asks must hold.
func (e Entry) fits(family string) (out []string) {
	for _, fam := range []string{"ip", "ip6"} {
		l3, other := e.V4, e.V6
		protocol, icmp, icmpNumber := "ip protocol", "icmp", "1"
		if fam == "ip6" {
			l3, other = e.V6, e.V4
			protocol, icmp, icmpNumber = "ip6 nexthdr", "icmpv6", "58"
		}
		if family != "" && family != fam || other.Protocol+other.To+other.From != "" {
			continue
		}
		if e.conflicts(l3.Protocol, icmpNumber) {
			continue // no packet has two protocols
		}
		words := []string{"meta protocol", fam}
		if l3.From != "" {
			words = append(words, fam, "saddr", l3.From)
		}
		if l3.To != "" {
			words = append(words, fam, "daddr", l3.To)
		}
		if l3.Protocol != "" {
			words = append(words, protocol, l3.Protocol)
		}
		for _, l4 := range []struct {
			name     string
			from, to Ports
		}{{"tcp", e.TCP.From, e.TCP.To}, {"udp", e.UDP.From, e.UDP.To}} {
			words = append(words, l4.from.fits(l4.name, "sport")...)
			words = append(words, l4.to.fits(l4.name, "dport")...)
		}
		if e.ICMP.Type != "" || e.ICMP.Code != "" {
			words = append(words, "meta l4proto", icmpNumber)
		}
		if e.ICMP.Type != "" {
			words = append(words, icmp, "type", e.ICMP.Type)
		}
		if e.ICMP.Code != "" {
			words = append(words, icmp, "code", e.ICMP.Code)
		}
		out = append(out, strings.Join(words, " "))
	}
	return out
}

// conflicts reports whether an entry asks for more than one protocol.
func (e Entry) conflicts(header, icmp string) bool {
	asked := map[string]bool{}
	if header != "" {
		asked[header] = true
	}
	if e.TCP != (struct{ From, To Ports }{}) {
		asked["6"] = true
	}
	if e.UDP != (struct{ From, To Ports }{}) {
		asked["17"] = true
	}
	if e.ICMP.Type != "" || e.ICMP.Code != "" {
		asked[icmp] = true
	}
	return len(asked) > 1
}

// fits writes a condition on a port.
func (p Ports) fits(protocol, field string) []string {
	var value string
	switch {
	case p.Lower != "":
		value = p.Lower + "-" + p.Upper
	case p.Port == "":
		return nil
	case p.Operator == "neq":
		// As a set: nftables 1.0.6 makes one comparison of two that stand side by side,
		// and so "either is other" of "both are other".
		value = "!= { " + p.Port + " }"
	default:
		value = map[string]string{"": "", "eq": "", "lte": "<= ", "gte": ">= "}[p.Operator] + p.Port
	}
	return []string{"meta l4proto", protocol, protocol, field, value}
}

// attached gives the filters that work on an interface in a direction, one behind
// the other, as rules; ok is whether there are any filters. What no entry fits is
// dropped.
func (c *Config) attached(name string, ingress bool, accept, drop string) (rules string, ok bool) {
	var lines []string
	for _, p := range c.Points {
		if p.Interface != name {
			continue
		}
		sets := p.Egress
		if ingress {
			sets = p.Ingress
		}
		for _, set := range sets {
			ok = true
			lines = append(lines, c.rules(set, accept, drop)...)
		}
	}
	return strings.Join(append(lines, drop), "\n"), ok
}

// box is a filter on the way between two interfaces, where no address is: frames
// are written to one TAP device, and those that pass are read from the other.
type box struct{ in, out *tap }

func (d *Device) box(rules func(accept, drop string) string, next func([]byte)) (*box, error) {
	d.boxes++
	in, out := fmt.Sprintf("bi%d", d.boxes), fmt.Sprintf("bo%d", d.boxes)
	b := &box{}
	var err error
	if b.in, err = d.filters.tap(in); err == nil {
		d.files = append(d.files, b.in.file)
		b.out, err = d.filters.tap(out)
	}
	if err != nil {
		return nil, err
	}
	d.files = append(d.files, b.out.file)
	for _, t := range []*tap{b.in, b.out} {
		if err := d.filters.nl.LinkSetUp(t.link); err != nil {
			return nil, err
		}
	}
	pass := fmt.Sprintf("fwd to %q", out)
	err = d.filters.nft(fmt.Sprintf(
		"table netdev t%d {\n chain c { type filter hook ingress device %q priority 0; policy accept;\nmeta protocol "+
			"!= { ip, ip6 } %s\n%s\n}\n}",
		d.boxes, in, pass, rules(pass, "drop"),
	))
	if err != nil {
		return nil, err
	}
	go b.out.read(next)
	return b, nil
}
