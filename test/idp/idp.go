// Package idp is a small OpenID Connect provider for the tests: it knows a few
// people, asks them nothing, and does what OpenID Connect Core 1.0 section 3.1 and
// RFC 7636 want of the code flow with PKCE.
package idp

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/url"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/require"
)

// Person is somebody whom the provider knows.
type Person struct {
	Subject, Name string
	Groups        []string
}

// Provider is the provider. Who is signed in there is Now.
type Provider struct {
	URL, Client, Secret string
	Now                 Person
	// Alter changes what an ID token says, for tokens that are not to be taken.
	Alter func(claims map[string]any)
	// Key signs; another than the published one makes tokens of somebody else's.
	Key *ecdsa.PrivateKey

	mu     sync.Mutex
	public jose.JSONWebKey
	codes  map[string]url.Values
}

// Start starts one that ends with the test.
func Start(t *testing.T) *Provider {
	t.Helper()
	p := &Provider{Client: "oaken-latch", Secret: "a secret between the two", codes: map[string]url.Values{}}
	p.Key = NewKey(t)
	p.public = jose.JSONWebKey{Key: p.Key.Public(), KeyID: "1", Algorithm: string(jose.ES256), Use: "sig"}
	mux := http.NewServeMux()
	s := httptest.NewServer(mux)
	t.Cleanup(s.Close)
	p.URL = s.URL
	answer := func(w http.ResponseWriter, v any) {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(v)
	}
	mux.HandleFunc("GET /.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, map[string]any{
			"issuer": p.URL, "authorization_endpoint": p.URL + "/authorize", "token_endpoint": p.URL + "/token",
			"jwks_uri": p.URL + "/keys", "response_types_supported": []string{"code"},
			"subject_types_supported": []string{"public"}, "id_token_signing_alg_values_supported": []string{"ES256"},
		})
	})
	mux.HandleFunc("GET /keys", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{p.public}})
	})
	mux.HandleFunc("GET /authorize", p.authorize)
	mux.HandleFunc("POST /token", func(w http.ResponseWriter, r *http.Request) {
		token, ok := p.token(r)
		if !ok {
			w.WriteHeader(http.StatusBadRequest)
			answer(w, map[string]string{"error": "invalid_grant"})
			return
		}
		answer(w, map[string]any{"access_token": "x", "token_type": "Bearer", "expires_in": 60, "id_token": token})
	})
	return p
}

// NewKey makes a key to sign with.
func NewKey(t *testing.T) *ecdsa.PrivateKey {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	return key
}

func (p *Provider) authorize(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	if q.Get("client_id") != p.Client || q.Get("response_type") != "code" || q.Get("code_challenge_method") != "S256" ||
		q.Get("state") == "" || q.Get("nonce") == "" {
		http.Error(w, "not as it should be", http.StatusBadRequest)
		return
	}
	code := rand.Text()
	p.mu.Lock()
	p.codes[code] = q
	p.mu.Unlock()
	http.Redirect(
		w, r, q.Get("redirect_uri")+"?"+url.Values{"code": {code}, "state": {q.Get("state")}}.Encode(),
		http.StatusFound,
	)
}

// token gives the ID token for a code, once, to whom it was for.
func (p *Provider) token(r *http.Request) (string, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	id, secret, _ := r.BasicAuth()
	if id == "" {
		id, secret = r.PostFormValue("client_id"), r.PostFormValue("client_secret")
	}
	if un, err := url.QueryUnescape(secret); err == nil {
		secret = un
	}
	code := r.PostFormValue("code")
	q := p.codes[code]
	delete(p.codes, code)
	sum := sha256.Sum256([]byte(r.PostFormValue("code_verifier")))
	if q == nil || id != p.Client || secret != p.Secret ||
		base64.RawURLEncoding.EncodeToString(sum[:]) != q.Get("code_challenge") ||
		r.PostFormValue("redirect_uri") != q.Get("redirect_uri") {
		return "", false
	}
	claims := map[string]any{
		"iss": p.URL, "sub": p.Now.Subject, "aud": p.Client, "exp": time.Now().Add(time.Minute).Unix(),
		"iat": time.Now().Unix(), "nonce": q.Get("nonce"), "preferred_username": p.Now.Name, "groups": p.Now.Groups,
	}
	if p.Alter != nil {
		p.Alter(claims)
	}
	body, err := json.Marshal(claims)
	if err != nil {
		return "", false
	}
	signer, err := jose.NewSigner(
		jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: p.Key, KeyID: "1"}}, nil,
	)
	if err != nil {
		return "", false
	}
	signed, err := signer.Sign(body)
	if err != nil {
		return "", false
	}
	text, err := signed.CompactSerialize()
	return text, err == nil
}
