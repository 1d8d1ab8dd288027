package access

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-webauthn/webauthn/webauthn"
	"github.com/pquerna/otp/hotp"
	"github.com/pquerna/otp/totp"

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
			return n, refusal.New(refusal.Invalid, "write none, all, or roles with commas: "+roleNames(), "%q is no role", word)
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
		return "this is grave: show your second factor again, which counts for five minutes"
	}
	return "the password is right, and this account signs in with a second factor, too"
}

// Shown is what somebody shows of a second factor.
type Shown struct {
	Code    string // of the app, or a recovery code
	Passkey []byte // the browser's answer (JSON)
}

// asking remembers who was asked for what, while the service runs.
type asking struct {
	mu   sync.Mutex
	list map[string]asked
	used map[string]int64 // by factor: the last step of which a code was taken, whether that could be kept or not
	gone map[string]bool  // recovery codes that were used, by hash
}

type asked struct {
	account, session string // session is "" at sign-in
	begun            time.Time
	tries            int
	challenge        *webauthn.SessionData
	site             Site
	kind, name       string // of a factor that is to be added
	secret           string
}

// Site is by which name a browser reaches the service: passkeys are bound to it.
type Site struct{ Host, Origin string }

// keep remembers that somebody was asked, and gives what to come back with.
func (q *asking) keep(a asked) string {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.list == nil {
		q.list = map[string]asked{}
	}
	for t, other := range q.list {
		if a.begun.Sub(other.begun) > askedFor || len(q.list) >= mostAsked {
			delete(q.list, t)
		}
	}
	ticket := rand.Text()
	q.list[ticket] = a
	return ticket
}

// take gives what a ticket stands for, which lets in once.
func (q *asking) take(ticket string, now time.Time) (asked, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	a, ok := q.list[ticket]
	delete(q.list, ticket)
	if !ok || now.Sub(a.begun) > askedFor {
		return a, refusal.New(refusal.Forbidden, "begin again", "you were not asked for that, or more than five minutes ago")
	}
	return a, nil
}

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
func (a *Accounts) Requires(may Grants) bool { return a.Second.of(may) }

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

// slowedAs is under what wrong codes of an account are counted, wherever they come from: who gets so far
// knows the password.
const slowedAs = "second factor"

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
		a.slow.passed(q.account, slowedAs)
		return how, nil
	}
	if !errors.Is(err, ErrShown) {
		return "", err
	}
	return "", errors.Join(err, a.log.Write(ctx, func(tx *audit.Tx) error {
		return tx.Record(ledger.Entry{Actor: audit.Service, Action: "login.denied", Note: fmt.Sprintf("%q from %s: the second factor was wrong", q.account, from)})
	}))
}

// oneTry counts a try as wrong before it is looked at, so that of many at once no more are looked at than one
// after the other; a right one takes that back.
func (a *Accounts) oneTry(account string) error {
	a.asking.mu.Lock()
	defer a.asking.mu.Unlock()
	if wait := a.slow.wait(account, slowedAs, true); wait > 0 {
		return &SlowError{wait}
	}
	a.slow.failed(account, slowedAs)
	return nil
}

// ErrShown is given for a second factor that is wrong, or was used before.
var ErrShown = errors.New("the second factor is wrong, or was used before")

// showsCode checks a code: an app's by RFC 6238 with a step either way (section 5.2), each step once, or a
// recovery code.
func (a *Accounts) showsCode(ctx context.Context, account string, list []store.Factor, code string) (string, error) {
	code = strings.ToLower(strings.NewReplacer(" ", "", "-", "").Replace(code))
	if len(code) > 6 {
		return a.recovers(ctx, account, code)
	}
	now := a.log.Now()
	for _, f := range list {
		if f.Kind != CodeFactor {
			continue
		}
		secret, err := a.Sealer.Open(f.Secret, Purpose("factors", f.ID))
		if err != nil {
			return "", err
		}
		at := stepOf(string(secret), code, now)
		if at == 0 || at <= f.Step || !a.asking.step(f.ID, at) {
			continue
		}
		f.Used, f.Step = now, at
		if err := a.note(ctx, "a code", func(tx *store.Tx) error { return tx.UseFactor(f) }); err != nil {
			return "", err
		}
		return "a code of " + f.Name, nil
	}
	return "", ErrShown
}

