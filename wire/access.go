package wire

import "time"

// Login signs in.
type Login struct {
	Account  string `json:"account"`
	Password string `json:"password"`
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
}

// NewPassword gives one's own account another password.
type NewPassword struct {
	Old string `json:"old"`
	New string `json:"new"`
}

// Account is a person's account.
type Account struct {
	Name    string    `json:"name"`
	May     []string  `json:"may"`
	Created time.Time `json:"created"`
	Closed  time.Time `json:"closed,omitzero"`
	Issuer  string    `json:"issuer,omitempty"` // where it signs in, if not here
}

// NewAccount makes an account.
type NewAccount struct {
	Name     string   `json:"name"`
	Password string   `json:"password"`
	May      []string `json:"may"` // ROLE,ROLE or ROLE,ROLE@site=NAME
}

// AccountSettings changes an account.
type AccountSettings struct {
	May      *[]string `json:"may,omitempty"`
	Password string    `json:"password,omitempty"`
	Old      string    `json:"old,omitempty"` // the old password, where it is one's own account
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
