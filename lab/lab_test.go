package lab

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"oakenlatch/core/markup"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
)

// boot starts a device of the demo's network on a port of its own.
func boot(t *testing.T, name, dir string) *Device {
	t.Helper()
	sites, err := Tidewell(dir)
	require.NoError(t, err)
	for _, s := range sites {
		if s.Spec.Name == name {
			s.Spec.Listen = "127.0.0.1:0"
			d, err := Start(s.Spec)
			require.NoError(t, err)
			t.Cleanup(d.Stop)
			return d
		}
	}
	t.Fatalf("no device %s", name)
	return nil
}

func (d *Device) dial(t *testing.T) *netconf.Client {
	t.Helper()
	c, err := netconf.Dial(t.Context(), d.Address, netconf.DialOptions{Timeout: 3 * time.Second,
		Client: ssh.ClientConfig{
			User: User, Auth: []ssh.AuthMethod{ssh.Password(Password)}, HostKeyCallback: ssh.FixedHostKey(d.HostKey),
		}})
	require.NoError(t, err)
	t.Cleanup(c.Abort)
	return c
}

// What cuts the management path, and what only seems to.
func TestReachable(t *testing.T) {
	t.Parallel()
	const route = "/routing/control-plane-protocols/control-plane-protocol=static,harbour/static-routes/ipv4/route=198.51.100.0%2F24"
	const aces = "/acls/acl=management-in/aces"
	type edit struct{ path, value string } // no value: delete
	for _, c := range []struct {
		name  string
		edits []edit
		want  bool
	}{
		{"as it left the yard", nil, true},
		{"another description", []edit{{"/interfaces/interface=mgmt0/description", "x"}}, true},
		{"the interface down", []edit{{"/interfaces/interface=mgmt0/enabled", "false"}}, false},
		{"another interface down", []edit{{"/interfaces/interface=hall0/enabled", "false"}}, true},
		{"IPv4 off", []edit{{"/interfaces/interface=mgmt0/ipv4/enabled", "false"}}, false},
		{"the address gone", []edit{{"/interfaces/interface=mgmt0/ipv4/address=192.0.2.13", ""}}, false},
		{"a second address", []edit{{"/interfaces/interface=mgmt0/ipv4/address=192.0.2.99/prefix-length", "24"}}, true},
		{"the way back gone", []edit{{route, ""}}, false},
		{"a way back over nothing", []edit{{route + "/next-hop/next-hop-address", "203.0.113.1"}}, false},
		{"a way back into a hole", []edit{{route + "/next-hop/special-next-hop", "blackhole"}}, false},
		{
			"a closer route into a hole",
			[]edit{
				{
					"/routing/control-plane-protocols/control-plane-protocol=static,harbour/static-routes/ipv4/route=198.51.100.0%2F28/next-hop/special-next-hop",
					"blackhole",
				},
			},
			false,
		},
		{
			"a closer route that does not cover us",
			[]edit{
				{
					"/routing/control-plane-protocols/control-plane-protocol=static,harbour/static-routes/ipv4/route=198.51.100.128%2F25/next-hop/special-next-hop",
					"blackhole",
				},
			},
			true,
		},
		{
			"the mask no longer covers the next hop",
			[]edit{{"/interfaces/interface=mgmt0/ipv4/address=192.0.2.13/prefix-length", "30"}}, false,
		},
		{"our rule gone", []edit{{aces + "/ace=operations-room", ""}}, false},
		{
			"our rule for another source",
			[]edit{{aces + "/ace=operations-room/matches/ipv4/source-ipv4-network", "203.0.113.0/24"}}, false,
		},
		{
			"our rule for other ports", []edit{{aces + "/ace=operations-room/matches/tcp/destination-port/port", "22"}},
			false,
		},
		{
			"our rule by comparison",
			[]edit{
				{aces + "/ace=operations-room/matches/tcp/destination-port/operator", "gte"},
				{aces + "/ace=operations-room/matches/tcp/destination-port/port", "800"},
			},
			true,
		},
		{
			"our rule by range",
			[]edit{
				{aces + "/ace=operations-room/matches/tcp/destination-port/lower-port", "820"},
				{aces + "/ace=operations-room/matches/tcp/destination-port/upper-port", "840"},
			},
			true,
		},
		{"rejected", []edit{{aces + "/ace=operations-room/actions/forwarding", "reject"}}, false},
		{
			"the filter off the interface",
			[]edit{{"/acls/attachment-points/interface=mgmt0", ""}, {aces + "/ace=operations-room", ""}}, true,
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := boot(t, "gannet-hall", "")
			n := d.Running()
			for _, e := range c.edits {
				p, err := tree.ParsePath(d.Schema(), e.path)
				require.NoError(t, err)
				value := e.value
				doc := tree.DeleteAt(p)
				if value != "" {
					value, err = d.Schema().Canonical(p.Last().Type, value, d.Schema().NameResolver(p.Last().Module))
					require.NoError(t, err)
					doc = tree.Put(p, value)
				}
				n, err = tree.Apply(n, doc, tree.None)
				require.NoError(t, err)
			}
			assert.Equal(t, c.want, d.Answers(n))
		})
	}
}

