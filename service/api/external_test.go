package api

import (
	"io"
	"maps"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/service/access"
	"oakenlatch/test/idp"
)

// Signing in where somebody else vouches: groups say what may be done, each time
// anew; nothing that was not asked for here, or is not signed for here, is taken; and
// nobody is sent on to another site.
func TestElsewhere(t *testing.T) {
	t.Parallel()
	d := newCounter(t)
	p := idp.Start(t)
	sealer, err := access.OpenSealer(filepath.Join(t.TempDir(), access.KeyFile))
	require.NoError(t, err)
	d.API.Sealer = sealer
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		rec := httptest.NewRecorder()
		d.h.ServeHTTP(rec, r)
		judge(t, r.Method, r.URL.RequestURI(), rec)
		maps.Copy(w.Header(), rec.Header())
		w.WriteHeader(rec.Code)
		_, _ = w.Write(rec.Body.Bytes())
	}))
	t.Cleanup(server.Close)
	saltern, err := access.ParseGrants([]string{"read", "stage@site=Saltern"})
	require.NoError(t, err)
	d.API.OIDC = &access.OIDC{
		Issuer: p.URL, Client: p.Client, Secret: p.Secret, Redirect: server.URL + prefix + "/login/elsewhere/back",
		NameClaim: "preferred_username", GroupsClaim: "groups", Scopes: []string{"profile"},
		Grants: map[string]access.Grants{"quay": saltern, "office": access.Everywhere(access.Read)},
	}
	browser := func() *http.Client {
		jar, err := cookiejar.New(nil)
		require.NoError(t, err)
		return &http.Client{Jar: jar}
	}
	get := func(c *http.Client, path string) (int, string, *url.URL) {
		res, err := c.Get(server.URL + path)
		require.NoError(t, err)
		defer func() { _ = res.Body.Close() }()
		body, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, string(body), res.Request.URL
	}
	const begin = prefix + "/login/elsewhere"
	signIn := func(who idp.Person) (*http.Client, string) {
		p.Now = who
		c := browser()
		_, page, _ := get(c, begin+"?page=/devices")
		_, me, _ := get(c, prefix+"/me")
		return c, page + me
	}
	_, ways, _ := get(browser(), prefix+"/login/ways")
	assert.Contains(t, ways, p.URL)
	c := browser()
	p.Now = idp.Person{Subject: "s1", Name: "Hanna", Groups: []string{"quay", "choir"}}
	_, _, at := get(c, begin+"?page=/devices")
	assert.Equal(t, "/devices", at.Path)
	_, me, _ := get(c, prefix+"/me")
	assert.Contains(t, me, `"account":"hanna","may":["read","stage@site=Saltern"]`)
	for _, page := range []string{
		"//elsewhere.example/x", "https://elsewhere.example", "/\\elsewhere.example", "javascript:alert(1)", "/../x",
		"/a\r\nSet-Cookie: x=y",
	} {
		p.Now = idp.Person{Subject: "s1", Name: "hanna", Groups: []string{"quay"}}
		_, _, at := get(browser(), begin+"?page="+url.QueryEscape(page))
		assert.Equal(t, []string{strings.TrimPrefix(server.URL, "http://"), "/"}, []string{at.Host, at.Path}, page)
	}

	// Other groups, no groups, another person of that name, an account of ours.
	_, said := signIn(idp.Person{Subject: "s1", Name: "another name", Groups: []string{"office"}})
	assert.Contains(t, said, `"account":"hanna","may":["read"]`)
	_, said = signIn(idp.Person{Subject: "s1", Name: "hanna", Groups: []string{"choir"}})
	assert.Contains(t, said, "none of the groups of hanna may do anything here")
	_, said = signIn(idp.Person{Subject: "s2", Name: "hanna", Groups: []string{"quay"}})
	assert.Contains(t, said, "account hanna is somebody else")
	_, said = signIn(idp.Person{Subject: "s3", Name: "abel", Groups: []string{"quay"}})
	assert.Contains(t, said, "account abel is somebody else")
	_, said = signIn(idp.Person{Subject: "s4", Name: "<b>", Groups: []string{"quay"}})
	assert.Contains(t, said, "is no name for an account")
	assert.NotContains(t, said, "<b>")
	status, problem, _ := d.do("", "POST", "/login", map[string]string{"account": "hanna", "password": ""}, nil)
	assert.Equal(t, 401, status, problem.Detail)
	d.ok("abel", "DELETE", "/accounts/hanna", nil, nil)
	status, _, _ = get(c, prefix+"/me")
	assert.Equal(t, 401, status)
	_, said = signIn(idp.Person{Subject: "s1", Name: "hanna", Groups: []string{"quay"}})
	assert.Contains(t, said, "account hanna is closed")

	// Tokens that are not to be taken.
	who := idp.Person{Subject: "s5", Name: "greta", Groups: []string{"quay"}}
	right := p.Key
	for what, alter := range map[string]func(map[string]any){
		"nonce":    func(m map[string]any) { m["nonce"] = "another" },
		"audience": func(m map[string]any) { m["aud"] = "somebody" },
		"issuer":   func(m map[string]any) { m["iss"] = "https://elsewhere.example" },
		"end":      func(m map[string]any) { m["exp"] = time.Now().Add(-time.Hour).Unix() },
		"key":      func(map[string]any) {},
	} {
		p.Alter = alter
		if what == "key" {
			p.Key = idp.NewKey(t)
		}
		_, said = signIn(who)
		assert.Contains(t, said, "did not vouch for this sign-in", what)
		assert.Contains(t, said, "you are not signed in", what)
		p.Key = right
	}
	p.Alter = nil
	// Somebody else's code, put into this browser; and none.
	thief := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	res, err := thief.Get(server.URL + begin)
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	res, err = thief.Get(res.Header.Get("Location"))
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	back, err := res.Location()
	require.NoError(t, err)
	_, said, _ = get(browser(), back.RequestURI())
	assert.Contains(t, said, "belongs to no sign-in that was begun in this browser")
	_, said, _ = get(browser(), begin+"/back?error=access_denied%3Cscript%3E")
	assert.Contains(t, said, "did not let this sign-in through")
	assert.NotContains(t, said, "<script>")
	assert.NotEmpty(t, d.Found(0, "kind:login.denied"))
	_, said = signIn(who)
	assert.Contains(t, said, `"account":"greta"`)
}
