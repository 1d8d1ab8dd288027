package test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/lab"
	"oakenlatch/wire"
)

const (
	router = "northmole-harbour"
	quay   = "saltern-quay"
	hall   = "gannet-hall"
	mtu    = "/interfaces/interface=port1/ipv4/mtu"
)

func TestKept(t *testing.T) {
	t.Parallel()
	s := newStage(t, router)
	n := s.Open("mara", router+" "+mtu+" 9000", router+" /interfaces/interface=port4")
	out := s.Do("mara", 0, "preview", n)
	assert.Contains(t, out, "~       mtu: 1500 → 9000")
	assert.Contains(t, out, "−   interface [port4]")
	assert.Contains(t, out, "1 needs a second look.\nNext: latch commit "+n)
	assert.Equal(t, "1500", s.Value(router, mtu), "nothing typed takes effect by itself")

	out = s.Do("mara", 0, "commit", n, "--hold", "2m")
	assert.Contains(t, out, "is active, on hold")
	assert.Equal(t, "9000", s.Value(router, mtu))
	assert.True(t, s.Devices[router].Pending(), "the device's own timer runs")
	assert.NotEqual(
		t, s.Devices[router].Running().Digest(), s.Devices[router].Startup().Digest(),
		"nothing is saved before it is kept",
	)

	out = s.Do("mara", 0, "confirm", n)
	assert.Contains(t, out, "confirmed by mara")
	assert.Contains(t, out, "saved to startup")
	assert.False(t, s.Devices[router].Pending())
	assert.Equal(t, s.Devices[router].Running().Digest(), s.Devices[router].Startup().Digest())
	assert.Contains(t, s.Do("mara", 3, "confirm", n), "already confirmed")
	assert.Contains(t, s.Do("mara", 3, "put", n, router, mtu, "1400"), "is confirmed and can no longer be edited")

	var page wire.Audit
	require.NoError(t, json.Unmarshal([]byte(s.Do("mara", 0, "audit", "change:"+n, "--json", "--limit", "200")), &page))
	found := false
	for _, e := range page.Entries {
		if e.Action == "config.changed" {
			found = true
			assert.Equal(
				t,
				[]string{
					"mara", router, "/ietf-interfaces:interfaces/interface=port1/ietf-ip:ipv4/mtu", "1500", "9000",
				},
				[]string{e.Actor, e.Device, e.Path, e.Before, e.After},
			)
			assert.WithinDuration(t, time.Now(), e.At, time.Minute)
		}
	}
	assert.True(t, found, "person, time, device, path, before and after are on record")
	assert.Contains(t, s.Do("mara", 6, "audit", "verify"), "consistent in itself")
}

// (a) Not confirmed: the device reverts, and the service says so from what
// it read.
func TestGoesBackUnconfirmed(t *testing.T) {
	t.Parallel()
	s := newStage(t, router)
	n := s.Open("mara", router+" "+mtu+" 9000")
	out := s.Do("mara", 5, "commit", n, "--hold", "10s", "--wait")
	assert.Contains(t, out, "is reverted: the hold ended at")
	assert.Equal(t, "1500", s.Value(router, mtu))
	assert.Contains(t, s.Do("mara", 0, "audit", "change:"+n), "holds its former configuration")
	// (d) Confirm after the deadline is refused with the truth.
	assert.Contains(t, s.Do("mara", 3, "confirm", n), "already reverted since")
	// It may be committed again.
	s.Do("mara", 0, "commit", n, "--hold", "1m")
	s.Do("mara", 0, "confirm", n)
	assert.Equal(t, "9000", s.Value(router, mtu))
}

func TestRevertedByHand(t *testing.T) {
	t.Parallel()
	s := newStage(t, router)
	n := s.Open("mara", router+" "+mtu+" 9000")
	s.Do("mara", 0, "commit", n, "--hold", "5m")
	assert.Contains(t, s.Do("joss", 3, "revert", n, "--yes"), "belongs to mara")
	assert.Contains(t, s.Do("joss", 3, "confirm", n), "belongs to mara")
	assert.Contains(t, s.Do("mara", 0, "revert", n, "--yes"), "reverted by mara")
	assert.Equal(t, "1500", s.Value(router, mtu))
	assert.False(t, s.Devices[router].Pending())
}

