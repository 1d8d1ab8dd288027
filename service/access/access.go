// Package access holds accounts, roles, tokens and sealed secrets.
package access

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"

	"oakenlatch/core/advice"

	"github.com/alexedwards/argon2id"

	"oakenlatch/core/ledger"
	"oakenlatch/service/audit"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// ErrDenied is given for a wrong name, password or token; it does not tell which.
var ErrDenied = errors.New("wrong account or password")

// Accounts knows who is who.
type Accounts struct {
	opt      Options
	store    *store.Store
	log      *audit.Log
	decoy    string // hash to compare with where there is no account
	throttle *throttle
	hashers  chan struct{} // how many passwords are looked at at once
	lent     lent
	asking   asking
}

// hashing is argon2id as RFC 9106 section 4 recommends for little memory,
// halved again: a login takes some tens of milliseconds here.
var hashing = &argon2id.Params{Memory: 32 * 1024, Iterations: 2, Parallelism: 1, SaltLength: 16, KeyLength: 32}

// Options are how accounts are kept.
type Options struct {
	Idle, Life time.Duration // of sessions: how long one lasts unused, and at all; the usual where they are 0
	Second     Needs         // who has to have a second factor
	Sealer     *Sealer       // seals what second factors are checked with

	// Hashing is how passwords are hashed; as is recommended if nil. What is hashed otherwise is checked all the same.
	Hashing *argon2id.Params
}

// Bounds gives how long sessions last, unused and at all.
func (a *Accounts) Bounds() (idle, life time.Duration) { return a.opt.Idle, a.opt.Life }

// NewAccounts gives the accounts over a store.
func NewAccounts(s *store.Store, log *audit.Log, opt Options) (*Accounts, error) {
	opt.Idle, opt.Life = cmp.Or(opt.Idle, 2*time.Hour), cmp.Or(opt.Life, 12*time.Hour)
	decoy, err := argon2id.CreateHash(rand.Text(), cmp.Or(opt.Hashing, hashing))
	if err != nil {
		return nil, err
	}
	return &Accounts{
		opt: opt, store: s, log: log, decoy: decoy, throttle: newThrottle(log.Now), hashers: make(chan struct{}, 4),
	}, nil
}

var accountName = regexp.MustCompile(`^[a-z][a-z0-9._-]{0,31}$`)

// Add makes an account.
func (a *Accounts) Add(ctx context.Context, by, name, password string, may Grants) error {
	if err := errors.Join(named(name), sound(name, password)); err != nil {
		return err
	}
	return a.AddKnown(ctx, by, name, password, may)
}

// AddEmpty makes an account that may nothing yet: what it is to do is to be agreed to first.
func (a *Accounts) AddEmpty(ctx context.Context, by, name, password string, wanted Grants) error {
	if err := errors.Join(named(name), sound(name, password)); err != nil {
		return err
	}
	if len(wanted) == 0 {
		return nobodyNeeds()
	}
	return a.add(ctx, by, name, password, Grants{})
}

func nobodyNeeds() error {
	return refusal.New(refusal.Invalid, "the roles are "+roleNames(), "an account that may nothing is of no use")
}

// AddKnown makes an account whose password may be known to everybody: those of the demo.
func (a *Accounts) AddKnown(ctx context.Context, by, name, password string, may Grants) error {
	if err := named(name); err != nil {
		return err
	}
	if len(may) == 0 {
		return nobodyNeeds()
	}
	return a.add(ctx, by, name, password, may)
}

func (a *Accounts) add(ctx context.Context, by, name, password string, may Grants) error {
	hash, err := a.hashed(ctx, password)
	if err != nil {
		return err
	}
	return a.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.AddAccount(
			store.Account{Name: name, Hash: hash, Grants: may.Texts(), Created: a.log.Now()},
		); err != nil {
			return fmt.Errorf("account %s: %w", name, err)
		}
		return tx.Record(
			ledger.Entry{Actor: by, Action: "account.add", After: strings.Join(may.Texts(), " "), Note: name},
		)
	})
}

func named(name string) error {
	if !accountName.MatchString(name) || name == audit.Service {
		return refusal.New(
			refusal.Invalid, "use 1 to 32 of a-z, 0-9, dot, dash, underscore, beginning with a letter",
			"%q is no name for an account", name,
		)
	}
	return nil
}

func (a *Accounts) hashed(ctx context.Context, password string) (string, error) {
	over, err := a.turn(ctx)
	if err != nil {
		return "", err
	}
	defer over()
	return argon2id.CreateHash(password, cmp.Or(a.opt.Hashing, hashing))
}

// get gives an account that is to be changed.
func (a *Accounts) get(ctx context.Context, name string) (store.Account, error) {
	acc, err := a.store.Account(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		err = refusal.New(refusal.NotFound, "list them", "there is no account %q", name).Do(advice.ListAccounts)
	}
	return acc, err
}

// SetGrants says what an account may do from now on. The last one that may
// administer everything stays one.
func (a *Accounts) SetGrants(ctx context.Context, by, name string, may Grants) error {
	acc, err := a.get(ctx, name)
	if err != nil {
		return err
	}
	return a.change(ctx, acc, func(tx *audit.Tx) error {
		if err := tx.SetGrants(name, may.Texts()); err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: by, Action: "account.may", Before: strings.Join(acc.Grants, " "),
				After: strings.Join(may.Texts(), " "), Note: name,
			},
		)
	})
}

