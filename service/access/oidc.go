package access

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"oakenlatch/core/ledger"
	"oakenlatch/service/audit"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// OIDC is who vouches for people beside us (OpenID Connect Core 1.0), and what
// their groups may do here.
type OIDC struct {
	Issuer, Client, Secret string
	Redirect               string // where they are sent afterwards
	NameClaim, GroupsClaim string
	Scopes                 []string          // beside openid
	Grants                 map[string]Grants // by group

	mu       sync.Mutex
	provider *oidc.Provider
}

// SignInAttempt is what has to come back from who vouches: kept by the browser meanwhile.
type SignInAttempt struct {
	State, Nonce, Verifier string
	Page                   string // to go on to
}

// providerTimeout bounds what is asked of who vouches.
const providerTimeout = 15 * time.Second

// client gives how the provider is spoken to. It is looked up at the first use, so
// that one that is down keeps nobody with an account here out.
func (o *OIDC) client(ctx context.Context) (*oauth2.Config, *oidc.Provider, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.provider == nil {
		p, err := oidc.NewProvider(
			oidc.ClientContext(context.WithoutCancel(ctx), &http.Client{Timeout: providerTimeout}), o.Issuer,
		)
		if err != nil {
			return nil, nil, refusal.New(
				refusal.Conflict, "try again, or sign in with an account of this service",
				"%s, who vouches for people, does not answer as it should: %v", o.Issuer, err,
			)
		}
		o.provider = p
	}
	return &oauth2.Config{
		ClientID: o.Client, ClientSecret: o.Secret, Endpoint: o.provider.Endpoint(), RedirectURL: o.Redirect,
		Scopes: append([]string{oidc.ScopeOpenID}, o.Scopes...),
	}, o.provider, nil
}

// Begin gives where a person is sent to sign in, and what has to come back.
func (o *OIDC) Begin(ctx context.Context, page string) (string, SignInAttempt, error) {
	w := SignInAttempt{State: rand.Text(), Nonce: rand.Text(), Verifier: oauth2.GenerateVerifier(), Page: ownPage(page)}
	c, _, err := o.client(ctx)
	if err != nil {
		return "", w, err
	}
	return c.AuthCodeURL(w.State, oidc.Nonce(w.Nonce), oauth2.S256ChallengeOption(w.Verifier)), w, nil
}

var pagePath = regexp.MustCompile(`^/[A-Za-z0-9._~/?=&%@:+-]*$`)

// ownPage gives a page of the console, and / for anything else: nobody is sent on
// to another site.
func ownPage(page string) string {
	if !pagePath.MatchString(page) || strings.HasPrefix(page, "//") || strings.Contains(page, "..") {
		return "/"
	}
	return page
}

// claims are what is read of a person.
type claims struct {
	subject, name string
	groups        []string
}

// Back reads what came back of who vouches.
func (o *OIDC) back(ctx context.Context, w SignInAttempt, state, code string) (claims, error) {
	if w.State == "" || state != w.State || code == "" {
		return claims{}, refusal.New(
			refusal.Invalid, "sign in again", "what came back belongs to no sign-in that was begun in this browser",
		)
	}
	c, provider, err := o.client(ctx)
	if err != nil {
		return claims{}, err
	}
	ctx, cancel := context.WithTimeout(oidc.ClientContext(ctx, &http.Client{Timeout: providerTimeout}), providerTimeout)
	defer cancel()
	denied := func(err error) error {
		return refusal.New(
			refusal.Forbidden, "sign in again", "%s did not vouch for this sign-in: %v", o.Issuer, short(err),
		)
	}
	token, err := c.Exchange(ctx, code, oauth2.VerifierOption(w.Verifier))
	if err != nil {
		return claims{}, denied(err)
	}
	raw, ok := token.Extra("id_token").(string)
	if !ok {
		return claims{}, denied(errors.New("it gave no ID token"))
	}
	id, err := provider.Verifier(&oidc.Config{ClientID: o.Client}).Verify(ctx, raw)
	if err != nil {
		return claims{}, denied(err)
	}
	if id.Nonce != w.Nonce {
		return claims{}, denied(errors.New("its nonce is another"))
	}
	var all map[string]any
	if err := id.Claims(&all); err != nil {
		return claims{}, denied(err)
	}
	out := claims{subject: id.Subject}
	out.name, _ = all[o.NameClaim].(string)
	switch list := all[o.GroupsClaim].(type) {
	case []any:
		for _, g := range list {
			if name, ok := g.(string); ok {
				out.groups = append(out.groups, name)
			}
		}
	case string:
		out.groups = append(out.groups, list)
	}
	return out, nil
}

// short keeps what an error of somebody else's says to what is worth being shown.
func short(err error) string {
	var re *oauth2.RetrieveError
	if errors.As(err, &re) && re.ErrorCode != "" {
		return re.ErrorCode
	}
	text := err.Error()
	return strings.ToValidUTF8(text[:min(len(text), 200)], "")
}

