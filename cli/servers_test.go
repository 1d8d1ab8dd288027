package cli

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/wire"
)

// Several servers are known by their names, each with its own session; a token goes only to the server it is of, and a
// file that is broken is as good as none.
func TestServers(t *testing.T) {
	home := t.TempDir()
	t.Setenv("HOME", home)
	t.Setenv("XDG_CONFIG_HOME", "")
	var asked []string
	serve := func(name string) *httptest.Server {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			asked = append(asked, name+" "+r.URL.Path+" "+r.Header.Get("Authorization"))
			_ = json.NewEncoder(w).Encode(wire.Session{Account: "mara", Token: "token-of-" + name})
		}))
		t.Cleanup(s.Close)
		return s
	}
	one, two := serve("one"), serve("two")
	file := filepath.Join(home, "pw")
	require.NoError(t, os.WriteFile(file, []byte("secret\n"), 0o600))
	latch := func(args ...string) (int, string) {
		var out, errOut strings.Builder
		a := &app{in: strings.NewReader(""), out: &out, err: &errOut, getenv: os.Getenv}
		return a.run(t.Context(), args), out.String() + errOut.String()
	}
	status, out := latch("use")
	assert.Equal(t, Done, status)
	assert.Contains(t, out, "No server is known here yet")
	for name, s := range map[string]*httptest.Server{"harbour": one, "island": two} {
		status, out = latch("login", "--server", s.URL, "--user", "mara", "--password-file", file, "--name", name)
		require.Equal(t, Done, status, out)
	}
	status, out = latch("use", "harbour")
	assert.Equal(t, Done, status)
	assert.Contains(t, out, "From now on harbour is asked, "+one.URL)
	asked = nil
	latch("whoami")
	latch("whoami", "--server", two.URL)
	latch("whoami", "--server", "http://127.0.0.1:9")
	assert.Equal(t, []string{
		"one /api/v1/me Bearer token-of-one", "two /api/v1/me Bearer token-of-two",
	}, asked)
	_, out = latch("use")
	assert.Regexp(t, `→ +harbour +`+one.URL+` +signed in`, out)
	assert.Regexp(t, ` island +`+two.URL+` +signed in`, out)

	asked = nil
	status, out = latch("login", "--server", two.URL, "--user", "mara", "--password-file", file, "--name", "harbour")
	assert.Equal(t, WrongUse, status, "the session at the other would be lost")
	assert.Contains(t, out, "harbour is "+one.URL+" here already")
	assert.Empty(t, asked)

	status, out = latch("use", "nowhere")
	assert.Equal(t, WrongUse, status)
	assert.Contains(t, out, "latch use lists those there are")
	status, out = latch("use", "nowhere", "--json")
	assert.Equal(t, WrongUse, status)
	var p wire.Problem
	require.NoError(t, json.Unmarshal([]byte(out), &p), "an error of --json is JSON: %s", out)
	assert.Equal(t, wire.ProblemPrefix+"invalid", p.Type)
	status, out = latch("use", "--no-such-flag", "--json")
	assert.Equal(t, WrongUse, status)
	require.NoError(t, json.Unmarshal([]byte(out), &p), "also where the flags are wrong: %s", out)

	status, _ = latch("use", "harbour", "--forget")
	assert.Equal(t, Done, status)
	_, out = latch("use", "--json")
	assert.NotContains(t, out, "harbour")
	require.NoError(t, os.WriteFile(filepath.Join(home, ".config", "oaken-latch", "session.json"), []byte("{"), 0o600))
	_, out = latch("use", "--json")
	assert.Equal(t, "[]\n", out)
	old := `{"server":"http://192.0.2.1:8640","token":"t"}`
	require.NoError(t, os.WriteFile(filepath.Join(home, ".config", "oaken-latch", "session.json"), []byte(old), 0o600))
	_, out = latch("use")
	assert.Regexp(t, `→ +192.0.2.1:8640 +http://192.0.2.1:8640 +signed in`, out, "as an earlier release left it")
}
