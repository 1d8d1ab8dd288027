package access

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"oakenlatch/core/advice"

	"github.com/pquerna/otp/totp"

	"oakenlatch/core/ledger"
	"oakenlatch/service/audit"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// NewFactor is what is being set up.
type NewFactor struct {
	Ticket string
	Secret string // of an app, in Base32
	URI    string // the same for a picture that an app reads (otpauth)
	Create any    // what the browser is asked for (WebAuthn Level 3, section 5.4)
}

// BeginFactor begins to set up a second factor. The first needs the password once more.
func (a *Accounts) BeginFactor(
	ctx context.Context, p Person, token, kind, name, password, from string, site Site,
) (n NewFactor, err error) {
	acc, err := a.mine(ctx, p)
	if err != nil {
		return n, err
	}
	name = strings.TrimSpace(name)
	switch {
	case kind != CodeFactor && kind != Passkey:
		return n, refusal.New(
			refusal.Invalid, "it is code (an authenticator app) or passkey", "%q is no kind of second factor", kind,
		)
	case name == "" || utf8.RuneCountInString(name) > 80:
		return n, refusal.New(
			refusal.Invalid, "say what it is on, like: phone", "a second factor has a name of 1 to 80 characters",
		)
	case acc.Factors >= mostFactors:
		return n, refusal.New(
			refusal.Conflict, "take one away first", "an account has at most %d second factors", mostFactors,
		)
	}
	if acc.Factors == 0 {
		err := a.knows(ctx, acc, p.Name, true, password, from)
		if errors.Is(err, ErrDenied) {
			err = refusal.New(
				refusal.Forbidden, "give your password with it", "the password is wrong: nothing was set up",
			)
		}
		if err != nil {
			return n, err
		}
	}
	q := asked{account: p.Name, session: digest(token), begun: a.log.Now(), site: site, kind: kind, name: name}
	if kind == CodeFactor {
		key, err := totp.Generate(totp.GenerateOpts{Issuer: "Oaken Latch", AccountName: p.Name, Period: factorPeriod})
		if err != nil {
			return n, err
		}
		q.secret, n.Secret, n.URI = key.Secret(), key.Secret(), key.URL()
	} else if n.Create, q.challenge, err = a.createPasskey(ctx, p.Name, site); err != nil {
		return n, err
	}
	n.Ticket = a.asking.keep(q)
	return n, nil
}

// mine gives one's own account, which signs in here.
func (a *Accounts) mine(ctx context.Context, p Person) (store.Account, error) {
	acc, err := a.get(ctx, p.Name)
	switch {
	case err != nil:
	case p.Machine:
		err = refusal.New(
			refusal.Forbidden, "sign in, and do it then", "a machine's token has nothing to do with second factors",
		)
	case acc.Subject != "":
		err = refusal.New(refusal.Conflict, "it is set up at "+acc.Issuer, "account %s does not sign in here", p.Name)
	}
	return acc, err
}