// SetPassword gives an account another password; its sessions end, but for one.
// A person says their old one; an administrator need not.
// Wrong tries are slowed and entered as those of signing in are.
// With tokensToo its tokens end as well, of which nobody knows who copied them.
func (a *Accounts) SetPassword(
	ctx context.Context, by Person, name, old, password, keep, from string, tokensToo bool,
) error {
	acc, err := a.get(ctx, name)
	if err != nil {
		return err
	}
	if acc.Subject != "" {
		return refusal.New(refusal.Conflict, "it signs in at "+acc.Issuer, "account %s has no password here", name)
	}
	if by.Name == name {
		err := a.knows(ctx, acc, name, true, old, from)
		if errors.Is(err, ErrDenied) {
			return refusal.New(refusal.Forbidden, "", "the old password is wrong: nothing was changed")
		}
		if err != nil {
			return err
		}
	} else if !by.Administers() {
		return refusal.New(
			refusal.Forbidden, "ask an administrator", "account %s may change no password but its own", by.Name,
		)
	}
	if err := sound(name, password); err != nil {
		return err
	}
	hash, err := a.hashed(ctx, password)
	if err != nil {
		return err
	}
	return a.log.Write(ctx, func(tx *audit.Tx) error {
		return a.replacePassword(tx, by.Name, name, hash, digest(keep), tokensToo, "")
	})
}

// replacePassword puts another password in the place of an account's; its sessions end, but for one.
func (a *Accounts) replacePassword(tx *audit.Tx, by, name, hash, keep string, tokensToo bool, note string) error {
	if err := tx.SetPassword(name, hash); err != nil {
		return err
	}
	a.lent.dropOf(name)
	note = name + note
	if tokensToo {
		note += ", its tokens ended"
		if err := tx.DropMachines(name); err != nil {
			return err
		}
	}
	if err := tx.DropSessions(name, keep); err != nil {
		return err
	}
	return tx.Record(ledger.Entry{Actor: by, Action: setPassword, Note: note})
}

// Close ends an account for good: its sessions and tokens with it. Its name stays
// in the record, and is not given again.
func (a *Accounts) Close(ctx context.Context, by, name string) error {
	acc, err := a.get(ctx, name)
	if err != nil {
		return err
	}
	if !acc.Closed.IsZero() {
		return refusal.New(refusal.Conflict, "", "account %s was closed at %s", name, acc.Closed.Format(time.RFC3339))
	}
	return a.change(ctx, acc, func(tx *audit.Tx) error {
		if err := tx.CloseAccount(name, a.log.Now()); err != nil {
			return err
		}
		a.lent.dropOf(name)
		if err := tx.DropTokens(name); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: by, Action: "account.close", Note: name})
	})
}

// change changes an account, unless nobody would be left who administers.
func (a *Accounts) change(ctx context.Context, acc store.Account, f func(*audit.Tx) error) error {
	return a.log.Write(ctx, func(tx *audit.Tx) error {
		if err := f(tx); err != nil {
			return err
		}
		list, err := tx.Accounts()
		if err != nil {
			return err
		}
		for _, other := range list {
			if may, err := ParseGrants(other.Grants); err == nil && other.Closed.IsZero() &&
				may.Everywhere(Administer) {
				return nil
			}
		}
		return refusal.New(
			refusal.Conflict, "make another account that may administer first",
			"%s is the last account that may administer everything", acc.Name,
		)
	})
}

// Empty reports whether there is no account yet.
func (a *Accounts) Empty(ctx context.Context) (bool, error) {
	list, err := a.store.Accounts(ctx)
	return len(list) == 0, err
}

// StillMay checks that whoever put a commit on the schedule may do so yet.
func (a *Accounts) StillMay(ctx context.Context, name string, r Role, change int64) error {
	acc, err := a.get(ctx, name)
	if err != nil {
		return err
	}
	p, err := person(acc, store.Token{})
	if err != nil {
		return err
	}
	if !acc.Closed.IsZero() {
		return refusal.New(
			refusal.Forbidden, "put it on the schedule again", "account %s, who put this on the schedule, is closed",
			name,
		)
	}
	devices, err := a.store.ChangeDevices(ctx, store.Everything, change)
	for _, d := range devices {
		err = errors.Join(err, p.Check(r, d))
	}
	return err
}

// person gives who an account is, and what a token made for less leaves of it.
func person(acc store.Account, t store.Token) (Person, error) {
	p := Person{Name: acc.Name, Factors: acc.Factors, Elsewhere: acc.Subject != "", proven: t.Proven}
	if p.Elsewhere {
		p.proven = t.Created // they showed there what is asked for there
	}
	var err error
	if p.Grants, err = ParseGrants(acc.Grants); err != nil || t.Grants == nil {
		return p, err
	}
	less, err := ParseGrants(t.Grants)
	p.Grants = less.within(p.Grants)
	return p, err
}

func digest(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

// SessionName names the session of a token in the records: the first digits of
// the token's digest, from which nobody can sign in.
func SessionName(token string) string { return digest(token)[:8] }
