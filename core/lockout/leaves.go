package lockout

import (
	"slices"
	"strings"

	"oakenlatch/core/diff"
	"oakenlatch/core/tree"
)

// knowledge is how much is known of a leaf.
type knowledge int

const (
	foreign  knowledge = iota
	harmless           // no packet of a session depends on it
	followed           // a rule of the forecast reads it
	onWay              // what comes of it cannot be told where packets pass its interface; elsewhere nothing does
)

const staticRoutes = "/routing/control-plane-protocols/control-plane-protocol/static-routes/"

// netconfServer is where the NETCONF server's own configuration begins.
const netconfServer = "ietf-netconf-server:/netconf-server/"

// leaves are what is known, by module and the names of the nodes from the top
// down: single leaves (and containers whose presence says something). A name that
// ends in a slash stands for all below: there every leaf is followed, whatever it
// is. What is not named is foreign.
var leaves = map[string]knowledge{
	"ietf-system:/system/contact":                                    harmless,
	"ietf-system:/system/hostname":                                   harmless,
	"ietf-system:/system/location":                                   harmless,
	"ietf-system:/system/clock/timezone-name":                        harmless,
	"ietf-system:/system/clock/timezone-utc-offset":                  harmless,
	"ietf-system:/system/ntp":                                        harmless,
	"ietf-system:/system/ntp/enabled":                                harmless,
	"ietf-system:/system/ntp/server/name":                            harmless,
	"ietf-system:/system/ntp/server/udp/address":                     harmless,
	"ietf-system:/system/ntp/server/udp/port":                        harmless,
	"ietf-system:/system/ntp/server/association-type":                harmless,
	"ietf-system:/system/ntp/server/iburst":                          harmless,
	"ietf-system:/system/ntp/server/prefer":                          harmless,
	"ietf-system:/system/dns-resolver/search":                        harmless,
	"ietf-system:/system/dns-resolver/server/name":                   harmless,
	"ietf-system:/system/dns-resolver/server/udp-and-tcp/address":    harmless,
	"ietf-system:/system/dns-resolver/server/udp-and-tcp/port":       harmless,
	"ietf-system:/system/dns-resolver/options/timeout":               harmless,
	"ietf-system:/system/dns-resolver/options/attempts":              harmless,
	"ietf-system:/system/authentication/user/name":                   followed,
	"ietf-system:/system/authentication/user/password":               followed,
	"ietf-system:/system/authentication/user/authorized-key/":        followed,
	"ietf-interfaces:/interfaces/interface/name":                     followed,
	"ietf-interfaces:/interfaces/interface/description":              harmless,
	"ietf-interfaces:/interfaces/interface/type":                     followed,
	"ietf-interfaces:/interfaces/interface/enabled":                  followed,
	"ietf-interfaces:/interfaces/interface/link-up-down-trap-enable": harmless,

	"ietf-ip:/interfaces/interface/ipv4":                       followed,
	"ietf-ip:/interfaces/interface/ipv4/enabled":               followed,
	"ietf-ip:/interfaces/interface/ipv4/forwarding":            followed,
	"ietf-ip:/interfaces/interface/ipv4/mtu":                   followed,
	"ietf-ip:/interfaces/interface/ipv4/address/ip":            followed,
	"ietf-ip:/interfaces/interface/ipv4/address/prefix-length": followed,
	"ietf-ip:/interfaces/interface/ipv4/address/netmask":       followed,
	"ietf-ip:/interfaces/interface/ipv4/neighbor/":             onWay,
	"ietf-ip:/interfaces/interface/ipv6":                       followed,
	"ietf-ip:/interfaces/interface/ipv6/enabled":               followed,
	"ietf-ip:/interfaces/interface/ipv6/forwarding":            followed,
	"ietf-ip:/interfaces/interface/ipv6/mtu":                   followed,
	"ietf-ip:/interfaces/interface/ipv6/address/ip":            followed,
	"ietf-ip:/interfaces/interface/ipv6/address/prefix-length": followed,
	"ietf-ip:/interfaces/interface/ipv6/neighbor/":             onWay,

	"ietf-routing:/routing/control-plane-protocols/control-plane-protocol/type":        followed,
	"ietf-routing:/routing/control-plane-protocols/control-plane-protocol/name":        followed,
	"ietf-routing:/routing/control-plane-protocols/control-plane-protocol/description": harmless,

	"ietf-ipv4-unicast-routing:" + staticRoutes + "ipv4/route/destination-prefix":          followed,
	"ietf-ipv4-unicast-routing:" + staticRoutes + "ipv4/route/description":                 harmless,
	"ietf-ipv4-unicast-routing:" + staticRoutes + "ipv4/route/next-hop/next-hop-address":   followed,
	"ietf-ipv4-unicast-routing:" + staticRoutes + "ipv4/route/next-hop/outgoing-interface": followed,
	"ietf-ipv4-unicast-routing:" + staticRoutes + "ipv4/route/next-hop/special-next-hop":   followed,
	"ietf-ipv6-unicast-routing:" + staticRoutes + "ipv6/route/destination-prefix":          followed,
	"ietf-ipv6-unicast-routing:" + staticRoutes + "ipv6/route/description":                 harmless,
	"ietf-ipv6-unicast-routing:" + staticRoutes + "ipv6/route/next-hop/next-hop-address":   followed,
	"ietf-ipv6-unicast-routing:" + staticRoutes + "ipv6/route/next-hop/outgoing-interface": followed,
	"ietf-ipv6-unicast-routing:" + staticRoutes + "ipv6/route/next-hop/special-next-hop":   followed,

	// What core/flow does not know of a match it takes for a fact that may hold or
	// not, and so follows as well.
	"ietf-access-control-list:/acls/acl/name":                                                  followed,
	"ietf-access-control-list:/acls/acl/type":                                                  followed,
	"ietf-access-control-list:/acls/acl/aces/ace/name":                                         followed,
	"ietf-access-control-list:/acls/acl/aces/ace/matches/":                                     followed,
	"ietf-access-control-list:/acls/acl/aces/ace/actions/forwarding":                           followed,
	"ietf-access-control-list:/acls/acl/aces/ace/actions/logging":                              harmless,
	"ietf-access-control-list:/acls/attachment-points/interface/interface-id":                  followed,
	"ietf-access-control-list:/acls/attachment-points/interface/ingress/acl-sets/acl-set/name": followed,
	"ietf-access-control-list:/acls/attachment-points/interface/egress/acl-sets/acl-set/name":  followed,

	netconfServer + "listen":                         followed,
	netconfServer + "listen/endpoints/endpoint/name": followed,
	netconfServer + "listen/endpoints/endpoint/ssh/tcp-server-parameters/local-bind/local-address": followed,
	netconfServer + "listen/endpoints/endpoint/ssh/tcp-server-parameters/local-bind/local-port":    followed,

	"oaken-lab-vlans:/vlans/vlan/id":                             followed,
	"oaken-lab-vlans:/vlans/vlan/name":                           harmless,
	"oaken-lab-vlans:/interfaces/interface/bridge-port/untagged": followed,
	"oaken-lab-vlans:/interfaces/interface/bridge-port/tagged":   followed,
	"oaken-lab-vlans:/interfaces/interface/vlan":                 followed,
	"oaken-lab-vlans:/interfaces/interface/parent-interface":     followed,
	"ietf-if-extensions:/interfaces/interface/parent-interface":  followed,
	"oaken-lab-zones:/zones/zone/name":                           harmless,
	"oaken-lab-zones:/zones/zone/interface":                      harmless,
}

