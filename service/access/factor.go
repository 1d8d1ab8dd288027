package access

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"oakenlatch/core/ledger"
	"oakenlatch/service/audit"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Second factors: what a person shows beside their password when they sign in, and anew
// before what is grave. An authenticator app's code (TOTP, RFC 6238) or a passkey (WebAuthn); where
// both are lost, a recovery code.

// The kinds of second factors.
const (
	CodeFactor = "code"
	Passkey    = "passkey"
	recovery   = "recovery"
)

const (
	freshFor     = 5 * time.Minute // so long after it was shown a factor counts for what is grave
	askedFor     = 5 * time.Minute // so long an answer is waited for
	mostAsked    = 2000
	mostOfOne    = 20 // of those, of one account
	mostFactors  = 10 // of an account
	mostShown    = 5  // times that one is asked, and shows something wrong
	recoveries   = 10 // codes that are given
	factorPeriod = 30 // seconds of a code, as all apps have it
)

// Needs says who has to have a second factor: everybody, or who holds one of the roles.
type Needs struct {
	All   bool
	Roles []Role
}

// ParseNeeds reads none, all, or roles with commas.
func ParseNeeds(text string) (n Needs, err error) {
	switch text {
	case "", "none":
		return n, nil
	case "all":
		return Needs{All: true}, nil
	}
	for _, word := range strings.Split(text, ",") {
		r := Role(strings.TrimSpace(word))
		if !slices.Contains(Roles, r) {
			return n, refusal.New(
				refusal.Invalid, "write none, all, or roles with commas: "+roleNames(), "%q is no role", word,
			)
		}
		n.Roles = append(n.Roles, r)
	}
	return n, nil
}

func (n Needs) of(may Grants) bool { return n.All || slices.ContainsFunc(n.Roles, may.Somewhere) }

// SecondError is given where a password alone does not let in, or a factor is to be
// shown anew: who is to show what.
type SecondError struct {
	Anew    bool   // one is signed in, and shows it for what is grave
	Ticket  string // to come back with
	Ways    []string
	Passkey any // what the browser is asked for (WebAuthn Level 3, section 5.5), nil without one
}

func (e *SecondError) Error() string {
	if e.Anew {
		return "this is a sensitive action: show your second factor again, which counts for five minutes"
	}
	return "the password is right, and this account signs in with a second factor, too"
}

// Shown is what somebody shows of a second factor.
type Shown struct {
	Code    string // of the app, or a recovery code
	Passkey []byte // the browser's answer (JSON)
}

// Site is by which name a browser reaches the service: passkeys are bound to it.
type Site struct{ Host, Origin string }

// Factors lists the second factors of an account, and how many recovery codes it has left.
func (a *Accounts) Factors(ctx context.Context, account string) ([]store.Factor, int, error) {
	list, err := a.store.Factors(ctx, account)
	if err != nil {
		return nil, 0, err
	}
	left, err := a.store.Recovery(ctx, account)
	return list, len(left), err
}

// Lacks reports whether an account has to have a second factor, and has none.
func (a *Accounts) Lacks(acc store.Account) bool {
	may, err := ParseGrants(acc.Grants)
	return err == nil && acc.Factors == 0 && acc.Subject == "" && acc.Closed.IsZero() && a.Requires(may)
}

// Requires reports whether an account of these roles has to have a second factor.
func (a *Accounts) Requires(may Grants) bool { return a.opt.Second.of(may) }

// ask gives what is to be shown of an account's factors.
func (a *Accounts) ask(ctx context.Context, account, session string, site Site) (*SecondError, error) {
	list, left, err := a.Factors(ctx, account)
	if err != nil {
		return nil, err
	}
	out := &SecondError{Anew: session != "", Ways: []string{}}
	one := asked{account: account, session: session, begun: a.log.Now(), site: site}
	if slices.ContainsFunc(list, func(f store.Factor) bool { return f.Kind == CodeFactor }) {
		out.Ways = append(out.Ways, CodeFactor)
	}
	u, err := a.passkeys(list, account, site)
	if err != nil {
		return nil, err
	}
	if len(u.credentials) > 0 {
		w, err := relying(site)
		if err != nil {
			return nil, err
		}
		options, challenge, err := w.BeginLogin(u)
		if err != nil {
			return nil, err
		}
		out.Ways, out.Passkey, one.challenge = append(out.Ways, Passkey), options, challenge
	}
	if left > 0 {
		out.Ways = append(out.Ways, recovery)
	}
	out.Ticket = a.asking.keep(one)
	return out, nil
}

// throttleKey is under what wrong codes of an account are counted, wherever they come from: who gets so far
// knows the password.
const throttleKey = "second factor"

