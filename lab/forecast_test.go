package lab

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"oakenlatch/core/codec"
	"oakenlatch/core/lockout"
	"oakenlatch/core/markup"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
	"oakenlatch/test/pace"
)

// yard is a device with everything that management access may rest on: management on a
// routed VLAN or on an interface that stands on another, filters both ways,
// routes, accounts, the service's own settings.
const yard = `
interfaces
  interface [core]
    type: iana-if-type:ethernetCsmacd
    bridge-port
      tagged: 40
      tagged: 50
  interface [spare]
    type: iana-if-type:ethernetCsmacd
    bridge-port
      untagged: 40
  interface [vlan40]
    type: iana-if-type:l3ipvlan
    vlan: 40
    ipv4
      forwarding: true
      address [192.0.2.11]
        prefix-length: 24
    ipv6
      forwarding: true
      address [2001:db8:2::11]
        prefix-length: 64
  interface [far]
    type: iana-if-type:ethernetCsmacd
    ipv4
      forwarding: true
      address [10.64.7.1]
        prefix-length: 24
    ipv6
      address [2001:db8:7::1]
        prefix-length: 64
  interface [far.9]
    type: iana-if-type:l2vlan
    parent-interface: far
    ipv4
      forwarding: true
      address [10.64.9.1]
        prefix-length: 24
vlans
  vlan [40]
  vlan [50]
routing
  control-plane-protocols
    control-plane-protocol [ietf-routing:static, yard]
      static-routes
        ipv4
          route [198.51.100.0/24]
            next-hop
              next-hop-address: 192.0.2.1
          route [0.0.0.0/0]
            next-hop
              next-hop-address: 10.64.7.254
        ipv6
          route [2001:db8:51::/48]
            next-hop
              next-hop-address: 2001:db8:2::1
acls
  acl [in]
    aces
      ace [netconf]
        matches
          ipv4
            protocol: 6
            source-ipv4-network: 198.51.100.0/24
          tcp
            destination-port
              port: 830
        actions
          forwarding: ietf-access-control-list:accept
      ace [netconf6]
        matches
          ipv6
            source-ipv6-network: 2001:db8:51::/48
        actions
          forwarding: ietf-access-control-list:accept
      ace [neighbours]
        matches
          icmp
            type: 135
        actions
          forwarding: ietf-access-control-list:accept
      ace [answers-of-neighbours]
        matches
          icmp
            type: 136
        actions
          forwarding: ietf-access-control-list:accept
      ace [last]
        actions
          forwarding: ietf-access-control-list:drop
  acl [out]
    aces
      ace [neighbours]
        matches
          ipv6
            protocol: 58
        actions
          forwarding: ietf-access-control-list:accept
      ace [answers]
        matches
          tcp
            source-port
              port: 830
        actions
          forwarding: ietf-access-control-list:accept
      ace [rest]
        matches
          ipv4
            source-ipv4-network: 10.64.0.0/12
        actions
          forwarding: ietf-access-control-list:drop
  attachment-points
    interface [vlan40]
      ingress
        acl-sets
          acl-set [in]
      egress
        acl-sets
          acl-set [out]
system
  contact: "Yard"
  authentication
    user [harbour]
      password: "$0$rope-and-tide"
    user [wren]
netconf-server
  listen
    endpoints
      endpoint [all]
        ssh
          tcp-server-parameters
            local-bind [0.0.0.0]
              local-port: 830
            local-bind [::]
`

// trials is how many random changes are tried each way.
func trials() int {
	if raced {
		return 600
	}
	return 10_000
}

