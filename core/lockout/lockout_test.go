package lockout_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/lockout"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// A device of other modules than the lab's, in which much is not understood.
var modules = []schema.Source{{Name: "ietf-interfaces",
	Text: `module ietf-interfaces { yang-version 1.1; namespace "urn:i"; prefix if;
  container interfaces { list interface { key name; leaf name { type string; } leaf description { type string; } leaf enabled { type boolean; } } } }`},
	{Name: "ietf-ip",
		Text: `module ietf-ip { yang-version 1.1; namespace "urn:ip"; prefix ip; import ietf-interfaces { prefix if; }
  augment "/if:interfaces/if:interface" { container ipv4 { presence p; leaf mtu { type uint16; } list address { key ip; leaf ip { type string; } leaf prefix-length { type uint8; } leaf netmask { type string; } } } } }`},
	{Name: "ietf-routing",
		Text: `module ietf-routing { yang-version 1.1; namespace "urn:rt"; prefix rt; identity p; identity static { base p; } identity ospf { base p; }
  container routing { container control-plane-protocols { list control-plane-protocol { key "type name"; leaf type { type identityref { base p; } } leaf name { type string; } } } } }`},
	{
		Name: "guard-house",
		Text: `module guard-house { yang-version 1.1; namespace "urn:g"; prefix g; container guard-house { leaf doors { type string; } } }`,
	}}

var deviceSchema = schema.Compile(modules, schema.Options{})

func read(t *testing.T, text string) *tree.Node {
	t.Helper()
	n, err := codec.Decoder{Schema: deviceSchema}.ParseOutline(text)
	require.NoError(t, err)
	return n
}

const before = "interfaces\n  interface [m]\n    ipv4\n      address [192.0.2.11]\n        netmask: 255.255.255.0\n"

func TestForecast(t *testing.T) {
	way := lockout.ManagementPath{
		Us: netip.MustParseAddr("192.0.2.9"), Address: netip.MustParseAddr("192.0.2.11"), Port: 830,
	}
	for _, c := range []struct {
		name, after string
		way         lockout.ManagementPath
		answer      lockout.Answer
		says        string
	}{
		{"nothing is touched", before, lockout.ManagementPath{}, lockout.Keeps,
			"nothing that management access rests on"},
		{
			"a description", before + "    description: x\n", lockout.ManagementPath{}, lockout.Keeps,
			"nothing that management access rests on",
		},
		{
			"nobody told the addresses", before + "    enabled: false\n", lockout.ManagementPath{}, lockout.Unknown,
			"set its address in the network",
		},
		{"shut down", before + "    enabled: false\n", way, lockout.Cuts, "interface m is shut down"},
		{"followed", before + "  interface [n]\n    enabled: false\n", way, lockout.Keeps, "followed"},
		{"not understood", before + "guard-house\n  doors: shut\n", way, lockout.Unknown, "/guard-house"},
		{"cut, and not understood", "guard-house\n  doors: shut\n", way, lockout.Unknown, "it looks cut"},
		{"smaller packets", before + "      mtu: 900\n", way, lockout.Keeps, "followed"},
		{"smaller packets than a host must take", before + "      mtu: 300\n", way, lockout.Unknown, "300 bytes"},
		{"larger packets than the wire may take", before + "      mtu: 9000\n", way, lockout.Unknown, "larger packets"},
		{
			"a narrower network",
			"interfaces\n  interface [m]\n    ipv4\n      address [192.0.2.11]\n        netmask: 255.255.255.254\n",
			way, lockout.Cuts, "there is no route to 192.0.2.9",
		},
		{
			"another address", before,
			lockout.ManagementPath{Us: way.Us, Address: netip.MustParseAddr("192.0.2.99"), Port: 830}, lockout.Keeps,
			"nothing",
		},
		{
			"moved on purpose",
			"interfaces\n  interface [m]\n    ipv4\n      address [192.0.2.12]\n        prefix-length: 24\n",
			lockout.ManagementPath{
				Us: way.Us, Address: way.Address, Port: 830, Moved: netip.MustParseAddr("192.0.2.12"),
			},
			lockout.Keeps, "followed",
		},
	} {
		after := c.after
		v := lockout.Forecast(read(t, before), read(t, after), c.way)
		assert.Equal(t, c.answer, v.Answer, "%s: %+v", c.name, v)
		assert.Contains(t, v.Because, c.says, c.name)
	}
	// The device answers, though by its configuration it would not.
	odd := lockout.ManagementPath{Us: way.Us, Address: netip.MustParseAddr("203.0.113.1"), Port: 830}
	v := lockout.Forecast(read(t, before), read(t, before+"    enabled: false\n"), odd)
	assert.Equal(t, lockout.Unknown, v.Answer)
	assert.Contains(t, v.Because, "so its management access is not understood")
	assert.Equal(t, []netip.Addr{netip.MustParseAddr("192.0.2.11")}, lockout.Addresses(read(t, before)))
	assert.False(t, lockout.NextHop(read(t, before), way.Us).IsValid())
}

// Routes may be learned: then what is missing among the static ones says nothing.
func TestLearnedRoutes(t *testing.T) {
	ospf := "routing\n  control-plane-protocols\n    control-plane-protocol [ospf, o]\n"
	far := lockout.ManagementPath{
		Us: netip.MustParseAddr("198.51.100.9"), Address: netip.MustParseAddr("192.0.2.11"), Port: 830,
	}
	v := lockout.Forecast(read(t, before+ospf), read(t, before+ospf+"guard-house\n  doors: x\n"), far)
	assert.Equal(t, lockout.Unknown, v.Answer)
	assert.Contains(t, v.Because, "whether one is learned the configuration does not tell")
}
