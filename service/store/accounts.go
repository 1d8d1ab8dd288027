package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"
)

// Account is a person's account.
type Account struct {
	Name    string
	Hash    string   // of the password; "" has none here
	Grants  []string // ROLE or ROLE@site=NAME
	Created time.Time
	Closed  time.Time // zero where it is not

	Issuer, Subject string // who vouches for it, where it signs in elsewhere

	Factors int // how many second factors it has
}

const accountColumns = "a.name, a.hash, a.grants, a.created_at, a.closed_at, a.issuer, a.subject, (SELECT count(*) " +
	"FROM factors f WHERE f.account = a.name)"

func scanAccount(r scanner) (a Account, err error) {
	return a, a.scan(r)
}

// scan reads an account, behind whatever else is in the row.
func (a *Account) scan(r scanner, before ...any) error {
	var grants, at, closed string
	if err := r.Scan(
		append(before, &a.Name, &a.Hash, &grants, &at, &closed, &a.Issuer, &a.Subject, &a.Factors)...,
	); err != nil {
		return err
	}
	var cerr, aerr error
	a.Created, cerr = parseTime(at)
	a.Closed, aerr = parseTime(closed)
	return errors.Join(cerr, aerr, json.Unmarshal([]byte(grants), &a.Grants))
}

// Account gives an account by name.
func (s *Store) Account(ctx context.Context, name string) (Account, error) {
	return one(s.ask(ctx, "SELECT "+accountColumns+" FROM accounts a WHERE a.name = ?", name), scanAccount)
}

// AccountOf gives the account that somebody else vouches for.
func (s *Store) AccountOf(ctx context.Context, issuer, subject string) (Account, error) {
	return one(
		s.ask(
			ctx, "SELECT "+accountColumns+" FROM accounts a WHERE a.issuer = ? AND a.subject = ? AND a.subject <> ''",
			issuer, subject,
		),
		scanAccount,
	)
}

const allAccounts = "SELECT " + accountColumns + " FROM accounts a ORDER BY a.name"

// Accounts lists all accounts by name.
func (s *Store) Accounts(ctx context.Context) ([]Account, error) {
	return many(s.ask(ctx, allAccounts), scanAccount)
}

// Accounts lists all accounts by name, as this transaction sees them.
func (tx *Tx) Accounts() ([]Account, error) {
	return many(tx.ask(allAccounts), scanAccount)
}

func grantsText(grants []string) (string, error) {
	if grants == nil {
		return "[]", nil
	}
	text, err := json.Marshal(grants)
	return string(text), err
}

// AddAccount adds an account; ErrExists where the name is taken.
func (tx *Tx) AddAccount(a Account) error {
	grants, err := grantsText(a.Grants)
	if err != nil {
		return err
	}
	res, err := tx.exec(
		"INSERT INTO accounts (name, hash, grants, created_at, issuer, subject) VALUES (?, ?, ?, ?, ?, ?) ON "+
			"CONFLICT DO NOTHING",
		a.Name, a.Hash, grants, timeText(a.Created), a.Issuer, a.Subject,
	)
	return inserted(res, err)
}

// SetGrants says what an account may do.
func (tx *Tx) SetGrants(name string, grants []string) error {
	tx.forgets = true
	text, err := grantsText(grants)
	if err != nil {
		return err
	}
	return affected(tx.exec("UPDATE accounts SET grants = ? WHERE name = ?", text, name))
}

// SetPassword gives an account another password, by its hash.
func (tx *Tx) SetPassword(name, hash string) error {
	tx.forgets = true
	return affected(tx.exec("UPDATE accounts SET hash = ? WHERE name = ?", hash, name))
}

// CloseAccount ends an account for good.
func (tx *Tx) CloseAccount(name string, at time.Time) error {
	tx.forgets = true
	return affected(tx.exec("UPDATE accounts SET closed_at = ?, hash = '' WHERE name = ?", timeText(at), name))
}

// Token is what lets somebody in: a person's session, or a machine's token.
type Token struct {
	Hash    string
	Account string
	Kind    string   // session or machine
	Name    string   // of a machine's
	Grants  []string // nil is all that the account may
	Created time.Time
	Expires time.Time
	Used    time.Time // the last time, to the minute; zero is never
	Source  string    // the address that it was used from last
	Proven  time.Time // when its person showed a second factor last; zero is never
}

