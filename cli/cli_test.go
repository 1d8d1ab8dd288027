package cli

import (
	"bytes"
	"encoding/json"
	"flag"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/advice"
	"oakenlatch/core/guard"
	"oakenlatch/core/lifecycle"
	"oakenlatch/wire"
)

// run runs the client against a handler and gives status, output and errors.
func run(t *testing.T, h http.HandlerFunc, env map[string]string, args ...string) (int, string, string) {
	t.Helper()
	if env == nil {
		env = map[string]string{}
	}
	if env["HOME"] == "" {
		env["HOME"] = t.TempDir()
	}
	if h != nil {
		srv := httptest.NewServer(h)
		t.Cleanup(srv.Close)
		env["OAKEN_LATCH_SERVER"] = srv.URL
	}
	var out, errOut bytes.Buffer
	a := &app{
		in: strings.NewReader(""), out: &screen{&out}, err: &screen{&errOut},
		getenv: func(k string) string { return env[k] },
	}
	status := a.run(t.Context(), args)
	return status, out.String(), errOut.String()
}

func answer(status int, doc any) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(doc)
	}
}

func TestInterspersed(t *testing.T) {
	for _, c := range []struct{ in, pos, hold string }{
		{"7 --hold 2m", "7", "2m"}, {"--hold=2m 7", "7", "2m"}, {"7 dev /p -5", "7 dev /p -5", ""},
		{"--hold 2m -- 7 --hold", "7 --hold", "2m"}, {"7 -", "7 -", ""}, {"-hold 1s a b", "a b", "1s"},
	} {
		fs := flag.NewFlagSet("x", flag.ContinueOnError)
		hold := fs.String("hold", "", "")
		pos, err := interspersed(fs, strings.Fields(c.in))
		require.NoError(t, err, c.in)
		assert.Equal(t, c.pos, strings.Join(pos, " "), c.in)
		assert.Equal(t, c.hold, *hold, c.in)
	}
}

// Every command has help with an example, and the overview names it.
func TestHelp(t *testing.T) {
	_, all, _ := run(t, nil, nil, "help", "all")
	for _, c := range commands() {
		status, out, _ := run(t, nil, nil, append(strings.Fields(c.name), "--help")...)
		assert.Zero(t, status, c.name)
		assert.Contains(t, out, "Example:\n  latch "+c.name, c.name)
		assert.Contains(t, out, "--json", c.name)
		assert.Contains(t, all, "latch "+c.name, c.name)
	}
	status, _, _ := run(t, nil, nil)
	assert.Equal(t, WrongUse, status)
	status, out, _ := run(t, nil, nil, "help", "device", "add")
	assert.Zero(t, status)
	assert.Contains(t, out, "--address")

	_, overview, _ := run(t, nil, nil, "--help")
	last := -1
	for _, name := range daily {
		at := strings.Index(overview, "  latch "+name+" ")
		assert.Greater(t, at, last, "%s stands where it comes in a day's work", name)
		last = at
	}
	assert.Less(t, strings.Count(overview, "\n"), 32, "it fits a terminal")
	told := 0
	for _, theme := range themes {
		status, out, _ := run(t, nil, nil, "help", theme.name)
		assert.Zero(t, status)
		assert.Contains(t, overview, "latch help "+theme.name)
		told += strings.Count(out, "\n")
	}
	assert.Equal(t, strings.Count(all, "\n"), told, "each command has its theme")
}

// Who mistypes is told what may have been meant; a group without its second word is shown.
func TestSlips(t *testing.T) {
	for typed, want := range map[string]string{
		"comit 7":                  `there is no command "comit"; did you mean latch commit?`,
		"prevew 7":                 `did you mean latch preview?`,
		"device ad quay":           `there is no command "device ad"; did you mean latch device add?`,
		"archive lsit":             `did you mean latch archive list?`,
		"xyzzy":                    `there is no command "xyzzy"; see latch --help`,
		"commit 7 --hodl 5m":       `did you mean --hold?; see latch commit --help`,
		"commit 7 --nothing-alike": `flag provided but not defined: -nothing-alike; see latch commit --help`,
		"archive":                  `latch archive needs one of these words after it`,
	} {
		status, _, errs := run(t, nil, nil, strings.Fields(typed)...)
		assert.Equal(t, WrongUse, status, typed)
		assert.Contains(t, errs, want, typed)
	}
	for _, asked := range []string{"archive --help", "help archive"} {
		status, out, _ := run(t, nil, nil, strings.Fields(asked)...)
		assert.Zero(t, status, asked)
		assert.Equal(t, len(groupOf("archive")), strings.Count(out, "\n"), asked)
	}
	assert.Equal(t, 1, slips("hodl", "hold"))
	assert.Equal(t, 3, slips("kitten", "sitting"))
	assert.Equal(t, 4, slips("", "hold"))
}

