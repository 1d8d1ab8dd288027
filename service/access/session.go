package access

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"oakenlatch/core/advice"

	"github.com/alexedwards/argon2id"

	"oakenlatch/core/ledger"
	"oakenlatch/service/audit"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// ErrEnded is given for a session or token that has ended, or never was.
var ErrEnded = errors.New("the session or token has ended, or never was")

// ThrottledError is given where sign-in is tried again too soon.
type ThrottledError struct{ Wait time.Duration }

func (e *ThrottledError) Error() string {
	return fmt.Sprintf(
		"sign-in was tried too often with something wrong: it is tried again no sooner than in %s",
		e.Wait.Round(time.Second),
	)
}

// Login gives a session for a name and password. Both a wrong and a right try are
// in the ledger; tries that come too soon are counted with the next that is not. An account with a second
// factor is asked for that: the error is a SecondError.
func (a *Accounts) Login(
	ctx context.Context, name, password, from string, site Site,
) (token string, expires time.Time, p Person, err error) {
	acc, err := a.store.Account(ctx, name)
	known := err == nil && acc.Closed.IsZero() && acc.Hash != ""
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return "", expires, p, err
	}
	if err := a.knows(ctx, acc, name, known, password, from); err != nil {
		return "", expires, p, err
	}
	if acc.Factors > 0 {
		second, err := a.ask(ctx, name, "", site)
		if err == nil {
			err = second
		}
		return "", expires, p, err
	}
	token, expires, err = a.begin(
		ctx, acc, from, time.Time{}, ledger.Entry{Actor: name, Action: "login", Note: "from " + from},
	)
	if err == nil {
		p, err = person(acc, store.Token{})
		p.Lacks = a.Lacks(acc)
	}
	return token, expires, p, err
}

// knows reports whether somebody knows an account's password: nil, ErrDenied, or that it is
// tried too soon. Who tries is slowed, and a wrong try is entered.
func (a *Accounts) knows(ctx context.Context, acc store.Account, name string, known bool, password, from string) error {
	familiar, err := a.familiar(ctx, name, from)
	if err != nil {
		return err
	}
	if wait := a.throttle.wait(name, from, familiar); wait > 0 {
		return &ThrottledError{wait}
	}
	ok, err := a.matches(ctx, name, password, from, acc.Hash, known, familiar)
	if err != nil {
		return err
	}
	if ok {
		a.throttle.passed(name, from)
		return nil
	}
	unlooked := a.throttle.failed(name, from)
	denied := a.log.Write(ctx, func(tx *audit.Tx) error {
		note := fmt.Sprintf("%.40q from %s", name, from)
		if unlooked > 0 {
			note += fmt.Sprintf("; %d tries before it came too soon and were not looked at", unlooked)
		}
		return tx.Record(ledger.Entry{Actor: audit.Service, Action: "login.denied", Note: note})
	})
	return errors.Join(ErrDenied, denied)
}

// turn waits for one's turn to work on a password: that takes memory, whoever asks.
func (a *Accounts) turn(ctx context.Context) (over func(), err error) {
	select {
	case a.hashers <- struct{}{}:
		return func() { <-a.hashers }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// familiar reports whether an account has a session from an address.
func (a *Accounts) familiar(ctx context.Context, name, from string) (bool, error) {
	list, err := a.store.Tokens(ctx, name)
	return slices.ContainsFunc(list, func(t store.Token) bool { return t.Source == from }), err
}

// matches compares a password, as long as a wrong one takes where there is none. Who
// tries many at once waits here, and is told that they came too soon.
func (a *Accounts) matches(ctx context.Context, name, password, from, hash string, known, familiar bool) (bool, error) {
	if !known {
		hash = a.decoy
	}
	over, err := a.turn(ctx)
	if err != nil {
		return false, err
	}
	defer over()
	if wait := a.throttle.wait(name, from, familiar); wait > 0 {
		return false, &ThrottledError{wait}
	}
	ok, err := argon2id.ComparePasswordAndHash(password, hash)
	return ok && known, err
}

// begin begins a session.
func (a *Accounts) begin(
	ctx context.Context, acc store.Account, from string, proven time.Time, e ledger.Entry,
) (token string, expires time.Time, err error) {
	token = rand.Text()
	now := a.log.Now()
	expires = now.Add(a.opt.Life)
	t := store.Token{
		Hash: digest(token), Account: acc.Name, Kind: "session", Created: now, Expires: expires, Used: now,
		Source: from, Proven: proven,
	}
	err = a.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.DropEnded(now, now.Add(-a.opt.Idle)); err != nil {
			return err
		}
		if err := tx.AddToken(t); err != nil {
			return err
		}
		return tx.Record(e)
	})
	if err != nil && a.lent.add(t, e) {
		slog.Error(
			"a session could not be put on record, and is let in all the same while the service runs", "account",
			acc.Name, "from", from, "error", err,
		)
		err = nil
	}
	return token, expires, err
}

// usedEvery is how exactly it is kept when a session was used last, and movedEvery
// from where: what is kept waits for the disk.
const (
	usedEvery  = time.Minute
	movedEvery = 10 * time.Second
)

