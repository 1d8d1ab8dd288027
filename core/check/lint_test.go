package check_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/check"
	"oakenlatch/core/codec"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// labSchema compiles the lab's modules, which follow the standard ones.
func labSchema(t *testing.T) *schema.Schema {
	t.Helper()
	files, err := filepath.Glob("../../lab/modules/*.yang")
	require.NoError(t, err)
	var sources []schema.Source
	for _, f := range files {
		text, err := os.ReadFile(f)
		require.NoError(t, err)
		sources = append(sources, schema.Source{Name: filepath.Base(f), Text: string(text)})
	}
	s := schema.Compile(sources, schema.Options{AllFeatures: true})
	require.Empty(t, s.Problems)
	return s
}

const harbour = `interfaces
  interface [port1]
    type: iana-if-type:ethernetCsmacd
    ipv4
      address [10.64.0.1]
        prefix-length: 30
    ipv6
      address [fe80::1]
        prefix-length: 64
  interface [port2]
    type: iana-if-type:ethernetCsmacd
    ipv4
      address [10.64.0.5]
        prefix-length: 30
    ipv6
      address [fe80::1]
        prefix-length: 64
routing
  control-plane-protocols
    control-plane-protocol [static, a]
      static-routes
        ipv4
          route [198.51.100.0/24]
            next-hop
              next-hop-address: 10.64.0.2
`

func TestLint(t *testing.T) {
	s := labSchema(t)
	d := codec.Decoder{Schema: s}
	base, err := d.ParseOutline(harbour)
	require.NoError(t, err)
	assert.Empty(t, check.Lint(s, nil, base), "nothing to say of what is as it should be")
	const hop = "/routing/control-plane-protocols/control-plane-protocol=ietf-routing:static,a/static-routes/ipv4/route=198.51.100.0%2F24/next-hop/next-hop-address"
	for _, c := range []struct{ name, path, value, want string }{
		{
			"an address twice", "/interfaces/interface=port2/ipv4/address=10.64.0.1/prefix-length", "30",
			"/interfaces/interface=port2/ipv4/address=10.64.0.1: the address 10.64.0.1 is on port1 already",
		},
		{
			"one subnet", "/interfaces/interface=port2/ipv4/address=10.64.0.3/prefix-length", "31",
			"/interfaces/interface=port2/ipv4/address=10.64.0.3: port1 and port2 are both in the subnet 10.64.0.0/30",
		},
		{
			"a wider subnet behind", "/interfaces/interface=port2/ipv4/address=10.64.9.9/prefix-length", "16",
			"/interfaces/interface=port1/ipv4/address=10.64.0.1: port2 and port1 are both in the subnet 10.64.0.0/16",
		},
		{"a gateway out of reach", hop, "10.64.0.9", hop + ": no connected subnet reaches the gateway 10.64.0.9"},
		{
			"a gateway that is oneself", hop, "10.64.0.5",
			hop + ": the gateway 10.64.0.5 is this device's own address on port2",
		},
		{
			"a subnet that is down", "/interfaces/interface=port1/enabled", "false",
			hop + ": no connected subnet reaches the gateway 10.64.0.2",
		},
	} {
		p, err := tree.ParsePath(s, c.path)
		require.NoError(t, err, c.name)
		n, err := tree.Apply(base, tree.Put(p, c.value), tree.None)
		require.NoError(t, err, c.name)
		found := check.Lint(s, base, n)
		require.Len(t, found, 1, c.name)
		assert.Equal(t, c.want, found[0].Path+": "+found[0].Message, c.name)
		assert.Equal(t, check.Warning, found[0].Severity)
	}
}

// What others could refer to and none does, by the schema alone.
func TestLintOfReferences(t *testing.T) {
	s := labSchema(t)
	d := codec.Decoder{Schema: s}
	n, err := d.ParseOutline(
		"interfaces\n  interface [quay1]\n    type: iana-if-type:ethernetCsmacd\n    bridge-port\n      untagged: " +
			"10\nvlans\n  vlan [10]\n  vlan [20]\n    name: spare\n",
	)
	require.NoError(t, err)
	found := check.Lint(s, nil, n)
	require.Len(t, found, 1)
	assert.Equal(
		t,
		check.Finding{
			Severity: check.Hint, Path: "/vlans/vlan=20", Message: "is used nowhere: nothing refers to this vlan",
			Fix: &check.Fix{Edit: "delete", Path: "/vlans/vlan=20"},
		},
		found[0],
	)
	assert.Empty(t, check.Lint(s, n, n), "a change is told only what it makes anew")
	p, err := tree.ParsePath(s, "/vlans/vlan=20")
	require.NoError(t, err)
	without, err := tree.Apply(n, tree.DeleteAt(p), tree.None)
	require.NoError(t, err)
	found = check.Lint(s, without, n)
	require.Len(t, found, 1)
	assert.Nil(t, found[0].Fix, "what was just added is not offered to be deleted")
}
