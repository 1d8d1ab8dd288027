package transplant_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/schema"
	"oakenlatch/core/transplant"
	"oakenlatch/core/tree"
)

const modules = `module ietf-interfaces { namespace "urn:i"; prefix i;
  container interfaces { list interface { key name; leaf name { type string; } leaf phys-address { type string; } } } }
---
module ietf-ip { namespace "urn:p"; prefix p; import ietf-interfaces { prefix i; }
  augment "/i:interfaces/i:interface" { container ipv4 { leaf mtu { type uint16; }
    list address { key ip; leaf ip { type string; } leaf prefix-length { type uint8; } } } } }
---
module ietf-system { namespace "urn:s"; prefix s;
  container system { leaf hostname { type string; } leaf location { type string; } leaf banner { type string; }
    list peer { key address; leaf address { type string; } leaf via { type string; } } } }`

func outline(t *testing.T, s *schema.Schema, text string) *tree.Node {
	t.Helper()
	doc, err := codec.Decoder{Schema: s, Strict: true}.Read([]byte(text))
	require.NoError(t, err)
	return doc.Content
}

func TestOnto(t *testing.T) {
	var sources []schema.Source
	for _, text := range strings.Split(modules, "---\n") {
		name := strings.Fields(text)[1]
		sources = append(sources, schema.Source{Name: name, Text: text})
	}
	s := schema.Compile(sources, schema.Options{})
	require.Empty(t, s.Problems)
	from := outline(t, s, `interfaces
  interface [mgmt0]
    phys-address: "00:01"
    ipv4
      mtu: 9000
      address [192.0.2.1]
        prefix-length: 24
  interface [port9]
    ipv4
      address [10.0.0.9]
        prefix-length: 30
system
  hostname: quay
  location: "cabinet 3"
  banner: "This is quay, keep out"
  peer [203.0.113.5]
    via: 192.0.2.1
`)
	onto := outline(t, s, `interfaces
  interface [mgmt0]
    ipv4
      address [192.0.2.2]
        prefix-length: 25
      address [192.0.2.3]
        prefix-length: 32
system
  hostname: slip
  location: "boat hut"
  banner: "gone"
`)
	got, own, err := transplant.Onto(from, onto)
	require.NoError(t, err)
	assert.Equal(t, `interfaces
  interface [mgmt0]
    phys-address: 00:01
    ipv4
      mtu: 9000
      address [192.0.2.2]
        prefix-length: 25
      address [192.0.2.3]
        prefix-length: 32
  interface [port9]
    ipv4
      address [10.0.0.9]
        prefix-length: 30
system
  hostname: slip
  location: "boat hut"
  banner: "This is quay, keep out"
  peer [203.0.113.5]
    via: 192.0.2.1
`, codec.OutlineText(got))
	var told []string
	for _, o := range own {
		told = append(told, o.Path.String()+" "+o.From+" > "+o.Kept)
	}
	assert.ElementsMatch(t, []string{
		"/interfaces/interface=mgmt0/phys-address 00:01 > ",
		"/interfaces/interface=mgmt0/ipv4/address 192.0.2.1 > 192.0.2.2, 192.0.2.3",
		"/interfaces/interface=port9/ipv4/address 10.0.0.9 > ",
		"/system/hostname quay > slip", "/system/location cabinet 3 > boat hut",
		"/system/banner This is quay, keep out > ", "/system/peer=203.0.113.5/via 192.0.2.1 > ",
	}, told)

	// Carried onto itself nothing is told, and nothing differs.
	same, own, err := transplant.Onto(from, from)
	require.NoError(t, err)
	assert.Equal(t, from.Digest(), same.Digest())
	for _, o := range own {
		assert.Empty(t, o.Kept, "%s", o.Path)
	}
}
