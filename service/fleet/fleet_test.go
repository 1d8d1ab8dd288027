package fleet

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"net"
	"path/filepath"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"oakenlatch/core/markup"
	"oakenlatch/netconf"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/store"
	"oakenlatch/test/port"
	"oakenlatch/test/records"
	"oakenlatch/test/sshpeer"
)

// talker is a device made of what it says.
type talker struct {
	modules map[string]string // name or name@revision -> text
	get     string            // what get answers with
	asked   []string
}

func (d *talker) Closed(*netconf.Session) {}

func (d *talker) Operate(_ *netconf.Session, op *markup.Element) ([]byte, error) {
	switch op.Name.Local {
	case "get":
		return []byte(`<data xmlns="` + netconf.BaseNS + `">` + d.get + `</data>`), nil
	case "get-config":
		return []byte(
			`<data xmlns="` + netconf.BaseNS +
				`"><top xmlns="urn:top"><a>1</a><more xmlns="urn:unknown">kept</more></top></data>`,
		), nil
	case "get-schema":
		name, version := op.Find("identifier").Value(), op.Find("version").Value()
		d.asked = append(d.asked, name+"@"+version)
		text, ok := d.modules[name+"@"+version]
		if !ok && version == "" {
			text, ok = d.modules[name]
		}
		if !ok {
			return nil, netconf.RPCErrors{{Type: "application", Tag: "invalid-value", Message: "no such module"}}
		}
		w := &markup.Writer{}
		w.Leaf(markup.Name{Space: netconf.MonitoringNS, Local: "data"}, text)
		return w.Bytes(), nil
	}
	return nil, netconf.RPCErrors{{Type: "application", Tag: "operation-not-supported"}}
}

// serve runs a talker over SSH that takes any password and gives its address.
func serve(t *testing.T, d *talker, caps ...string) string {
	t.Helper()
	return serveSSH(
		t, d,
		&ssh.ServerConfig{
			PasswordCallback: func(ssh.ConnMetadata, []byte) (*ssh.Permissions, error) { return nil, nil },
		},
		caps...,
	)
}

func serveSSH(t *testing.T, d *talker, cfg *ssh.ServerConfig, caps ...string) string {
	t.Helper()
	srv := &netconf.Server{Capabilities: append([]string{netconf.CapBase11}, caps...), Handler: d}
	address, _ := sshpeer.Listen(t, cfg, func(c net.Conn, cfg *ssh.ServerConfig) { _ = srv.ServeSSH(c, cfg) })
	return address
}

func newFleet(t *testing.T) (*Fleet, *store.Store) {
	t.Helper()
	dir := t.TempDir()
	records.Fresh(t, dir)
	s, err := store.Open(dir)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	sealer, err := access.OpenSealer(filepath.Join(dir, access.KeyFile))
	require.NoError(t, err)
	return New(s, audit.New(s, audit.Options{}), sealer), s
}

func (f *Fleet) adopt(t *testing.T, name, address string) {
	t.Helper()
	require.NoError(
		t, f.Add(t.Context(), "mara", NewDevice{Name: name, Address: address, Account: "u", Password: "password"}),
	)
	key, err := f.ScanHostKey(t.Context(), store.Everything, name)
	require.NoError(t, err)
	_, err = f.Trust(t.Context(), store.Everything, "mara", name, key.Fingerprint)
	require.NoError(t, err)
}

var modules = map[string]string{
	"top":             `module top { namespace "urn:top"; prefix t; import lib { prefix l; } include part; container top { leaf a { type l:word; } leaf b { if-feature extra; type string; } uses inner; } feature extra; }`,
	"part":            `submodule part { belongs-to top { prefix t; } grouping inner { leaf c { type string; } } }`,
	"lib":             `module lib { namespace "urn:lib"; prefix l; typedef word { type string; } container never { leaf x { type string; } } }`,
	"side@2020-01-01": `module side { namespace "urn:side"; prefix s; revision 2020-01-01; container side { leaf x { type string; } } }`,
	"side":            `module side { namespace "urn:side"; prefix s; revision 2024-01-01; container newer { leaf x { type string; } } }`,
}