// AddFactor ends the setting up: the factor is shown once. With the first come recovery codes, which are given this
// once.
func (a *Accounts) AddFactor(
	ctx context.Context, p Person, token, ticket string, s Shown,
) (f store.Factor, codes []string, err error) {
	now := a.log.Now()
	q, err := a.asking.take(ticket, now)
	if err != nil {
		return f, nil, err
	}
	if q.account != p.Name || q.session != digest(token) || q.kind == "" {
		return f, nil, refusal.New(refusal.Forbidden, "begin again", "you are not setting up a second factor")
	}
	id := make([]byte, 4)
	_, _ = rand.Read(id) // never fails (crypto/rand)
	f = store.Factor{ID: hex.EncodeToString(id), Account: p.Name, Kind: q.kind, Name: q.name, Created: now}
	var secret []byte
	if q.kind == CodeFactor {
		at := stepOf(q.secret, strings.ReplaceAll(s.Code, " ", ""), now)
		if at == 0 {
			a.asking.again(q, ticket, ErrShown)
			return f, nil, refusal.New(
				refusal.Invalid,
				fmt.Sprintf("look whether both clocks are right: here it is %s", now.UTC().Format("15:04:05 MST")),
				"the code is not the one that the app shows now; nothing was set up yet",
			)
		}
		a.asking.step(f.ID, at)
		secret = []byte(q.secret)
	} else if secret, err = a.createdPasskey(q, s.Passkey); err != nil {
		return f, nil, err
	}
	f.Secret = a.opt.Sealer.Seal(secret, Purpose("factors", f.ID))
	var hashes []string
	err = a.log.Write(ctx, func(tx *audit.Tx) error {
		have, err := tx.CountFactors(p.Name)
		if err != nil {
			return err
		}
		if err := tx.AddFactor(f); err != nil {
			return err
		}
		if codes = nil; have == 0 {
			codes, hashes = newRecovery(p.Name)
			// Sessions that began without it end: nobody knows whose they are.
			if err := errors.Join(tx.SetRecovery(p.Name, hashes), tx.DropSessions(p.Name, q.session)); err != nil {
				return err
			}
		}
		if err := tx.SetProven(q.session, now); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: p.Name, Action: "factor.add", After: f.Kind, Note: f.ID + ": " + f.Name})
	})
	return f, codes, err
}

// NewRecovery gives an account other recovery codes, once; those of before are worthless.
func (a *Accounts) NewRecovery(ctx context.Context, p Person) ([]string, error) {
	acc, err := a.mine(ctx, p)
	if err != nil {
		return nil, err
	}
	if acc.Factors == 0 {
		return nil, refusal.New(
			refusal.Conflict, "set one up",
			"account %s has no second factor, which recovery codes stand in for", p.Name,
		).Do(advice.AddFactor)
	}
	codes, hashes := newRecovery(p.Name)
	return codes, a.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.SetRecovery(p.Name, hashes); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: p.Name, Action: "factor.codes", Note: "other recovery codes"})
	})
}

// DropFactor takes one's own factor away. One that the account has to have stays.
func (a *Accounts) DropFactor(ctx context.Context, p Person, id string) error {
	if _, err := a.mine(ctx, p); err != nil {
		return err
	}
	return a.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.DropFactor(p.Name, id); errors.Is(err, store.ErrNotFound) {
			return refusal.New(
				refusal.NotFound, "list them", "account %s has no second factor %q", p.Name, id,
			).Do(advice.ListFactors)
		} else if err != nil {
			return err
		}
		left, err := tx.CountFactors(p.Name)
		if err != nil {
			return err
		}
		if left == 0 {
			if a.Requires(p.Grants) {
				return refusal.New(
					refusal.Conflict, "set up another first",
					"account %s has to have a second factor, and this is its last", p.Name,
				).Do(advice.AddFactor)
			}
			if err := tx.DropFactors(p.Name); err != nil { // its recovery codes
				return err
			}
		}
		return tx.Record(ledger.Entry{Actor: p.Name, Action: "factor.drop", Before: id})
	})
}

// ResetFactors takes all second factors of somebody's account away, who lost them: it signs in with its
// password alone until it sets up others. Its sessions end.
func (a *Accounts) ResetFactors(ctx context.Context, by, name string) error {
	if _, err := a.get(ctx, name); err != nil {
		return err
	}
	return a.log.Write(ctx, func(tx *audit.Tx) error { return a.resetFactors(tx, by, name, "") })
}

func (a *Accounts) resetFactors(tx *audit.Tx, by, name, note string) error {
	a.lent.dropOf(name)
	if err := errors.Join(tx.DropFactors(name), tx.DropSessions(name, "")); err != nil {
		return err
	}
	return tx.Record(ledger.Entry{Actor: by, Action: resetFactors, Note: name + note})
}

// ProposeReset proposes the same, where others have to agree: who takes a factor away could take the
// account over.
func (a *Accounts) ProposeReset(ctx context.Context, by Person, name string) (store.Proposal, error) {
	if _, err := a.get(ctx, name); err != nil {
		return store.Proposal{}, err
	}
	return a.propose(ctx, by, resetFactors, act{Account: name}, "take all second factors of account "+name+" away")
}
