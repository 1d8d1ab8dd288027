package attack

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/test/stage"
	"oakenlatch/wire"
)

// someone asks the API by themselves.
type someone struct {
	t     *testing.T
	url   string
	token string
}

func signIn(t *testing.T, s *stage.Stage, account, password string) someone {
	who := someone{t: t, url: s.URL}
	var in wire.Session
	require.Equal(t, http.StatusOK, who.ask("POST", "/login", wire.Login{Account: account, Password: password}, &in))
	who.token = in.Token
	return who
}

// ask makes a request; a string is the body as it is.
func (w someone) ask(method, path string, in, out any) int {
	w.t.Helper()
	body, ok := in.(string)
	if !ok && in != nil {
		text, err := json.Marshal(in)
		require.NoError(w.t, err)
		body = string(text)
	}
	req, err := http.NewRequestWithContext(w.t.Context(), method, w.url+"/api/v1"+path, strings.NewReader(body))
	require.NoError(w.t, err)
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Authorization", "Bearer "+w.token)
	res, err := http.DefaultClient.Do(req)
	require.NoError(w.t, err)
	defer func() { _ = res.Body.Close() }()
	if out != nil {
		text, err := io.ReadAll(res.Body)
		require.NoError(w.t, err)
		_ = json.Unmarshal(text, out)
	}
	return res.StatusCode
}

// A list that grants something, and is empty, grants nothing: for tokens, accounts, and what an
// administrator leaves somebody.
func TestEmptyIsNothing(t *testing.T) {
	t.Parallel()
	s := stage.New(t)
	admin := signIn(t, s, "admin", stage.AdminPassword)
	until := time.Now().Add(time.Hour).UTC().Format(time.RFC3339)
	for body, may := range map[string]int{
		`{"name":"none","may":[],"until":"` + until + `"}`:                   http.StatusForbidden,
		`{"name":"nothing said","until":"` + until + `"}`:                    http.StatusOK,
		`{"name":"null is nothing said","may":null,"until":"` + until + `"}`: http.StatusOK,
		`{"name":"some","may":["stage"],"until":"` + until + `"}`:            http.StatusForbidden,
	} {
		var tok wire.Token
		require.Equal(t, http.StatusCreated, admin.ask("POST", "/tokens", body, &tok), body)
		machine := someone{t, s.URL, tok.Token}
		assert.Equal(t, may, machine.ask("GET", "/accounts", nil, nil), body)
		if may == http.StatusForbidden {
			assert.Equal(t, http.StatusForbidden, machine.ask("POST", "/devices", wire.NewDevice{Name: "x"}, nil), body)
		}
	}
	assert.Equal(
		t, http.StatusUnprocessableEntity,
		admin.ask("POST", "/accounts", `{"name":"nobody","password":"may nothing at all","may":[]}`, nil),
		"that is no account",
	)
	require.Equal(
		t, http.StatusCreated,
		admin.ask("POST", "/accounts", `{"name":"nobody","password":"may nothing at all","may":["read"]}`, nil),
	)
	require.Equal(t, http.StatusOK, admin.ask("PATCH", "/accounts/nobody", `{"may":[]}`, nil))
	nobody := signIn(t, s, "nobody", "may nothing at all")
	for _, path := range []string{"/devices", "/changes", "/audit", "/events", "/attention", "/rules", "/accounts"} {
		assert.Equal(t, http.StatusForbidden, nobody.ask("GET", path, nil, nil), path)
	}
	mara := signIn(t, s, "mara", stage.MaraPassword)
	require.Equal(t, http.StatusOK, mara.ask("GET", "/changes", nil, nil))
	require.Equal(t, http.StatusOK, admin.ask("PATCH", "/accounts/mara", `{"may":[]}`, nil))
	assert.Equal(t, http.StatusForbidden, mara.ask("GET", "/changes", nil, nil))
}

