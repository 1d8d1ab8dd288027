package api

import (
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"regexp"
	"sort"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/labstack/echo/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/advice"
	"oakenlatch/service/access"
	"oakenlatch/service/fleet"
	"oakenlatch/service/store"
	"oakenlatch/test/servicetest"
	"oakenlatch/wire"
)

func newAPI(t *testing.T, console fs.FS) *API {
	t.Helper()
	r := servicetest.New(t)
	a := apiOf(t, r)
	a.Console = console
	return a
}

// The description names every route there is, and no other.
func TestOpenAPIIsTrue(t *testing.T) {
	t.Parallel()
	a := newAPI(t, fstest.MapFS{})
	var described, routed []string
	for path, ops := range a.OpenAPI()["paths"].(map[string]map[string]any) {
		for method := range ops {
			described = append(described, strings.ToUpper(method)+" "+path)
		}
	}
	for _, r := range a.Handler().(*echo.Echo).Router().Routes() {
		if !strings.HasPrefix(r.Path, prefix) && r.Path != metricsPath || strings.HasSuffix(r.Path, "*") {
			continue
		}
		parts := strings.Split(r.Path, "/")
		for i, p := range parts {
			if name, ok := strings.CutPrefix(p, ":"); ok {
				parts[i] = "{" + name + "}"
			}
		}
		routed = append(routed, r.Method+" "+strings.Join(parts, "/"))
	}
	sort.Strings(described)
	sort.Strings(routed)
	assert.Equal(t, routed, described)
	body, err := json.Marshal(a.OpenAPI())
	require.NoError(t, err)
	for _, want := range []string{
		`"openapi":"3.1.0"`, `"#/components/schemas/Preview"`, `"secondsLeft"`, `application/problem+json`,
	} {
		assert.Contains(t, string(body), want)
	}
}

// leaving is who goes as soon as an answer begins: what lasts ends then.
type leaving struct {
	*httptest.ResponseRecorder
	leave func()
}

func (l *leaving) WriteHeader(status int) {
	l.ResponseRecorder.WriteHeader(status)
	l.leave()
}

// The table of routes, walked with an account of each role, of none, and without
// one: what a route needs is what it asks for.
func TestRoles(t *testing.T) {
	t.Parallel()
	d := newCounter(t)
	a, h := d.API, d.h
	tokens := map[access.Role]string{}
	for _, r := range access.Roles {
		name := "only-" + string(r)
		require.NoError(t, a.Accounts.Add(t.Context(), "x", name, "a long password", access.Everywhere(r)))
		var err error
		tokens[r], _, _, err = a.Accounts.Login(t.Context(), name, "a long password", "test", access.Site{})
		require.NoError(t, err)
	}
	ask := func(method, path string, set func(*http.Request)) (int, wire.Problem) {
		req := httptest.NewRequest(method, path, strings.NewReader("{}"))
		req.Header.Set("Content-Type", "application/json")
		if set != nil {
			set(req)
		}
		ctx, leave := context.WithCancel(req.Context())
		defer leave()
		rec := &leaving{httptest.NewRecorder(), leave}
		h.ServeHTTP(rec, req.WithContext(ctx))
		judge(t, method, path, rec.ResponseRecorder)
		var p wire.Problem
		_ = json.Unmarshal(rec.Body.Bytes(), &p)
		return rec.Code, p
	}
	as := func(token string) func(*http.Request) {
		return func(r *http.Request) { r.Header.Set("Authorization", "Bearer "+token) }
	}
	let, kept := 0, 0
	for _, r := range a.routes() {
		path := strings.NewReplacer(
			":name", "none", ":number", "1", ":id", "nothing", ":filter", "f", ":account", "nobody", ":ref", "9",
		).Replace(r.url())
		if r.needs.Open {
			continue
		}
		status, p := ask(r.method, path, nil)
		assert.Equal(t, http.StatusUnauthorized, status, "%s %s", r.method, path)
		assert.Equal(t, wire.ProblemPrefix+"sign-in", p.Type)
		for role, token := range tokens {
			if r.path == "/logout" {
				continue // it would end what the others are asked with
			}
			status, p := ask(r.method, path, as(token))
			if r.needs.Everywhere && status == http.StatusForbidden && r.path == metricsPath {
				assert.Equal(t, access.Audit, role, "collectors may read")
				continue
			}
			refused := status == http.StatusForbidden && strings.HasPrefix(
				p.Detail, "account only-"+string(role)+" may not",
			)
			fits := r.needs.Role == "" || r.needs.Role == role || r.needs.Role == access.Read && role != access.Audit
			assert.Equal(
				t, fits, !refused, "%s %s as %s needs %s: %d %s", r.method, path, role, r.needs, status, p.Detail,
			)
			assert.Less(t, status, 500, "%s %s as %s: %s", r.method, path, role, p.Detail)
			if fits {
				let++
			} else {
				kept++
			}
		}
	}
	assert.Greater(t, let, 200)
	assert.Greater(t, kept, 400)
	body, err := json.Marshal(a.OpenAPI())
	require.NoError(t, err)
	assert.Contains(t, string(body), `"x-needs":"administer, on all devices"`)

	token := tokens[access.Read]
	bearer := as(token)
	status, _ := ask("GET", prefix+"/me", func(r *http.Request) { r.Header.Set("Authorization", "Basic "+token) })
	assert.Equal(t, http.StatusUnauthorized, status)
	cookie := func(origin string) func(*http.Request) {
		return func(r *http.Request) {
			r.AddCookie(&http.Cookie{Name: plainCookie, Value: token})
			r.Header.Set("Origin", origin)
		}
	}
	status, _ = ask("GET", prefix+"/me", cookie("http://elsewhere.example"))
	assert.Equal(t, http.StatusOK, status, "reading is guarded by the browser itself")
	status, _ = ask("POST", prefix+"/logout", cookie("http://elsewhere.example"))
	assert.Equal(t, http.StatusForbidden, status, "another site cannot act with the console's session")
	status, _ = ask("POST", prefix+"/logout", cookie("http://example.com"))
	assert.Equal(t, http.StatusNoContent, status)
	status, _ = ask("GET", prefix+"/me", bearer)
	assert.Equal(t, http.StatusUnauthorized, status, "signed out is signed out")
}

