package kernel

import (
	"encoding/xml"
	"slices"
	"strings"
)

// Config is what of a configuration matters to packets, read from its XML.
type Config struct {
	Interfaces []*Interface `xml:"interfaces>interface"`
	Protocols  []struct {
		Type   string  `xml:"type"`
		Routes []Route `xml:"static-routes>ipv4>route"`
		Six    []Route `xml:"static-routes>ipv6>route"`
	} `xml:"routing>control-plane-protocols>control-plane-protocol"`
	Filters []struct {
		Name    string  `xml:"name"`
		Type    string  `xml:"type"`
		Entries []Entry `xml:"aces>ace"`
	} `xml:"acls>acl"`
	Points []struct {
		Interface string   `xml:"interface-id"`
		Ingress   []string `xml:"ingress>acl-sets>acl-set>name"`
		Egress    []string `xml:"egress>acl-sets>acl-set>name"`
	} `xml:"acls>attachment-points>interface"`
	Server *struct {
		Binds []struct {
			Address string `xml:"local-address"`
			Port    string `xml:"local-port"`
		} `xml:"listen>endpoints>endpoint>ssh>tcp-server-parameters>local-bind"`
	} `xml:"netconf-server"`
	Accounts []Account `xml:"system>authentication>user"`
}

// Account is one of RFC 7317.
type Account struct {
	Name     string `xml:"name"`
	Password string `xml:"password"`
}

// account gives one by name.
func (c *Config) account(name string) (Account, bool) {
	for _, a := range c.Accounts {
		if a.Name == name {
			return a, true
		}
	}
	return Account{}, false
}

// Interface is an interface of RFC 8343 with what RFC 8344 and the lab's VLANs
// add to it.
type Interface struct {
	Name    string `xml:"name"`
	Type    string `xml:"type"`
	Enabled string `xml:"enabled"`
	VLAN    string `xml:"vlan"`
	Parent  string `xml:"parent-interface"`
	Bridge  struct {
		Untagged string   `xml:"untagged"`
		Tagged   []string `xml:"tagged"`
	} `xml:"bridge-port"`
	IPv4, IPv6 *Protocol
}

// Protocol is one version of IP on an interface.
type Protocol struct {
	Enabled    string `xml:"enabled"`
	Forwarding string `xml:"forwarding"`
	MTU        int    `xml:"mtu"`
	Addresses  []struct {
		IP     string `xml:"ip"`
		Length string `xml:"prefix-length"`
	} `xml:"address"`
}

// Route is a static route of RFC 8349.
type Route struct {
	Destination string `xml:"destination-prefix"`
	Interface   string `xml:"next-hop>outgoing-interface"`
	Address     string `xml:"next-hop>next-hop-address"`
	Special     string `xml:"next-hop>special-next-hop"`
}

// Entry is an entry of a filter of RFC 8519.
type Entry struct {
	V4, V6 struct {
		Protocol string
		To, From string
	}
	TCP, UDP struct{ From, To Ports }
	ICMP     struct{ Type, Code string }
	Action   string
}

// Ports is a condition on a port.
type Ports struct {
	Lower    string `xml:"lower-port"`
	Upper    string `xml:"upper-port"`
	Operator string `xml:"operator"`
	Port     string `xml:"port"`
}

// UnmarshalXML reads an interface: the two protocols are told apart by name.
func (i *Interface) UnmarshalXML(d *xml.Decoder, start xml.StartElement) error {
	type plain Interface
	both := struct {
		*plain
		V4 *Protocol `xml:"ipv4"`
		V6 *Protocol `xml:"ipv6"`
	}{plain: (*plain)(i)}
	err := d.DecodeElement(&both, &start)
	i.IPv4, i.IPv6 = both.V4, both.V6
	return err
}

