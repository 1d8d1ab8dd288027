package wire

import (
	"encoding/json"
	"time"
)

// Login signs in.
type Login struct {
	Account  string `json:"account"`
	Password string `json:"password" raw:"true"`
}

// Second is what is asked for of a person's second factors, within five minutes: at sign-in it is answered at
// /login/second, and by whoever is signed in at /me/proof.
type Second struct {
	Anew    bool     `json:"anew,omitempty"`    // one is signed in already
	Ticket  string   `json:"ticket"`            // to be sent with the answer
	Ways    []string `json:"ways"`              // code, passkey, recovery
	Passkey any      `json:"passkey,omitempty"` // what the browser is asked for (WebAuthn Level 3, section 5.5)
}

// Shown is the answer to that.
type Shown struct {
	Ticket  string          `json:"ticket,omitempty"`
	Code    string          `json:"code,omitempty"`    // an app's code, or a recovery code
	Passkey json.RawMessage `json:"passkey,omitempty"` // what the browser gave
}

// Factor is a second factor of one's own account.
type Factor struct {
	ID      string    `json:"id"`
	Kind    string    `json:"kind"` // code or passkey
	Name    string    `json:"name"`
	Created time.Time `json:"created"`
	Used    time.Time `json:"used,omitzero"`
}

// Factors are those that one has.
type Factors struct {
	List     []Factor `json:"list"`
	Recovery int      `json:"recovery"` // recovery codes that are left
	Required bool     `json:"required"` // the account has to have one
}

// NewFactor begins to set one up.
type NewFactor struct {
	Kind     string `json:"kind"` // code or passkey
	Name     string `json:"name"`
	Password string `json:"password,omitempty" raw:"true"` // with the first
}

// FactorBegun is what is to be shown once to end that: a code of the app that was given the secret, or
// what the browser makes.
type FactorBegun struct {
	Ticket string `json:"ticket"`
	Secret string `json:"secret,omitempty"` // of the app, in Base32
	URI    string `json:"uri,omitempty"`    // the same for a picture that an app reads
	Create any    `json:"create,omitempty"` // what the browser is asked for (WebAuthn Level 3, section 5.4)
}

// FactorAdded is a second factor that was set up.
type FactorAdded struct {
	Factor Factor `json:"factor"`
	RecoveryCodes
}

// RecoveryCodes let in once each where the second factors are lost. They are given this once.
type RecoveryCodes struct {
	Codes []string `json:"codes,omitempty"`
}

// SignInOptions are how people sign in.
type SignInOptions struct {
	Elsewhere string `json:"elsewhere,omitempty"` // who vouches for people beside this service
}

// Session is who one is, and after a login the token.
type Session struct {
	Account string    `json:"account"`
	May     []string  `json:"may"` // ROLE, or ROLE@site=NAME (role, tag, device)
	Token   string    `json:"token,omitempty"`
	Expires time.Time `json:"expires,omitzero"`

	Lacks bool `json:"lacks,omitempty"` // it has to have a second factor, and may do nothing else before one is set up

	Others []Token `json:"others,omitempty"` // at sign-in: the account's sessions that are open elsewhere, and stay so
}

// NewPassword gives one's own account another password.
type NewPassword struct {
	Old string `json:"old" raw:"true"`
	New string `json:"new" raw:"true"`

	EndTokens bool `json:"endTokens,omitempty"` // the account's tokens, too; its other sessions end anyway
}

// Account is a person's account.
type Account struct {
	Waits // what was asked of it and is to be agreed to first

	Name    string    `json:"name"`
	May     []string  `json:"may"`
	Created time.Time `json:"created"`
	Closed  time.Time `json:"closed,omitzero"`
	Issuer  string    `json:"issuer,omitempty"`  // where it signs in, if not here
	Factors int       `json:"factors,omitempty"` // second factors that it has
	Lacks   bool      `json:"lacks,omitempty"`   // it has to have one, and has none
}

// NewAccount makes an account.
type NewAccount struct {
	Name     string   `json:"name"`
	Password string   `json:"password" raw:"true"`
	May      []string `json:"may"` // ROLE,ROLE or ROLE,ROLE@site=NAME
}

// AccountSettings changes an account.
type AccountSettings struct {
	May      *[]string `json:"may,omitempty"`
	Password string    `json:"password,omitempty" raw:"true"`
	Old      string    `json:"old,omitempty" raw:"true"` // the old password, where it is one's own account

	EndTokens bool `json:"endTokens,omitempty"` // with another password: the account's tokens end, too

	ResetFactors bool `json:"resetFactors,omitempty"` // take its second factors away, which were lost
}

// Token is a session of a person, or a token of a machine.
type Token struct {
	ID        string    `json:"id"` // as the ledger names it
	Account   string    `json:"account"`
	Kind      string    `json:"kind"` // session or machine
	Name      string    `json:"name,omitempty"`
	May       *[]string `json:"may,omitempty"` // left out: all that the account may
	Created   time.Time `json:"created"`
	Expires   time.Time `json:"expires"`
	IdleUntil time.Time `json:"idleUntil,omitzero"` // a session that is not used ends then
	Used      time.Time `json:"used,omitzero"`
	Source    string    `json:"source,omitempty"` // the address it was used from last
	Own       bool      `json:"own,omitempty"`    // the one this was asked with
	Token     string    `json:"token,omitempty"`  // once, when it is made
}

// NewToken makes a token for a machine.
type NewToken struct {
	Name  string    `json:"name"`
	May   *[]string `json:"may,omitempty"`
	Until time.Time `json:"until"`
}