// However a device names its modules, the schema is the same.
func TestModuleDiscovery(t *testing.T) {
	library := `<modules-state xmlns="` + libraryNS + `">
		<module><name>top</name><revision/><conformance-type>implement</conformance-type><feature>extra</feature><submodule><name>part</name><revision/></submodule></module>
		<module><name>lib</name><revision/><conformance-type>import</conformance-type></module></modules-state>`
	newLibrary := `<yang-library xmlns="` + libraryNS + `"><module-set><name>all</name>
		<module><name>top</name><feature>extra</feature><submodule><name>part</name></submodule></module>
		<import-only-module><name>lib</name></import-only-module></module-set></yang-library>`
	monitoring := `<netconf-state xmlns="` + netconf.MonitoringNS + `"><schemas>
		<schema><identifier>top</identifier><version/><format>yang</format></schema><schema><identifier>top</identifier><version/><format>yin</format></schema></schemas></netconf-state>`
	for _, c := range []struct {
		name  string
		caps  []string
		get   string
		extra bool
	}{
		{"hello", []string{"urn:top?module=top&features=extra"}, "", true},
		{
			"library of RFC 7895",
			[]string{"urn:ietf:params:netconf:capability:yang-library:1.0?revision=2016-06-21&module-set-id=1"},
			library, true,
		},
		{
			"library of RFC 8525",
			[]string{"urn:ietf:params:netconf:capability:yang-library:1.1?revision=2019-01-04&content-id=1"},
			newLibrary, true,
		},
		{"monitoring", nil, monitoring, false}, // which tells no features
	} {
		t.Run(c.name, func(t *testing.T) {
			f, _ := newFleet(t)
			d := &talker{modules: modules, get: c.get}
			f.adopt(t, "d", serve(t, d, c.caps...))
			s, err := f.Dial(t.Context(), store.Everything, "d")
			require.NoError(t, err)
			defer s.Abort()
			require.Empty(t, s.Schema.Problems)
			var leaves []string
			for _, n := range s.Schema.Named("top")[0].Data() {
				leaves = append(leaves, n.Name)
			}
			want := []string{"a", "c"}
			if c.extra {
				want = []string{"a", "b", "c"}
			}
			assert.Equal(t, want, leaves)
			assert.Empty(t, s.Schema.Named("never"), "a module that is only imported has no data")
		})
	}
}

// A device is asked for its modules once, and again when it announces others;
// what it does not hand out is said, and the rest works.
func TestModulesAreAskedForOnce(t *testing.T) {
	f, st := newFleet(t)
	d := &talker{modules: modules}
	address := serve(
		t, d, "urn:side?module=side&revision=2020-01-01", "urn:top?module=top",
		"urn:gone?module=gone&revision=2021-01-01",
	)
	f.adopt(t, "d", address)
	dial := func(name string) *Session {
		s, err := f.Dial(t.Context(), store.Everything, name)
		require.NoError(t, err)
		t.Cleanup(s.Abort)
		return s
	}
	s := dial("d")
	sort.Strings(d.asked)
	assert.Equal(t, []string{"gone@", "gone@2021-01-01", "lib@", "part@", "side@2020-01-01", "top@"}, d.asked)
	assert.NotEmpty(t, s.Schema.Named("side"), "the revision that was announced")
	require.Len(t, s.Schema.Problems, 1)
	assert.Contains(t, s.Schema.Problems[0].String(), "gone: the device names this module but does not hand it out")
	n, err := s.Read(t.Context(), netconf.Running)
	require.NoError(t, err)
	assert.Equal(t, 2, n.Count(), "what no module describes is carried too")

	d.asked = nil
	assert.Same(t, s.Schema, dial("d").Schema)
	assert.Empty(t, d.asked)
	f2 := New(st, f.log, f.sealer) // a service that was started again
	again, err := f2.Dial(t.Context(), store.Everything, "d")
	require.NoError(t, err)
	defer again.Abort()
	assert.Empty(t, d.asked, "nor after a restart")
	f.adopt(t, "e", serve(t, d, "urn:top?module=top"))
	assert.NotSame(t, s.Schema, dial("e").Schema)
}