// (b) The service dies during a hold and stays dead: the device reverts all
// the same, and the service, started again, reports what really happened.
func TestServiceDiesDuringHold(t *testing.T) {
	t.Parallel()
	s := newStage(t, router)
	n := s.Open("mara", router+" "+mtu+" 9000")
	s.Do("mara", 0, "commit", n, "--hold", "10s")
	s.Kill()
	require.Eventually(
		t, func() bool { return s.Value(router, mtu) == "1500" }, 90*time.Second, 200*time.Millisecond,
		"the device reverts by itself",
	)
	s.Start()
	c := s.Eventually(n, "reverted", 90*time.Second)
	assert.Contains(t, c.Reason, "while the service was down")
	assert.Contains(t, s.Do("mara", 0, "audit", "change:"+n), "holds its former configuration")
}

// A service that comes back in time goes on with the hold, and it can be kept.
func TestServiceComesBackDuringHold(t *testing.T) {
	t.Parallel()
	s := newStage(t, router)
	n := s.Open("mara", router+" "+mtu+" 9000")
	s.Do("mara", 0, "commit", n, "--hold", "1m")
	before := s.Change(n).Commit.Deadline
	s.Kill()
	s.Start()
	require.Eventually(t, func() bool {
		c := s.Change(n)
		return c.Commit.Phase == "awaiting" && c.State == "holding"
	}, 90*time.Second, 200*time.Millisecond)
	assert.Equal(t, before, s.Change(n).Commit.Deadline, "the hold is not made longer by a restart")
	s.Do("mara", 0, "confirm", n)
	assert.Equal(t, "9000", s.Value(router, mtu))
	assert.False(t, s.Devices[router].Pending())
	s.Stop()
}

// (c) A change that cuts the management path: the device vanishes, comes back
// by itself, and the change is reverted and says why.
func TestCutsItsOwnWayIn(t *testing.T) {
	t.Parallel()
	for name, edit := range map[string]string{
		"the address":     "/interfaces/interface=mgmt0/ipv4/address=192.0.2.13",
		"the interface":   "/interfaces/interface=mgmt0/enabled false",
		"the way back":    "/routing/control-plane-protocols/control-plane-protocol=static,harbour/static-routes/ipv4/route=198.51.100.0%2F24",
		"the filter's ok": "/acls/acl=management-in/aces/ace=operations-room",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := newStage(t, hall)
			before := s.Devices[hall].Running().Digest()
			n := s.Open("mara", hall+" "+edit)
			out := s.Do("mara", 5, "commit", n, "--hold", "10s", "--wait")
			assert.Contains(t, out, hall+" could not be reached after the commit, which probably cut management access")
			assert.True(t, s.Devices[hall].Reachable())
			assert.Equal(t, before, s.Devices[hall].Running().Digest())
			assert.EqualValues(t, "reverted", s.Change(n).State)
		})
	}
}

// (e) Two people stage on the same device: neither sees the other's edits, and
// the second commit does not silently overwrite the first.
func TestTwoPeople(t *testing.T) {
	t.Parallel()
	s := newStage(t, router)
	a := s.Open("mara", router+" "+mtu+" 9000", router+" /system/contact mara@tidewell.example")
	b := s.Open("joss", router+" "+mtu+" 1400", router+" /system/location Quay")
	assert.Contains(t, s.Do("joss", 3, "show", a), "private")
	assert.Contains(t, s.Do("joss", 3, "preview", a), "private")
	assert.NotContains(t, s.Do("joss", 0, "changes"), "a change of mara")
	assert.NotContains(t, s.Do("joss", 0, "audit", "--limit", "500"), "9000")
	assert.NotContains(t, s.Do("joss", 0, "preview", b), "mara@tidewell.example")
	assert.Contains(t, s.Do("joss", 3, "put", a, router, mtu, "1"), "private")

	s.Do("mara", 0, "commit", a, "--hold", "1m")
	assert.Contains(t, s.Do("joss", 3, "commit", b), "held by the commit of change "+a)
	s.Do("mara", 0, "confirm", a)
	out := s.Do("joss", 1, "preview", b)
	assert.Contains(t, out, "behind: the device moved on")
	assert.Contains(t, out, "/interfaces/interface=port1/ipv4/mtu: conflict: changed here and on the device")
	assert.Contains(t, s.Do("joss", 3, "commit", b), "both changed the same")
	assert.Equal(t, "9000", s.Value(router, mtu), "the first stays")

	// Without the conflict it goes on top of what mara did.
	var p wire.Preview
	require.NoError(t, json.Unmarshal([]byte(s.Do("joss", 1, "preview", b, "--json")), &p))
	s.Do("joss", 0, "unstage", b, strings.TrimSpace(jsonNumber(p.Parts[0].Edits[0].ID)))
	assert.Contains(t, s.Do("joss", 0, "preview", b), "Ready")
	s.Do("joss", 0, "commit", b, "--hold", "1m")
	s.Do("joss", 0, "confirm", b)
	assert.Equal(t, "9000", s.Value(router, mtu))
	assert.Equal(t, "Quay", s.Value(router, "/system/location"))
	assert.Equal(t, "mara@tidewell.example", s.Value(router, "/system/contact"))
}