func TestConsoleFiles(t *testing.T) {
	t.Parallel()
	h := newAPI(
		t, fstest.MapFS{"index.html": {Data: []byte("<html>the console")}, "assets/a.js": {Data: []byte("code")}},
	).Handler()
	get := func(path string) *httptest.ResponseRecorder {
		rec := httptest.NewRecorder()
		h.ServeHTTP(rec, httptest.NewRequest("GET", path, nil))
		return rec
	}
	for _, page := range []string{"/", "/changes/7", "/devices/x"} {
		assert.Contains(t, get(page).Body.String(), "the console", page)
	}
	js := get("/assets/a.js")
	assert.Equal(t, "code", js.Body.String())
	assert.Contains(t, js.Header().Get("Cache-Control"), "immutable")
	assert.Contains(t, js.Header().Get("Content-Security-Policy"), "frame-ancestors 'none'")
	assert.Equal(t, "ok\n", get("/healthz").Body.String())
	assert.Equal(t, "ready\n", get("/readyz").Body.String())
	assert.Equal(t, http.StatusUnauthorized, get("/metrics").Code, "they name devices")
	csp := get("/").Header().Get("Content-Security-Policy")
	nonce := regexp.MustCompile(`'nonce-([A-Z2-7]+)'`).FindStringSubmatch(csp)
	require.NotNil(t, nonce, csp)
	assert.NotContains(t, csp, "unsafe")
	assert.NotContains(t, get("/").Header().Get("Content-Security-Policy"), nonce[1], "another each time")
	assert.Equal(
		t, []string{"nosniff", "DENY", "no-referrer"},
		[]string{
			js.Header().Get("X-Content-Type-Options"), js.Header().Get("X-Frame-Options"),
			js.Header().Get("Referrer-Policy"),
		},
	)
}

// Answers and the console's files are sent packed to who takes them so, and as they are to others; streams are not.
func TestPacked(t *testing.T) {
	t.Parallel()
	a := newAPI(t, fstest.MapFS{
		"index.html": {Data: []byte("<html>the console")}, "assets/a.js": {Data: []byte("plain")},
		"assets/a.js.br": {Data: []byte("brotli")}, "assets/a.js.gz": {Data: []byte("gzip")},
		"assets/b.js": {Data: []byte("small")},
	})
	h := a.Handler()
	get := func(path, accept string) *httptest.ResponseRecorder {
		req := httptest.NewRequest("GET", path, nil)
		req.Header.Set("Accept-Encoding", accept)
		rec := httptest.NewRecorder()
		h.ServeHTTP(rec, req)
		require.Equal(t, http.StatusOK, rec.Code, path)
		return rec
	}
	for _, c := range [][4]string{
		{"/assets/a.js", "gzip, deflate, br", "br", "brotli"}, {"/assets/a.js", "br;q=0, gzip;q=0.5", "gzip", "gzip"},
		{"/assets/a.js", "", "", "plain"}, {"/assets/a.js", "identity", "", "plain"}, {"/assets/b.js", "br, gzip", "",
			"small"},
	} {
		res := get(c[0], c[1])
		assert.Equal(t, c[2:], []string{res.Header().Get("Content-Encoding"), res.Body.String()}, c)
		assert.Contains(t, res.Header().Get("Content-Type"), "javascript")
		assert.Contains(t, res.Header().Values("Vary"), "Accept-Encoding")
	}
	doc := get(prefix+"/openapi.json", "gzip")
	assert.Equal(t, "gzip", doc.Header().Get("Content-Encoding"))
	z, err := gzip.NewReader(doc.Body)
	require.NoError(t, err)
	text, err := io.ReadAll(z)
	require.NoError(t, err)
	assert.JSONEq(t, get(prefix+"/openapi.json", "").Body.String(), string(text))
	assert.Less(t, doc.Body.Len()*4, len(text))
}

