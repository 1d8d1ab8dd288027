package test

import (
	"bufio"
	"crypto/ed25519"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/ledger"
	"oakenlatch/test/browser"
	"oakenlatch/test/pace"
	"oakenlatch/wire"
)

// Two persons, through the client and the console: a change waits for somebody who
// did not work on it, who agrees to what they see.
func TestAgreementInTheConsole(t *testing.T) {
	t.Parallel()
	s := newStage(t, "saltern-quay")
	s.Do("admin", 0, "device", "set", "saltern-quay", "--tags", "edge", "--site", "Saltern")
	assert.Contains(
		t, s.Do("admin", 0, "rule", "add", "--on", "tag=edge", "--emergency"),
		"Rule 1: a change of tag=edge needs 1 person",
	)
	n := s.Open("mara", "saltern-quay /system/contact Mara")
	assert.Contains(t, s.Do("mara", 1, "preview", n), "it needs 1 person who did not work on it; 1 is missing")
	out, status := s.Latch("mara", "commit", n, "--hold", "1m")
	assert.NotZero(t, status)
	assert.Contains(t, out, "needs the approval of 1 who did not work on it")
	s.Do("mara", 0, "ask", n, "The ferry sails at six.")

	ctx := chromium(t, func(text string) { t.Error("the page complains: " + text) })
	do := func(what string, steps ...browser.Step) {
		t.Helper()
		require.NoError(t, browser.Do(ctx, what, steps...))
	}
	shows := func(text string) browser.Step { return chromedp.WaitVisible(browser.Text("*", text)) }
	require.NoError(t, browser.SignIn(ctx, s.URL, "/", "joss", "joss's own password"))
	do(
		"what waits for joss", shows("To be approved (1)"), chromedp.Navigate(s.URL+"/changes/"+n),
		chromedp.Click(browser.Button("To the approval")),
		shows("The ferry sails at six."), shows("It needs 1 who did not work on it"),
	)
	do(
		"agree", chromedp.Click(browser.Button("Approve what is shown")),
		chromedp.WaitVisible(chromedp.Search(`//div[contains(@class,"popover")]//button[normalize-space(.)="Approve"]`)),
		chromedp.Click(chromedp.Search(`//div[contains(@class,"popover")]//button[normalize-space(.)="Approve"]`)),
		shows("It has the approvals it needs."),
	)
	do(
		"who may do what", chromedp.Navigate(s.URL+"/access"), shows("What needs approval by others"),
		shows("this one"),
	)
	s.Do("mara", 0, "commit", n, "--hold", "1m")
	s.Do("mara", 0, "confirm", n)
	s.Eventually(n, "confirmed", 90*time.Second)

	n = s.Open("mara", "saltern-quay /system/contact Night")
	s.Do("mara", 0, "commit", n, "--hold", "1m", "--emergency", "nobody else is awake")
	s.Do("mara", 0, "confirm", n)
	do(
		"it stands out", chromedp.Navigate(s.URL+"/"), shows("nobody else is awake"),
		browser.Type("what you found of emergency 1", "It was right."),
		chromedp.Click(browser.Button("I looked at it")),
		chromedp.WaitNotPresent(browser.Text("*", "nobody else is awake")),
	)
	assert.Contains(t, s.Do("mara", 0, "emergency", "list", "--all"), "looked at by joss")
}

// plainKey puts a key that signs the record into a data folder as an earlier release
// left it, and gives how checkpoints name it.
func plainKey(t *testing.T, data string) (file, name string) {
	public, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	body, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	file = filepath.Join(data, "ledger.key")
	require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: body}), 0o600))
	return file, ledger.KeyText(public)
}