// moves are what a random change is made of.
var moves = []struct {
	path   string
	values []string // "" deletes
}{
	{"/interfaces/interface=vlan40/enabled", []string{"false", "true", ""}},
	{"/interfaces/interface=core/enabled", []string{"false", "true"}},
	{"/interfaces/interface=spare/enabled", []string{"false", "true"}},
	{"/interfaces/interface=far/enabled", []string{"false", "true"}}, {"/interfaces/interface=far", []string{""}},
	{"/interfaces/interface=spare", []string{""}},
	{"/interfaces/interface=vlan40/ipv4/enabled", []string{"false", "true"}},
	{"/interfaces/interface=vlan40/ipv6/enabled", []string{"false", "true"}},
	{"/interfaces/interface=vlan40/ipv4", []string{""}},
	{"/interfaces/interface=vlan40/ipv4/forwarding", []string{"false", "true"}},
	{"/interfaces/interface=vlan40/ipv4/mtu", []string{"900", "9000"}},
	{"/interfaces/interface=far/ipv4/mtu", []string{"900", "9000"}},
	{"/interfaces/interface=far/ipv4/forwarding", []string{"false", "true"}},
	{"/interfaces/interface=vlan40/vlan", []string{"50", "40", ""}},
	{"/interfaces/interface=vlan40/description", []string{"management access", "changed"}},
	{"/interfaces/interface=vlan40/parent-interface", []string{"core", "far"}},
	{"/interfaces/interface=core/bridge-port/tagged=40", []string{""}},
	{"/interfaces/interface=spare/bridge-port/untagged", []string{"50", "40", ""}},
	{"/interfaces/interface=vlan40/ipv4/address=192.0.2.11/prefix-length", []string{"24", "28", "32", "30", "8"}},
	{"/interfaces/interface=vlan40/ipv4/address=192.0.2.11", []string{""}},
	{"/interfaces/interface=vlan40/ipv6/address=2001%3Adb8%3A2%3A%3A11", []string{""}},
	{"/interfaces/interface=vlan40/ipv4/address=192.0.2.12/prefix-length", []string{"24"}},
	{"/interfaces/interface=far/ipv4/address=198.51.100.1/prefix-length", []string{"24", "30"}},
	{"/interfaces/interface=far/ipv4/address=192.0.2.11/prefix-length", []string{"24"}},
	{"/vlans/vlan=40", []string{""}}, {"/vlans/vlan=50", []string{""}}, {"/vlans/vlan=60/name", []string{"new"}},
	{
		"/routing/control-plane-protocols/control-plane-protocol=ietf-routing%3Astatic,yard/static-routes/ipv4/route=198.51.100.0%2F24",
		[]string{""},
	},
	{
		"/routing/control-plane-protocols/control-plane-protocol=ietf-routing%3Astatic,yard/static-routes/ipv4/route=198.51.100.0%2F24/next-hop/next-hop-address",
		[]string{"192.0.2.1", "192.0.2.2", "10.64.7.9", "203.0.113.1"},
	},
	{
		"/routing/control-plane-protocols/control-plane-protocol=ietf-routing%3Astatic,yard/static-routes/ipv4/route=198.51.100.0%2F24/next-hop/outgoing-interface",
		[]string{"vlan40", "far"},
	},
	{
		"/routing/control-plane-protocols/control-plane-protocol=ietf-routing%3Astatic,yard/static-routes/ipv4/route=198.51.100.0%2F24/next-hop/special-next-hop",
		[]string{"blackhole"},
	},
	{
		"/routing/control-plane-protocols/control-plane-protocol=ietf-routing%3Astatic,yard/static-routes/ipv4/route=198.51.100.8%2F29/next-hop/next-hop-address",
		[]string{"192.0.2.9", "10.64.7.9"},
	},
	{
		"/routing/control-plane-protocols/control-plane-protocol=ietf-routing%3Astatic,yard/static-routes/ipv6/route=2001%3Adb8%3A51%3A%3A%2F48/next-hop/next-hop-address",
		[]string{"2001:db8:2::9", "2001:db8:7::9"},
	},
	{
		"/routing/control-plane-protocols/control-plane-protocol=ietf-routing%3Astatic,yard/static-routes/ipv6",
		[]string{""},
	},
	{"/acls/acl=in/aces/ace=netconf", []string{""}},
	{
		"/acls/acl=in/aces/ace=netconf/actions/forwarding",
		[]string{"ietf-access-control-list:drop", "ietf-access-control-list:reject"},
	},
	{
		"/acls/acl=in/aces/ace=netconf/matches/ipv4/source-ipv4-network",
		[]string{"198.51.100.0/25", "198.51.100.64/26", "0.0.0.0/0", ""},
	},
	{"/acls/acl=in/aces/ace=netconf/matches/ipv4/destination-ipv4-network", []string{"192.0.2.0/24", "192.0.3.0/24"}},
	{"/acls/acl=in/aces/ace=netconf/matches/ipv4/protocol", []string{"17", "6", ""}},
	{"/acls/acl=in/aces/ace=netconf/matches/tcp/destination-port/port", []string{"22", "830"}},
	{"/acls/acl=in/aces/ace=netconf/matches/tcp/destination-port/operator", []string{"lte", "gte", "neq", "eq"}},
	{"/acls/acl=in/aces/ace=netconf/matches/tcp/source-port/port", []string{"49152", "1024"}},
	{"/acls/acl=in/aces/ace=netconf/matches/tcp/source-port/operator", []string{"gte", "lte"}},
	{"/acls/acl=in/aces/ace=netconf6/matches/ipv6/source-ipv6-network", []string{"2001:db8:52::/48", "2001:db8::/32"}},
	{"/acls/acl=in/aces/ace=last/actions/forwarding", []string{"ietf-access-control-list:accept"}},
	{"/acls/acl=in/aces/ace=last", []string{""}}, {"/acls/acl=out/aces/ace=answers", []string{""}},
	{"/acls/acl=out/aces/ace=answers/matches/tcp/source-port/port", []string{"22", "830"}},
	{"/acls/acl=out/aces/ace=rest/matches/ipv4/source-ipv4-network", []string{"192.0.2.0/24", "0.0.0.0/0"}},
	{"/acls/attachment-points/interface=vlan40", []string{""}},
	{"/acls/attachment-points/interface=vlan40/egress", []string{""}},
	{"/acls/attachment-points/interface=vlan40/ingress/acl-sets/acl-set=out", []string{"+"}},
	{"/acls/attachment-points/interface=core/ingress/acl-sets/acl-set=out", []string{"+"}},
	{"/system/contact", []string{"Somebody", ""}}, {"/system/location", []string{"Shed"}},
	{"/system/authentication/user=harbour", []string{""}},
	{"/system/authentication/user=harbour/password", []string{"$0$other", "$0$rope-and-tide", ""}},
	{"/system/authentication/user=wren", []string{""}}, {"/system/authentication", []string{""}},
	{"/netconf-server/listen", []string{""}},
	{
		"/netconf-server/listen/endpoints/endpoint=all/ssh/tcp-server-parameters/local-bind=0.0.0.0/local-port",
		[]string{"831", "830"},
	},
	{
		"/netconf-server/listen/endpoints/endpoint=all/ssh/tcp-server-parameters/local-bind=%3A%3A/local-port",
		[]string{"831", "830"},
	},
	{"/netconf-server/listen/endpoints/endpoint=all/ssh/tcp-server-parameters/local-bind=%3A%3A", []string{""}},
	{"/acls/acl=in/type", []string{"ietf-access-control-list:ipv4-acl-type", "ietf-access-control-list:ipv6-acl-type"}},
	{"/acls/acl=in/aces/ace=neighbours", []string{""}},
	{
		"/routing/control-plane-protocols/control-plane-protocol=ietf-routing%3Astatic,yard/static-routes/ipv4/route=198.51.100.10%2F32/next-hop/special-next-hop",
		[]string{"blackhole"},
	},
	{"/interfaces/interface=core/bridge-port/untagged", []string{"40", "50"}},
	{"/zones/zone=near/interface=vlan40", []string{"+"}},
}