// shows checks what somebody shows of their second factors: how it is told of in the record,
// or ErrShown. Wrong tries are slowed and entered.
func (a *Accounts) shows(ctx context.Context, q asked, s Shown, from string) (how string, err error) {
	if err := a.oneTry(q.account); err != nil {
		return "", err
	}
	list, err := a.store.Factors(ctx, q.account)
	if err != nil {
		return "", err
	}
	if len(s.Passkey) > 0 {
		how, err = a.showsPasskey(ctx, q, list, s.Passkey)
	} else {
		how, err = a.showsCode(ctx, q.account, list, s.Code)
	}
	if err == nil {
		a.throttle.passed(q.account, throttleKey)
		return how, nil
	}
	if !errors.Is(err, ErrShown) {
		return "", err
	}
	return "", errors.Join(err, a.log.Write(ctx, func(tx *audit.Tx) error {
		return tx.Record(
			ledger.Entry{
				Actor: audit.Service, Action: "login.denied",
				Note: fmt.Sprintf("%q from %s: the second factor was wrong", q.account, from),
			},
		)
	}))
}

// oneTry counts a try as wrong before it is looked at, so that of many at once no more are looked at than one
// after the other; a right one takes that back.
func (a *Accounts) oneTry(account string) error {
	a.asking.mu.Lock()
	defer a.asking.mu.Unlock()
	if wait := a.throttle.wait(account, throttleKey, true); wait > 0 {
		return &ThrottledError{wait}
	}
	a.throttle.failed(account, throttleKey)
	return nil
}

// ErrShown is given for a second factor that is wrong, or was used before.
var ErrShown = errors.New("the second factor is wrong, or was used before")

// note keeps that something was shown. That it could not be stored, as on a full disk, keeps nobody out who
// has to decide about a hold: that it is used up is known while the service runs.
func (a *Accounts) note(ctx context.Context, what string, f func(*store.Tx) error) error {
	err := a.store.Write(ctx, f)
	if errors.Is(err, store.ErrNotFound) {
		return ErrShown // used at this very moment
	}
	if err != nil {
		slog.Error("that a second factor was used could not be stored", "what", what, "error", err)
	}
	return nil
}

// LoginSecond goes on with a sign-in whose password was right.
func (a *Accounts) LoginSecond(
	ctx context.Context, ticket string, s Shown, from string,
) (token string, expires time.Time, p Person, err error) {
	q, err := a.asking.take(ticket, a.log.Now())
	if err == nil && (q.session != "" || q.kind != "") {
		err = refusal.New(refusal.Forbidden, "begin again", "you were not asked for that at sign-in")
	}
	if err != nil {
		return "", expires, p, err
	}
	how, err := a.shows(ctx, q, s, from)
	if err != nil {
		a.asking.again(q, ticket, err)
		return "", expires, p, err
	}
	acc, err := a.store.Account(ctx, q.account)
	if err != nil || !acc.Closed.IsZero() {
		return "", expires, p, errors.Join(ErrDenied, err)
	}
	token, expires, err = a.begin(
		ctx, acc, from, a.log.Now(),
		ledger.Entry{Actor: acc.Name, Action: "login", Note: "from " + from + ", with " + how},
	)
	if err == nil {
		p, err = person(acc, store.Token{})
	}
	return token, expires, p, err
}

// Fresh says why a person may not do something grave just now: they have a second factor, and have not
// shown it for a while. Who signs in elsewhere shows it there.
func (a *Accounts) Fresh(ctx context.Context, p Person, token string, site Site) error {
	need := a.Requires(p.Grants)
	if p.Factors == 0 && !need {
		return nil
	}
	if p.Machine {
		return refusal.New(
			refusal.Forbidden, "sign in, and do it then", "a machine's token shows no second factor, which this needs",
		)
	}
	if a.log.Now().Sub(p.proven) <= freshFor {
		return nil
	}
	if p.Elsewhere {
		return refusal.New(
			refusal.Forbidden, "sign out and in again, where you sign in elsewhere",
			"this needs that you signed in less than five minutes ago",
		)
	}
	second, err := a.ask(ctx, p.Name, digest(token), site)
	if err != nil {
		return err
	}
	return second
}

// Prove takes a second factor that a person shows anew. The ticket is the one they were given, or "" with a code.
func (a *Accounts) Prove(ctx context.Context, p Person, token, ticket string, s Shown, from string) error {
	q := asked{account: p.Name, session: digest(token), begun: a.log.Now()}
	if ticket != "" {
		var err error
		if q, err = a.asking.take(ticket, a.log.Now()); err != nil {
			return err
		}
	}
	if p.Machine || q.account != p.Name || q.session != digest(token) || q.kind != "" {
		return refusal.New(refusal.Forbidden, "begin again", "it was not you who was asked for that")
	}
	how, err := a.shows(ctx, q, s, from)
	if err != nil {
		a.asking.again(q, ticket, err)
		return err
	}
	return a.proven(ctx, p.Name, q.session, "with "+how)
}

func (a *Accounts) proven(ctx context.Context, account, session, note string) error {
	now := a.log.Now()
	err := a.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.SetProven(session, now); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: account, Action: "factor.show", Note: note})
	})
	if err != nil && a.lent.prove(session, now) {
		return nil
	}
	return err
}
