package test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"oakenlatch/netconf"
	"oakenlatch/test/netconfd"
)

// The whole story on a device nobody here wrote.
func TestNetconfd(t *testing.T) {
	t.Parallel()
	d := netconfd.Start(t)
	s := newStage(t)
	s.Do(
		"admin", 0, "device", "add", "island", "--address", d.Address, "--user", d.User, "--key-file",
		s.File("island-key", string(d.PrivateKey)),
	)
	s.Do("admin", 0, "device", "trust", "island", "--fingerprint", ssh.FingerprintSHA256(d.HostKey))
	assert.Contains(t, s.Do("admin", 0, "device", "show", "island"), "guard     device")
	running := func(path string) string {
		out, _ := s.Latch("admin", "config", "island", path)
		return out
	}

	// Kept, with every kind of node: containers, lists, leaf-lists in order.
	n := s.Open("mara",
		"island /system/contact Island office",
		"island /system/location Isle & Sound <north>",
		"island /system/dns-resolver/search tidewell.example",
		"island /system/ntp/server=tide/udp/address 203.0.113.123",
		"island /interfaces/interface=eth7/type ethernetCsmacd",
		"island /interfaces/interface=eth7/ipv4/address=192.0.2.77/prefix-length 24",
	)
	assert.Contains(
		t, s.Do("mara", 3, "put", n, "island", "/system/dns-resolver/search", "isle.example"),
		"add it beside them: latch put ",
	)
	s.Do("mara", 0, "put", n, "island", "/system/dns-resolver/search", "isle.example", "--add")
	assert.Contains(t, s.Do("mara", 0, "preview", n, "--validate"), "the device itself finds the result valid")
	s.Do("mara", 0, "commit", n, "--hold", "2m")
	assert.Contains(t, s.Do("mara", 0, "confirm", n), "saved to startup")
	assert.Contains(t, running("/system"), "  location: \"Isle & Sound <north>\"\n")
	assert.Contains(t, running("/system/dns-resolver"), "search: tidewell.example\n    search: isle.example\n")
	assert.Contains(t, s.Do("admin", 0, "config", "island", "/interfaces", "--from", "startup"), "address [192.0.2.77]")

	onFiles(t, s, "island")

	// Changed and deleted, then reverted by the service's word.
	n = s.Open(
		"mara", "island /system/contact Someone else", "island /interfaces/interface=eth7/ipv4/address=192.0.2.77",
	)
	s.Do("mara", 0, "commit", n, "--hold", "2m")
	assert.Contains(t, running("/system/contact"), "Someone else")
	s.Do("mara", 0, "revert", n, "--yes")
	assert.Contains(t, running("/system/contact"), "Island office")
	assert.Contains(t, running("/interfaces"), "192.0.2.77")

	// Not confirmed.
	out := s.Do("mara", 5, "commit", n, "--hold", "10s", "--wait")
	assert.Contains(t, out, "read back, it holds its former configuration")
	assert.Contains(t, s.Do("mara", 3, "confirm", n), "already reverted")

	// Found wrong before anything is sent.
	bad := s.Open("mara", "island /interfaces/interface=eth8/description no type given")
	out = s.Do("mara", 1, "preview", bad)
	assert.Contains(t, out, "/interfaces/interface=eth8/type: is mandatory and not set")
	assert.Contains(
		t, s.Do("mara", 3, "commit", bad), "cannot be committed: island: not valid at /interfaces/interface=eth8/type",
	)

	// Someone else on it: seen, kept apart, and merged.
	mine := s.Open("mara", "island /system/location Lighthouse")
	other := session(t, d)
	require.NoError(t, other.EditConfig(t.Context(), netconf.EditConfig{Target: netconf.Candidate,
		Config: []byte(`<system xmlns="` + systemNS + `"><contact>behind your back</contact></system>`)}))
	require.NoError(t, other.Commit(t.Context()))
	s.Do("mara", 0, "commit", mine, "--hold", "2m")
	s.Do("mara", 0, "confirm", mine)
	assert.Contains(t, running("/system"), "behind your back")
	assert.Contains(t, running("/system"), "Lighthouse")
	assert.Contains(t, s.Do("mara", 0, "audit", "device:island"), "named by the device")
	// It tells by RFC 6470 who that was; sooner or later.
	require.Eventually(t, func() bool {
		return strings.Contains(
			s.Do("mara", 0, "outside", "--json"), `"who": "named by the device: root from 127.0.0.1 in session `,
		)
	}, 90*time.Second, 500*time.Millisecond, s.Do("mara", 0, "outside", "show", "1"))
	assert.Contains(t, s.Do("mara", 0, "outside", "adopt", "1", "the lighthouse keeper, by telephone"), "is adopted")
	require.NoError(t, other.Lock(t.Context(), netconf.Running))
	late := s.Open("mara", "island /system/location Elsewhere")
	out = s.Do("mara", 3, "commit", late)
	assert.Contains(
		t, out, "running is locked by session "+other.SessionID+" of account root from 127.0.0.1, there since ",
	)
	assert.Contains(t, s.Do("mara", 0, "device", "sessions", "island"), "running since ")
	other.Abort()

	// The service dies and stays dead: the device reverts by itself.
	require.Eventually(t, func() bool {
		_, status := s.Latch("mara", "commit", late, "--hold", "10s")
		return status == 0
	}, 30*time.Second, time.Second)
	s.Kill()
	time.Sleep(20 * time.Second) // undisturbed: its timer runs only then
	back := session(t, d)
	data, err := back.GetConfig(t.Context(), netconf.Running, netconf.Filter(`<system xmlns="`+systemNS+`"/>`))
	require.NoError(t, err)
	assert.Equal(t, "Lighthouse", data.Find("system", "location").Value())
	s.Start()
	s.Eventually(late, "reverted", 90*time.Second)
}

