package flow

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"oakenlatch/core/tree"
)

// Reading is the filters of a configuration (RFC 8519).
type Reading struct {
	Filters  []Filter
	Attached []Attachment
}

// Attachment is the filters that work on an interface in one direction, one
// after another.
type Attachment struct {
	Interface string
	Direction string // ingress or egress
	Filters   []string
	Path      string
}

// Filter gives a filter by its name.
func (r Reading) Filter(name string) (Filter, bool) {
	i := slices.IndexFunc(r.Filters, func(f Filter) bool { return f.Name == name })
	if i < 0 {
		return Filter{Name: name}, false
	}
	return r.Filters[i], true
}

// Chain gives all rules that work at an attachment, in the order in which they
// are asked.
func (r Reading) Chain(a Attachment) Filter {
	out := Filter{Name: a.Interface + " " + a.Direction, Path: a.Path}
	for _, name := range a.Filters {
		f, _ := r.Filter(name)
		for _, rule := range f.Rules {
			if len(a.Filters) > 1 {
				rule.Name = name + "/" + rule.Name
			}
			out.Rules = append(out.Rules, rule)
		}
	}
	return out
}

// Read gives the filters of a configuration. What a rule asks that packets here
// do not have becomes a fact, and is told with whatever depends on it.
func Read(cfg *tree.Node) (r Reading) {
	acls := cfg.Known("acls")
	if acls == nil || acls.Opaque() != nil {
		return r
	}
	top := tree.Path{}.Down(acls)
	for _, acl := range acls.Entries("acl") {
		r.Filters = append(r.Filters, readFilter(acl, top.Down(acl)))
	}
	points := acls.Known("attachment-points")
	for _, at := range points.Entries("interface") {
		for _, direction := range []string{"ingress", "egress"} {
			a := Attachment{
				Interface: at.Text("interface-id", ""), Direction: direction,
				Path: top.Down(points).Down(at).String() + "/" + direction,
			}
			for _, set := range at.Under(direction, "acl-sets").Entries("acl-set") {
				a.Filters = append(a.Filters, set.Text("name", ""))
			}
			if len(a.Filters) > 0 {
				r.Attached = append(r.Attached, a)
			}
		}
	}
	return r
}

// readFilter reads one filter, which stands at a path.
func readFilter(acl *tree.Node, path tree.Path) Filter {
	f := Filter{Name: acl.Text("name", ""), Path: path.String()}
	aces := acl.Known("aces")
	for _, ace := range aces.Entries("ace") {
		f.Rules = append(f.Rules, readRule(ace, path.Down(aces).Down(ace).String(), family(acl.Text("type", "")))...)
	}
	return f
}

// Attached gives the filters that work on an interface in a direction, as they
// stand in a configuration; nil stands for one that is named and not there. It is
// empty where none is attached, so that everything passes.
func Attached(cfg *tree.Node, name, direction string) (out []*tree.Node) {
	acls := cfg.Known("acls")
	for _, at := range acls.Known("attachment-points").Entries("interface") {
		if at.Text("interface-id", "") != name {
			continue
		}
		for _, set := range at.Under(direction, "acl-sets").Entries("acl-set") {
			all := acls.Entries("acl")
			i := slices.IndexFunc(
				all, func(acl *tree.Node) bool { return acl.Text("name", "") == set.Text("name", "") },
			)
			if i < 0 {
				out = append(out, nil)
				continue
			}
			out = append(out, all[i])
		}
	}
	return out
}

// At gives the rules that work on an interface in a direction, reading no other
// filters; ok is false where none is attached.
func At(cfg *tree.Node, name, direction string) (f Filter, ok bool) {
	attached := Attached(cfg, name, direction)
	if len(attached) == 0 {
		return Filter{}, false
	}
	acls := cfg.Known("acls")
	top := tree.Path{}.Down(acls)
	f.Path = "/acls/attachment-points/interface=" + name + "/" + direction
	for n, acl := range attached {
		if acl == nil {
			continue
		}
		one := readFilter(acl, top.Down(acl))
		if n > 0 {
			f.Name += ", "
		}
		f.Name += one.Name
		f.Rules = append(f.Rules, one.Rules...)
	}
	return f, true
}

// family gives what a filter's type says of the packets it is about.
func family(kind string) Match {
	_, name, found := strings.Cut(kind, ":")
	if !found {
		name = kind
	}
	switch name {
	case "ipv4-acl-type":
		return Match{}.In(IPv4)
	case "ipv6-acl-type":
		return Match{}.In(IPv6)
	}
	return Match{}
}

// readRule reads one rule: two, where it is not known what it does.
func readRule(ace *tree.Node, path string, m Match) []Rule {
	r := Rule{Name: ace.Text("name", ""), Path: path, Match: m}
	matches := ace.Known("matches")
	both := false // it is about ICMP of either family, which is another protocol in each
	if matches != nil {
		for c := range matches.Each() {
			r.ask(c)
			both = both || c.Schema() != nil && c.Schema().Name == "icmp"
		}
	}
	if both {
		return append(r.icmp(IPv4, ICMP, ace), r.icmp(IPv6, ICMPv6, ace)...)
	}
	return r.act(ace)
}

