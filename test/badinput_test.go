package test

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"oakenlatch/lab"
	"oakenlatch/netconf"
	"oakenlatch/test/sshpeer"
)

// Every wrong input: the exit status and the words that tell the way out.
func TestWrongInput(t *testing.T) {
	t.Parallel()
	s := newStage(t, router)
	n := s.Open("mara")
	for _, c := range []struct {
		args   string
		status int
		want   []string
	}{
		{"put 99 " + router + " " + mtu + " 9000", 2, []string{"there is no change 99", "latch changes"}},
		{"put x " + router + " " + mtu + " 9000", 2, []string{`"x" is not a change number`}},
		{"put N nowhere " + mtu + " 9000", 2, []string{`no device "nowhere"`, "latch devices"}},
		{
			"put N " + router + " /interfaces/interfase=port1/mtu 9", 2,
			[]string{router, "/interfaces/interfase=port1/mtu", "there is interface"},
		},
		{"put N " + router + " interfaces 9", 2, []string{"starts with /"}},
		{"put N " + router + " " + mtu + " 9x", 2, []string{mtu, `"9x" is not a whole number`}},
		{"put N " + router + " " + mtu + " 67", 2, []string{"out of range, allowed is 68 to 65535"}},
		{"put N " + router + " " + mtu, 2, []string{"needs a value (uint16)"}},
		{"put N " + router + " /interfaces/interface=port1 x", 2, []string{"takes no value"}},
		{"put N " + router + " /interfaces/interface=port1/name p", 2, []string{"is the key of its entry"}},
		{"put N " + router + " /interfaces/interface=port1/oper-status up", 2, []string{"is state"}},
		{"put N " + router + " /interfaces/interface/enabled true", 2, []string{"interface=NAME"}},
		{
			"put N " + router + " /interfaces/interface=port1/type wire", 2,
			[]string{"not one of iana-if-type:ethernetCsmacd"},
		},
		{
			"delete N " + router + " /interfaces/interface=port9", 2,
			[]string{"/interfaces/interface=port9", "is not there", "latch config " + router + " /interfaces"},
		},
		{"delete N " + router + " /", 2, []string{"name what is meant"}},
		{"unstage N 77", 2, []string{"has no edit 77"}}, {"preview N", 1, []string{"The change is empty"}},
		{"commit N", 2, []string{"is empty", "latch put"}},
		{"confirm N", 3, []string{"has not been committed", "latch commit"}},
		{"watch N", 3, []string{"has not been committed"}},
		{"config " + router + " --from rev:99", 2, []string{"has no revision 99"}},
		{
			"config " + router + " --from yesterday", 2,
			[]string{"running, startup, candidate, rev:N, startup:N, at:TIME, snapshot:NAME"},
		},
		{"config " + router + " /system/nothing", 2, []string{"nothing is not under system"}},
		{"config " + router + " /system/ntp/server=none", 2, []string{"there is nothing at"}},
		{
			"device add x --address nowhere --user u --password-file FILE", 3,
			[]string{"may not administer on all devices"},
		},
		{"audit --limit 0", 2, []string{"from 1 to 1000"}}, {"open", 2, []string{"latch open takes: TITLE"}},
		{"opne x", 2, []string{`no command "opne"`}},
		{"devices --colour", 2, []string{"flag provided but not defined", "latch devices --help"}},
		{"--server nonsense devices", 2, []string{"is no address"}},
		{"--server http://127.0.0.1:9 devices", 4, []string{"cannot be reached", "check that it runs"}},
	} {
		args := strings.Split(strings.ReplaceAll(strings.ReplaceAll(c.args, "N", n), "FILE", s.File("pw-x", "x")), " ")
		if strings.Contains(c.args, "NAME") {
			continue
		}
		out, status := s.Latch("mara", args...)
		assert.Equal(t, c.status, status, "latch %v\n%s", args, out)
		for _, w := range c.want {
			assert.Contains(t, out, w, "latch %v", args)
		}
	}
	assert.Contains(t, s.Do("mara", 1, "preview", n), "The change is empty", "nothing was half done")
	out, status := s.Latch("mara", "login", "--user", "mara", "--password-file", s.File("pw-wrong", "not it"))
	assert.Equal(t, 3, status)
	assert.Contains(t, out, "wrong account or password")
	out, status = s.Latch("admin", "audit", "--limit", "3")
	assert.Zero(t, status)
	assert.Contains(t, out, "login.denied")
}

