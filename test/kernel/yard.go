package kernel

import (
	"net/netip"
	"strings"
)

func masked(address string, bits int) string {
	p, err := netip.MustParseAddr(address).Prefix(bits)
	if err != nil {
		return ""
	}
	return p.String()
}

// Yard is a configuration with every kind of management access that the modules can say: an
// interface with a cable, a routed VLAN, interfaces on others with and without a
// tag, an address that stands on no wire; filters, routes, accounts, the service.
const Yard = `interfaces
  interface [m1]
    type: iana-if-type:ethernetCsmacd
    ipv4
      address [192.0.2.12]
        prefix-length: 24
    ipv6
      address [2001:db8:2::12]
        prefix-length: 64
  interface [core]
    type: iana-if-type:ethernetCsmacd
    bridge-port
      tagged: 40
      tagged: 50
  interface [spare]
    type: iana-if-type:ethernetCsmacd
    bridge-port
      untagged: 40
  interface [desk]
    type: iana-if-type:ethernetCsmacd
    bridge-port
      untagged: 50
  interface [vlan40]
    type: iana-if-type:l3ipvlan
    vlan: 40
    ipv4
      address [10.64.40.12]
        prefix-length: 24
    ipv6
      address [2001:db8:40::12]
        prefix-length: 64
  interface [vlan50]
    type: iana-if-type:l3ipvlan
    vlan: 50
    ipv4
      address [10.64.50.1]
        prefix-length: 24
  interface [up2]
    type: iana-if-type:ethernetCsmacd
    ipv4
      mtu: 1500
      address [10.64.60.1]
        prefix-length: 24
    ipv6
      address [2001:db8:60::1]
        prefix-length: 64
  interface [up2.70]
    type: iana-if-type:l2vlan
    parent-interface: up2
    vlan: 70
    ipv4
      address [10.64.70.12]
        prefix-length: 24
    ipv6
      address [2001:db8:70::12]
        prefix-length: 64
  interface [leg]
    type: iana-if-type:ethernetCsmacd
  interface [leg.0]
    type: iana-if-type:l2vlan
    parent-interface: leg
    ipv4
      address [10.64.80.12]
        prefix-length: 24
  interface [lo0]
    type: iana-if-type:softwareLoopback
    ipv4
      address [10.64.255.1]
        prefix-length: 32
    ipv6
      address [2001:db8:ff::1]
        prefix-length: 128
vlans
  vlan [40]
    name: quay
  vlan [50]
  vlan [70]
routing
  control-plane-protocols
    control-plane-protocol [ietf-routing:static, yard]
      static-routes
        ipv4
          route [198.51.100.0/24]
            next-hop
              next-hop-address: 192.0.2.1
          route [203.0.113.0/25]
            next-hop
              next-hop-address: 10.64.40.254
          route [203.0.113.128/25]
            next-hop
              next-hop-address: 10.64.70.254
          route [10.79.0.0/16]
            next-hop
              next-hop-address: 10.64.80.254
          route [0.0.0.0/0]
            next-hop
              next-hop-address: 10.64.60.254
        ipv6
          route [2001:db8:51::/48]
            next-hop
              next-hop-address: 2001:db8:2::1
          route [2001:db8:52::/48]
            next-hop
              next-hop-address: 2001:db8:40::fe
          route [2001:db8:53::/48]
            next-hop
              next-hop-address: 2001:db8:70::fe
acls
  acl [in]
    aces
      ace [netconf]
        matches
          ipv4
            protocol: 6
          tcp
            destination-port
              port: 830
        actions
          forwarding: ietf-access-control-list:accept
      ace [nd]
        matches
          ipv6
            protocol: 58
        actions
          forwarding: ietf-access-control-list:accept
      ace [netconf6]
        matches
          ipv6
            source-ipv6-network: 2001:db8::/32
          tcp
            destination-port
              lower-port: 829
              upper-port: 831
        actions
          forwarding: ietf-access-control-list:accept
      ace [last]
        actions
          forwarding: ietf-access-control-list:drop
  acl [out]
    aces
      ace [answers]
        matches
          tcp
            source-port
              port: 830
        actions
          forwarding: ietf-access-control-list:accept
      ace [nd]
        matches
          ipv6
            protocol: 58
        actions
          forwarding: ietf-access-control-list:accept
  acl [pass]
    aces
      ace [all]
        actions
          forwarding: ietf-access-control-list:accept
  acl [six]
    type: ietf-access-control-list:ipv6-acl-type
    aces
      ace [all]
        actions
          forwarding: ietf-access-control-list:accept
  attachment-points
    interface [m1]
      ingress
        acl-sets
          acl-set [in]
      egress
        acl-sets
          acl-set [out]
    interface [vlan40]
      ingress
        acl-sets
          acl-set [in]
    interface [up2]
      ingress
        acl-sets
          acl-set [pass]
          acl-set [out]
zones
  zone [inside]
    interface: leg
system
  hostname: yard
  ntp
    server [clock]
      udp
        address: 203.0.113.123
  dns-resolver
    server [one]
      udp-and-tcp
        address: 203.0.113.53
  radius
    server [crew]
      udp
        address: 203.0.113.18
        shared-secret: tar-and-oakum
  authentication
    user [mara]
      password: "$0$rope-and-tide"
      authorized-key [desk]
        algorithm: ssh-ed25519
        key-data: AAAA
    user [wren]
      password: "$0$other"
keystore
  asymmetric-keys
    asymmetric-key [yard]
      public-key: AAAA
      cleartext-private-key: BBBB
  symmetric-keys
    symmetric-key [crossing]
      cleartext-symmetric-key: CCCC
tunnels
  tunnel [crossing]
    peer: 10.64.0.6
    agreed
      phrase: "low water"
netconf-server
  listen
    endpoints
      endpoint [all]
        ssh
          tcp-server-parameters
            local-bind [0.0.0.0]
            local-bind [::]
`