// Who gives the person that a session or token stands for.
func (a *Accounts) Who(ctx context.Context, token, from string) (Person, error) {
	p, t, _, err := a.lets(ctx, token)
	if err != nil {
		return Person{}, err
	}
	now := a.log.Now()
	if since := now.Sub(t.Used); since > usedEvery || t.Source != from && since > movedEvery {
		// That it could not be stored, as on a full disk, lets nobody out.
		if err := a.store.Write(ctx, func(tx *store.Tx) error { return tx.UseToken(t.Hash, now, from) }); err != nil {
			slog.Error("when a session was used last could not be stored", "account", p.Name, "error", err)
		}
	}
	return p, nil
}

// Lets gives the person that a session or token still stands for, and when that is to be asked
// again at the latest; it does not count as using it. What may change before is told by [store.Store.Fewer].
func (a *Accounts) Lets(ctx context.Context, token string) (Person, time.Time, error) {
	p, _, until, err := a.lets(ctx, token)
	return p, until, err
}

func (a *Accounts) lets(ctx context.Context, token string) (p Person, t store.Token, until time.Time, err error) {
	now := a.log.Now()
	t, acc, err := a.tokenAccount(ctx, digest(token))
	if errors.Is(err, store.ErrNotFound) {
		err = ErrEnded
	}
	if err != nil {
		return p, t, until, err
	}
	until = t.Expires
	if idle := t.Used.Add(a.opt.Idle); t.Kind == "session" && idle.Before(until) {
		until = idle
	}
	if !until.After(now) || !acc.Closed.IsZero() {
		return p, t, until, ErrEnded
	}
	p, err = person(acc, t)
	p.Machine = t.Kind == "machine"
	p.Lacks = !p.Machine && a.Lacks(acc)
	return p, t, until, err
}

// Logout ends a session.
func (a *Accounts) Logout(ctx context.Context, p Person, token string) error {
	a.lent.drop(digest(token))
	return a.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.DropToken(digest(token)); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: p.Name, Action: "logout"})
	})
}

// NewToken is what a machine is let in with.
type NewToken struct {
	Name  string
	May   Grants // nil is all that the account may
	Until time.Time
}

// longestToken is the most that a token may last.
const longestToken = 400 * 24 * time.Hour

// AddToken makes a token for a machine, that stands for a person's account, or for
// less. It is given once; what is kept is its hash.
func (a *Accounts) AddToken(ctx context.Context, p Person, n NewToken) (string, store.Token, error) {
	if p.Machine {
		return "", store.Token{}, refusal.New(
			refusal.Forbidden, "sign in, and make it then", "a machine's token makes no others",
		)
	}
	now := a.log.Now()
	t := store.Token{Account: p.Name, Kind: "machine", Name: strings.TrimSpace(n.Name), Created: now, Expires: n.Until}
	switch {
	case t.Name == "" || utf8.RuneCountInString(t.Name) > 80:
		return "", t, refusal.New(
			refusal.Invalid, "say which machine uses it", "a token has a name of 1 to 80 characters",
		)
	case !n.Until.After(now) || n.Until.After(now.Add(longestToken)):
		return "", t, refusal.New(
			refusal.Invalid, "", "a token has an end, from now on to %s", now.Add(longestToken).Format("2006-01-02"),
		)
	}
	if n.May != nil {
		if !n.May.inside(p.Grants) {
			return "", t, refusal.New(
				refusal.Forbidden, "it may: "+strings.Join(p.Grants.Texts(), " "),
				"account %s may not all of %s, so a token of it may not either", p.Name,
				strings.Join(n.May.Texts(), " "),
			)
		}
		t.Grants = n.May.Texts()
	}
	token := rand.Text()
	t.Hash = digest(token)
	return token, t, a.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.AddToken(t); err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: p.Name, Action: "token.add", After: strings.Join(t.Grants, " "),
				Note: fmt.Sprintf("%s, until %s", t.Name, t.Expires.UTC().Format(time.RFC3339)),
			},
		)
	})
}

// Tokens lists the sessions and tokens that still let in: a person's own, or for
// an administrator all.
func (a *Accounts) Tokens(ctx context.Context, p Person) ([]store.Token, error) {
	name := p.Name
	if p.Administers() {
		name = ""
	}
	list, err := a.store.Tokens(ctx, name)
	now := a.log.Now()
	return slices.DeleteFunc(list, func(t store.Token) bool {
		return !t.Expires.After(now) || t.Kind == "session" && now.Sub(t.Used) > a.opt.Idle
	}), err
}

// End ends a session or token, by the name that ID gives.
func (a *Accounts) End(ctx context.Context, p Person, id string) error {
	list, err := a.Tokens(ctx, p)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(list, func(t store.Token) bool { return ID(t) == id })
	if i < 0 {
		return refusal.New(
			refusal.NotFound, "list them", "there is no session or token %q that you may end",
			id,
		).Do(advice.ListTokens)
	}
	t := list[i]
	if p.Machine {
		return refusal.New(refusal.Forbidden, "sign in, and end it then", "a machine's token ends no others")
	}
	return a.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.DropToken(t.Hash); err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: p.Name, Action: "token.end",
				Note: strings.TrimSpace(fmt.Sprintf("%s %s of %s %s", t.Kind, ID(t), t.Account, t.Name)),
			},
		)
	})
}

// ID names a session or token: the first digits of its hash, as the ledger has
// them.
func ID(t store.Token) string { return t.Hash[:8] }
