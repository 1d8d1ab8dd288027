package treetest

import (
	"fmt"
	"strings"

	"oakenlatch/core/schema"
)

// PierModule augments the interfaces of RFC 8343 with conditions and
// references of each kind, to measure checking with.
const PierModule = `module pier-ports {
  yang-version 1.1;
  namespace "urn:example:pier-ports"; prefix pp;
  import ietf-interfaces { prefix if; }
  import iana-if-type { prefix ianaift; }
  revision 2026-04-04;
  augment "/if:interfaces/if:interface" {
    when "if:type = 'ianaift:ethernetCsmacd'";
    leaf next { type leafref { path "/if:interfaces/if:interface/if:name"; } must ". != ../if:name"; }
    leaf mtu { type uint16 { range "68..9216"; } }
    container uplink {
      leaf port { type leafref { path "../../../if:interface/if:name"; } }
      leaf mtu { type uint16; must "current() <= ../../mtu" { error-message "an uplink is no wider than its port"; } }
      leaf berth { when "../port"; type string; }
    }
  }
}`

// Interfaces writes a configuration of that many interfaces with addresses,
// every fourth with what PierModule adds, as a device would.
func Interfaces(n int) []byte {
	var b strings.Builder
	opening(&b)
	for i := range n {
		oneInterface(&b, i, 1500, "")
	}
	closing(&b)
	return []byte(b.String())
}

// InterfacesChanged is the same with one entry in a hundred changed, a few
// added and removed, and a run of entries written in another order.
func InterfacesChanged(n int) []byte {
	var b strings.Builder
	opening(&b)
	run := n / 2
	for i := range n {
		at := i
		if i >= run && i < run+n/20 {
			at = 2*run + n/20 - 1 - i // the same entries, last first
		}
		switch {
		case at%1000 == 500:
			continue
		case at%100 == 7:
			oneInterface(&b, at, 9000, " (moved)")
		default:
			oneInterface(&b, at, 1500, "")
		}
		if at%1000 == 100 {
			oneInterface(&b, n+at, 1500, "")
		}
	}
	closing(&b)
	return []byte(b.String())
}

func opening(b *strings.Builder) {
	b.WriteString(
		"<config xmlns=\"urn:ietf:params:xml:ns:netconf:base:1.0\">\n  <interfaces " +
			"xmlns=\"urn:ietf:params:xml:ns:yang:ietf-interfaces\">\n",
	)
}

func closing(b *strings.Builder) { b.WriteString("  </interfaces>\n</config>\n") }

func oneInterface(b *strings.Builder, i, mtu int, note string) {
	fmt.Fprintf(b, `    <interface>
      <name>port%d</name>
      <description>Berth %d, north quay%s</description>
      <type xmlns:ianaift="urn:ietf:params:xml:ns:yang:iana-if-type">ianaift:ethernetCsmacd</type>
      <enabled>true</enabled>
      <ipv4 xmlns="urn:ietf:params:xml:ns:yang:ietf-ip">
        <address>
          <ip>10.%d.%d.%d</ip>
          <prefix-length>30</prefix-length>
        </address>
      </ipv4>
`, i, i, note, 64+i>>14&15, i>>6&255, i<<2&255|1)
	if i%4 == 0 {
		fmt.Fprintf(b, `      <next xmlns="urn:example:pier-ports">port%d</next>
      <mtu xmlns="urn:example:pier-ports">%d</mtu>
      <uplink xmlns="urn:example:pier-ports">
        <port>port%d</port>
        <mtu>1400</mtu>
        <berth>b%d</berth>
      </uplink>
`, i+1, mtu, i+2, i)
	}
	b.WriteString("    </interface>\n")
}

// InterfaceModules are the modules that Interfaces is of, beside PierModule: by their names.
var InterfaceModules = []string{"ietf-interfaces", "ietf-ip", "ietf-inet-types", "ietf-yang-types", "iana-if-type"}

// InterfaceSchema compiles them and PierModule; read gives the text of each.
func InterfaceSchema(read func(module string) ([]byte, error)) (*schema.Schema, error) {
	sources := []schema.Source{{Name: "pier-ports", Text: PierModule}}
	for _, name := range InterfaceModules {
		text, err := read(name)
		if err != nil {
			return nil, err
		}
		sources = append(sources, schema.Source{Name: name, Text: string(text)})
	}
	s := schema.Compile(sources, schema.Options{AllFeatures: true})
	if len(s.Problems) > 0 {
		return nil, fmt.Errorf("the modules do not compile: %v", s.Problems)
	}
	return s, nil
}
