// Package test holds the whole-system tests: the built binaries on loopback,
// driven through client, API and browser, against the lab's devices and against
// netconfd behind OpenSSH.
package test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/lab"
	"oakenlatch/wire"
)

var bin string // folder of the binaries under test

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "oaken-latch-bin-")
	if err == nil {
		err = build(dir)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "the binaries cannot be built:", err)
		os.Exit(1)
	}
	bin = dir
	flag.Parse()
	_ = flag.Set("test.parallel", "4") // most of what they do is waiting
	code := m.Run()
	_ = os.RemoveAll(dir)
	os.Exit(code)
}

// build makes the service with the race detector in it: a race in it ends it
// with a report, and the test that drove it fails.
func build(dir string) error {
	for _, args := range [][]string{
		{"build", "-race", "-o", dir + "/oaken-latchd", "oakenlatch/cmd/oaken-latchd"},
		{"build", "-o", dir + "/latch", "oakenlatch/cmd/latch"},
	} {
		if out, err := exec.Command("go", args...).CombinedOutput(); err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
	}
	return nil
}

// stage is a service in a process of its own with devices beside it.
type stage struct {
	t       *testing.T
	dir     string
	data    string // folder of the records
	url     string
	devices map[string]*lab.Device

	daemon *exec.Cmd
	listen string
	mu     sync.Mutex
	log    bytes.Buffer
}

const (
	adminPassword = "the harbour master"
	maraPassword  = "mara's own password"
)

// newStage starts a service with the named devices of Tidewell Ferries added
// and trusted, and the operators mara and joss.
func newStage(t *testing.T, devices ...string) *stage {
	t.Helper()
	return newStageIn(t, t.TempDir(), devices...)
}

// newStageIn is newStage with its files in a folder.
func newStageIn(t *testing.T, dir string, devices ...string) *stage {
	t.Helper()
	return newStageAt(t, dir, filepath.Join(dir, "data"), devices...)
}

// newStageAt is newStageIn with the records in another folder.
func newStageAt(t *testing.T, dir, data string, devices ...string) *stage {
	t.Helper()
	s := &stage{t: t, dir: dir, data: data, devices: map[string]*lab.Device{}, listen: "127.0.0.1:0"}
	s.start()
	t.Cleanup(func() {
		s.kill()
		if t.Failed() {
			t.Logf("the service's log:\n%s", s.logged())
		}
	})
	s.do("admin", 0, "account", "add", "mara", "--may", "read,stage,commit,approve,audit", "--password-file", s.file("pw-mara", maraPassword))
	s.do("admin", 0, "account", "add", "joss", "--may", "read,stage,commit,approve,audit", "--password-file", s.file("pw-joss", "joss's own password"))
	for _, name := range devices {
		s.addLab(name)
	}
	return s
}

func (s *stage) file(name, content string) string {
	path := filepath.Join(s.dir, name)
	require.NoError(s.t, os.WriteFile(path, []byte(content+"\n"), 0o600))
	return path
}

// start runs the service and waits until it listens.
func (s *stage) start() {
	s.t.Helper()
	s.file("pw-admin", adminPassword)
	s.daemon = exec.Command(filepath.Join(bin, "oaken-latchd"), "serve", "--plain", "--data", s.data,
		"--listen", s.listen, "--admin-password-file", filepath.Join(s.dir, "pw-admin"))
	s.daemon.Env = append(os.Environ(), "GORACE=halt_on_error=1")
	out, err := s.daemon.StdoutPipe()
	require.NoError(s.t, err)
	s.daemon.Stderr = (*logWriter)(s)
	require.NoError(s.t, s.daemon.Start())
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if _, url, ok := strings.Cut(lines.Text(), "listens on "); ok {
			s.url = url
			s.listen = strings.TrimPrefix(url, "http://") // a restart keeps the address
			go func() { _, _ = io.Copy(io.Discard, out) }()
			return
		}
	}
	s.t.Fatalf("the service did not start:\n%s", s.logged())
}

type logWriter stage

func (w *logWriter) Write(p []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.log.Write(p)
}

func (s *stage) logged() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.log.String()
}

// kill ends the service with SIGKILL.
func (s *stage) kill() {
	_ = s.daemon.Process.Kill()
	_ = s.daemon.Wait()
	assert.NotContains(s.t, s.logged(), "DATA RACE")
}

// stop ends the service in good form.
func (s *stage) stop() {
	require.NoError(s.t, s.daemon.Process.Signal(syscall.SIGTERM))
	require.NoError(s.t, s.daemon.Wait())
}

func (s *stage) startLab(name string) *lab.Device { return s.startLabOf(name, "") }

// startLabOf starts a device of a kind, "" for its own.
func (s *stage) startLabOf(name string, kind lab.Kind) *lab.Device {
	s.t.Helper()
	sites, err := lab.Tidewell("")
	require.NoError(s.t, err)
	for _, site := range sites {
		if site.Spec.Name == name {
			site.Spec.Listen = "127.0.0.1:0"
			if kind != "" {
				site.Spec.Kind = kind
			}
			d, err := lab.Start(site.Spec)
			require.NoError(s.t, err)
			s.t.Cleanup(d.Stop)
			s.devices[name] = d
			return d
		}
	}
	s.t.Fatalf("no device %s in the lab", name)
	return nil
}