const tokenColumns = "t.hash, t.account, t.kind, t.name, t.grants, t.created_at, t.expires_at, t.used_at, " +
	"t.source, t.proven"

// scanToken reads a token, and the account behind it where there is one in the
// row.
func scanToken(r scanner, a *Account) (t Token, err error) {
	var grants, created, expires, used, proven string
	into := []any{&t.Hash, &t.Account, &t.Kind, &t.Name, &grants, &created, &expires, &used, &t.Source, &proven}
	if a != nil {
		err = a.scan(r, into...)
	} else {
		err = r.Scan(into...)
	}
	if err != nil {
		return t, err
	}
	var errs [5]error
	t.Created, errs[0] = parseTime(created)
	t.Expires, errs[1] = parseTime(expires)
	t.Used, errs[2] = parseTime(used)
	t.Proven, errs[4] = parseTime(proven)
	if grants != "" {
		errs[3] = json.Unmarshal([]byte(grants), &t.Grants)
	}
	return t, errors.Join(errs[:]...)
}

// AddToken keeps a token by its hash.
func (tx *Tx) AddToken(t Token) error {
	grants := ""
	if t.Grants != nil {
		var err error
		if grants, err = grantsText(t.Grants); err != nil {
			return err
		}
	}
	_, err := tx.exec(
		"INSERT INTO tokens (hash, account, kind, name, grants, created_at, expires_at, used_at, source, proven) "+
			"VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
		t.Hash, t.Account, t.Kind, t.Name, grants, timeText(t.Created), timeText(t.Expires), timeText(t.Used), t.Source,
		timeText(t.Proven),
	)
	return err
}

// UseToken notes when a token was used, and from where.
func (tx *Tx) UseToken(hash string, at time.Time, source string) error {
	_, err := tx.exec("UPDATE tokens SET used_at = ?, source = ? WHERE hash = ?", timeText(at), source, hash)
	return err
}

// DropToken forgets a token.
func (tx *Tx) DropToken(hash string) error {
	tx.forgets = true
	_, err := tx.exec("DELETE FROM tokens WHERE hash = ?", hash)
	return err
}

// DropTokens forgets all sessions and tokens of an account.
func (tx *Tx) DropTokens(account string) error {
	tx.forgets = true
	_, err := tx.exec("DELETE FROM tokens WHERE account = ?", account)
	return err
}

// DropMachines forgets the tokens of an account that are no sessions.
func (tx *Tx) DropMachines(account string) error {
	tx.forgets = true
	_, err := tx.exec("DELETE FROM tokens WHERE account = ? AND kind <> 'session'", account)
	return err
}

// DropSessions forgets the sessions of an account but for one.
func (tx *Tx) DropSessions(account, keep string) error {
	tx.forgets = true
	_, err := tx.exec("DELETE FROM tokens WHERE account = ? AND kind = 'session' AND hash <> ?", account, keep)
	return err
}

// DropEnded forgets what has ended: by its end, and sessions not used since.
func (tx *Tx) DropEnded(now, since time.Time) error {
	_, err := tx.exec(
		"DELETE FROM tokens WHERE expires_at <= ? OR kind = 'session' AND used_at < ?", timeText(now), timeText(since),
	)
	return err
}

// Tokens lists the sessions and tokens of an account, or with "" of all.
func (s *Store) Tokens(ctx context.Context, account string) ([]Token, error) {
	return many(
		s.ask(
			ctx,
			"SELECT "+tokenColumns+" FROM tokens t WHERE ? IN ('', t.account) ORDER BY t.account, t.kind, t.created_at",
			account,
		),
		func(r scanner) (Token, error) { return scanToken(r, nil) },
	)
}

// TokenAccount gives a token and the account that it belongs to.
func (s *Store) TokenAccount(ctx context.Context, hash string) (t Token, a Account, err error) {
	type both struct {
		token   Token
		account Account
	}
	b, err := one(
		s.ask(
			ctx,
			"SELECT "+tokenColumns+", "+accountColumns+" FROM tokens t JOIN accounts a ON a.name = t.account "+
				"WHERE t.hash = ?",
			hash,
		),
		func(r scanner) (b both, err error) { b.token, err = scanToken(r, &b.account); return b, err },
	)
	return b.token, b.account, err
}