// SignInExternally begins a session for a person whom somebody else vouches for. Their
// account is made at the first time, and may what their groups may, as they are now.
func (a *Accounts) SignInExternally(
	ctx context.Context, o *OIDC, w SignInAttempt, state, code, from string,
) (token string, expires time.Time, p Person, err error) {
	c, err := o.back(ctx, w, state, code)
	if err != nil {
		return "", expires, p, errors.Join(err, a.deniedExternally(ctx, o, from, err.Error()))
	}
	var may Grants
	for _, g := range c.groups {
		for _, one := range o.Grants[g] {
			if !slices.Contains(may, one) {
				may = append(may, one)
			}
		}
	}
	acc, err := a.store.AccountOf(ctx, o.Issuer, c.subject)
	fresh := errors.Is(err, store.ErrNotFound)
	if err != nil && !fresh {
		return "", expires, p, err
	}
	err = nil
	if fresh {
		acc = store.Account{Name: strings.ToLower(c.name), Created: a.log.Now(), Issuer: o.Issuer, Subject: c.subject}
		if err := named(acc.Name); err != nil {
			return "", expires, p, refusal.New(
				refusal.Forbidden, "its "+o.NameClaim+" has to be one",
				"%s vouches for %.40q, which is no name for an account here", o.Issuer, c.name,
			)
		}
	}
	switch {
	case !acc.Closed.IsZero():
		err = refusal.New(refusal.Forbidden, "ask an administrator", "account %s is closed", acc.Name)
	case len(may) == 0:
		err = refusal.New(
			refusal.Forbidden, "ask an administrator: --oidc-grant says what groups may do",
			"none of the groups of %s may do anything here", acc.Name,
		)
	}
	if err != nil {
		if !fresh && acc.Closed.IsZero() && len(acc.Grants) > 0 { // what its groups gave goes with them
			err = errors.Join(err, a.log.Write(ctx, func(tx *audit.Tx) error { return regrant(tx, acc, Grants{}, o) }))
		}
		return "", expires, p, errors.Join(err, a.deniedExternally(ctx, o, from, err.Error()))
	}
	err = a.log.Write(ctx, func(tx *audit.Tx) error {
		if fresh {
			acc.Grants = may.Texts()
			if err := tx.AddAccount(acc); errors.Is(err, store.ErrExists) {
				return refusal.New(
					refusal.Forbidden, "an administrator has to give one of them another name",
					"account %s is somebody else's, whom %s does not vouch for", acc.Name, o.Issuer,
				)
			} else if err != nil {
				return err
			}
			return tx.Record(
				ledger.Entry{
					Actor: audit.Service, Action: "account.add", After: strings.Join(acc.Grants, " "),
					Note: acc.Name + ", vouched for by " + o.Issuer,
				},
			)
		}
		return regrant(tx, acc, may, o)
	})
	if err != nil {
		return "", expires, p, err
	}
	acc.Grants = may.Texts()
	token, expires, err = a.begin(
		ctx, acc, from, time.Time{},
		ledger.Entry{Actor: acc.Name, Action: "login", Note: "from " + from + ", vouched for by " + o.Issuer},
	)
	return token, expires, Person{Name: acc.Name, Grants: may}, err
}

// regrant says what an account may do by its groups now.
func regrant(tx *audit.Tx, acc store.Account, may Grants, o *OIDC) error {
	if slices.Equal(acc.Grants, may.Texts()) {
		return nil
	}
	if err := tx.SetGrants(acc.Name, may.Texts()); err != nil {
		return err
	}
	return tx.Record(
		ledger.Entry{
			Actor: audit.Service, Action: "account.may", Before: strings.Join(acc.Grants, " "),
			After: strings.Join(may.Texts(), " "), Note: acc.Name + ", by its groups at " + o.Issuer,
		},
	)
}

func (a *Accounts) deniedExternally(ctx context.Context, o *OIDC, from, why string) error {
	return a.log.Write(ctx, func(tx *audit.Tx) error {
		return tx.Record(
			ledger.Entry{
				Actor: audit.Service, Action: "login.denied",
				Note: fmt.Sprintf("by %s, from %s: %.200s", o.Issuer, from, why),
			},
		)
	})
}

// Pack and Unpack put a way where the browser keeps it: sealed, so that it is ours.
func (w SignInAttempt) Pack(s *Sealer) (string, error) {
	text, err := json.Marshal(w)
	return fmt.Sprintf("%x", s.Seal(text, "sign-in elsewhere")), err
}

// Unpack reads what Pack made.
func Unpack(s *Sealer, text string) (w SignInAttempt, err error) {
	var sealed []byte
	if _, err := fmt.Sscanf(text, "%x", &sealed); err != nil {
		return w, err
	}
	body, err := s.Open(sealed, "sign-in elsewhere")
	if err != nil {
		return w, err
	}
	return w, json.Unmarshal(body, &w)
}