// The service as it is run: with TLS, its settings from file and environment, looked
// at by the doctor, its key rotated, and with what is missing said.
func TestServiceAsItIsRun(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	dir := t.TempDir()
	data, home := filepath.Join(dir, "data"), filepath.Join(dir, "home")
	settings := filepath.Join(dir, "settings")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "pw"), []byte(adminPassword+"\n"), 0o600))
	require.NoError(
		t,
		os.WriteFile(
			settings,
			[]byte(
				"# how it runs\ndata "+data+"\nlisten 127.0.0.1:0\nadmin-password-file "+filepath.Join(dir, "pw")+
					"\nlog-format json\n",
			),
			0o600,
		),
	)
	run := func(program string, env []string, args ...string) (string, int) {
		cmd := exec.Command(filepath.Join(bin, program), args...)
		cmd.Env = append(append(os.Environ(), "HOME="+home, "XDG_CONFIG_HOME="+home, "TZ=UTC"), env...)
		out, _ := cmd.CombinedOutput()
		return string(out), cmd.ProcessState.ExitCode()
	}
	out, status := run(
		"oaken-latchd", []string{"OAKEN_LATCHD_SESSION_IDLE=30m"}, "config", "--config", settings, "--session-life",
		"8h",
	)
	assert.Zero(t, status, out)
	for _, want := range []string{
		"session-idle         30m0s                          environment",
		"session-life         8h0m0s                         flag",
		"log-format           json                           file",
		"plain                false                          as it is",
	} {
		assert.Contains(t, out, want)
	}
	for what, want := range map[string]string{
		"--listen 0.0.0.0:8640 --plain": "in the clear", "--tls-cert x": "go together",
		"--session-idle 1s": "--session-idle", "--oidc-issuer https://id.example": "--oidc-client",
		"--log-level loud": "--log-level",
	} {
		out, status = run(
			"oaken-latchd", nil, append([]string{"serve", "--config", settings}, strings.Fields(what)...)...,
		)
		assert.Equal(t, 2, status, "%s: %s", what, out)
		assert.Contains(t, out, want)
	}
	out, status = run("oaken-latchd", []string{"OAKEN_LATCHD_CONNECTIONS=many"}, "config", "--config", settings)
	assert.Equal(t, 2, status, out)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "odd"), []byte("moon full\n"), 0o600))
	out, status = run("oaken-latchd", nil, "config", "--config", filepath.Join(dir, "odd"))
	assert.Equal(t, 2, status)
	assert.Contains(t, out, "moon")

	start := func() (daemon *exec.Cmd, url, pin string) {
		daemon = exec.Command(filepath.Join(bin, "oaken-latchd"), "serve", "--config", settings)
		pipe, err := daemon.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, daemon.Start())
		lines := bufio.NewScanner(pipe)
		for lines.Scan() {
			if _, key, ok := strings.Cut(lines.Text(), "its key: "); ok {
				pin = key
			}
			if _, at, ok := strings.Cut(lines.Text(), "listens on "); ok {
				return daemon, at, pin
			}
		}
		require.Fail(t, "it did not start")
		return nil, "", ""
	}
	require.NoError(t, os.Mkdir(data, 0o700))
	plain, signs := plainKey(t, data)
	out, status = run("oaken-latchd", nil, "serve", "--config", settings)
	assert.Equal(t, 1, status, "a first start is asked for")
	assert.Contains(t, out, "oaken-latchd init --data")
	out, status = run("oaken-latchd", nil, "init", "--config", settings)
	assert.Zero(t, status, out)
	daemon, url, pin := start()
	t.Cleanup(func() { _ = daemon.Process.Kill() })
	assert.True(t, strings.HasPrefix(url, "https://127.0.0.1:"), url)
	login := []string{"--server", url, "login", "--user", "admin", "--password-file", filepath.Join(dir, "pw")}
	out, status = run("latch", nil, login...)
	assert.Equal(t, 3, status)
	assert.Contains(t, out, "shows a key that nobody vouches for: "+pin)
	out, status = run("latch", nil, append(login, "--pin", pin)...)
	assert.Zero(t, status, out)
	out, status = run("latch", nil, "account", "list")
	assert.Zero(t, status, out)
	assert.NoFileExists(t, plain, "what signs the record is sealed")
	out, status = run("latch", nil, "audit", "key")
	assert.Zero(t, status, out)
	assert.True(t, ledger.SameKey(strings.TrimSpace(out), signs), "and is what it was: %s", out)
	out, status = run("oaken-latchd", nil, "doctor", "--config", settings)
	assert.Zero(t, status, out)
	for _, want := range []string{
		"good   records", "look   ledger", "entries, consistent in themselves", "good   sealed secrets",
		"good   certificate", "runs with these records", "good   listening", "look   accounts",
	} {
		assert.Contains(t, out, want)
	}
	out, status = run("oaken-latchd", nil, "rotate-key", "--config", settings)
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "in use by another")
	require.NoError(t, daemon.Process.Signal(syscall.SIGTERM))
	require.NoError(t, daemon.Wait())
	out, status = run("oaken-latchd", nil, "rotate-key", "--config", settings)
	assert.Zero(t, status, out)
	assert.Contains(t, out, "holds a new key")

	key := filepath.Join(data, "seal.key")
	require.NoError(t, os.Rename(key, key+".away"))
	out, status = run("oaken-latchd", nil, "serve", "--config", settings)
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "put it back")
	out, status = run("oaken-latchd", nil, "doctor", "--config", settings)
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "wrong  sealed secrets")
	require.NoError(t, os.Rename(key+".away", key))
	require.NoError(t, os.Chmod(key, 0o644))
	out, status = run("oaken-latchd", nil, "doctor", "--config", settings)
	assert.Zero(t, status, out)
	assert.Contains(t, out, "may be read by others")
	daemon, _, again := start()
	assert.Equal(t, pin, again, "the key stays")
	require.NoError(t, daemon.Process.Signal(syscall.SIGTERM))
	require.NoError(t, daemon.Wait())
	require.NoError(
		t,
		os.WriteFile(filepath.Join(data, "oaken-latch.db"), []byte(strings.Repeat("nothing of the kind", 999)), 0o600),
	)
	out, status = run("oaken-latchd", nil, "doctor", "--config", settings)
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "restore the newest backup")
}

