package test

import (
	"bytes"
	"encoding/json"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"
	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/test/browser"
	"oakenlatch/wire"
)

// ask asks the API as whoever a token stands for.
func (s *stage) ask(token, method, path string, in, out any) int {
	s.T.Helper()
	body, err := json.Marshal(in)
	require.NoError(s.T, err)
	req, err := http.NewRequestWithContext(s.T.Context(), method, s.URL+"/api/v1"+path, bytes.NewReader(body))
	require.NoError(s.T, err)
	req.Header.Set("Content-Type", "application/json")
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(s.T, err)
	defer func() { _ = res.Body.Close() }()
	if out != nil && res.StatusCode != http.StatusNoContent {
		require.NoError(s.T, json.NewDecoder(res.Body).Decode(out))
	}
	return res.StatusCode
}

// Who administers has to have a second factor here: through the API and the client.
func TestFactorsAreAsked(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.Stop()
	s.Start("--second-factor", "administer")
	out := s.Do("admin", 3, "devices")
	assert.Contains(
		t, out,
		"account admin has to have a second factor, and has none yet; set one up: latch factor add NAME",
	)
	s.Do("mara", 0, "devices")
	assert.Contains(t, s.Do("mara", 0, "factor", "list"), "This account has no second factor. It need not have one.")
	assert.Contains(t, s.Do("admin", 0, "factor", "list"), "It has to have one.")
	assert.Contains(t, s.Do("admin", 2, "factor", "add", "phone"), "use it at a terminal")

	var session wire.Session
	require.Equal(t, 200, s.ask("", "POST", "/login", wire.Login{Account: "admin", Password: adminPassword}, &session))
	assert.True(t, session.Lacks)
	require.Equal(
		t, 403,
		s.ask(
			session.Token, "POST", "/tokens", wire.NewToken{Name: "way around", Until: time.Now().Add(time.Hour)}, nil,
		),
	)
	var begun wire.FactorBegun
	require.Equal(
		t, 200,
		s.ask(
			session.Token, "POST", "/me/factors", wire.NewFactor{Kind: "code", Name: "phone", Password: adminPassword},
			&begun,
		),
	)
	code := func(ahead time.Duration) string {
		c, err := totp.GenerateCode(begun.Secret, time.Now().Add(ahead))
		require.NoError(t, err)
		return c
	}
	var added wire.FactorAdded
	require.Equal(
		t, 201,
		s.ask(
			session.Token, "POST", "/me/factors/added", wire.Shown{Ticket: begun.Ticket, Code: code(-30 * time.Second)},
			&added,
		),
	)
	require.Len(t, added.Codes, 10)
	require.Equal(t, 200, s.ask(session.Token, "GET", "/devices", nil, nil))

	// The client's earlier session ended with it; the password alone does not begin another.
	login := func(status int, more ...string) string {
		return s.Do(
			"admin", status,
			append([]string{"login", "--user", "admin", "--password-file", s.Dir + "/pw-admin"}, more...)...,
		)
	}
	s.Do("admin", 3, "whoami")
	assert.Contains(t, login(3), "give the app's code, or a recovery code, with --code")
	assert.Contains(t, login(3, "--code", "000000"), "the second factor is wrong, or was used before; try again")
	assert.Contains(t, login(0, "--code", code(0)), "Signed in to ")
	out = s.Do("admin", 0, "factor", "list")
	assert.Contains(t, out, "phone")
	assert.Contains(t, out, "Recovery codes left: 10")
	assert.Contains(t, s.Do("admin", 0, "account", "list"), "2ND FACTORS")
	login(0, "--code", added.Codes[0])
	assert.Contains(t, login(3, "--code", added.Codes[0]), "was used before")

	// A machine's token neither makes a rule nor an account; what it may else stays.
	token := strings.Split(
		s.Do("admin", 0, "token", "add", "nightly", "--until", time.Now().Add(48*time.Hour).Format("2006-01-02")), "\n",
	)[0]
	require.Equal(t, 200, s.ask(token, "GET", "/devices", nil, nil))
	var p wire.Problem
	require.Equal(t, 403, s.ask(token, "POST", "/rules", wire.NewRule{Needed: 1}, &p))
	assert.Contains(t, p.Detail, "a machine's token shows no second factor")
	require.Equal(
		t, 403,
		s.ask(
			token, "POST", "/accounts",
			wire.NewAccount{Name: "eve", Password: "a long password of eve", May: []string{"read"}}, &p,
		),
	)
	s.Do("admin", 0, "rule", "add", "--all", "--persons", "1", "--path", "/system")

	// Lost: somebody else who administers takes it away.
	s.Do(
		"admin", 0, "account", "add", "second", "--may", "read,administer", "--password-file",
		s.File("pw-second", "a long one of the second"),
	)
	other := s.Do("admin", 0, "account", "reset-factors", "admin", "--yes")
	assert.Contains(t, other, "Account admin has no second factor any more.")
	s.Do("admin", 3, "whoami")
	out = login(0)
	assert.Contains(t, out, "This account has to have a second factor, and may do nothing before")
	log := s.Logged()
	for _, secret := range append(added.Codes, begun.Secret) {
		assert.NotContains(t, log, secret)
	}
}