func (s *stage) addLab(name string) { s.addLabOf(name, "") }

func (s *stage) addLabOf(name string, kind lab.Kind) {
	d := s.startLabOf(name, kind)
	s.do("admin", 0, "device", "add", name, "--address", d.Address, "--user", lab.User, "--password-file", s.file("pw-lab", lab.Password))
	s.do("admin", 0, "device", "trust", name, "--yes")
}

// latch runs the client as someone and gives what it printed and its status.
func (s *stage) latch(who string, args ...string) (out string, status int) {
	s.t.Helper()
	home := filepath.Join(s.dir, "home-"+who)
	run := func(args ...string) (string, int) {
		cmd := exec.Command(filepath.Join(bin, "latch"), args...)
		cmd.Env = append(os.Environ(), "HOME="+home, "XDG_CONFIG_HOME="+home, "OAKEN_LATCH_SERVER="+s.url, "TZ=UTC")
		b, err := cmd.CombinedOutput()
		var exit *exec.ExitError
		if err != nil && !errors.As(err, &exit) {
			require.NoError(s.t, err)
		}
		return string(b), cmd.ProcessState.ExitCode()
	}
	if _, err := os.Stat(home); err != nil && args[0] != "login" {
		password := map[string]string{"admin": "pw-admin", "mara": "pw-mara", "joss": "pw-joss"}[who]
		out, status := run("login", "--user", who, "--password-file", filepath.Join(s.dir, password))
		require.Zero(s.t, status, out)
	}
	return run(args...)
}

// do runs the client and expects a status.
func (s *stage) do(who string, status int, args ...string) string {
	s.t.Helper()
	out, got := s.latch(who, args...)
	require.Equal(s.t, status, got, "latch %s\n%s", strings.Join(args, " "), out)
	return out
}

// change gives a change as the API has it.
func (s *stage) change(number string) wire.Change {
	s.t.Helper()
	out := s.do("admin", 0, "show", number, "--json")
	var c wire.Change
	require.NoError(s.t, json.Unmarshal([]byte(out), &c))
	return c
}

// open starts a change with edits, each "DEVICE PATH VALUE", or "DEVICE PATH"
// to delete.
func (s *stage) open(who string, edits ...string) string {
	s.t.Helper()
	n := strings.TrimSpace(s.do(who, 0, "open", "a change of "+who))
	for _, e := range edits {
		f := strings.SplitN(e, " ", 3)
		if len(f) == 2 {
			s.do(who, 0, "delete", n, f[0], f[1])
		} else {
			s.do(who, 0, "put", n, f[0], f[1], f[2])
		}
	}
	return n
}

// value reads a leaf of a lab device's running, by the device itself.
func (s *stage) value(device, path string) string {
	s.t.Helper()
	v, err := s.devices[device].Value(path)
	require.NoError(s.t, err)
	return v
}

// eventually waits until a change is in a state.
func (s *stage) eventually(number, state string, limit time.Duration) wire.Change {
	s.t.Helper()
	var c wire.Change
	require.Eventually(s.t, func() bool {
		c = s.change(number)
		return c.State == state
	}, limit, 200*time.Millisecond, "change %s did not become %s", number, state)
	return c
}

// request makes a bare API request as admin.
func (s *stage) request(method, path, contentType string, body io.Reader) (int, wire.Problem) {
	s.t.Helper()
	req, err := http.NewRequestWithContext(s.t.Context(), method, s.url+path, body)
	require.NoError(s.t, err)
	var login wire.Session
	text, _ := json.Marshal(wire.Login{Account: "admin", Password: adminPassword})
	res, err := http.Post(s.url+"/api/v1/login", "application/json", bytes.NewReader(text))
	require.NoError(s.t, err)
	require.NoError(s.t, json.NewDecoder(res.Body).Decode(&login))
	require.NoError(s.t, res.Body.Close())
	req.Header.Set("Authorization", "Bearer "+login.Token)
	if contentType != "" {
		req.Header.Set("Content-Type", contentType)
	}
	res, err = http.DefaultClient.Do(req)
	require.NoError(s.t, err)
	defer func() { _ = res.Body.Close() }()
	var p wire.Problem
	_ = json.NewDecoder(res.Body).Decode(&p)
	return res.StatusCode, p
}

// daemonAgain tries to start a second service on the same records.
func (s *stage) daemonAgain() (out string, status int) {
	cmd := exec.Command(filepath.Join(bin, "oaken-latchd"), "serve", "--plain", "--data", filepath.Join(s.dir, "data"), "--listen", "127.0.0.1:0")
	b, _ := cmd.CombinedOutput()
	return string(b), cmd.ProcessState.ExitCode()
}

// stateOf reads a change's state from what latch show --json printed.
func stateOf(t *testing.T, out string) string {
	t.Helper()
	var c wire.Change
	require.NoError(t, json.Unmarshal([]byte(out), &c))
	return c.State
}
