// Package stage has the built binaries run on loopback, driven through the client, against the lab's
// devices: what whole-system tests stand on.
package stage

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

	"oakenlatch/client"
	"oakenlatch/core/lifecycle"
	"oakenlatch/lab"
	"oakenlatch/test/pace"
	"oakenlatch/test/port"
	"oakenlatch/wire"
)

// Bin is the folder of the binaries under test; Main sets it.
var Bin string

// Main builds the binaries, tells where they are, and runs a package's tests with them.
func Main(m *testing.M, bin *string) int {
	flag.Parse()
	if testing.Short() {
		return m.Run() // those that need them are left out
	}
	dir, err := os.MkdirTemp("", "oaken-latch-bin-")
	if err == nil {
		err = build(dir)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "the binaries cannot be built:", err)
		return 1
	}
	Bin, *bin = dir, dir
	_ = flag.Set("test.parallel", "4") // most of what they do is waiting
	code := m.Run()
	_ = os.RemoveAll(dir)
	return code
}

// build makes the service with the race detector in it: a race in it ends it
// with a report, and the test that drove it fails.
func build(dir string) error {
	for _, args := range [][]string{
		{
			"build", "-race", "-gcflags=modernc.org/...=-d=checkptr=0", "-o", dir + "/oaken-latchd",
			"oakenlatch/cmd/oaken-latchd",
		},
		{"build", "-o", dir + "/latch", "oakenlatch/cmd/latch"},
	} {
		if out, err := exec.Command("go", args...).CombinedOutput(); err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
	}
	return nil
}

// Stage is a service in a process of its own with devices beside it.
type Stage struct {
	T       *testing.T
	Dir     string
	Data    string // folder of the records
	URL     string
	Devices map[string]*lab.Device

	Daemon   *exec.Cmd
	Listen   string
	StartOld bool // the records are there, and have no mark yet
	mu       sync.Mutex
	log      bytes.Buffer
}

// The passwords of the people of a stage.
const (
	AdminPassword = "the harbour master"
	MaraPassword  = "mara's own password"
	jossPassword  = "joss's own password"
)

// New starts a service with the named devices of Tidewell Ferries added
// and trusted, and the operators mara and joss.
func New(t *testing.T, devices ...string) *Stage {
	t.Helper()
	return NewIn(t, t.TempDir(), devices...)
}

// NewIn is New with its files in a folder.
func NewIn(t *testing.T, dir string, devices ...string) *Stage {
	t.Helper()
	return NewAt(t, dir, filepath.Join(dir, "data"), devices...)
}

// NewAt is NewIn with the records in another folder.
func NewAt(t *testing.T, dir, data string, devices ...string) *Stage {
	t.Helper()
	pace.Long(t)
	s := &Stage{T: t, Dir: dir, Data: data, Devices: map[string]*lab.Device{}, Listen: port.Address(t)}
	for who, password := range map[string]string{"admin": AdminPassword, "mara": MaraPassword, "joss": jossPassword} {
		s.File("pw-"+who, password)
	}
	known := prepare(t, data)
	s.Start()
	t.Cleanup(func() {
		s.Kill()
		if t.Failed() {
			t.Logf("the service's log:\n%s", s.Logged())
		}
	})
	if !known {
		s.addPeople()
	}
	for _, name := range devices {
		s.AddLab(name)
	}
	return s
}

func (s *Stage) File(name, content string) string {
	path := filepath.Join(s.Dir, name)
	require.NoError(s.T, os.WriteFile(path, []byte(content+"\n"), 0o600))
	return path
}

// Start runs the service and waits until it listens.
func (s *Stage) Start(more ...string) {
	s.T.Helper()
	if _, err := os.Stat(filepath.Join(s.Data, "oaken-latch.folder")); os.IsNotExist(err) && !s.StartOld {
		Begin(s.T, s.Data, s.File("pw-admin", AdminPassword))
	}
	s.Daemon = exec.Command(
		filepath.Join(Bin, "oaken-latchd"),
		append(
			[]string{"serve", "--plain", "--data", s.Data, "--listen", s.Listen, "--archive-folder", os.TempDir()},
			more...,
		)...,
	)
	s.Daemon.Env = append(os.Environ(), "GORACE=halt_on_error=1")
	out, err := s.Daemon.StdoutPipe()
	require.NoError(s.T, err)
	s.Daemon.Stderr = (*logWriter)(s)
	require.NoError(s.T, s.Daemon.Start())
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if _, url, ok := strings.Cut(lines.Text(), "listens on "); ok {
			s.URL = url
			s.Listen = strings.TrimPrefix(url, "http://") // a restart keeps the address
			go func() { _, _ = io.Copy(io.Discard, out) }()
			return
		}
	}
	s.T.Fatalf("the service did not start:\n%s", s.Logged())
}

// Begin makes the records of a new service.
func Begin(t *testing.T, data, passwordFile string) {
	t.Helper()
	out, err := exec.Command(
		filepath.Join(Bin, "oaken-latchd"), "init", "--data", data, "--admin-password-file", passwordFile,
	).CombinedOutput()
	require.NoError(t, err, "%s", out)
}

type logWriter Stage

func (w *logWriter) Write(p []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.log.Write(p)
}

func (s *Stage) Logged() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.log.String()
}

// Kill ends the service with SIGKILL.
func (s *Stage) Kill() {
	_ = s.Daemon.Process.Kill()
	_ = s.Daemon.Wait()
	assert.NotContains(s.T, s.Logged(), "DATA RACE")
}

// Stop ends the service in good form.
func (s *Stage) Stop() {
	require.NoError(s.T, s.Daemon.Process.Signal(syscall.SIGTERM))
	require.NoError(s.T, s.Daemon.Wait())
}

