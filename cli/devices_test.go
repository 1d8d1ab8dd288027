package cli

import (
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/wire"
)

// A host key is kept only after somebody compared it.
func TestTrust(t *testing.T) {
	shown := wire.HostKey{Device: "d", Type: "ssh-ed25519", Fingerprint: "SHA256:now", Accepted: "SHA256:before"}
	for _, c := range []struct {
		args   []string
		status int
		kept   bool
		says   string
	}{
		{[]string{"d"}, Refused, false, "was not accepted"}, // there is nobody to ask
		{[]string{"d", "--yes"}, Done, true, "Accepted. d was read"},
		{[]string{"d", "--fingerprint", "SHA256:now"}, Done, true, "It is NOT the one accepted before:"},
		{[]string{"d", "--fingerprint", "SHA256:other"}, Refused, false, "shows host key SHA256:now, not SHA256:other"},
	} {
		kept := false
		h := func(w http.ResponseWriter, r *http.Request) {
			if r.Method == http.MethodPost {
				var in wire.Trust
				_ = json.NewDecoder(r.Body).Decode(&in)
				kept = in.Fingerprint == "SHA256:now"
			}
			_ = json.NewEncoder(w).Encode(shown)
		}
		status, out, errOut := run(t, h, nil, append([]string{"device", "trust"}, c.args...)...)
		assert.Equal(t, c.status, status, c.args)
		assert.Equal(t, c.kept, kept, c.args)
		assert.Contains(t, out+errOut, c.says)
	}
}

func TestDeviceAdd(t *testing.T) {
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("rope\n"), 0o600))
	var got wire.NewDevice
	h := func(w http.ResponseWriter, r *http.Request) {
		got = wire.NewDevice{}
		_ = json.NewDecoder(r.Body).Decode(&got)
		_ = json.NewEncoder(w).Encode(wire.Device{Name: got.Name})
	}
	base := []string{"device", "add", "d", "--address", "a:1", "--user", "u"}
	status, out, _ := run(t, h, nil, append(base, "--password-file", secret, "--site", "Quay")...)
	assert.Zero(t, status)
	assert.Contains(t, out, "Next: latch device trust d")
	assert.Equal(t, wire.NewDevice{Name: "d", Address: "a:1", Account: "u", Password: "rope", Site: "Quay"}, got)
	_, _, _ = run(t, h, nil, append(base, "--key-file", secret)...)
	assert.Equal(t, "rope\n", got.PrivateKey)
	for _, bad := range [][]string{
		{"device", "add", "d"}, append(base, "--password-file", "/nowhere"),
		append(base, "--key-file", secret, "--password-file", secret), base,
	} {
		status, _, errOut := run(t, h, nil, bad...)
		assert.Equal(t, WrongUse, status, errOut)
	}
}

func TestDeviceList(t *testing.T) {
	status, out, _ := run(
		t,
		answer(
			200,
			[]wire.Device{
				{
					Name: "d", Site: "Quay", Role: "switch", Address: "a:1", Trusted: true,
					Guard: wire.Guard{Guard: "device"}, Revision: 3, Seen: at,
				},
			},
		),
		nil, "devices",
	)
	assert.Zero(t, status)
	assert.Equal(
		t,
		"DEVICE  SITE  ROLE    ADDRESS  STATE  CONFIG  GUARD   SEEN\nd       Quay  switch  a:1      OK     rev "+
			"3   device  "+when(at)+"\n",
		out,
	)
	_, out, _ = run(t, answer(200, []wire.Device{}), nil, "devices")
	assert.Contains(t, out, "There are no devices yet. Add one: latch device add")
	_, out, _ = run(
		t,
		answer(
			200,
			wire.Device{
				Name: "d", Trusted: true, Trouble: "no answer",
				Guard: wire.Guard{Guard: "none", GuardWhy: "no candidate"}, Unread: []string{"gone: not handed out"},
			},
		),
		nil, "device", "show", "d",
	)
	for _, want := range []string{
		"trouble   no answer", "guard     none: no candidate", "carried unread: gone: not handed out",
		"seen      never",
	} {
		assert.Contains(t, out, want)
	}
	_, out, _ = run(t, answer(200, wire.Config{Outline: "system\n", XML: "<config/>\n"}), nil, "config", "d", "--xml")
	assert.Equal(t, "<config/>\n", out)
}