func TestExitStatuses(t *testing.T) {
	for kind, want := range map[string]int{
		"invalid": WrongUse, "not-found": WrongUse, "too-large": WrongUse, "unreachable": Unreachable,
		"forbidden": Refused, "conflict": Refused, "host-key": Refused, "denied": Refused, "internal": Refused,
	} {
		p := wire.Problem{
			Type:   wire.ProblemPrefix + kind,
			Status: 400,
			Detail: "what is wrong",
			Next:   advice.Words("see it").Do(advice.ShowChange, 7).Or("or ask", advice.AskHolder, "old quay"),
		}
		status, out, errOut := run(t, answer(400, p), nil, "devices")
		assert.Equal(t, want, status, kind)
		assert.Empty(t, out)
		assert.Equal(
			t,
			"latch: what is wrong; see it: latch show 7; or ask: latch reserve ask 'old quay' TEXT\n",
			errOut,
		)
		_, _, errOut = run(t, answer(400, p), nil, "devices", "--json")
		var back wire.Problem
		require.NoError(t, json.Unmarshal([]byte(errOut), &back), "with --json errors are documents too")
		assert.Equal(t, p, back)
	}
	acts := wire.Problem{
		Type: wire.ProblemPrefix + "refusal", Status: 409, Detail: "quay: it says \x1b]0;mine\x07\u202e",
		Next: advice.Words("\x1b[2Jlook"),
	}
	_, _, errOut := run(t, answer(409, acts), nil, "devices")
	assert.Equal(t, "latch: quay: it says \\u001b]0;mine\\u0007\\u202e; \\u001b[2Jlook\n", errOut)
	status, _, errOut := run(t, answer(502, "<html>"), nil, "devices")
	assert.Equal(t, Unreachable, status)
	assert.Contains(t, errOut, "not Oaken Latch")
}

func TestVerdicts(t *testing.T) {
	for state, c := range map[lifecycle.State]struct {
		status int
		says   string
	}{
		"confirmed": {Done, "confirmed by mara"}, "reverted": {WentBack, "reverted: why"},
		"failed": {Refused, "Nothing of it is on any device"},
	} {
		doc := wire.Change{Number: 7, State: state, Reason: "why", Commit: &wire.Commit{Phase: "done", By: "mara"}}
		status, out, _ := run(t, answer(200, doc), nil, "watch", "7")
		assert.Equal(t, c.status, status, state)
		assert.Contains(t, out, c.says, state)
	}
}

// An end that is not on record yet is waited for: nothing is said to be over, and no status given, before it is known
// which.
func TestEndIsWaitedFor(t *testing.T) {
	asked := 0
	status, out, _ := run(t, func(w http.ResponseWriter, r *http.Request) {
		doc := wire.Change{
			Number: 7, State: "holding", Commit: &wire.Commit{Phase: guard.Done, Outcome: guard.Reverted},
		}
		if asked++; asked > 2 {
			doc.State, doc.Reason = "reverted", "it was not confirmed in time"
		}
		answer(200, doc)(w, r)
	}, nil, "watch", "7")
	assert.Equal(t, WentBack, status)
	assert.Contains(t, out, "reverted: it was not confirmed in time")
	assert.Equal(t, 3, asked)
}

// What is not decided is not called held, nor reverted.
func TestNotDecidedYet(t *testing.T) {
	for phase, c := range map[guard.Phase]struct {
		status int
		says   string
	}{
		guard.ConfirmingAll: {Done, "is not decided yet, confirming\n  d: confirming, unreachable: no answer"},
		guard.Reverting:     {WentBack, "is not decided yet, reverting: why"},
	} {
		doc := wire.Change{
			Number: 7, State: "holding",
			Commit: &wire.Commit{
				Phase:   phase,
				Devices: []guard.Device{{Name: "d", Standing: guard.Confirming, Unreachable: true, Said: "no answer"}},
			},
		}
		if phase == guard.Reverting {
			doc.Reason = "why"
		}
		status, out, _ := run(t, answer(200, doc), nil, "confirm", "7")
		assert.Equal(t, c.status, status)
		assert.Contains(t, out, c.says)
		assert.NotContains(t, out, "on hold")
	}
}

// A login is remembered for its own server alone, for its owner's eyes alone.
func TestLoginIsRemembered(t *testing.T) {
	home := t.TempDir()
	pw := filepath.Join(home, "pw")
	require.NoError(t, os.WriteFile(pw, []byte("secret\n"), 0o600))
	var got wire.Login
	var auth string
	h := func(w http.ResponseWriter, r *http.Request) {
		auth = r.Header.Get("Authorization")
		_ = json.NewDecoder(r.Body).Decode(&got)
		_ = json.NewEncoder(w).Encode(wire.Session{Account: "mara", May: []string{"read", "stage"}, Token: "tok"})
	}
	srv := httptest.NewServer(http.HandlerFunc(h))
	t.Cleanup(srv.Close)
	env := map[string]string{"HOME": home}
	status, out, errOut := run(t, nil, env, "login", "--server", srv.URL, "--user", "mara", "--password-file", pw)
	require.Zero(t, status, errOut)
	assert.Contains(t, out, "as mara, until")
	assert.Equal(t, "secret", got.Password)
	info, err := os.Stat(filepath.Join(home, ".config", "oaken-latch", "session.json"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	_, _, _ = run(t, nil, env, "whoami")
	assert.Equal(t, "Bearer tok", auth)
	_, _, _ = run(t, h, map[string]string{"HOME": home}, "whoami")
	assert.Empty(t, auth, "another server does not get the token")
}
