package test

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"oakenlatch/lab"
	"oakenlatch/test/pace"
	set "oakenlatch/test/stage"
	"oakenlatch/wire"
)

// With few files that may be open it says so and takes fewer connections, or does not start;
// a folder that others may read is closed to them.
func TestLimits(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	dir := t.TempDir()
	data := filepath.Join(dir, "data")
	require.NoError(t, os.Mkdir(data, 0o755))
	set.Begin(t, data, func() string {
		f := filepath.Join(dir, "pw")
		require.NoError(t, os.WriteFile(f, []byte(adminPassword), 0o600))
		return f
	}())
	st, err := os.Stat(data)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), st.Mode().Perm())
	require.NoError(t, os.Chmod(filepath.Join(data, "oaken-latch.db"), 0o644))
	try := func(files string) (string, int) {
		cmd := exec.Command(
			"bash", "-c",
			"ulimit -n "+files+"; exec timeout 4 "+filepath.Join(bin, "oaken-latchd")+" serve --plain --data "+data+
				" --listen 127.0.0.1:0",
		)
		out, _ := cmd.CombinedOutput()
		return string(out), cmd.ProcessState.ExitCode()
	}
	out, _ := try("600")
	assert.Contains(t, out, "listens on")
	assert.Contains(t, out, "fits=408")
	out, status := try("100")
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "LimitNOFILE=")
	for _, name := range []string{"oaken-latch.db", "seal.key", "oaken-latch.folder"} {
		st, err := os.Stat(filepath.Join(data, name))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), st.Mode().Perm(), name)
	}
}

// What somebody outside is to see: devices that go and come back in the log, requests by what
// they came to and how long they took, what runs.
func TestSeenFromOutside(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.AddLabOf(router, lab.Full)
	logs := func(text string) func() bool { return func() bool { return strings.Contains(s.Logged(), text) } }
	s.Devices[router].Cut(true)
	go func() { _, _ = s.Latch("mara", "config", router) }()
	require.Eventually(
		t, logs(`level=WARN msg="a device cannot be reached as it should" device=`+router), 90*time.Second,
		200*time.Millisecond,
	)
	s.Devices[router].Cut(false)
	require.Eventually(
		t, logs(`level=INFO msg="a device is OK again" device=`+router), 90*time.Second, 200*time.Millisecond,
	)
	s.Do("mara", 0, "devices")
	_, status := s.Latch("mara", "show", "99")
	assert.Equal(t, 2, status)
	out := s.Do(
		"admin", 0, "token", "add", "collector", "--may", "read", "--until",
		time.Now().AddDate(0, 0, 20).Format("2006-01-02"), "--json",
	)
	var token wire.Token
	require.NoError(t, json.Unmarshal([]byte(out), &token))
	req, err := http.NewRequestWithContext(t.Context(), "GET", s.URL+"/metrics", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+token.Token)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer func() { _ = res.Body.Close() }()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	for _, want := range []string{
		`http_requests_total{method="GET",route="/api/v1/devices",status="200"} 1`,
		`http_requests_total{method="GET",route="/api/v1/changes/:number",status="404"} 1`,
		`http_request_duration_seconds_count{method="GET",route="/api/v1/devices"} 1`,
		`http_request_duration_seconds_bucket{method="GET",route="/api/v1/devices",le="60"} 1`,
		`oaken_latch_build_info{commit="`, `release="` + wire.Release + `"`, `oaken_latch_records_writable 1`,
		`process_open_fds`,
	} {
		assert.Contains(t, string(text), want)
	}
}