func TestProblems(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		err    error
		status int
		kind   string
	}{
		{
			&fleet.Error{
				Device: "d", Address: "a:1", Kind: fleet.Unreachable, Msg: "no answer", Next: advice.Words("look"),
			}, 504, "unreachable",
		},
		{&fleet.Error{Device: "d", Kind: fleet.HostKey}, 502, "host-key"},
		{&fleet.Error{Device: "d", Kind: fleet.Refusal}, 409, "refusal"}, {access.ErrDenied, 401, "denied"},
		{errNoLogin, 401, "sign-in"}, {store.ErrExists, 409, "conflict"}, {store.ErrNotFound, 404, "not-found"},
		{errors.New("disk full"), 500, "internal"}, {echo.ErrMethodNotAllowed, 405, "invalid"},
	} {
		p := problem(c.err)
		assert.Equal(t, c.status, p.Status, "%v", c.err)
		assert.Equal(t, wire.ProblemPrefix+c.kind, p.Type)
		assert.NotEmpty(t, p.Title)
		assert.NotEmpty(t, p.Detail)
	}
	assert.Equal(
		t, "d (a:1): no answer",
		problem(&fleet.Error{Device: "d", Address: "a:1", Kind: fleet.Unreachable, Msg: "no answer"}).Detail,
	)
}

// A device's modules are handed on, and many like changes are told together.
func TestModulesAndGroups(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, "northmole-harbour")
	_, err := r.History.Read(t.Context(), store.Everything, "northmole-harbour", "mara")
	require.NoError(t, err)
	accounts := r.Accounts
	require.NoError(t, accounts.Add(t.Context(), "first start", "wren", "a long enough password", servicetest.Operator))
	a := apiOf(t, r)
	h := a.Handler()
	var token string
	ask := func(method, path string, in, out any) int {
		body, err := json.Marshal(in)
		require.NoError(t, err)
		req := httptest.NewRequest(method, prefix+path, strings.NewReader(string(body)))
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Authorization", "Bearer "+token)
		rec := httptest.NewRecorder()
		h.ServeHTTP(rec, req)
		_ = json.Unmarshal(rec.Body.Bytes(), out)
		return rec.Code
	}
	var session wire.Session
	require.Equal(
		t, http.StatusOK,
		ask("POST", "/login", wire.Login{Account: "wren", Password: "a long enough password"}, &session),
	)
	token = session.Token
	var m wire.Modules
	require.Equal(t, http.StatusOK, ask("GET", "/devices/northmole-harbour/modules", nil, &m))
	var names []string
	for _, mod := range m.Modules {
		names = append(names, mod.Name)
		assert.Contains(t, mod.Text, "module "+mod.Name)
	}
	assert.Contains(t, names, "ietf-interfaces")
	assert.Contains(t, names, "ietf-inet-types", "what is only imported comes too")
	assert.Equal(t, http.StatusNotFound, ask("GET", "/devices/nobody/modules", nil, &m))

	var c wire.Change
	require.Equal(t, http.StatusCreated, ask("POST", "/changes", wire.NewChange{Title: "many"}, &c))
	for i := range 60 {
		var st wire.Staged
		path := fmt.Sprintf("/system/dns-resolver/server=s%d/udp-and-tcp/address", i)
		value := fmt.Sprintf("10.64.1.%d", i)
		require.Equal(
			t, http.StatusCreated,
			ask(
				"POST", fmt.Sprintf("/changes/%d/edits", c.Number),
				wire.NewEdit{Device: "northmole-harbour", Op: "put", Path: path, Value: &value}, &st,
			),
			path,
		)
	}
	var p wire.Preview
	require.Equal(t, http.StatusOK, ask("GET", fmt.Sprintf("/changes/%d/preview", c.Number), nil, &p))
	require.Len(t, p.Parts[0].Groups, 1)
	assert.Equal(t, "/system/dns-resolver/server=*", p.Parts[0].Groups[0].Place)
	assert.Equal(t, 60, p.Parts[0].Groups[0].Count)
}