// What only the device knows is its own error, kept whole, with the path.
func TestDeviceRefusesEdit(t *testing.T) {
	t.Parallel()
	s := newStage(t, router)
	n := s.Open("mara", router+" "+mtu+" 100")
	out := s.Do("mara", 3, "commit", n)
	for _, want := range []string{
		"failed: " + router, "finds the result invalid",
		"this controller does no frames below 576 octets, asked for 100", "/interfaces/interface=port1/ipv4/mtu",
		"Nothing of it is on any device",
	} {
		assert.Contains(t, out, want)
	}
	// The candidate was left clean: the next commit goes through.
	s.Do("mara", 0, "put", n, router, mtu, "1400")
	s.Do("mara", 0, "commit", n, "--hold", "1m")
	s.Do("mara", 0, "confirm", n)
}

func TestHoldLimits(t *testing.T) {
	t.Parallel()
	s := newStage(t, router)
	n := s.Open("mara", router+" "+mtu+" 9000")
	for _, hold := range []string{"1s", "-5m", "1000h", "200000000h"} {
		out, status := s.Latch("mara", "commit", n, "--hold", hold)
		assert.Equal(t, 2, status, out)
	}
	assert.Contains(t, s.Do("mara", 0, "show", n), "draft")
}

func TestDeviceTroubles(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	pw := s.File("pw-lab", lab.Password)
	add := func(name, address, password string) {
		s.Do("admin", 0, "device", "add", name, "--address", address, "--user", lab.User, "--password-file", password)
	}
	// Nobody there.
	add("gone", "127.0.0.1:9", pw)
	out := s.Do("admin", 4, "device", "trust", "gone", "--yes")
	assert.Contains(t, out, "gone (127.0.0.1:9): cannot be reached")
	// Not trusted yet.
	d := s.StartLab(router)
	add(router, d.Address, pw)
	out = s.Do("admin", 3, "config", router)
	assert.Contains(t, out, "has not been accepted yet")
	assert.Contains(t, out, "latch device trust "+router)
	assert.Contains(t, s.Do("admin", 3, "device", "trust", router, "--fingerprint", "SHA256:other"),
		"nothing was stored")
	assert.Contains(t, s.Do("admin", 3, "device", "trust", router), "was not accepted")
	s.Do("admin", 0, "device", "trust", router, "--fingerprint", ssh.FingerprintSHA256(d.HostKey))
	// A wrong password on the device.
	add("wrong-login", d.Address, s.File("pw-bad", "bad"))
	out = s.Do("admin", 3, "device", "trust", "wrong-login", "--yes")
	assert.Contains(t, out, "does not accept account "+lab.User)
	// A changed host key: nothing is sent.
	d.Stop()
	sites, err := lab.Tidewell("")
	require.NoError(t, err)
	spec := sites[0].Spec
	spec.Listen, spec.Management.Others = d.Address, nil
	other, err := lab.Start(spec)
	require.NoError(t, err)
	t.Cleanup(other.Stop)
	out = s.Do("admin", 3, "config", router)
	assert.Contains(t, out, "is not the one that was accepted")
	assert.Contains(t, out, ssh.FingerprintSHA256(d.HostKey))
	assert.Contains(t, out, ssh.FingerprintSHA256(other.HostKey))
	assert.Contains(t, s.Do("admin", 0, "device", "trust", router, "--yes"), "NOT the one accepted before")
	s.Do("admin", 0, "config", router)
	assert.Contains(
		t, s.Do("admin", 3, "device", "add", router, "--address", d.Address, "--user", "u", "--password-file", pw),
		"exists already",
	)
}

// Devices that speak nonsense: a clear error each time, and the service lives.
func TestMalformedDevices(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	hello := `<hello xmlns="` + netconf.BaseNS + `"><capabilities><capability>` + netconf.CapBase10 +
		`</capability></capabilities><session-id>1</session-id></hello>]]>]]>`
	for name, c := range map[string]struct{ says, want string }{
		"silent": {"", "sent no hello"}, "babble": {"Welcome to the harbour!]]>]]>", "hello"},
		"no-session": {strings.Replace(hello, "<session-id>1</session-id>", "", 1), "no session-id"},
		"no-base":    {strings.Replace(hello, netconf.CapBase10, "urn:other", 1), "neither base:1.0 nor base:1.1"},
		"broken-xml": {
			hello + "<rpc-reply message-id=\"1\" xmlns=\"" + netconf.BaseNS + "\"><data></rpc-reply>]]>]]>", "not XML",
		},
		"hangs-up": {hello + "\x00", "the device closed it"},
		"bad-framing": {
			strings.Replace(hello, "base:1.0</", "base:1.1</", 1) + "\n#nonsense\n", "broken message framing",
		},
	} {
		t.Run(name, func(t *testing.T) {
			address := nonsense(t, c.says)
			s.Do(
				"admin", 0, "device", "add", name, "--address", address, "--user", "u", "--password-file",
				s.File("pw-n", "password"),
			)
			out, status := s.Latch("admin", "device", "trust", name, "--yes")
			assert.Contains(t, []int{3, 4}, status, out)
			assert.Contains(t, out, name+" ("+address+")")
			assert.Contains(t, out, c.want)
		})
	}
	s.Do("admin", 0, "devices")
}