// Who may read and not audit learns from the stream that what they may see has moved: no entry, no
// account's doings, no value.
func TestReaderGetsNoEntries(t *testing.T) {
	t.Parallel()
	s := stage.New(t, "saltern-quay")
	admin := signIn(t, s, "admin", stage.AdminPassword)
	require.Equal(
		t, http.StatusCreated,
		admin.ask(
			"POST", "/accounts",
			wire.NewAccount{Name: "wren", Password: "looks only, from afar", May: []string{"read"}}, nil,
		),
	)
	wren := signIn(t, s, "wren", "looks only, from afar")
	follow := func(who someone, n int) (kinds map[string]int, text string) {
		req, err := http.NewRequestWithContext(t.Context(), "GET", s.URL+"/api/v1/events", nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+who.token)
		req.Header.Set("Last-Event-ID", "0")
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer func() { _ = res.Body.Close() }()
		kinds = map[string]int{}
		lines := bufio.NewScanner(res.Body)
		for seen := 0; seen < n && lines.Scan(); {
			if kind, ok := strings.CutPrefix(lines.Text(), "event: "); ok {
				kinds[kind]++
			}
			if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
				text += data + "\n"
				seen++
			}
		}
		return kinds, text
	}
	n := s.Open("mara", "saltern-quay /system/contact Night desk")
	s.Do("mara", 0, "commit", n, "--hold", "1m")
	s.Do("mara", 0, "confirm", n)
	kinds, text := follow(wren, 8)
	assert.Equal(t, map[string]int{"moved": 8}, kinds)
	for _, no := range []string{"Night desk", "mara", "admin", "login", "account", "/system"} {
		assert.NotContains(t, text, no)
	}
	assert.Contains(t, text, "saltern-quay")
	assert.Equal(t, http.StatusForbidden, wren.ask("GET", "/audit", nil, nil))
	kinds, text = follow(admin, 8)
	assert.Equal(t, map[string]int{"entry": 8}, kinds)
	assert.Contains(t, text, "login")
}

// What people say is text to be read: what acts on terminals or turns text round is refused, wherever
// it is said, and nothing of it is kept.
func TestNoTextActs(t *testing.T) {
	t.Parallel()
	s := stage.New(t)
	admin := signIn(t, s, "admin", stage.AdminPassword)
	var ch wire.Change
	require.Equal(
		t, http.StatusCreated, admin.ask("POST", "/changes", wire.NewChange{Title: "Zwei Zeilen – Ölhafen 東京"}, &ch),
	)
	at := fmt.Sprintf("/changes/%d", ch.Number)
	for _, bad := range []string{
		"\x1b]0;x\x07", "a\x00b", "b\u202ec", "d\u0085", "e\x7f", "\u2066f", "g\rh", "\u061c",
	} {
		for _, c := range []struct {
			method, path string
			in           any
		}{
			{"POST", "/changes", wire.NewChange{Title: "t" + bad}},
			{"POST", "/changes", wire.NewChange{Title: "t", Ticket: "TF-1" + bad}},
			{"PATCH", at, wire.NewChange{Title: "t" + bad}},
			{"POST", at + "/ask", wire.NewNote{Text: "please" + bad}},
			{"POST", "/rules", wire.NewRule{Needed: 1, Note: "n" + bad}},
			{"PUT", "/searches/x", wire.NewSearch{Line: "a" + bad}},
			{"POST", "/snapshots", wire.NewSnapshot{Name: "s" + bad}},
			{"POST", "/tokens", wire.NewToken{Name: "t" + bad, Until: time.Now().Add(time.Hour)}},
		} {
			var p wire.Problem
			status := admin.ask(c.method, c.path, c.in, &p)
			assert.Equal(t, http.StatusUnprocessableEntity, status, "%s %s %+v", c.method, c.path, c.in)
			assert.Contains(t, p.Detail, "acts instead of being read")
			assert.Equal(
				t, -1, strings.IndexFunc(p.Detail+fmt.Sprint(p.Next), func(r rune) bool { return r < ' ' }),
				"the refusal does not act either",
			)
		}
	}
	var list []wire.Change
	require.Equal(t, http.StatusOK, admin.ask("GET", "/changes", nil, &list))
	assert.Len(t, list, 1)
}