func TestAddRefuses(t *testing.T) {
	f, _ := newFleet(t)
	for want, n := range map[string]NewDevice{
		"no name for a device":  {Name: "two words", Address: "a:1", Account: "u", Password: "p"},
		"no address":            {Name: "d", Address: "a", Account: "u", Password: "p"},
		"account on the device": {Name: "d", Address: "a:1", Password: "p"},
		"password or a private": {Name: "d", Address: "a:1", Account: "u"},
		"key cannot be read":    {Name: "d", Address: "a:1", Account: "u", PrivateKey: "no key"},
	} {
		require.ErrorContains(t, f.Add(t.Context(), "mara", n), want)
	}
}

func TestGuard(t *testing.T) {
	for _, c := range []struct{ caps, guard, why, risk string }{
		{"", "unknown", "not been reached", ""},
		{netconf.CapBase11, "none", "neither a candidate datastore nor a writable running", ""},
		{netconf.CapWritableRunning, "service", "takes effect at once", "only this service"},
		{
			netconf.CapCandidate + " " + netconf.CapWritableRunning, "service", "no confirmed commit",
			"only this service",
		},
		{
			netconf.CapCandidate + " " + netconf.CapConfirmedCommit10, "session", "persist token",
			"session to the device breaks",
		},
		{netconf.CapCandidate + " " + netconf.CapConfirmedCommit11, "device", "", ""},
	} {
		g := GuardOf(strings.Fields(c.caps))
		assert.Equal(t, c.guard, g.Name(), c.caps)
		assert.Contains(t, g.Why, c.why)
		assert.Contains(t, g.Risk, c.risk)
		assert.Equal(t, c.risk == "", g.Risk == "")
	}
}

// What went wrong at the last contact is kept, until the next that goes well.
func TestTroubleIsNoted(t *testing.T) {
	f, st := newFleet(t)
	address := serve(t, &talker{modules: modules}, "urn:top?module=top")
	f.adopt(t, "d", address)
	s, err := f.Dial(t.Context(), store.Everything, "d")
	require.NoError(t, err)
	s.Abort()
	require.NoError(t, st.Write(t.Context(), func(tx *store.Tx) error {
		return tx.SetHostKey(1, "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIA0Zq0Vb2x0c4V0Yq0Vb2x0c4V0Yq0Vb2x0c4V0Yq0V")
	}))
	_, err = f.Dial(t.Context(), store.Everything, "d")
	require.Error(t, err)
	d, err := st.Device(t.Context(), store.Everything, "d")
	require.NoError(t, err)
	assert.Contains(t, d.Trouble, fmt.Sprintf("d (%s)", address))
	assert.False(t, d.Seen.IsZero(), "when it was seen last stays known")
	key, err := f.ScanHostKey(t.Context(), store.Everything, "d")
	require.NoError(t, err)
	_, err = f.Trust(t.Context(), store.Everything, "mara", "d", key.Fingerprint)
	require.NoError(t, err)
	d, err = st.Device(t.Context(), store.Everything, "d")
	require.NoError(t, err)
	assert.Empty(t, d.Trouble)
}

