package api

import (
	"errors"
	"html/template"
	"net/http"
	"time"

	"oakenlatch/service/access"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// accessRoutes are those about who may do what.
func (a *API) accessRoutes() []route {
	return []route{
		{
			id: "login", method: "POST", path: "/login", needs: toEnter,
			summary: "Sign in; gives a token, and a cookie for the console",
			in:      wire.Login{}, out: wire.Session{}, handle: a.login,
		},
		{
			id: "signInOptions", method: "GET", path: "/login/ways", needs: everybody,
			summary: "How people sign in: with a password, and where somebody else vouches for them",
			out:     wire.SignInOptions{}, handle: a.ways,
		},
		{
			id: "beginExternalSignIn", method: "GET", path: "/login/elsewhere", needs: everybody,
			summary: "Begin to sign in where somebody else vouches for people (OpenID Connect): sends there; page is " +
				"where to go on",
			status: 302, query: []string{"page"}, handle: a.externalSignIn,
		},
		{
			id: "finishExternalSignIn", method: "GET", path: "/login/elsewhere/back", needs: everybody,
			summary: "What comes back from there",
			status:  302, query: []string{"state", "code", "error"}, handle: a.externalCallback,
		},
		{
			id: "logout", method: "POST", path: "/logout", needs: anyoneLacking,
			summary: "Sign out; the session ends",
			status:  204, handle: a.logout,
		},
		{
			id: "whoAmI", method: "GET", path: "/me", needs: anyoneLacking,
			summary: "Who one is, and may do",
			out:     wire.Session{}, handle: a.me,
		},
		{
			id: "setOwnPassword", method: "POST", path: "/me/password", needs: anyoneFresh,
			summary: "Give one's own account another password; its other sessions end",
			status:  204, in: wire.NewPassword{}, handle: a.ownPassword,
		},
		{
			id: "listAccounts", method: "GET", path: "/accounts", needs: toAdministerAll,
			summary: "All accounts",
			out:     []wire.Account{}, handle: a.accounts,
		},
		{
			id: "addAccount", method: "POST", path: "/accounts", needs: toAdministerFresh,
			summary: "Make an account",
			status:  201, in: wire.NewAccount{}, out: wire.Account{}, waits: wire.Account{}, handle: a.addAccount,
		},
		{
			id: "setAccount", method: "PATCH", path: "/accounts/:account", needs: toAdministerFresh,
			summary: "Say what an account may do, give it another password, or take its second factors away",
			in:      wire.AccountSettings{}, out: wire.Account{}, waits: wire.Account{}, handle: a.setAccount,
		},
		{
			id: "closeAccount", method: "DELETE", path: "/accounts/:account", needs: toAdministerFresh,
			summary: "Close an account permanently: its sessions and tokens end, its name stays in the record",
			status:  204, handle: a.closeAccount,
		},
		{
			id: "listTokens", method: "GET", path: "/tokens", needs: anyone,
			summary: "The sessions and tokens that let in: one's own, or for an administrator all",
			out:     []wire.Token{}, handle: a.tokens,
		},
		{
			id: "addToken", method: "POST", path: "/tokens", needs: anyoneFresh,
			summary: "Make a token for a machine, that may what one may oneself, or less; it is given this once",
			status:  201, in: wire.NewToken{}, out: wire.Token{}, handle: a.addToken,
		},
		{
			id: "endToken", method: "DELETE", path: "/tokens/:id", needs: anyone,
			summary: "End a session or token",
			status:  204, handle: a.endToken,
		},
	}
}

func (a *API) login(c *call) (any, error) {
	var in wire.Login
	if err := c.read(&in); err != nil {
		return nil, err
	}
	token, expires, p, err := a.Accounts.Login(c.ctx, in.Account, in.Password, c.RealIP(), a.site(c))
	if err != nil {
		return nil, err
	}
	return a.signedIn(c, token, expires, p), nil
}

// signedIn answers a sign-in: the session, as a cookie too, and who else is signed in.
func (a *API) signedIn(c *call, token string, expires time.Time, p access.Person) wire.Session {
	c.SetCookie(a.cookie(c, token, expires))
	out := wire.Session{Account: p.Name, May: p.Grants.Texts(), Token: token, Expires: expires, Lacks: p.Lacks}
	list, err := a.Accounts.Tokens(c.ctx, access.Person{Name: p.Name})
	if err != nil { // it is told where that can be read
		a.Logger.Error("who else is signed in could not be read", "account", p.Name, "error", err)
	}
	for _, t := range list {
		if t.Kind == "session" && access.ID(t) != access.SessionName(token) {
			out.Others = append(out.Others, a.tokenDoc(c, t))
		}
	}
	return out
}

// attemptCookie is what a sign-in elsewhere leaves with the browser until it is back.
const attemptCookie = "oaken_latch_way"

func (a *API) ways(*call) (any, error) {
	if a.OIDC == nil {
		return wire.SignInOptions{}, nil
	}
	return wire.SignInOptions{Elsewhere: a.OIDC.Issuer}, nil
}

func (a *API) externalSignIn(c *call) (any, error) {
	if a.OIDC == nil {
		return nil, refusal.New(refusal.NotFound, "sign in with a password", "nobody else vouches for people here")
	}
	to, way, err := a.OIDC.Begin(c.ctx, c.QueryParam("page"))
	if err != nil {
		return nil, err
	}
	packed, err := way.Pack(a.Sealer)
	if err != nil {
		return nil, err
	}
	// Lax: it has to come with the way back, which another site sends.
	c.SetCookie(
		&http.Cookie{
			Name: attemptCookie, Value: packed, Path: prefix + "/login", MaxAge: 600, HttpOnly: true,
			SameSite: http.SameSiteLaxMode, Secure: a.secure(c.Context),
		},
	)
	return sentTo(c, to), nil
}

// sentTo sends the browser on.
func sentTo(c *call, to string) stream {
	return func(w http.ResponseWriter) error {
		http.Redirect(w, c.Request(), to, http.StatusFound)
		return nil
	}
}

func (a *API) externalCallback(c *call) (any, error) {
	if a.OIDC == nil {
		return nil, refusal.New(refusal.NotFound, "sign in with a password", "nobody else vouches for people here")
	}
	var way access.SignInAttempt
	if ck, err := c.Cookie(attemptCookie); err == nil {
		if way, err = access.Unpack(a.Sealer, ck.Value); err != nil {
			way = access.SignInAttempt{}
		}
	}
	c.SetCookie(
		&http.Cookie{
			Name: attemptCookie, Path: prefix + "/login", MaxAge: -1, HttpOnly: true, SameSite: http.SameSiteLaxMode,
			Secure: a.secure(c.Context),
		},
	)
	if e := c.QueryParam("error"); e != "" {
		return notIn(
			refusal.New(
				refusal.Forbidden, "sign in again", "%s did not let this sign-in through: %.100s", a.OIDC.Issuer, e,
			),
		), nil
	}
	token, expires, _, err := a.Accounts.SignInExternally(
		c.ctx, a.OIDC, way, c.QueryParam("state"), c.QueryParam("code"), c.RealIP(),
	)
	var no *refusal.Error
	if errors.As(err, &no) {
		return notIn(no), nil
	}
	if err != nil {
		return nil, err
	}
	c.SetCookie(a.cookie(c, token, expires))
	return sentTo(c, way.Page), nil
}

var notInPage = template.Must(
	template.New("").Parse(
		`<!doctype html><html lang="en"><title>Oaken Latch</title><h1>You are not signed in</h1><p>{{.Msg}}.</p>{{with .Steps}}<p>{{.}}.</p>{{end}}<p><a href="/">Sign in</a></p></html>`,
	),
)

// notIn is a page for whoever comes back from elsewhere and is not let in.
func notIn(why *refusal.Error) stream {
	return func(w http.ResponseWriter) error {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.WriteHeader(http.StatusForbidden)
		return notInPage.Execute(w, why)
	}
}

// cookie holds the console's session: no script reads it, and no other site's
// page sends it.
func (a *API) cookie(c *call, token string, expires time.Time) *http.Cookie {
	ck := &http.Cookie{
		Name: a.cookieName(c.Context), Value: token, Path: "/", Expires: expires, HttpOnly: true,
		SameSite: http.SameSiteStrictMode, Secure: a.secure(c.Context),
	}
	if token == "" {
		ck.MaxAge = -1
	}
	return ck
}

func (a *API) logout(c *call) (any, error) {
	c.SetCookie(a.cookie(c, "", time.Time{}))
	return nil, a.Accounts.Logout(c.ctx, c.person, c.token)
}

func (a *API) me(c *call) (any, error) {
	return wire.Session{Account: c.person.Name, May: c.person.Grants.Texts(), Lacks: c.person.Lacks}, nil
}

func (a *API) ownPassword(c *call) (any, error) {
	var in wire.NewPassword
	if err := c.read(&in); err != nil {
		return nil, err
	}
	return nil, a.Accounts.SetPassword(
		c.ctx, c.person, c.person.Name, in.Old, in.New, c.token, c.RealIP(), in.EndTokens,
	)
}

func (a *API) accountDoc(acc store.Account) wire.Account {
	return wire.Account{
		Name: acc.Name, May: append([]string{}, acc.Grants...), Created: acc.Created, Closed: acc.Closed,
		Issuer: acc.Issuer, Factors: acc.Factors, Lacks: a.Accounts.Lacks(acc),
	}
}

func (a *API) accounts(c *call) (any, error) {
	list, err := a.Store.Accounts(c.ctx)
	out := make([]wire.Account, 0, len(list))
	for _, acc := range list {
		out = append(out, a.accountDoc(acc))
	}
	return out, err
}

func (a *API) account(c *call, name string) (any, error) {
	acc, err := a.Store.Account(c.ctx, name)
	return a.accountDoc(acc), err
}

func (a *API) addAccount(c *call) (any, error) {
	var in wire.NewAccount
	if err := c.read(&in); err != nil {
		return nil, err
	}
	may, err := access.ParseGrants(in.May)
	if err != nil {
		return nil, err
	}
	guarded, err := a.Accounts.Guarded(c.ctx)
	if err != nil {
		return nil, err
	}
	if guarded > 0 {
		if err := a.Accounts.AddEmpty(c.ctx, c.person.Name, in.Name, in.Password, may); err != nil {
			return nil, err
		}
		p, err := a.Accounts.ProposeMay(c.ctx, c.person, in.Name, may)
		return a.waiting(c, in.Name, p, err)
	}
	if err := a.Accounts.Add(c.ctx, c.person.Name, in.Name, in.Password, may); err != nil {
		return nil, err
	}
	return a.account(c, in.Name)
}

// waiting answers that something about an account waits for others.
func (a *API) waiting(c *call, name string, p store.Proposal, err error) (any, error) {
	return a.proposed(c, p, err, func(p *wire.Proposal) any {
		acc, _ := a.Store.Account(c.ctx, name) // it was there just now
		doc := a.accountDoc(acc)
		doc.Proposal = p
		return doc
	})
}

func (a *API) setAccount(c *call) (any, error) {
	var in wire.AccountSettings
	if err := c.read(&in); err != nil {
		return nil, err
	}
	name := c.Param("account")
	guarded, err := a.Accounts.Guarded(c.ctx)
	if err != nil {
		return nil, err
	}
	asked := 0
	for _, is := range []bool{in.May != nil, in.Password != "", in.ResetFactors} {
		if is {
			asked++
		}
	}
	if guarded > 0 && asked > 1 {
		return nil, refusal.New(
			refusal.Invalid, "ask for one after the other",
			"what an account may, its password and its second factors are proposed by themselves",
		)
	}
	if in.May != nil {
		may, err := access.ParseGrants(*in.May)
		if err != nil {
			return nil, err
		}
		if guarded > 0 {
			p, err := a.Accounts.ProposeMay(c.ctx, c.person, name, may)
			return a.waiting(c, name, p, err)
		}
		if err := a.Accounts.SetGrants(c.ctx, c.person.Name, name, may); err != nil {
			return nil, err
		}
	}
	if in.ResetFactors && guarded > 0 {
		p, err := a.Accounts.ProposeReset(c.ctx, c.person, name)
		return a.waiting(c, name, p, err)
	}
	if in.ResetFactors {
		if err := a.Accounts.ResetFactors(c.ctx, c.person.Name, name); err != nil {
			return nil, err
		}
	}
	if in.Password != "" && guarded > 0 && name != c.person.Name {
		p, err := a.Accounts.ProposePassword(c.ctx, c.person, name, in.Password, in.EndTokens)
		return a.waiting(c, name, p, err)
	}
	if in.Password != "" {
		if err := a.Accounts.SetPassword(
			c.ctx, c.person, name, in.Old, in.Password, c.token, c.RealIP(), in.EndTokens,
		); err != nil {
			return nil, err
		}
	}
	return a.account(c, name)
}

func (a *API) closeAccount(c *call) (any, error) {
	return nil, a.Accounts.Close(c.ctx, c.person.Name, c.Param("account"))
}

func (a *API) tokenDoc(c *call, t store.Token) wire.Token {
	out := wire.Token{
		ID: access.ID(t), Account: t.Account, Kind: t.Kind, Name: t.Name, Created: t.Created, Expires: t.Expires,
		Used: t.Used, Source: t.Source,
	}
	out.Own = c.token != "" && access.SessionName(c.token) == out.ID
	if t.Grants != nil {
		out.May = &t.Grants
	}
	if t.Kind == "session" {
		idle, _ := a.Accounts.Bounds()
		out.IdleUntil = t.Used.Add(idle)
	}
	return out
}

func (a *API) tokens(c *call) (any, error) {
	list, err := a.Accounts.Tokens(c.ctx, c.person)
	out := make([]wire.Token, 0, len(list))
	for _, t := range list {
		out = append(out, a.tokenDoc(c, t))
	}
	return out, err
}

func (a *API) addToken(c *call) (any, error) {
	var in wire.NewToken
	if err := c.read(&in); err != nil {
		return nil, err
	}
	n := access.NewToken{Name: in.Name, Until: in.Until}
	if in.May != nil {
		var err error
		if n.May, err = access.ParseGrants(*in.May); err != nil {
			return nil, err
		}
	}
	token, t, err := a.Accounts.AddToken(c.ctx, c.person, n)
	if err != nil {
		return nil, err
	}
	out := a.tokenDoc(c, t)
	out.Token = token
	return out, nil
}

func (a *API) endToken(c *call) (any, error) {
	return nil, a.Accounts.End(c.ctx, c.person, c.Param("id"))
}