func shake(t *testing.T, d *Device, r *rand.Rand, cfg *tree.Node) (*tree.Node, []string) {
	var did []string
	for range 1 + r.IntN(4) {
		m := moves[r.IntN(len(moves))]
		v := m.values[r.IntN(len(m.values))]
		p, err := tree.ParsePath(d.set.schema, m.path)
		require.NoError(t, err, m.path)
		e := tree.Put(p, v)
		if v == "" {
			e = tree.DeleteAt(p)
		}
		if next, err := tree.Apply(cfg, tree.Fitted(cfg, e), tree.None); err == nil {
			cfg = next
			did = append(did, m.path+" "+v)
		}
	}
	return cfg, did
}

func yardDevice(t *testing.T, m Management) *Device {
	spec := Spec{Name: "yard", Listen: "127.0.0.1:0", User: "harbour", Password: "rope-and-tide", Management: m,
		Modules: []string{"ietf-access-control-list", "oaken-lab-vlans", "oaken-lab-zones", "ietf-netconf-server"}}
	set, err := modules(spec.Modules...)
	require.NoError(t, err)
	n, err := codec.Decoder{Schema: set.schema, Strict: true}.ParseOutline(yard)
	require.NoError(t, err)
	spec.Factory = codec.XML(set.schema, n, markup.Name{Space: netconf.BaseNS, Local: "config"})
	d, err := Start(spec)
	require.NoError(t, err)
	t.Cleanup(d.Stop)
	require.True(t, d.Answers(d.Running()))
	return d
}

