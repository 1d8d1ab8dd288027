package wire

import "time"

// Login signs in.
type Login struct {
	Account  string `json:"account"`
	Password string `json:"password" raw:"true"`
}

// Ways are how people sign in.
type Ways struct {
	Elsewhere string `json:"elsewhere,omitempty"` // who vouches for people beside this service
}

// Session is who one is, and after a login the token.
type Session struct {
	Account string    `json:"account"`
	May     []string  `json:"may"` // ROLE, or ROLE@site=NAME (role, tag, device)
	Token   string    `json:"token,omitempty"`
	Expires time.Time `json:"expires,omitzero"`

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
	Issuer  string    `json:"issuer,omitempty"` // where it signs in, if not here
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