// stepOf gives the step of time that a code is of, 0 where it is of none near now.
func stepOf(secret, code string, now time.Time) int64 {
	at := now.Unix() / factorPeriod
	for _, step := range []int64{at, at - 1, at + 1} {
		want, err := hotp.GenerateCode(secret, uint64(step))
		if err == nil && hmac.Equal([]byte(want), []byte(code)) {
			return step
		}
	}
	return 0
}

// step notes that a code of a step was taken; false where that one, or a later one, was before.
func (q *asking) step(factor string, at int64) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.used == nil {
		q.used = map[string]int64{}
	}
	if at <= q.used[factor] {
		return false
	}
	q.used[factor] = at
	return true
}

// note keeps that something was shown. That it could not be kept, as on a full disk, keeps nobody out who
// has to decide about a hold: that it is used up is known while the service runs.
func (a *Accounts) note(ctx context.Context, what string, f func(*store.Tx) error) error {
	err := a.store.Write(ctx, f)
	if errors.Is(err, store.ErrNotFound) {
		return ErrShown // used at this very moment
	}
	if err != nil {
		slog.Error("that a second factor was used could not be kept", "what", what, "error", err)
	}
	return nil
}

func (a *Accounts) recovers(ctx context.Context, account, code string) (string, error) {
	hash := recoveryHash(account, code)
	left, err := a.store.Recovery(ctx, account)
	if err != nil {
		return "", err
	}
	if !slices.Contains(left, hash) || !a.asking.spend(hash) {
		return "", ErrShown
	}
	if err := a.note(ctx, "a recovery code", func(tx *store.Tx) error { return tx.UseRecovery(account, hash) }); err != nil {
		return "", err
	}
	return fmt.Sprintf("a recovery code, %d are left", len(left)-1), nil
}

func (q *asking) spend(hash string) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.gone[hash] {
		return false
	}
	if q.gone == nil {
		q.gone = map[string]bool{}
	}
	q.gone[hash] = true
	return true
}

// recoveryHash is how a recovery code is kept. It is random with 80 bits: nobody guesses it from its hash.
func recoveryHash(account, code string) string { return digest(account + " recovers with " + code) }

// newRecovery makes recovery codes: as they are shown, and as they are kept.
func newRecovery(account string) (codes, hashes []string) {
	for range recoveries {
		code := strings.ToLower(rand.Text()[:16])
		codes = append(codes, strings.Join([]string{code[:4], code[4:8], code[8:12], code[12:]}, "-"))
		hashes = append(hashes, recoveryHash(account, code))
	}
	return codes, hashes
}

// LoginSecond goes on with a sign-in whose password was right.
func (a *Accounts) LoginSecond(ctx context.Context, ticket string, s Shown, from string) (token string, expires time.Time, p Person, err error) {
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
	token, expires, err = a.begin(ctx, acc, from, a.log.Now(), ledger.Entry{Actor: acc.Name, Action: "login", Note: "from " + from + ", with " + how})
	if err == nil {
		p, err = person(acc, store.Token{})
	}
	return token, expires, p, err
}

// again lets somebody try once more with what they were asked, where what they showed was wrong or came too
// soon.
func (q *asking) again(a asked, ticket string, why error) {
	if a.tries++; ticket == "" || a.tries >= mostShown || !errors.Is(why, ErrShown) && !errors.As(why, new(*SlowError)) {
		return
	}
	q.mu.Lock()
	defer q.mu.Unlock()
	q.list[ticket] = a
}

