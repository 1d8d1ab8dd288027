// Package access holds accounts, roles, tokens and sealed secrets.
package access

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"regexp"
	"time"

	"github.com/alexedwards/argon2id"

	"oakenlatch/core/ledger"
	"oakenlatch/service/audit"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Role is what an account may do. Each may do what those before it may.
type Role string

// The roles.
const (
	Viewer   Role = "viewer"   // look
	Operator Role = "operator" // stage and commit
	Admin    Role = "admin"    // add devices and accounts
)

var rank = map[Role]int{Viewer: 1, Operator: 2, Admin: 3}

// Covers reports whether a role may do what another may.
func (r Role) Covers(needed Role) bool { return rank[r] >= rank[needed] }

// Person is who is asking.
type Person struct {
	Name string
	Role Role
}

// ErrDenied is given for a wrong name, password or token; it does not tell which.
var ErrDenied = errors.New("wrong account or password")

// tokenLife is how long a login lasts.
const tokenLife = 12 * time.Hour

// Accounts knows who is who.
type Accounts struct {
	store *store.Store
	log   *audit.Log
	decoy string // hash to compare with where there is no account
}

// hashing is argon2id as RFC 9106 section 4 recommends for little memory,
// halved again: a login takes some tens of milliseconds here.
var hashing = &argon2id.Params{Memory: 32 * 1024, Iterations: 2, Parallelism: 1, SaltLength: 16, KeyLength: 32}

// NewAccounts gives the accounts over a store.
func NewAccounts(s *store.Store, log *audit.Log) (*Accounts, error) {
	decoy, err := argon2id.CreateHash(rand.Text(), hashing)
	if err != nil {
		return nil, err
	}
	return &Accounts{store: s, log: log, decoy: decoy}, nil
}

var accountName = regexp.MustCompile(`^[a-z][a-z0-9._-]{0,31}$`)

// Add makes an account.
func (a *Accounts) Add(ctx context.Context, by, name, password string, role Role) error {
	switch {
	case !accountName.MatchString(name) || name == audit.Service:
		return refusal.New(refusal.Invalid, "use 1 to 32 of a-z, 0-9, dot, dash, underscore, beginning with a letter", "%q is no name for an account", name)
	case rank[role] == 0:
		return refusal.New(refusal.Invalid, "", "role %q is not one of viewer, operator, admin", role)
	case len(password) < 8 || len(password) > 1024:
		return refusal.New(refusal.Invalid, "", "a password has 8 to 1024 characters")
	}
	hash, err := argon2id.CreateHash(password, hashing)
	if err != nil {
		return err
	}
	return a.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.AddAccount(store.Account{Name: name, Hash: hash, Role: string(role), Created: a.log.Now()}); err != nil {
			return fmt.Errorf("account %s: %w", name, err)
		}
		return tx.Record(ledger.Entry{Actor: by, Action: "account.add", Note: name + " as " + string(role)})
	})
}

// Empty reports whether there is no account yet.
func (a *Accounts) Empty(ctx context.Context) (bool, error) {
	list, err := a.store.Accounts(ctx)
	return len(list) == 0, err
}

func digest(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

// SessionName names the session of a token in the records: the first digits of
// the token's digest, from which nobody can sign in.
func SessionName(token string) string { return digest(token)[:8] }

// Login gives a token for a name and password. Both a wrong and a right try
// are in the ledger.
func (a *Accounts) Login(ctx context.Context, name, password, from string) (token string, expires time.Time, p Person, err error) {
	acc, err := a.store.Account(ctx, name)
	known := err == nil
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return "", expires, p, err
	}
	if !known {
		acc.Hash = a.decoy // takes as long as a wrong password
	}
	ok, err := argon2id.ComparePasswordAndHash(password, acc.Hash)
	if err != nil {
		return "", expires, p, err
	}
	if !ok || !known {
		denied := a.log.Write(ctx, func(tx *audit.Tx) error {
			return tx.Record(ledger.Entry{Actor: audit.Service, Action: "login.denied", Note: fmt.Sprintf("%.40q from %s", name, from)})
		})
		return "", expires, p, errors.Join(ErrDenied, denied)
	}
	token = rand.Text()
	expires = a.log.Now().Add(tokenLife)
	err = a.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.AddToken(digest(token), name, a.log.Now(), expires); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: name, Action: "login", Note: "from " + from})
	})
	return token, expires, Person{name, Role(acc.Role)}, err
}

// Who gives the person a token stands for.
func (a *Accounts) Who(ctx context.Context, token string) (Person, error) {
	acc, err := a.store.TokenAccount(ctx, digest(token), a.log.Now())
	if errors.Is(err, store.ErrNotFound) {
		return Person{}, ErrDenied
	}
	return Person{acc.Name, Role(acc.Role)}, err
}

// Logout makes a token worthless.
func (a *Accounts) Logout(ctx context.Context, p Person, token string) error {
	return a.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.DropToken(digest(token)); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: p.Name, Action: "logout"})
	})
}