func (s *Stage) StartLab(name string) *lab.Device { return s.StartLabOf(name, "") }

// StartLabOf starts a device of a kind, "" for its own.
func (s *Stage) StartLabOf(name string, kind lab.Kind) *lab.Device {
	s.T.Helper()
	sites, err := lab.Tidewell("")
	require.NoError(s.T, err)
	for _, site := range sites {
		if site.Spec.Name == name {
			site.Spec.Listen = "127.0.0.1:0"
			if kind != "" {
				site.Spec.Kind = kind
			}
			d, err := lab.Start(site.Spec)
			require.NoError(s.T, err)
			s.T.Cleanup(d.Stop)
			s.Devices[name] = d
			return d
		}
	}
	s.T.Fatalf("no device %s in the lab", name)
	return nil
}

func (s *Stage) AddLab(name string) { s.AddLabOf(name, "") }

func (s *Stage) AddLabOf(name string, kind lab.Kind) {
	d := s.StartLabOf(name, kind)
	s.Do(
		"admin", 0, "device", "add", name, "--address", d.Address, "--user", lab.User, "--password-file",
		s.File("pw-lab", lab.Password),
	)
	s.Do("admin", 0, "device", "trust", name, "--yes")
}

// Latch runs the client as someone and gives what it printed and its status.
func (s *Stage) Latch(who string, args ...string) (out string, status int) {
	s.T.Helper()
	home := filepath.Join(s.Dir, "home-"+who)
	run := func(args ...string) (string, int) {
		cmd := exec.Command(filepath.Join(Bin, "latch"), args...)
		cmd.Env = append(os.Environ(), "HOME="+home, "XDG_CONFIG_HOME="+home, "OAKEN_LATCH_SERVER="+s.URL, "TZ=UTC")
		b, err := cmd.CombinedOutput()
		var exit *exec.ExitError
		if err != nil && !errors.As(err, &exit) {
			require.NoError(s.T, err)
		}
		return string(b), cmd.ProcessState.ExitCode()
	}
	if _, err := os.Stat(home); err != nil && args[0] != "login" {
		password := map[string]string{"admin": "pw-admin", "mara": "pw-mara", "joss": "pw-joss"}[who]
		out, status := run("login", "--user", who, "--password-file", filepath.Join(s.Dir, password))
		require.Zero(s.T, status, out)
	}
	return run(args...)
}

// Do runs the client and expects a status.
func (s *Stage) Do(who string, status int, args ...string) string {
	s.T.Helper()
	out, got := s.Latch(who, args...)
	require.Equal(s.T, status, got, "latch %s\n%s", strings.Join(args, " "), out)
	return out
}

// Change gives a Change as the API has it.
func (s *Stage) Change(number string) wire.Change {
	s.T.Helper()
	out := s.Do("admin", 0, "show", number, "--json")
	var c wire.Change
	require.NoError(s.T, json.Unmarshal([]byte(out), &c))
	return c
}

// Open starts a change with edits, each "DEVICE PATH VALUE", or "DEVICE PATH"
// to delete.
func (s *Stage) Open(who string, edits ...string) string {
	s.T.Helper()
	n := strings.TrimSpace(s.Do(who, 0, "open", "a change of "+who))
	for _, e := range edits {
		f := strings.SplitN(e, " ", 3)
		if len(f) == 2 {
			s.Do(who, 0, "delete", n, f[0], f[1])
		} else {
			s.Do(who, 0, "put", n, f[0], f[1], f[2])
		}
	}
	return n
}

// Value reads a leaf of a lab device's running, by the device itself.
func (s *Stage) Value(device, path string) string {
	s.T.Helper()
	v, err := s.Devices[device].Value(path)
	require.NoError(s.T, err)
	return v
}

// Eventually waits until a change is in a state.
func (s *Stage) Eventually(number string, state lifecycle.State, limit time.Duration) wire.Change {
	s.T.Helper()
	var c wire.Change
	require.Eventually(s.T, func() bool {
		c = s.Change(number)
		return c.State == state
	}, limit, 200*time.Millisecond, "change %s did not become %s", number, state)
	return c
}

// Client signs somebody in over the API, and gives the token, too.
func (s *Stage) Client(account, password string) (*client.Client, string) {
	s.T.Helper()
	c, err := client.New(client.Options{Server: s.URL})
	require.NoError(s.T, err)
	in, err := c.Login(s.T.Context(), wire.Login{Account: account, Password: password})
	require.NoError(s.T, err)
	return c.As(in.Token), in.Token
}

// Request makes a bare API Request as admin.
func (s *Stage) Request(method, path, contentType string, body io.Reader) (int, wire.Problem) {
	s.T.Helper()
	req, err := http.NewRequestWithContext(s.T.Context(), method, s.URL+path, body)
	require.NoError(s.T, err)
	_, token := s.Client("admin", AdminPassword)
	req.Header.Set("Authorization", "Bearer "+token)
	if contentType != "" {
		req.Header.Set("Content-Type", contentType)
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(s.T, err)
	defer func() { _ = res.Body.Close() }()
	var p wire.Problem
	_ = json.NewDecoder(res.Body).Decode(&p)
	return res.StatusCode, p
}

// DaemonAgain tries to start a second service on the same records.
func (s *Stage) DaemonAgain() (out string, status int) {
	cmd := exec.Command(
		filepath.Join(Bin, "oaken-latchd"), "serve", "--plain", "--data", s.Data, "--listen",
		"127.0.0.1:0",
	)
	b, _ := cmd.CombinedOutput()
	return string(b), cmd.ProcessState.ExitCode()
}