// nonsense is an SSH server whose netconf subsystem says one thing. A closing
// NUL hangs up after the first rpc.
func nonsense(t *testing.T, says string) string {
	t.Helper()
	cfg := &ssh.ServerConfig{NoClientAuth: true}
	cfg.PasswordCallback = func(ssh.ConnMetadata, []byte) (*ssh.Permissions, error) { return nil, nil }
	address, _ := sshpeer.Listen(t, cfg, func(conn net.Conn, cfg *ssh.ServerConfig) {
		_, chans, reqs, err := ssh.NewServerConn(conn, cfg)
		if err != nil {
			return
		}
		go ssh.DiscardRequests(reqs)
		for nc := range chans {
			ch, requests, err := nc.Accept()
			if err != nil {
				return
			}
			go speakOnce(ch, requests, says)
		}
	})
	return address
}

// speakOnce says its piece, waits for a hello and an rpc, and then hangs up
// where it was told to or has nothing to say.
func speakOnce(ch ssh.Channel, requests <-chan *ssh.Request, says string) {
	for r := range requests {
		_ = r.Reply(true, nil)
		text, hangUp := strings.CutSuffix(says, "\x00")
		_, _ = io.WriteString(ch, text)
		buf := make([]byte, 1)
		for rpcs := 0; rpcs < 2; {
			if _, err := ch.Read(buf); err != nil {
				return
			}
			if buf[0] == ']' {
				rpcs++
			}
		}
		if hangUp || says == "" {
			_ = ch.Close()
		}
	}
}

func TestBadRequests(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	big := bytes.Repeat([]byte("x"), 50<<20)
	for _, c := range []struct {
		method, path, contentType, body string
		status                          int
		kind, detail                    string
	}{
		{
			"POST", "/api/v1/changes", "application/json", `{"title":"` + string(big) + `"}`,
			http.StatusRequestEntityTooLarge, "too-large", "larger than 4 MiB",
		},
		{
			"POST", "/api/v1/changes", "application/json", `{"title":`, http.StatusUnprocessableEntity, "invalid",
			"cannot be read",
		},
		{
			"POST", "/api/v1/changes", "application/json", `{"titel":"x"}`, http.StatusUnprocessableEntity, "invalid",
			`unknown field "titel"`,
		},
		{
			"POST", "/api/v1/changes", "application/json", `{"title":"x"} {}`, http.StatusUnprocessableEntity,
			"invalid", "more than one",
		},
		{
			"POST", "/api/v1/changes", "text/plain", `{"title":"x"}`, http.StatusUnprocessableEntity, "invalid",
			"text/plain",
		},
		{
			"POST", "/api/v1/changes", "application/json", `{"title":"  "}`, http.StatusUnprocessableEntity, "invalid",
			"needs a title",
		},
		{"GET", "/api/v1/changes/0", "", "", http.StatusUnprocessableEntity, "invalid", "not a change number"},
		{"GET", "/api/v1/changes/12", "", "", http.StatusNotFound, "not-found", "no change 12"},
		{"GET", "/api/v1/nothing", "", "", http.StatusNotFound, "not-found", "there is no GET /api/v1/nothing"},
		{"GET", "/api/v1/devices/none/config", "", "", http.StatusNotFound, "not-found", `no device "none"`},
		{
			"POST", "/api/v1/accounts", "application/json", `{"name":"x","password":"short","may":["read"]}`,
			http.StatusUnprocessableEntity, "invalid", "at least 12 characters",
		},
		{
			"POST", "/api/v1/accounts", "application/json", `{"name":"x","password":"long enough","may":["king"]}`,
			http.StatusUnprocessableEntity, "invalid", "is not a role",
		},
	} {
		status, p := s.Request(c.method, c.path, c.contentType, strings.NewReader(c.body))
		name := fmt.Sprintf("%s %s %.40s", c.method, c.path, c.body)
		assert.Equal(t, c.status, status, name)
		assert.Equal(t, "urn:oaken-latch:problem:"+c.kind, p.Type, name)
		assert.Contains(t, p.Detail, c.detail, name)
		assert.Equal(t, status, p.Status, name)
	}
	res, err := http.Get(s.URL + "/api/v1/devices")
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	assert.Equal(t, http.StatusUnauthorized, res.StatusCode)
	assert.Equal(t, "application/problem+json", res.Header.Get("Content-Type"))
}
