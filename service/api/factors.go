package api

import (
	"oakenlatch/service/access"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// factorRoutes are those about second factors.
func (a *API) factorRoutes() []route {
	return []route{
		{
			id: "loginSecond", method: "POST", path: "/login/second", needs: toEnter,
			summary: "Show the second factor that the answer to /login asked for; gives what that gives without one",
			in:      wire.Shown{}, out: wire.Session{}, handle: a.loginSecond,
		},
		{
			id: "proveFactor", method: "POST", path: "/me/proof", needs: anyone,
			summary: "Show one's second factor again, for sensitive actions: it counts for five minutes",
			status:  204, in: wire.Shown{}, handle: a.proveAnew,
		},
		{
			id: "listFactors", method: "GET", path: "/me/factors", needs: anyoneLacking,
			summary: "One's own second factors",
			out:     wire.Factors{}, handle: a.factors,
		},
		{
			id: "beginFactor", method: "POST", path: "/me/factors", needs: anyoneLacking,
			summary: "Begin to set up a second factor",
			in:      wire.NewFactor{}, out: wire.FactorBegun{}, handle: a.beginFactor,
		},
		{
			id: "finishFactor", method: "POST", path: "/me/factors/added", needs: anyoneLacking,
			summary: "End that, by showing it once; with the first come recovery codes",
			status:  201, in: wire.Shown{}, out: wire.FactorAdded{}, handle: a.addFactor,
		},
		{
			id: "dropFactor", method: "DELETE", path: "/me/factors/:id", needs: anyoneFresh,
			summary: "Take a second factor away",
			status:  204, handle: a.dropFactor,
		},
		{
			id: "newRecoveryCodes", method: "POST", path: "/me/recovery-codes", needs: anyoneFresh,
			summary: "Make new recovery codes; the old ones stop working",
			out:     wire.RecoveryCodes{}, handle: a.newRecovery,
		},
	}
}

// site is by which name the browser reached us.
func (a *API) site(c *call) access.Site { return access.SiteOf(a.secure(c.Context), c.Request().Host) }

// fresh says why something grave is not to be done just now.
func (a *API) fresh(c *call) error { return a.Accounts.Fresh(c.ctx, c.person, c.token, a.site(c)) }

func shown(in wire.Shown) access.Shown { return access.Shown{Code: in.Code, Passkey: in.Passkey} }

func (a *API) loginSecond(c *call) (any, error) {
	var in wire.Shown
	if err := c.read(&in); err != nil {
		return nil, err
	}
	token, expires, p, err := a.Accounts.LoginSecond(c.ctx, in.Ticket, shown(in), c.RealIP())
	if err != nil {
		return nil, err
	}
	return a.signedIn(c, token, expires, p), nil
}

func (a *API) proveAnew(c *call) (any, error) {
	var in wire.Shown
	if err := c.read(&in); err != nil {
		return nil, err
	}
	return nil, a.Accounts.Prove(c.ctx, c.person, c.token, in.Ticket, shown(in), c.RealIP())
}

func factorDoc(f store.Factor) wire.Factor {
	return wire.Factor{ID: f.ID, Kind: f.Kind, Name: f.Name, Created: f.Created, Used: f.Used}
}

func (a *API) factors(c *call) (any, error) {
	list, left, err := a.Accounts.Factors(c.ctx, c.person.Name)
	out := wire.Factors{
		List: []wire.Factor{}, Recovery: left, Required: !c.person.Elsewhere && a.Accounts.Requires(c.person.Grants),
	}
	for _, f := range list {
		out.List = append(out.List, factorDoc(f))
	}
	return out, err
}

func (a *API) beginFactor(c *call) (any, error) {
	var in wire.NewFactor
	if err := c.read(&in); err != nil {
		return nil, err
	}
	if c.person.Factors > 0 {
		if err := a.fresh(c); err != nil {
			return nil, err
		}
	}
	n, err := a.Accounts.BeginFactor(c.ctx, c.person, c.token, in.Kind, in.Name, in.Password, c.RealIP(), a.site(c))
	return wire.FactorBegun{Ticket: n.Ticket, Secret: n.Secret, URI: n.URI, Create: n.Create}, err
}

func (a *API) addFactor(c *call) (any, error) {
	var in wire.Shown
	if err := c.read(&in); err != nil {
		return nil, err
	}
	f, codes, err := a.Accounts.AddFactor(c.ctx, c.person, c.token, in.Ticket, shown(in))
	return wire.FactorAdded{Factor: factorDoc(f), RecoveryCodes: wire.RecoveryCodes{Codes: codes}}, err
}

func (a *API) dropFactor(c *call) (any, error) {
	return nil, a.Accounts.DropFactor(c.ctx, c.person, c.Param("id"))
}

func (a *API) newRecovery(c *call) (any, error) {
	codes, err := a.Accounts.NewRecovery(c.ctx, c.person)
	return wire.RecoveryCodes{Codes: codes}, err
}