// Fresh says why a person may not do something grave just now: they have a second factor, and have not
// shown it for a while. Who signs in elsewhere shows it there.
func (a *Accounts) Fresh(ctx context.Context, p Person, token string, site Site) error {
	need := a.Requires(p.Grants)
	if p.Factors == 0 && !need {
		return nil
	}
	if p.Machine {
		return refusal.New(refusal.Forbidden, "sign in, and do it then", "a machine's token shows no second factor, which this needs")
	}
	if a.log.Now().Sub(p.proven) <= freshFor {
		return nil
	}
	if p.Elsewhere {
		return refusal.New(refusal.Forbidden, "sign out and in again, where you sign in elsewhere", "this needs that you signed in less than five minutes ago")
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

// NewFactor is what is being set up.
type NewFactor struct {
	Ticket string
	Secret string // of an app, in Base32
	URI    string // the same for a picture that an app reads (otpauth)
	Create any    // what the browser is asked for (WebAuthn Level 3, section 5.4)
}

// BeginFactor begins to set up a second factor. The first needs the password once more.
func (a *Accounts) BeginFactor(ctx context.Context, p Person, token, kind, name, password, from string, site Site) (n NewFactor, err error) {
	acc, err := a.mine(ctx, p)
	if err != nil {
		return n, err
	}
	name = strings.TrimSpace(name)
	switch {
	case kind != CodeFactor && kind != Passkey:
		return n, refusal.New(refusal.Invalid, "it is code (an authenticator app) or passkey", "%q is no kind of second factor", kind)
	case name == "" || len([]rune(name)) > 80:
		return n, refusal.New(refusal.Invalid, "say what it is on, like: phone", "a second factor has a name of 1 to 80 characters")
	case acc.Factors >= mostFactors:
		return n, refusal.New(refusal.Conflict, "take one away first", "an account has at most %d second factors", mostFactors)
	}
	if acc.Factors == 0 {
		err := a.knows(ctx, acc, p.Name, true, password, from)
		if errors.Is(err, ErrDenied) {
			err = refusal.New(refusal.Forbidden, "give your password with it", "the password is wrong: nothing was set up")
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
		err = refusal.New(refusal.Forbidden, "sign in, and do it then", "a machine's token has nothing to do with second factors")
	case acc.Subject != "":
		err = refusal.New(refusal.Conflict, "it is set up at "+acc.Issuer, "account %s does not sign in here", p.Name)
	}
	return acc, err
}

// AddFactor ends the setting up: the factor is shown once. With the first come recovery codes, which are given this once.
func (a *Accounts) AddFactor(ctx context.Context, p Person, token, ticket string, s Shown) (f store.Factor, codes []string, err error) {
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
			return f, nil, refusal.New(refusal.Invalid, fmt.Sprintf("look whether both clocks are right: here it is %s", now.UTC().Format("15:04:05 MST")), "the code is not the one that the app shows now; nothing was set up yet")
		}
		a.asking.step(f.ID, at)
		secret = []byte(q.secret)
	} else if secret, err = a.createdPasskey(q, s.Passkey); err != nil {
		return f, nil, err
	}
	f.Secret = a.Sealer.Seal(secret, Purpose("factors", f.ID))
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
		return nil, refusal.New(refusal.Conflict, "set one up with: latch factor add NAME", "account %s has no second factor, which recovery codes stand in for", p.Name)
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
			return refusal.New(refusal.NotFound, "list them with: latch factor list", "account %s has no second factor %q", p.Name, id)
		} else if err != nil {
			return err
		}
		left, err := tx.CountFactors(p.Name)
		if err != nil {
			return err
		}
		if left == 0 {
			if a.Requires(p.Grants) {
				return refusal.New(refusal.Conflict, "set up another first: latch factor add NAME", "account %s has to have a second factor, and this is its last", p.Name)
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