// A page of somebody else that has its own name lead here is not answered; the service's names and
// addresses are.
func TestCalledByAnotherName(t *testing.T) {
	t.Parallel()
	s := stage.New(t)
	for host, want := range map[string]int{
		"evil.example": 421, "evil.example:8640": 421, "": 200, "localhost:9": 200, "127.0.0.1": 200, "[::1]:8640": 200,
		"198.51.100.7": 200, "LOCALHOST.": 200,
	} {
		req, err := http.NewRequestWithContext(t.Context(), "GET", s.URL+"/healthz", bytes.NewReader(nil))
		require.NoError(t, err)
		if host != "" {
			req.Host = host
		}
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		assert.Equal(t, want, res.StatusCode, host)
	}
}

// What would make a rule void is put under a rule itself: nobody who administers drops one, gives
// somebody the role to agree, or takes an account over, by themselves.
func TestAdministrationByTwo(t *testing.T) {
	t.Parallel()
	s := stage.New(t)
	out, status := s.Latch("admin", "rule", "add", "--on", "administration")
	assert.Equal(t, 3, status, "nobody could agree: %s", out)
	s.Do(
		"admin", 0, "account", "add", "agnes", "--may", "read,stage,commit,approve,audit,administer", "--password-file",
		s.File("pw-agnes", "agnes's own password"),
	)
	s.Do("admin", 0, "rule", "add", "--all", "--persons", "1")
	s.Do("admin", 0, "rule", "add", "--on", "administration")
	admin, agnes := signIn(t, s, "admin", stage.AdminPassword), signIn(t, s, "agnes", "agnes's own password")
	may := func(name string) []string {
		var list []wire.Account
		require.Equal(t, http.StatusOK, admin.ask("GET", "/accounts", nil, &list))
		for _, acc := range list {
			if acc.Name == name {
				return acc.May
			}
		}
		return nil
	}
	rules := func() (list []wire.ApprovalRule) {
		require.Equal(t, http.StatusOK, admin.ask("GET", "/rules", nil, &list))
		return list
	}
	waits := func(method, path string, in any) int64 {
		t.Helper()
		var out wire.Waits
		require.Equal(t, http.StatusAccepted, admin.ask(method, path, in, &out), path)
		require.NotNil(t, out.Proposal)
		return out.Proposal.Number
	}
	approval := func(who someone, n int64) int {
		return who.ask("POST", fmt.Sprintf("/proposals/%d/agreement", n), nil, nil)
	}

	// A device that is moved out of what a rule is about would be kept by it no more.
	s.AddLab("saltern-quay")
	site := "nowhere"
	moved := waits("PATCH", "/devices/saltern-quay", wire.Settings{Site: &site, Tags: &[]string{}})
	var quay wire.Device
	require.Equal(
		t, http.StatusOK, admin.ask("PATCH", "/devices/saltern-quay", wire.Settings{Save: new(false)}, &quay),
		"what no rule goes by is not held up",
	)
	require.Equal(
		t, http.StatusUnprocessableEntity,
		admin.ask("PATCH", "/devices/saltern-quay", wire.Settings{Save: new(true), Site: &site}, nil),
	)
	where := func() string {
		require.Equal(t, http.StatusOK, admin.ask("GET", "/devices/saltern-quay", nil, &quay))
		return quay.Site
	}

	// None of it is done alone: not by the proposer, not by a machine of another, not by who may not.
	drop := waits("DELETE", "/rules/1", nil)
	void := waits("DELETE", "/rules/2", nil)
	grant := waits("PATCH", "/accounts/joss", wire.AccountSettings{May: &[]string{"read", "administer"}})
	made := waits(
		"POST", "/accounts",
		wire.NewAccount{Name: "puppet", Password: "pulled by strings", May: []string{"approve", "read"}},
	)
	taken := waits("PATCH", "/accounts/agnes", wire.AccountSettings{Password: "known to the admin"})
	var tok wire.Token
	require.Equal(
		t, http.StatusCreated,
		agnes.ask("POST", "/tokens", wire.NewToken{Name: "robot", Until: time.Now().Add(time.Hour)}, &tok),
	)
	mara := signIn(t, s, "mara", stage.MaraPassword)
	for _, n := range []int64{drop, void, grant, made, taken, moved} {
		assert.Equal(t, http.StatusForbidden, approval(admin, n), "one's own")
		assert.Equal(t, http.StatusForbidden, approval(someone{t, s.URL, tok.Token}, n), "a machine")
		assert.Equal(t, http.StatusForbidden, approval(mara, n), "who may not administer")
	}
	assert.Len(t, rules(), 2)
	assert.NotEqual(t, site, where())
	assert.NotContains(t, may("joss"), "administer")
	assert.Empty(t, may("puppet"), "the account may nothing yet")
	puppet := signIn(t, s, "puppet", "pulled by strings")
	assert.Equal(t, http.StatusForbidden, puppet.ask("GET", "/changes", nil, nil))
	signIn(t, s, "agnes", "agnes's own password")

	// With another's approval it is, once.
	assert.Equal(t, http.StatusOK, approval(agnes, moved))
	assert.Equal(t, site, where())
	assert.Equal(t, http.StatusOK, approval(agnes, drop))
	assert.Len(t, rules(), 1)
	assert.Equal(t, http.StatusNotFound, approval(agnes, drop), "it waits no more")
	assert.Equal(t, http.StatusOK, approval(agnes, made))
	assert.Equal(t, []string{"approve", "read"}, may("puppet"))
	assert.Equal(t, http.StatusNoContent, agnes.ask("DELETE", fmt.Sprintf("/proposals/%d", grant), nil, nil))
	assert.Equal(t, http.StatusNotFound, approval(agnes, grant), "it was dropped")
	assert.NotContains(t, may("joss"), "administer")
	assert.Contains(t, s.Do("admin", 0, "proposal", "list"), "agnes gets another password, from admin")
	assert.Contains(t, s.Do("admin", 0, "rule", "drop", "2"), "It is not done yet")
	out, status = s.Latch("admin", "proposal", "agree", fmt.Sprint(void), "--yes")
	assert.Equal(t, 3, status, out)
	// One's own password is one's own.
	assert.Equal(
		t, http.StatusNoContent,
		agnes.ask(
			"POST", "/me/password", wire.NewPassword{Old: "agnes's own password", New: "and now another one"}, nil,
		),
	)
}

