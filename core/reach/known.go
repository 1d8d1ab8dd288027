package reach

import (
	"strings"

	"oakenlatch/core/tree"
)

// knowledge is how much is known of a place in a configuration.
type knowledge int

const (
	foreign    knowledge = iota
	harmless             // it has no bearing on any packet
	understood           // all below is followed
	through              // to be judged by what is below it
	onWay                // it matters on the interfaces that the packets pass, and nowhere else
)

// places are what is known, by module and the names of the nodes from the top
// down. A place not named is foreign.
var places = map[string]knowledge{
	"ietf-system:/system":                               through,
	"ietf-system:/system/contact":                       harmless,
	"ietf-system:/system/hostname":                      harmless,
	"ietf-system:/system/location":                      harmless,
	"ietf-system:/system/clock":                         harmless,
	"ietf-system:/system/ntp":                           harmless,
	"ietf-system:/system/dns-resolver":                  harmless,
	"ietf-system:/system/authentication":                through,
	"ietf-system:/system/authentication/user":           understood,
	"ietf-interfaces:/interfaces":                       through,
	"ietf-interfaces:/interfaces/interface":             through,
	"ietf-interfaces:/interfaces/interface/description": harmless,
	"ietf-interfaces:/interfaces/interface/type":        understood,
	"ietf-interfaces:/interfaces/interface/enabled":     understood,

	"ietf-interfaces:/interfaces/interface/link-up-down-trap-enable": harmless,

	"ietf-ip:/interfaces/interface/ipv4":            through,
	"ietf-ip:/interfaces/interface/ipv4/enabled":    understood,
	"ietf-ip:/interfaces/interface/ipv4/forwarding": understood,
	"ietf-ip:/interfaces/interface/ipv4/address":    understood,
	"ietf-ip:/interfaces/interface/ipv4/mtu":        onWay,
	"ietf-ip:/interfaces/interface/ipv4/neighbor":   onWay,
	"ietf-ip:/interfaces/interface/ipv6/mtu":        onWay,
	"ietf-ip:/interfaces/interface/ipv6/neighbor":   onWay,
	"ietf-ip:/interfaces/interface/ipv6":            through,
	"ietf-ip:/interfaces/interface/ipv6/enabled":    understood,
	"ietf-ip:/interfaces/interface/ipv6/forwarding": understood,
	"ietf-ip:/interfaces/interface/ipv6/address":    understood,

	"ietf-routing:/routing":                                                              through,
	"ietf-routing:/routing/control-plane-protocols":                                      through,
	"ietf-routing:/routing/control-plane-protocols/control-plane-protocol":               through,
	"ietf-routing:/routing/control-plane-protocols/control-plane-protocol/type":          understood,
	"ietf-routing:/routing/control-plane-protocols/control-plane-protocol/static-routes": through,

	"ietf-routing:/routing/control-plane-protocols/control-plane-protocol/description": harmless,

	"ietf-ipv4-unicast-routing:/routing/control-plane-protocols/control-plane-protocol/static-routes/ipv4": understood,
	"ietf-ipv6-unicast-routing:/routing/control-plane-protocols/control-plane-protocol/static-routes/ipv6": understood,

	"ietf-access-control-list:/acls":                            understood,
	"ietf-netconf-server:/netconf-server":                       understood,
	"oaken-lab-vlans:/vlans":                                    understood,
	"oaken-lab-zones:/zones":                                    harmless,
	"oaken-lab-vlans:/interfaces/interface/bridge-port":         understood,
	"oaken-lab-vlans:/interfaces/interface/vlan":                understood,
	"oaken-lab-vlans:/interfaces/interface/parent-interface":    understood,
	"ietf-if-extensions:/interfaces/interface/parent-interface": understood,
}

// known looks a place up: the longest part of the path that is named, where
// what is named there covers all below.
func known(p tree.Path) knowledge {
	var names strings.Builder
	out := foreign
	for i, s := range p {
		if s.Node == nil {
			return foreign
		}
		names.WriteString("/" + s.Node.Name)
		k := places[s.Node.Module.Name+":"+names.String()]
		switch {
		case k == harmless, k == understood, k == onWay:
			return k
		case k == foreign:
			return foreign
		}
		if i == len(p)-1 {
			out = k
		}
	}
	return out
}