// A device that is cut off answers nobody, and goes on where it was once the
// path is back.
func TestGate(t *testing.T) {
	t.Parallel()
	d := boot(t, "northmole-harbour", "")
	c := d.dial(t)
	require.NoError(t, d.Console("/interfaces/interface=mgmt0/enabled", "false"))
	require.Eventually(t, func() bool { return !d.Reachable() }, 90*time.Second, 10*time.Millisecond)
	_, err := netconf.Dial(
		t.Context(), d.Address,
		netconf.DialOptions{
			Timeout: 300 * time.Millisecond,
			Client:  ssh.ClientConfig{User: User, HostKeyCallback: ssh.FixedHostKey(d.HostKey)},
		},
	)
	require.ErrorContains(t, err, "no answer within")
	answered := make(chan error, 1)
	go func() {
		_, err := c.GetConfig(t.Context(), netconf.Running, nil)
		answered <- err
	}()
	select {
	case err := <-answered:
		t.Fatalf("a device that is cut off answered: %v", err)
	case <-time.After(300 * time.Millisecond):
	}
	require.NoError(t, d.Console("/interfaces/interface=mgmt0/enabled", "true"))
	select {
	case err := <-answered:
		require.NoError(t, err, "what was on its way arrives")
	case <-time.After(5 * time.Second):
		t.Fatal("the device does not answer again")
	}
}

// Startup and host key outlast a device; running does not.
func TestRestart(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	d := boot(t, "saltern-quay", dir)
	c := d.dial(t)
	require.NoError(t, d.Console("/system/contact", "saved"))
	require.NoError(t, c.CopyConfig(t.Context(), netconf.Startup, netconf.Source{Datastore: netconf.Running}))
	require.NoError(t, d.Console("/system/contact", "not saved"))
	key := ssh.FingerprintSHA256(d.HostKey)
	d.Stop()
	d = boot(t, "saltern-quay", dir)
	assert.Equal(t, key, ssh.FingerprintSHA256(d.HostKey))
	v, err := d.Value("/system/contact")
	require.NoError(t, err)
	assert.Equal(t, "saved", v)
	d.PowerCycle()
	assert.Equal(t, d.Startup().Digest(), d.Running().Digest())
}

func TestRefusals(t *testing.T) {
	t.Parallel()
	d := boot(t, "northmole-harbour", "")
	c := d.dial(t)
	for _, e := range []struct{ tag, op string }{
		{
			"operation-not-supported",
			`<edit-config xmlns="` + netconf.BaseNS + `"><target><running/></target><config/></edit-config>`,
		},
		{
			"operation-not-supported",
			`<copy-config xmlns="` + netconf.BaseNS +
				`"><target><running/></target><source><startup/></source></copy-config>`,
		},
		{
			"operation-not-supported",
			`<delete-config xmlns="` + netconf.BaseNS + `"><target><candidate/></target></delete-config>`,
		},
		{"operation-not-supported", `<launch xmlns="urn:x"/>`},
		{"missing-element", `<edit-config xmlns="` + netconf.BaseNS + `"><target><candidate/></target></edit-config>`},
		{"missing-element", `<lock xmlns="` + netconf.BaseNS + `"/>`},
		{"invalid-value", `<lock xmlns="` + netconf.BaseNS + `"><target><archive/></target></lock>`},
		{
			"invalid-value",
			`<edit-config xmlns="` + netconf.BaseNS +
				`"><target><candidate/></target><default-operation>maybe</default-operation><config/></edit-config>`,
		},
		{
			"invalid-value",
			`<commit xmlns="` + netconf.BaseNS + `"><confirmed/><confirm-timeout>0</confirm-timeout></commit>`,
		},
		{"invalid-value", `<commit xmlns="` + netconf.BaseNS + `"><persist-id>x</persist-id></commit>`},
		{"bad-attribute", `<get xmlns="` + netconf.BaseNS + `"><filter type="xpath" select="/"/></get>`},
		{"operation-failed", `<unlock xmlns="` + netconf.BaseNS + `"><target><running/></target></unlock>`},
	} {
		_, err := c.Call(t.Context(), "test", []byte(e.op))
		assert.True(t, netconf.Tagged(err, e.tag), "%s: %v", e.op, err)
	}
	_, err := c.GetConfig(t.Context(), netconf.Running, nil)
	require.NoError(t, err)
}