// UnmarshalXML reads an entry.
func (e *Entry) UnmarshalXML(d *xml.Decoder, start xml.StartElement) error {
	var x struct {
		M struct {
			V4 struct {
				Protocol string `xml:"protocol"`
				To       string `xml:"destination-ipv4-network"`
				From     string `xml:"source-ipv4-network"`
			} `xml:"ipv4"`
			V6 struct {
				Protocol string `xml:"protocol"`
				To       string `xml:"destination-ipv6-network"`
				From     string `xml:"source-ipv6-network"`
			} `xml:"ipv6"`
			TCP struct {
				From Ports `xml:"source-port"`
				To   Ports `xml:"destination-port"`
			} `xml:"tcp"`
			UDP struct {
				From Ports `xml:"source-port"`
				To   Ports `xml:"destination-port"`
			} `xml:"udp"`
			ICMP struct {
				Type string `xml:"type"`
				Code string `xml:"code"`
			} `xml:"icmp"`
		} `xml:"matches"`
		Action string `xml:"actions>forwarding"`
	}
	if err := d.DecodeElement(&x, &start); err != nil {
		return err
	}
	e.V4.Protocol, e.V4.To, e.V4.From = x.M.V4.Protocol, x.M.V4.To, x.M.V4.From
	e.V6.Protocol, e.V6.To, e.V6.From = x.M.V6.Protocol, x.M.V6.To, x.M.V6.From
	e.TCP.From, e.TCP.To, e.UDP.From, e.UDP.To = x.M.TCP.From, x.M.TCP.To, x.M.UDP.From, x.M.UDP.To
	e.ICMP.Type, e.ICMP.Code, e.Action = x.M.ICMP.Type, x.M.ICMP.Code, x.Action
	return nil
}

// Read reads a configuration.
func Read(text []byte) (*Config, error) {
	c := &Config{}
	return c, xml.Unmarshal(text, c)
}

// bare takes the prefix off an identity's name.
func bare(identity string) string {
	return identity[strings.LastIndexByte(identity, ':')+1:]
}

func (c *Config) named(name string) *Interface {
	for _, i := range c.Interfaces {
		if i.Name == name {
			return i
		}
	}
	return nil
}

// matched is the configuration on a device that takes an interface only for hardware
// of its type (RFC 8343 section 5, type): one whose type is not what it was stays down.
func (c *Config) matched(before *Config) *Config {
	out := *c
	out.Interfaces = slices.Clone(c.Interfaces)
	for n, i := range out.Interfaces {
		if was := before.named(i.Name); was != nil && bare(was.Type) != bare(i.Type) {
			other := *i
			other.Enabled = "false"
			out.Interfaces[n] = &other
		}
	}
	return &out
}

func (i *Interface) enabled() bool { return i.Enabled != "false" }

// port reports whether the interface is one that a cable is plugged into.
func (i *Interface) port() bool { return i.VLAN == "" && i.Parent == "" && !i.loopback() }

func (i *Interface) loopback() bool { return bare(i.Type) == "softwareLoopback" }

// bridged reports whether a bridge has the port.
func (i *Interface) bridged() bool { return i.Bridge.Untagged != "" || len(i.Bridge.Tagged) > 0 }

// carries reports whether the port is a member of a VLAN.
func (i *Interface) carries(vlan string) bool {
	return i.Bridge.Untagged == vlan || slices.Contains(i.Bridge.Tagged, vlan)
}

// ip is the family's part of an interface; nil where it does not run.
func (i *Interface) ip(six bool) *Protocol {
	p := i.IPv4
	if six {
		p = i.IPv6
	}
	if p == nil || p.Enabled == "false" {
		return nil
	}
	return p
}

// up reports whether an interface is up: a routed VLAN is while a port that is up
// carries it, one that stands on another while that is.
func (c *Config) up(i *Interface, depth int) bool {
	switch {
	case i == nil || !i.enabled() || depth > 8:
		return false
	case i.Parent != "":
		return c.up(c.named(i.Parent), depth+1)
	case i.VLAN != "":
		return slices.ContainsFunc(c.Interfaces, func(p *Interface) bool {
			return p.port() && p.enabled() && p.carries(i.VLAN)
		})
	}
	return true
}

// routes are the static routes of a family.
func (c *Config) routes(six bool) (out []Route) {
	for _, p := range c.Protocols {
		if bare(p.Type) != "static" {
			continue
		}
		if six {
			out = append(out, p.Six...)
		} else {
			out = append(out, p.Routes...)
		}
	}
	return out
}