// The ways to log in that SSH servers ask for.
func TestLogins(t *testing.T) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	public, err := ssh.NewPublicKey(private.Public())
	require.NoError(t, err)
	for name, c := range map[string]struct {
		server ssh.ServerConfig
		login  NewDevice
		fails  string
	}{
		"asked for the password": {ssh.ServerConfig{KeyboardInteractiveCallback: func(
			_ ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge,
		) (*ssh.Permissions, error) {
			answers, err := ask("", "", []string{"Password: "}, []bool{false})
			if err != nil || len(answers) != 1 || answers[0] != "rope" {
				return nil, fmt.Errorf("no")
			}
			return nil, nil
		}}, NewDevice{Password: "rope"}, ""},
		"a key": {ssh.ServerConfig{PublicKeyCallback: func(
			_ ssh.ConnMetadata, k ssh.PublicKey,
		) (*ssh.Permissions, error) {
			if string(k.Marshal()) != string(public.Marshal()) {
				return nil, fmt.Errorf("no")
			}
			return nil, nil
		}}, NewDevice{PrivateKey: string(pem.EncodeToMemory(block))}, ""},
		"the wrong password": {ssh.ServerConfig{PasswordCallback: func(
			ssh.ConnMetadata, []byte,
		) (*ssh.Permissions, error) {
			return nil, fmt.Errorf("no")
		}}, NewDevice{Password: "rope"}, "does not accept account u with the stored password"},
	} {
		t.Run(name, func(t *testing.T) {
			f, _ := newFleet(t)
			c.login.Name, c.login.Account = "d", "u"
			c.login.Address = serveSSH(t, &talker{modules: modules}, &c.server, "urn:top?module=top")
			require.NoError(t, f.Add(t.Context(), "mara", c.login))
			_, err := f.Dial(t.Context(), store.Everything, "d")
			require.ErrorContains(t, err, "has not been accepted yet", "nothing is sent to a device nobody vouched for")
			key, err := f.ScanHostKey(t.Context(), store.Everything, "d")
			require.NoError(t, err)
			_, err = f.Trust(t.Context(), store.Everything, "mara", "d", "SHA256:other")
			require.ErrorContains(t, err, "nothing was kept")
			_, err = f.Trust(t.Context(), store.Everything, "mara", "d", key.Fingerprint)
			require.NoError(t, err)
			s, err := f.Dial(t.Context(), store.Everything, "d")
			if c.fails != "" {
				require.ErrorContains(t, err, c.fails)
				return
			}
			require.NoError(t, err)
			s.Abort()
		})
	}
}

// While a commit moves a device's management, it is found at either address,
// and only with the host key that was accepted.
func TestDialWhileMoving(t *testing.T) {
	f, st := newFleet(t)
	anyPassword := func() *ssh.ServerConfig {
		return &ssh.ServerConfig{
			PasswordCallback: func(ssh.ConnMetadata, []byte) (*ssh.Permissions, error) { return nil, nil },
		}
	}
	cfg := anyPassword()
	peer := func(cfg *ssh.ServerConfig) string {
		return serveSSH(t, &talker{modules: modules}, cfg, "urn:top?module=top")
	}
	// the first two are one device: they share a key
	before, after, stranger := peer(cfg), peer(cfg), peer(anyPassword())
	nobody := port.Address(t)
	f.adopt(t, "d", before)
	for _, c := range []struct{ kept, moving, at string }{
		{before, nobody, before}, {nobody, after, after}, {before, stranger, before}, {stranger, after, after},
		{nobody, stranger, ""}, {nobody, after + " 192.0.2.9", after},
	} {
		require.NoError(t, st.Write(t.Context(), func(tx *store.Tx) error {
			require.NoError(t, tx.SetAddress(1, c.kept, ""))
			return tx.SetMoving(1, c.moving)
		}))
		s, err := f.Dial(t.Context(), store.Everything, "d")
		if c.at == "" {
			var no *Error
			require.ErrorAs(t, err, &no)
			assert.Equal(t, "d", no.Device)
			continue
		}
		require.NoError(t, err, "%+v", c)
		assert.Equal(t, c.at, s.Device.Address, "%+v", c)
		_, err = s.Read(t.Context(), netconf.Running)
		require.NoError(t, err, "the session outlives the search for it")
		s.Abort()
	}
	_, err := f.DialAt(t.Context(), store.Everything, "d", stranger)
	require.ErrorContains(t, err, "its host key is not the one that was accepted")
	s, err := f.DialAt(t.Context(), store.Everything, "d", before)
	require.NoError(t, err)
	s.Abort()
	d, err := st.Device(t.Context(), store.Everything, "d")
	require.NoError(t, err)
	assert.Equal(t, nobody, d.Address, "a look elsewhere moves nothing")
	assert.Empty(t, d.Trouble, "nor is it told of the device")
}