// The forecast against what the lab's devices do, over thousands of random
// changes: it never says keeps of what cuts, nor cuts of what keeps.
func TestForecastAgainstTheLab(t *testing.T) {
	t.Parallel()
	pace.Long(t)
	seed := uint64(time.Now().UnixNano())
	if text := os.Getenv("SEED"); text != "" {
		var err error
		seed, err = strconv.ParseUint(text, 10, 64)
		require.NoError(t, err)
	}
	for _, way := range []lockout.ManagementPath{
		{Us: netip.MustParseAddr("198.51.100.10"), Address: netip.MustParseAddr("192.0.2.11")},
		{Us: netip.MustParseAddr("2001:db8:51::10"), Address: netip.MustParseAddr("2001:db8:2::11")},
	} {
		way.Port, way.Account = 830, "harbour"
		d := yardDevice(t, Management{Address: way.Address, Operator: way.Us, Port: 830})
		r := rand.New(rand.NewPCG(seed, uint64(way.Us.BitLen())))
		counts := map[lockout.Answer]int{}
		for range trials() {
			before := d.Running()
			if r.IntN(3) == 0 { // from somewhere else than the factory
				if b, _ := shake(t, d, r, before); d.Answers(b) {
					before = b
				}
			}
			after, did := shake(t, d, r, before)
			v := lockout.Forecast(before, after, way)
			counts[v.Answer]++
			want := lockout.Cuts
			if d.Answers(after) {
				want = lockout.Keeps
			}
			if v.Answer != lockout.Unknown {
				require.Equal(t, want, v.Answer, "SEED=%d: %v: %+v", seed, did, v)
			}
		}
		t.Logf("%s: %v", way.Address, counts)
		assert.Greater(t, counts[lockout.Keeps], trials()/6)
		assert.Greater(t, counts[lockout.Cuts], trials()/6)
		assert.Less(t, counts[lockout.Unknown], trials()/3, "unknown is to shrink")
	}
}

// The same for a way through one device to another behind it.
func TestForecastThroughTheLab(t *testing.T) {
	t.Parallel()
	pace.Long(t)
	us, far := netip.MustParseAddr("198.51.100.10"), netip.MustParseAddr("10.64.9.7")
	mid := yardDevice(t, Management{Address: netip.MustParseAddr("192.0.2.11"), Operator: us, Port: 830})
	through := lockout.ManagementPath{Us: us, Address: far, Port: 830, Account: "harbour"}
	open, err := tree.ParsePath(mid.set.schema, "/acls/acl=in/aces/ace=netconf/matches/ipv4/destination-ipv4-network")
	require.NoError(t, err)
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 3))
	counts := map[lockout.Answer]int{}
	passes := func(cfg *tree.Node) bool {
		mid.mu.Lock()
		mid.effective = cfg
		mid.mu.Unlock()
		return mid.passes(far, 830, us)
	}
	before, err := tree.Apply(mid.Running(), tree.Fitted(mid.Running(), tree.DeleteAt(open)), tree.None)
	require.NoError(t, err)
	require.True(t, passes(before) || true)
	for _, fix := range []string{"/acls/attachment-points/interface=vlan40/egress"} {
		p, err := tree.ParsePath(mid.set.schema, fix)
		require.NoError(t, err)
		before, err = tree.Apply(before, tree.DeleteAt(p), tree.None)
		require.NoError(t, err)
	}
	require.True(t, passes(before))
	for range trials() {
		after, did := shake(t, mid, r, before)
		v := lockout.Transit(before, after, through)
		counts[v.Answer]++
		if want := passes(after); v.Answer != lockout.Unknown {
			require.Equal(t, want, v.Answer == lockout.Keeps, "%v: %+v", did, v)
		}
	}
	t.Logf("through: %v", counts)
	assert.Greater(t, counts[lockout.Keeps], trials()/6)
	assert.Greater(t, counts[lockout.Cuts], trials()/12)
}

// What a device forecast to be cut really does, over real SSH.
func TestForecastOverTheWire(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	way := lockout.ManagementPath{
		Us: netip.MustParseAddr("198.51.100.10"), Address: netip.MustParseAddr("192.0.2.11"), Port: 830,
		Account: "harbour",
	}
	d := yardDevice(t, Management{Address: way.Address, Operator: way.Us, Port: 830})
	before := d.Running()
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 5))
	said := map[lockout.Answer]int{}
	for range 24 {
		after, did := shake(t, d, r, before)
		v := lockout.Forecast(before, after, way)
		said[v.Answer]++
		d.mu.Lock()
		d.setRunning(after)
		d.mu.Unlock()
		time.Sleep(effectDelay + 50*time.Millisecond)
		// A slow machine must not pass for a way that is cut.
		patience := 800 * time.Millisecond
		if v.Answer == lockout.Keeps {
			patience = 30 * time.Second
		}
		ctx, cancel := context.WithTimeout(t.Context(), patience)
		c, err := netconf.Dial(ctx, d.Address, netconf.DialOptions{Client: ssh.ClientConfig{
			User: "harbour", Auth: []ssh.AuthMethod{ssh.Password("rope-and-tide")},
			HostKeyCallback: ssh.FixedHostKey(d.HostKey),
		}})
		cancel()
		if err == nil {
			c.Abort()
		}
		if v.Answer != lockout.Unknown {
			require.Equal(t, v.Answer == lockout.Keeps, err == nil, fmt.Sprintf("%v: %+v: %v", did, v, err))
		}
	}
	assert.Positive(t, said[lockout.Keeps])
	assert.Positive(t, said[lockout.Cuts])
}
