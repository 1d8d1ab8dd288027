package access

import (
	"context"
	"encoding/json"
	"net/url"
	"slices"
	"strings"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"

	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// passkeyUser is an account as the WebAuthn library wants it.
type passkeyUser struct {
	name        string
	credentials []webauthn.Credential
}

func (u *passkeyUser) WebAuthnID() []byte {
	return []byte(digest("oaken-latch account " + u.name)[:32])
}
func (u *passkeyUser) WebAuthnName() string                       { return u.name }
func (u *passkeyUser) WebAuthnDisplayName() string                { return u.name }
func (u *passkeyUser) WebAuthnCredentials() []webauthn.Credential { return u.credentials }

// keptPasskey is a passkey as it is kept.
type keptPasskey struct {
	Host       string              `json:"host"` // by which name it was made: it works under that alone
	Credential webauthn.Credential `json:"credential"`
}

func relying(site Site) (*webauthn.WebAuthn, error) {
	return webauthn.New(
		&webauthn.Config{RPID: site.Host, RPDisplayName: "Oaken Latch", RPOrigins: []string{site.Origin}},
	)
}

// passkeys gives those of an account's passkeys that work under the name that the service is reached by.
func (a *Accounts) passkeys(list []store.Factor, account string, site Site) (*passkeyUser, error) {
	u := &passkeyUser{name: account}
	for _, f := range list {
		if f.Kind != Passkey || site.Host == "" {
			continue
		}
		k, err := a.kept(f)
		if err != nil {
			return nil, err
		}
		if k.Host == site.Host {
			u.credentials = append(u.credentials, k.Credential)
		}
	}
	return u, nil
}

func (a *Accounts) kept(f store.Factor) (k keptPasskey, err error) {
	text, err := a.opt.Sealer.Open(f.Secret, Purpose("factors", f.ID))
	if err != nil {
		return k, err
	}
	return k, json.Unmarshal(text, &k)
}

// SiteOf reads by which name a browser reaches the service; passkeys need a name, no address.
func SiteOf(secure bool, host string) Site {
	u := url.URL{Scheme: "http", Host: host}
	if secure {
		u.Scheme = "https"
	}
	if strings.Trim(u.Hostname(), "0123456789.") == "" || strings.Contains(u.Hostname(), ":") {
		return Site{}
	}
	return Site{u.Hostname(), u.String()}
}

func (a *Accounts) createPasskey(ctx context.Context, account string, site Site) (any, *webauthn.SessionData, error) {
	if site.Host == "" {
		return nil, nil, refusal.New(
			refusal.Invalid, "open the console by its name, as it is in the settings tls-names or public-url",
			"a passkey is bound to a name, and you reach this service by an address",
		)
	}
	list, err := a.store.Factors(ctx, account)
	if err != nil {
		return nil, nil, err
	}
	u, err := a.passkeys(list, account, site)
	if err != nil {
		return nil, nil, err
	}
	w, err := relying(site)
	if err != nil {
		return nil, nil, err
	}
	return w.BeginRegistration(u, webauthn.WithExclusions(webauthn.Credentials(u.credentials).CredentialDescriptors()))
}

// createdPasskey gives a passkey that a browser made, as it is kept.
func (a *Accounts) createdPasskey(q asked, answer []byte) ([]byte, error) {
	parsed, err := protocol.ParseCredentialCreationResponseBytes(answer)
	if err != nil {
		return nil, refusal.New(refusal.Invalid, "begin again", "what the browser answered is no passkey")
	}
	w, err := relying(q.site)
	if err != nil {
		return nil, err
	}
	c, err := w.CreateCredential(&passkeyUser{name: q.account}, *q.challenge, parsed)
	if err != nil {
		return nil, refusal.New(
			refusal.Invalid, "begin again", "the browser's passkey does not answer what was asked: nothing was set up",
		)
	}
	return json.Marshal(keptPasskey{q.site.Host, *c})
}

// showsPasskey checks what a passkey signed. One whose count decreases was copied, and is refused
// (WebAuthn Level 3, section 6.1.1).
func (a *Accounts) showsPasskey(ctx context.Context, q asked, list []store.Factor, answer []byte) (string, error) {
	if q.challenge == nil {
		return "", refusal.New(refusal.Forbidden, "begin again", "you were not asked for a passkey")
	}
	parsed, err := protocol.ParseCredentialRequestResponseBytes(answer)
	if err != nil {
		return "", ErrShown
	}
	u, err := a.passkeys(list, q.account, q.site)
	if err != nil {
		return "", err
	}
	w, err := relying(q.site)
	if err != nil {
		return "", err
	}
	c, err := w.ValidateLogin(u, *q.challenge, parsed)
	if err != nil || c.Authenticator.CloneWarning {
		return "", ErrShown
	}
	for _, f := range list {
		if f.Kind != Passkey {
			continue
		}
		k, err := a.kept(f)
		if err != nil {
			return "", err
		}
		if !slices.Equal(k.Credential.ID, c.ID) {
			continue
		}
		text, err := json.Marshal(keptPasskey{k.Host, *c})
		if err != nil {
			return "", err
		}
		f.Secret, f.Used = a.opt.Sealer.Seal(text, Purpose("factors", f.ID)), a.log.Now()
		return "passkey " + f.Name, a.note(ctx, "a passkey", func(tx *store.Tx) error { return tx.UseFactor(f) })
	}
	return "", ErrShown
}