// An event stream ends with what let it in, within a second: sign-out, the end of a session or
// of a token, other roles, a closed account, the end of its time.
func TestStreamEndsWithWhatLetItIn(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	login := func(who, password string) string {
		_, token := s.Client(who, password)
		return token
	}
	ask := func(method, path, token string) *http.Response {
		req, err := http.NewRequestWithContext(t.Context(), method, s.URL+"/api/v1"+path, nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		return res
	}
	account := func(name string) string {
		s.Do(
			"admin", 0, "account", "add", name, "--may", "read,stage", "--password-file",
			s.File("pw-"+name, "the password of "+name),
		)
		return login(name, "the password of "+name)
	}
	for name, end := range map[string]func(token string){
		"signs": func(token string) { require.NoError(t, ask("POST", "/logout", token).Body.Close()) },
		"ended": func(string) {
			var list []wire.Token
			require.NoError(t, json.Unmarshal([]byte(s.Do("admin", 0, "token", "list", "--json")), &list))
			for _, k := range list {
				if k.Account == "ended" {
					s.Do("admin", 0, "token", "end", k.ID)
				}
			}
		},
		"fewer":  func(string) { s.Do("admin", 0, "account", "may", "fewer", "--set", "read") },
		"scoped": func(string) { s.Do("admin", 0, "account", "may", "scoped", "--set", "read@site=Saltern") },
		"closed": func(string) { s.Do("admin", 0, "account", "close", "closed", "--yes") },
	} {
		token := account(name)
		res := ask("GET", "/events", token)
		require.Equal(t, 200, res.StatusCode, name)
		over := make(chan time.Time, 1)
		go func() {
			_, _ = io.Copy(io.Discard, res.Body)
			over <- time.Now()
		}()
		other := ask("GET", "/events", login("joss", "joss's own password"))
		select {
		case <-over:
			require.Fail(t, "it ended before", name)
		case <-time.After(300 * time.Millisecond):
		}
		end(token)
		done := time.Now()
		select {
		case at := <-over:
			assert.Less(t, at.Sub(done), time.Second, name)
		case <-time.After(5 * time.Second):
			assert.Fail(t, "the stream goes on", name)
		}
		// Somebody else's goes on.
		alive := make(chan bool, 1)
		go func() {
			b := make([]byte, 1<<16)
			for range 2 { // what was sent already, and what comes now
				if _, err := other.Body.Read(b); err != nil {
					alive <- false
					return
				}
			}
			alive <- true
		}()
		s.Do("mara", 0, "open", "something to tell")
		assert.True(t, <-alive, name)
		require.NoError(t, other.Body.Close())
		require.NoError(t, res.Body.Close())
	}
}