// A passkey in the console: made, asked for at sign-in and before what is grave, and nothing without it.
// The authenticator is Chromium's.
func TestPasskey(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.Stop()
	s.Start("--second-factor", "administer")
	url := strings.Replace(s.URL, "127.0.0.1", "localhost", 1) // a passkey is bound to a name
	ctx := chromium(t, func(text string) { t.Error("page: " + text) })
	do := func(what string, steps ...browser.Step) {
		t.Helper()
		if err := browser.Do(ctx, what, steps...); err != nil {
			t.Fatalf("%v; the page says:\n%s", err, text(t, ctx, "//body"))
		}
	}
	shows := func(text string) browser.Step { return chromedp.WaitVisible(browser.Text("*", text)) }
	_, err := chromedp.Call(ctx, webauthn.Enable, webauthn.EnableParams{})
	require.NoError(t, err)
	phone, err := chromedp.Call(ctx, webauthn.AddVirtualAuthenticator,
		webauthn.AddVirtualAuthenticatorParams{Options: &webauthn.VirtualAuthenticatorOptions{
			Protocol: webauthn.AuthenticatorProtocolCtap2, Transport: webauthn.AuthenticatorTransportInternal,
			HasUserVerification: true, IsUserVerified: true, HasResidentKey: true, AutomaticPresenceSimulation: true,
		}})
	require.NoError(t, err)
	bogus := func(is bool) {
		t.Helper()
		_, err := chromedp.Call(
			ctx, webauthn.SetResponseOverrideBits,
			webauthn.SetResponseOverrideBitsParams{AuthenticatorID: phone.AuthenticatorID, IsBogusSignature: &is},
		)
		require.NoError(t, err)
	}

	require.NoError(t, browser.SignIn(ctx, url, "/devices", "admin", adminPassword))
	do(
		"it has to have one, and may do nothing else", shows("Your account has to have a second factor"),
		shows("None: your password alone lets in."),
	)
	do(
		"the wrong password", browser.Type("New second factor, on what", "this browser"),
		browser.Type("Your password", "not this one"), chromedp.Click(browser.Button("Make a passkey")),
		shows("the password is wrong"),
	)
	do(
		"made", chromedp.Navigate(url+"/access"), browser.Type("New second factor, on what", "this browser"),
		browser.Type("Your password", adminPassword), chromedp.Click(browser.Button("Make a passkey")),
		shows("Recovery codes, shown only now"), shows("10 recovery codes are left."),
	)
	codes := strings.Fields(text(t, ctx, `//div[contains(@class,"ant-alert")]//code`))
	require.Len(t, codes, 10)
	made, err := chromedp.Call(ctx, webauthn.GetCredentials, webauthn.GetCredentialsParams(phone))
	require.NoError(t, err)
	require.Len(t, made.Credentials, 1)
	assert.Equal(t, "localhost", made.Credentials[0].RpID)
	do("all is there", shows("What needs approval by others"))

	// Signing in asks for it; one that signs wrong does not let in.
	enter := func() {
		t.Helper()
		do(
			"sign out, and the password", chromedp.Click(browser.Button("Sign out")), browser.Type("Account", "admin"),
			browser.Type("Password", adminPassword), chromedp.Click(browser.Button("Sign in")),
			shows("This account signs in with a second factor, too."),
		)
	}
	enter()
	bogus(true)
	do("a wrong signature", chromedp.Click(browser.Button("Show a passkey")), shows("the second factor is wrong"))
	bogus(false)
	do("a right one", chromedp.Click(browser.Button("Show a passkey")), chromedp.WaitVisible(chromedp.Search(`//nav`)))
	enter()
	do(
		"a recovery code", browser.Type("A recovery code", codes[0]), chromedp.Click(browser.Button("Show it")),
		chromedp.WaitVisible(chromedp.Search(`//nav`)),
	)
	enter()
	do(
		"the same again", browser.Type("A recovery code", codes[0]), chromedp.Click(browser.Button("Show it")),
		shows("was used before"),
	)
	do("the passkey", chromedp.Click(browser.Button("Show a passkey")), chromedp.WaitVisible(chromedp.Search(`//nav`)))

	// Grave: it is asked for again, once that it was shown is long ago; not shown, nothing is done.
	s.Stop()
	sql(t, filepath.Join(s.Data, "oaken-latch.db"), "UPDATE tokens SET proven = '2026-01-01T00:00:00.000Z'")
	s.Start("--second-factor", "administer")
	rules := func() string { return s.Do("mara", 0, "rule", "list") }
	do(
		"a rule", chromedp.Navigate(url+"/access"), browser.Type("Devices", "all devices"),
		browser.Type("Path", "/system"), chromedp.Click(browser.Button("Make the rule…")),
		shows("It holds for everybody, you too."), chromedp.Click(browser.Button("Make it")),
		shows("Show your second factor again"),
	)
	assert.NotContains(t, rules(), "/system")
	do(
		"not now", chromedp.Click(chromedp.Search(`//button[contains(@class,"ant-modal-close")]`)),
		shows("this is a sensitive action"),
	)
	assert.NotContains(t, rules(), "/system")
	do(
		"shown", chromedp.Click(browser.Button("Make the rule…")), chromedp.Sleep(600*time.Millisecond),
		chromedp.Click(browser.Button("Make it")), chromedp.Click(browser.Button("Show a passkey")),
		chromedp.WaitVisible(browser.Text("code", "/system")),
	)
	assert.Contains(t, rules(), "/system")

	// The client has no passkey: it says what to do.
	out := s.Do("admin", 3, "login", "--user", "admin", "--password-file", s.Dir+"/pw-admin", "--code", "123456")
	assert.Contains(t, out, "the second factor is wrong")
	s.Do("admin", 0, "login", "--user", "admin", "--password-file", s.Dir+"/pw-admin", "--code", codes[1])
}