// YardWithoutService is the same device where its service is set up elsewhere.
var YardWithoutService = Yard[:strings.Index(Yard, "netconf-server")]

// Through are ways through the yard, once it forwards, to hosts behind it.
func Through() (out []ManagementPath) {
	for _, w := range []struct{ us, address, home, gateway, link, beyond, behind string }{
		{"198.51.100.9", "10.64.60.9", "m1", "192.0.2.1/24", "192.0.2.12", "up2", "10.64.60.1/24"},
		{"192.0.2.50", "10.64.70.9", "m1", "192.0.2.1/24", "192.0.2.12", "up2.70", "10.64.70.12/24"},
		{"2001:db8:51::9", "2001:db8:60::9", "m1", "2001:db8:2::1/64", "2001:db8:2::12", "up2", "2001:db8:60::1/64"},
		{"203.0.113.9", "10.64.80.9", "vlan40", "10.64.40.254/24", "10.64.40.12", "leg.0", "10.64.80.12/24"},
		{"203.0.113.140", "10.64.40.9", "up2.70", "10.64.70.254/24", "10.64.70.12", "vlan40", "10.64.40.12/24"},
		{
			"2001:db8:53::9", "2001:db8:40::9", "up2.70", "2001:db8:70::fe/64", "2001:db8:70::12", "vlan40",
			"2001:db8:40::12/64",
		},
	} {
		out = append(out, ManagementPath{
			Us: netip.MustParseAddr(w.us), Address: netip.MustParseAddr(w.address), Port: 830, Account: "mara",
			Home: w.home, Gateway: netip.MustParsePrefix(w.gateway), Link: netip.MustParseAddr(w.link),
			Beyond: w.beyond, Behind: netip.MustParsePrefix(w.behind),
		})
	}
	return out
}

// Ways are how the yard may be managed.
func Ways() (out []ManagementPath) {
	for _, w := range []struct{ us, address, home, gateway, link string }{
		{"192.0.2.50", "192.0.2.12", "m1", "192.0.2.1/24", ""},
		{"198.51.100.9", "192.0.2.12", "m1", "192.0.2.1/24", ""},
		{"2001:db8:2::50", "2001:db8:2::12", "m1", "2001:db8:2::1/64", ""},
		{"2001:db8:51::9", "2001:db8:2::12", "m1", "2001:db8:2::1/64", ""},
		{"10.64.40.50", "10.64.40.12", "vlan40", "10.64.40.254/24", ""},
		{"203.0.113.9", "10.64.40.12", "vlan40", "10.64.40.254/24", ""},
		{"2001:db8:52::9", "2001:db8:40::12", "vlan40", "2001:db8:40::fe/64", ""},
		{"2001:db8:40::50", "2001:db8:40::12", "vlan40", "2001:db8:40::fe/64", ""},
		{"203.0.113.140", "10.64.70.12", "up2.70", "10.64.70.254/24", ""},
		{"10.64.70.50", "10.64.70.12", "up2.70", "10.64.70.254/24", ""},
		{"2001:db8:53::9", "2001:db8:70::12", "up2.70", "2001:db8:70::fe/64", ""},
		{"10.79.0.9", "10.64.80.12", "leg.0", "10.64.80.254/24", ""},
		{"198.51.100.9", "10.64.255.1", "m1", "192.0.2.1/24", "192.0.2.12"},
		{"2001:db8:51::9", "2001:db8:ff::1", "m1", "2001:db8:2::1/64", "2001:db8:2::12"},
	} {
		way := ManagementPath{
			Us: netip.MustParseAddr(w.us), Address: netip.MustParseAddr(w.address), Port: 830, Account: "mara",
			Home: w.home, Gateway: netip.MustParsePrefix(w.gateway),
		}
		if w.link != "" {
			way.Link = netip.MustParseAddr(w.link)
		}
		out = append(out, way)
	}
	return out
}