// A person's word is carried out, or refused, though their connection breaks right after it
// was sent.
func TestWordOutlivesItsConnection(t *testing.T) {
	t.Parallel()
	s, first := holding(t, "5m")
	_, token := s.Client("mara", maraPassword)
	shout := func(path string, body string) {
		conn, err := net.Dial("tcp", s.Listen)
		require.NoError(t, err)
		_, err = fmt.Fprintf(
			conn,
			"POST /api/v1%s HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer %s\r\nContent-Type: "+
				"application/json\r\nContent-Length: %d\r\n\r\n%s",
			path, token, len(body), body,
		)
		require.NoError(t, err)
		time.Sleep(5 * time.Millisecond) // what was sent is there; nobody waits for an answer
		require.NoError(t, conn.Close())
	}
	shout("/changes/"+first+"/confirm", "{}")
	s.Eventually(first, "confirmed", 90*time.Second)
	second := s.Open("mara", router+" /system/contact Day desk")
	p := s.Do("mara", 0, "preview", second, "--json")
	var doc wire.Preview
	require.NoError(t, json.Unmarshal([]byte(p), &doc))
	shout("/changes/"+second+"/commit", `{"holdSeconds": 300}`)
	require.Eventually(t, func() bool {
		out, status := s.Latch("mara", "show", second, "--json")
		return status == 0 && stateOf(t, out) == "holding"
	}, 90*time.Second, 200*time.Millisecond)
	shout("/changes/"+second+"/revert", "")
	s.Eventually(second, "reverted", 90*time.Second)
}

// No file can be opened any more during a hold, for connections without end have them all; the devices end their
// sessions besides, so that each has to be dialled anew. All revert in time, and what the service says of every device
// is so.
func TestNoFilesLeft(t *testing.T) {
	t.Parallel()
	s, n := everyGuard(t, filepath.Join(t.TempDir(), "data"))
	s.Do("mara", 0, "commit", n, "--hold", "20s")
	time.Sleep(3 * time.Second) // what is kept for this is kept from the second second on
	fds := fmt.Sprintf("/proc/%d/fd", s.Daemon.Process.Pid)
	open, err := os.ReadDir(fds)
	require.NoError(t, err)
	var was unix.Rlimit
	require.NoError(t, unix.Prlimit(s.Daemon.Process.Pid, unix.RLIMIT_NOFILE, nil, &was))
	limit := func(files uint64) {
		require.NoError(
			t, unix.Prlimit(s.Daemon.Process.Pid, unix.RLIMIT_NOFILE, &unix.Rlimit{Cur: files, Max: was.Max}, nil),
		)
	}
	limit(uint64(len(open) + 20))
	for _, d := range s.Devices {
		d.Cut(true)
	}
	time.Sleep(2 * time.Second) // their sessions are over
	var flood []net.Conn
	for range 400 {
		conn, err := net.DialTimeout("tcp", s.Listen, time.Second)
		if err != nil {
			break
		}
		flood = append(flood, conn)
		_, _ = conn.Write([]byte("GET /healthz HTTP/1.1\r\nHost: localhost\r\n\r\n")) // it is kept for another
	}
	require.Greater(t, len(flood), 60)
	for _, d := range s.Devices {
		d.Cut(false)
	}
	for name := range sites {
		require.Eventually(
			t, func() bool { return s.Value(name, "/system/contact") != "Night desk" && !s.Devices[name].Pending() },
			60*time.Second, 200*time.Millisecond, "%s reverts", name,
		)
	}
	assert.Contains(t, s.Logged(), "no more files can be opened")
	assert.NotContains(t, s.Logged(), "socket: too many open files", "those that were kept were enough")
	for _, conn := range flood {
		_ = conn.Close()
	}
	limit(was.Cur)
	require.Eventually(t, func() bool {
		res, err := http.Get(s.URL + "/readyz")
		return err == nil && res.Body.Close() == nil && res.StatusCode == http.StatusOK
	}, 60*time.Second, 200*time.Millisecond, "it lets people in again")
	c := s.Eventually(n, "reverted", 60*time.Second)
	for _, dev := range c.Commit.Devices {
		assert.Equal(t, "reverted", string(dev.Standing), dev.Name)
	}
	assert.Equal(t, "200 ready\n", ready(s))
	assert.NotContains(t, s.Logged(), "panic")
	assert.Contains(t, s.Do("mara", 6, "audit", "verify"), "consistent in itself")
}