func jsonNumber(n int64) string {
	b, _ := json.Marshal(n)
	return string(b)
}

// The device loses power during a hold: it comes back with its startup, the
// trial forgotten, and that is what is said.
func TestDeviceLosesPower(t *testing.T) {
	t.Parallel()
	s := newStage(t, router)
	n := s.Open("mara", router+" "+mtu+" 9000")
	s.Do("mara", 0, "commit", n, "--hold", "2m")
	s.Devices[router].PowerCycle()
	assert.Equal(t, "1500", s.Value(router, mtu))
	c := s.Eventually(n, "reverted", 90*time.Second)
	assert.Contains(t, c.Reason, "reverted before it was confirmed")
}

// Two devices: all or none.
func TestAllOrNone(t *testing.T) {
	t.Parallel()
	s := newStage(t, router, quay)
	n := s.Open("mara", router+" /system/location here", quay+" /interfaces/interface=quay1/ipv4/mtu 100")
	out := s.Do("mara", 3, "commit", n)
	assert.Contains(t, out, "this controller does no frames below 576 octets")
	assert.NotEqual(t, "here", s.Value(router, "/system/location"))
	n = s.Open("mara", router+" /system/location here", quay+" /system/location there")
	s.Do("mara", 0, "commit", n, "--hold", "1m")
	s.Do("mara", 0, "confirm", n)
	assert.Equal(t, "here", s.Value(router, "/system/location"))
	assert.Equal(t, "there", s.Value(quay, "/system/location"))
}

// What was done at the device's own console is found, kept, and told as
// outside; the change staged before it is put on top.
func TestOutsideChange(t *testing.T) {
	t.Parallel()
	s := newStage(t, router)
	n := s.Open("mara", router+" "+mtu+" 9000")
	require.NoError(t, s.Devices[router].Console("/system/contact", "someone at the console"))
	out := s.Do("mara", 0, "preview", n)
	assert.Contains(t, out, "behind: the device moved on")
	assert.Contains(t, out, "someone at the console")
	s.Do("mara", 0, "commit", n, "--hold", "1m")
	s.Do("mara", 0, "confirm", n)
	assert.Equal(t, "someone at the console", s.Value(router, "/system/contact"))
	out = s.Do("mara", 0, "audit", "device:"+router)
	assert.Contains(t, out, "named by the device")
}

// Someone else's uncommitted edits on the device are never committed by us and
// never thrown away.
func TestForeignCandidate(t *testing.T) {
	t.Parallel()
	s := newStage(t, router)
	n := s.Open("mara", router+" "+mtu+" 9000")
	foreign := dial(t, s.Devices[router].Address, lab.User, lab.Password)
	editContact(t, foreign, "not ours")
	out := s.Do("mara", 3, "commit", n)
	assert.Contains(t, out, "someone's uncommitted edits")
	assert.Equal(t, "not ours", readContact(t, foreign, "candidate"))
	require.NoError(t, foreign.DiscardChanges(t.Context()))

	s.Do("mara", 0, "commit", n, "--hold", "1m")
	editContact(t, foreign, "not ours either")
	out = s.Do("mara", 3, "confirm", n)
	assert.Contains(t, out, "confirmed nowhere and is still on hold")
	assert.Contains(t, out, "uncommitted edits of someone else")
	require.NoError(t, foreign.DiscardChanges(t.Context()))
	s.Do("mara", 0, "confirm", n)
	assert.Equal(t, "Harbour office, ext. 12", s.Value(router, "/system/contact"))
}

// The device's password is nowhere in the data folder in plain.
func TestSecretsAreSealed(t *testing.T) {
	t.Parallel()
	s := newStage(t, router)
	s.Stop()
	data := filepath.Join(s.Dir, "data")
	entries, err := os.ReadDir(data)
	require.NoError(t, err)
	require.NotEmpty(t, entries)
	for _, e := range entries {
		b, err := os.ReadFile(filepath.Join(data, e.Name()))
		require.NoError(t, err)
		for _, secret := range []string{lab.Password, maraPassword, adminPassword} {
			assert.NotContains(t, string(b), secret, e.Name())
		}
		info, err := e.Info()
		require.NoError(t, err)
		if e.Name() == "seal.key" {
			assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
		}
	}
	s.Start()
	s.Do("mara", 0, "config", router, "/system/hostname")
}