// What somebody tried and was refused is in the record, with who, from where, and why.
func TestRefusals(t *testing.T) {
	t.Parallel()
	s := stage.New(t)
	mara := signIn(t, s, "mara", stage.MaraPassword)
	assert.Equal(
		t, http.StatusForbidden,
		mara.ask("PATCH", "/accounts/joss", wire.AccountSettings{May: &[]string{"administer"}}, nil),
	)
	assert.Equal(t, http.StatusForbidden, mara.ask("DELETE", "/accounts/admin", nil, nil))
	out := s.Do("admin", 0, "audit", "outcome:refused", "who:mara", "--json")
	for _, want := range []string{
		"PATCH /api/v1/accounts/joss", "DELETE /api/v1/accounts/admin", "may not administer", `"address":`,
	} {
		assert.Contains(t, strings.ReplaceAll(out, `": "`, `":"`), want)
	}
}

// Who signs in is told of their other open sessions, and none of those ends by it.
func TestSignInTellsOfOthers(t *testing.T) {
	t.Parallel()
	s := stage.New(t)
	first := signIn(t, s, "mara", stage.MaraPassword)
	var second wire.Session
	require.Equal(
		t, http.StatusOK,
		someone{t: t, url: s.URL}.ask(
			"POST", "/login", wire.Login{Account: "mara", Password: stage.MaraPassword}, &second,
		),
	)
	require.Len(t, second.Others, 1)
	assert.Equal(t, "127.0.0.1", second.Others[0].Source)
	assert.Equal(t, http.StatusOK, first.ask("GET", "/me", nil, nil))
	out, status := s.Latch("mara", "login", "--user", "mara", "--password-file", s.File("pw", stage.MaraPassword))
	assert.Zero(t, status, out)
	assert.Equal(t, 2, strings.Count(out, "Also signed in: since "), out)
	require.Equal(t, http.StatusNoContent, first.ask("DELETE", "/tokens/"+second.Others[0].ID, nil, nil))
	assert.Equal(t, http.StatusUnauthorized, first.ask("GET", "/me", nil, nil))
}