// State shows in get and only there.
func TestState(t *testing.T) {
	t.Parallel()
	d := boot(t, "northmole-harbour", "")
	c := d.dial(t)
	data, err := c.Get(
		t.Context(),
		netconf.Filter(
			`<interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces"><interface><name>port4</name></interface></interfaces>`,
		),
	)
	require.NoError(t, err)
	assert.Equal(t, "down", data.Find("interfaces", "interface", "oper-status").Value())
	data, err = c.Get(
		t.Context(), netconf.Filter(`<netconf-state xmlns="`+netconf.MonitoringNS+`"><sessions/></netconf-state>`),
	)
	require.NoError(t, err)
	assert.Equal(t, User, data.Find("netconf-state", "sessions", "session", "username").Value())
	data, err = c.GetConfig(t.Context(), netconf.Running, nil)
	require.NoError(t, err)
	assert.Nil(t, data.Find("interfaces", "interface", "oper-status"))
}

// A peer that gives no sign of life is noticed, without any call being made.
func TestKeepalive(t *testing.T) {
	t.Parallel()
	d := boot(t, "northmole-harbour", "")
	c, err := netconf.Dial(t.Context(), d.Address, netconf.DialOptions{Keepalive: 100 * time.Millisecond,
		Client: ssh.ClientConfig{
			User: User, Auth: []ssh.AuthMethod{ssh.Password(Password)}, HostKeyCallback: ssh.FixedHostKey(d.HostKey),
		}})
	require.NoError(t, err)
	t.Cleanup(c.Abort)
	time.Sleep(400 * time.Millisecond)
	require.NoError(t, c.Err(), "a living peer is left alone")
	require.NoError(t, d.Console("/interfaces/interface=mgmt0/enabled", "false"))
	select {
	case <-c.Done():
		require.ErrorContains(t, c.Err(), "no sign of life")
	case <-time.After(5 * time.Second):
		t.Fatal("a dead peer was not noticed")
	}
}

// Faults on demand: each does what it says.
func TestFaults(t *testing.T) {
	t.Parallel()
	d := boot(t, "northmole-harbour", "")
	order := func(f Fault) *netconf.Client {
		c := d.dial(t)
		d.OnOperation(func(*markup.Element) Fault { return f })
		return c
	}
	c := order(Fault{Refuse: refuse("in-use", "not now")})
	assert.True(t, netconf.Tagged(c.DiscardChanges(t.Context()), "in-use"))
	c = order(Fault{Skip: true})
	require.NoError(t, c.DeleteConfig(t.Context(), netconf.Startup))
	assert.NotEmpty(t, d.Startup().Children(), "answered, and not done")
	for _, f := range []Fault{{DropBefore: true}, {DropAfter: true}} {
		c = order(f)
		err := c.DeleteConfig(t.Context(), netconf.Startup)
		var none *netconf.NoReplyError
		require.ErrorAs(t, err, &none)
		assert.Equal(t, f.DropAfter, len(d.Startup().Children()) == 0, "%+v", f)
	}
	c = order(Fault{Delay: 150 * time.Millisecond})
	start := time.Now()
	require.NoError(t, c.DiscardChanges(t.Context()))
	assert.GreaterOrEqual(t, time.Since(start), 150*time.Millisecond)
}