// of looks a leaf up.
func of(p tree.Path) knowledge {
	var names strings.Builder
	for n, s := range p {
		if s.Node == nil {
			return foreign
		}
		names.WriteString("/" + s.Node.Name)
		if n == len(p)-1 {
			break
		}
		if k, ok := leaves[s.Node.Module.Name+":"+names.String()+"/"]; ok {
			return k
		}
	}
	return leaves[p.Last().Module.Name+":"+names.String()]
}

// touched is what a change touches: nothing that matters, what is followed, or
// something foreign, of which it names the first.
type touched struct {
	matters bool
	foreign string
	beside  map[string]string // by interface, what matters if packets pass it
}

func (t touched) idle() bool { return !t.matters && t.foreign == "" && len(t.beside) == 0 }

// on adds what is touched on the interfaces that packets pass.
func (t touched) on(names []string) touched {
	for _, name := range names {
		if p, ok := t.beside[name]; ok {
			t.outside(p)
		}
	}
	return t
}

// look sorts the leaves of a change by what is known of them.
func look(before, after *tree.Node) (t touched) {
	diff.Compare(before.WithoutDefaults(), after.WithoutDefaults()).Walk(func(c *diff.Change) {
		switch {
		case c.Old != nil && c.New != nil && !c.New.Schema().IsLeaf():
			t.leaf(c.Path(), c.New) // the entry was moved, or something is said of it
		case c.New != nil:
			t.note(c.Path(), c.New)
		default:
			t.note(c.Path(), c.Old)
		}
	})
	return t
}

// note judges all leaves of what came or went.
func (t *touched) note(p tree.Path, n *tree.Node) {
	if n.Schema() == nil || n.Opaque() != nil || n.Schema().IsLeaf() {
		t.leaf(p, n)
		return
	}
	if n.Schema().Presence || n.Len() == 0 {
		t.leaf(p, n)
	}
	for c := range n.Each() {
		t.note(p.Down(c), c)
	}
}

// leaf judges one leaf, container with a presence, or entry as such.
func (t *touched) leaf(p tree.Path, n *tree.Node) {
	at := p
	if last := p.Last(); last != nil && len(last.Keys) > 0 {
		// An entry is what its first key is.
		at = append(slices.Clip(p), tree.Step{Node: last.Named(last.Keys[0])[0]})
	}
	switch of(at) {
	case harmless:
	case followed:
		t.matters = true
	case onWay:
		if t.beside == nil {
			t.beside = map[string]string{}
		}
		t.beside[p[1].Keys[0]] = p.String()
	default:
		t.outside(p.String())
	}
}

func (t *touched) outside(path string) {
	if t.foreign == "" {
		t.foreign = path
	}
}