// A device without a candidate: the edit takes effect at once, and the service
// alone takes it back. That is said before and during the hold; it reverts by
// the deadline, by a person's word and after the service was killed, and it is
// kept and saved when it is confirmed.
func TestNetconfdWithoutCandidate(t *testing.T) {
	t.Parallel()
	d := netconfd.StartRunning(t)
	s := newStage(t)
	s.Do(
		"admin", 0, "device", "add", "islet", "--address", d.Address, "--user", d.User, "--key-file",
		s.File("islet-key", string(d.PrivateKey)),
	)
	s.Do("admin", 0, "device", "trust", "islet", "--fingerprint", ssh.FingerprintSHA256(d.HostKey))
	contact := func() string {
		out, _ := s.Latch("mara", "config", "islet", "/system/contact")
		return strings.TrimSpace(out)
	}
	n := s.Open("mara", "islet /system/contact nobody")
	out := s.Do("mara", 0, "preview", n)
	assert.Contains(t, out, "+   contact: nobody")
	assert.Contains(t, out, "guard: service: it has no candidate datastore")
	assert.Contains(t, out, "the change stays there until it can again")
	out = s.Do("mara", 0, "commit", n, "--hold", "2m")
	assert.Contains(t, out, "guard islet: only this service can revert it")
	assert.Contains(t, out, "unless you confirm; by this service alone")
	assert.Contains(t, contact(), "nobody")
	assert.Contains(t, s.Do("mara", 0, "revert", n, "--yes"), "reverted by mara")
	assert.Contains(t, contact(), "nothing at /system")

	// Killed during the hold, and back after its end: it takes the change back.
	s.Do("mara", 0, "commit", n, "--hold", "10s")
	s.Kill()
	time.Sleep(11 * time.Second)
	s.Start()
	assert.Contains(t, s.Eventually(n, "reverted", 90*time.Second).Reason, "while the service was down")
	assert.Contains(t, contact(), "nothing at /system")

	// Refused by the device: nothing is left behind.
	bad := s.Open("mara", "islet /interfaces/interface=eth8/description no type given")
	assert.Contains(t, s.Do("mara", 3, "commit", bad), "eth8/type: is mandatory and not set")

	s.Do("mara", 0, "commit", n, "--hold", "1m", "--save", "no")
	assert.Contains(t, s.Do("mara", 0, "confirm", n), "NOT saved to startup, as was asked")
	assert.Contains(t, contact(), "nobody")
	assert.Contains(t, s.Do("mara", 0, "devices"), "running not saved")
	out = s.Do("mara", 0, "device", "save", "islet")
	assert.Contains(t, out, "+   contact: nobody")
	assert.Contains(t, out, "Saved, and read back")
	assert.NotContains(t, s.Do("mara", 0, "devices"), "running not saved")
}

func session(t *testing.T, d *netconfd.Server) *netconf.Client {
	t.Helper()
	c, err := netconf.Dial(t.Context(), d.Address, netconf.DialOptions{Client: ssh.ClientConfig{
		User: d.User, Auth: []ssh.AuthMethod{ssh.PublicKeys(d.Signer(t))}, HostKeyCallback: ssh.FixedHostKey(d.HostKey),
	}})
	require.NoError(t, err)
	t.Cleanup(c.Abort)
	return c
}