// icmp gives the rule for ICMP of a family.
func (r Rule) icmp(f Family, protocol uint64, ace *tree.Node) []Rule {
	r.Match = r.Match.In(f).Number(Protocol, protocol, protocol)
	if r.Match.never {
		return nil
	}
	return r.act(ace)
}

// act gives a rule with what it does: two, where that is not known.
func (r Rule) act(ace *tree.Node) []Rule {
	actions := ace.Known("actions")
	action := actions.Text("forwarding", "")
	_, name, _ := strings.Cut(action, ":")
	switch name {
	case "accept":
		r.Action = Accept
	case "reject":
		r.Action = Reject
	case "drop":
	default:
		sure := r
		r.Action = Accept
		r.Facts = append(
			slices.Clip(r.Facts), fmt.Sprintf("whether rule %s accepts (its action is %q)", r.Name, action),
		)
		return []Rule{r, sure}
	}
	return []Rule{r}
}

// ask reads one header that a rule is about.
func (r *Rule) ask(c *tree.Node) {
	if c.Schema() == nil {
		r.fact("something that no module describes: " + c.Opaque().Local)
		return
	}
	name := c.Schema().Name
	if c.Schema().IsLeaf() {
		r.fact(name + " is " + c.Value())
		return
	}
	switch name {
	case "ipv4":
		r.Match = r.Match.In(IPv4)
	case "ipv6":
		r.Match = r.Match.In(IPv6)
	case "tcp":
		r.Match = r.Match.Number(Protocol, TCP, TCP)
	case "udp":
		r.Match = r.Match.Number(Protocol, UDP, UDP)
	}
	for l := range c.Each() {
		r.askFor(name, l)
	}
}

func (r *Rule) fact(name string) { r.Facts = append(slices.Clip(r.Facts), name) }

var headerNumbers = map[string]Field{
	"ipv4/protocol": Protocol, "ipv6/protocol": Protocol, "ipv4/dscp": DSCP, "ipv6/dscp": DSCP, "ipv4/ecn": ECN,
	"ipv6/ecn": ECN, "ipv4/length": Length, "ipv6/length": Length, "ipv4/ttl": TTL, "ipv6/ttl": TTL,
	"ipv4/offset": Offset, "ipv4/identification": Identification, "ipv6/flow-label": FlowLabel, "icmp/type": ICMPType,
	"icmp/code": ICMPCode,
}

// askFor reads one field of a header.
func (r *Rule) askFor(header string, l *tree.Node) {
	if l.Schema() == nil {
		r.fact("something that no module describes: " + header + "/" + l.Opaque().Local)
		return
	}
	name := l.Schema().Name
	switch name {
	case "source-port", "destination-port":
		f := SourcePort
		if name == "destination-port" {
			f = DestinationPort
		}
		r.ports(f, header+"/"+name, l)
		return
	case "source-ipv4-network", "source-ipv6-network", "destination-ipv4-network", "destination-ipv6-network":
		p, err := netip.ParsePrefix(l.Value())
		if err != nil {
			r.fact(header + "/" + name + " is " + l.Value())
			return
		}
		f := Source
		if strings.HasPrefix(name, "destination") {
			f = Destination
		}
		r.Match = r.Match.Prefix(f, p)
		return
	case "flags":
		for _, bit := range strings.Fields(l.Value()) {
			r.fact(header + " " + bit)
		}
		return
	}
	if f, ok := headerNumbers[header+"/"+name]; ok {
		if n, err := strconv.ParseUint(l.Value(), 10, 64); err == nil {
			r.Match = r.Match.Number(f, n, n)
			return
		}
	}
	if l.Schema().IsLeaf() {
		r.fact(header + "/" + name + " is " + l.Value())
		return
	}
	for c := range l.Each() { // a container that is not known here
		r.askFor(header+"/"+name, c)
	}
}

// ports reads a range or a comparison.
func (r *Rule) ports(f Field, name string, n *tree.Node) {
	number := func(leaf string) (uint64, bool) {
		v, err := strconv.ParseUint(n.Text(leaf, ""), 10, 16)
		return v, err == nil
	}
	lo, isRange := number("lower-port")
	if isRange {
		hi, ok := number("upper-port")
		if !ok {
			hi = lo
		}
		r.Match = r.Match.Number(f, lo, hi)
		return
	}
	port, ok := number("port")
	operator := n.Text("operator", "eq")
	switch {
	case !ok:
	case operator == "eq":
		r.Match = r.Match.Number(f, port, port)
		return
	case operator == "neq":
		r.Match = r.Match.Not(f, port)
		return
	case operator == "lte":
		r.Match = r.Match.Number(f, 0, port)
		return
	case operator == "gte":
		r.Match = r.Match.Number(f, port, 65535)
		return
	}
	r.fact(name + " is " + operator + " " + n.Text("port", "?"))
}

// Names gives the names of the filters.
func (r Reading) Names() (out []string) {
	for _, f := range r.Filters {
		out = append(out, f.Name)
	}
	return out
}
