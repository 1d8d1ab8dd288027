package api

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/service/access"
	"oakenlatch/test/pace"
	"oakenlatch/wire"
)

// requests makes requests by the API's own description, right ones and wrong.
type requests struct {
	rnd  *rand.Rand
	spec map[string]any
}

// odd are values that have been somebody's trouble.
var odd = []any{
	"", " ", "0", "-1", "9223372036854775808", "saltern-quay", "saltern-slip", "/system/contact",
	"/interfaces/interface=port1", "../../etc/passwd", "a\x00b", "\u202e\ufffd", "'; DROP TABLE accounts; --",
	"<script>alert(1)</script>", strings.Repeat("long", 3000), "running", "rev:1", "change:1", "at:2020-01-01",
	"snapshot:x", "hidden:aaaaaaaaaaaaaaaa", "since:never", "%00", "put", "acls\n  acl [x\n", "<config", `{"a":`, 0.5,
	1e300, -1, 0, 1, 7, nil, true, false, []any{}, []any{"x", 1}, map[string]any{"x": nil},
}

func (r *requests) pick(list []any) any { return list[r.rnd.IntN(len(list))] }

// value makes a value that a schema describes, and now and then one that it does
// not.
func (r *requests) value(schema map[string]any, depth int) any {
	if ref, ok := schema["$ref"].(string); ok {
		components := r.spec["components"].(map[string]any)["schemas"].(map[string]any)
		next, _ := components[strings.TrimPrefix(ref, "#/components/schemas/")].(map[string]any)
		return r.value(next, depth)
	}
	if depth > 6 || r.rnd.IntN(12) == 0 {
		return r.pick(odd)
	}
	switch schema["type"] {
	case "object":
		out := map[string]any{}
		props, _ := schema["properties"].(map[string]any)
		for _, name := range slices.Sorted(maps.Keys(props)) { // the same seed makes the same
			s := props[name]
			if r.rnd.IntN(3) > 0 {
				sub, _ := s.(map[string]any)
				out[name] = r.value(sub, depth+1)
			}
		}
		return out
	case "array":
		items, _ := schema["items"].(map[string]any)
		out := []any{}
		for range r.rnd.IntN(4) {
			out = append(out, r.value(items, depth+1))
		}
		return out
	case "integer", "number":
		return r.pick([]any{0, 1, 2, 60, 600, -1, 1 << 40, 1e18})
	case "boolean":
		return r.rnd.IntN(2) == 0
	}
	if schema["format"] == "date-time" {
		return time.Now().Add(time.Duration(r.rnd.IntN(100)-50) * time.Hour).Format(time.RFC3339)
	}
	return r.pick(odd[:28])
}

// make makes a request to an operation.
func (r *requests) make(method, path string, op map[string]any) *http.Request {
	query := url.Values{}
	params, _ := op["parameters"].([]any)
	for _, p := range params {
		p := p.(map[string]any)
		text := fmt.Sprint(
			r.pick([]any{"1", "2", "saltern-quay", "saltern-slip", "only-read", r.pick(odd), r.pick(odd)}),
		)
		if p["in"] == "path" {
			path = strings.ReplaceAll(path, "{"+p["name"].(string)+"}", url.PathEscape(text))
		} else if p["in"] == "query" && r.rnd.IntN(3) > 0 {
			query.Set(p["name"].(string), text)
		}
	}
	var body []byte
	if in, ok := op["requestBody"].(map[string]any); ok {
		if doc, ok := in["content"].(map[string]any)["application/json"].(map[string]any); ok {
			body, _ = json.Marshal(r.value(doc["schema"].(map[string]any), 0))
		} else {
			body = []byte(fmt.Sprint(r.pick(odd)))
		}
		if len(body) > 1 && r.rnd.IntN(8) == 0 { // broken in one place
			i := r.rnd.IntN(len(body))
			body[i] ^= byte(1 << r.rnd.IntN(8))
		}
	}
	req := httptest.NewRequest(method, "/", bytes.NewReader(body))
	req.URL = &url.URL{Path: path, RawPath: "", RawQuery: query.Encode()}
	if u, err := url.ParseRequestURI(path); err == nil {
		req.URL.Path, req.URL.RawPath = u.Path, u.RawPath
	}
	req.Header.Set("Content-Type", "application/json")
	if r.rnd.IntN(20) == 0 {
		req.Header.Set("If-Match", fmt.Sprint(r.pick(odd[:10])))
	}
	return req
}

// Requests made by the API's own description, right and wrong, as every role and as
// somebody with all of them: each is answered, none with a mistake of the service, a
// refusal is a problem document, and who may not do a thing never has it done. SEED
// has others asked, and ROUNDS more of them.
func TestRandomRequests(t *testing.T) {
	t.Parallel()
	d := newCounter(t, "saltern-quay", "saltern-slip")
	for _, role := range access.Roles {
		name := "only-" + string(role)
		require.NoError(t, d.API.Accounts.Add(t.Context(), "x", name, "a long password", access.Everywhere(role)))
		token, _, _, err := d.API.Accounts.Login(t.Context(), name, "a long password", "test", access.Site{})
		require.NoError(t, err)
		d.tokens[name] = token
	}
	text, err := json.Marshal(d.API.OpenAPI())
	require.NoError(t, err)
	seed := uint64(1)
	if text := os.Getenv("SEED"); text != "" {
		seed, err = strconv.ParseUint(text, 10, 64)
		require.NoError(t, err)
	}
	r := &requests{rnd: rand.New(rand.NewPCG(seed, 1))}
	require.NoError(t, json.Unmarshal(text, &r.spec))
	rounds := 3
	if testing.Short() || pace.Raced { // without the detector it runs by itself: see LONG in the Makefile
		rounds = 1
	}
	if text := os.Getenv("ROUNDS"); text != "" {
		rounds, err = strconv.Atoi(text)
		require.NoError(t, err)
	}
	asked, done := 0, 0
	needs := map[string]access.Need{}
	for _, x := range d.API.routes() {
		needs[x.method+" "+x.path] = x.needs
	}
	for range rounds {
		paths := r.spec["paths"].(map[string]any)
		for _, path := range slices.Sorted(maps.Keys(paths)) {
			ops := paths[path].(map[string]any)
			for _, method := range slices.Sorted(maps.Keys(ops)) {
				op := ops[method].(map[string]any)
				method = strings.ToUpper(method)
				switch {
				case strings.HasSuffix(path, "/events"), strings.Contains(
					path, "/login/elsewhere",
				), strings.HasSuffix(path, "/logout"):
					continue
				}
				for _, who := range slices.Sorted(maps.Keys(d.tokens)) {
					if r.rnd.IntN(3) > 0 {
						continue
					}
					req := r.make(method, path, op)
					req.Header.Set("Authorization", "Bearer "+d.tokens[who])
					rec := httptest.NewRecorder()
					d.h.ServeHTTP(rec, req)
					asked++
					what := fmt.Sprintf(
						"SEED=%d: %s %s as %s: %d %.300s", seed, method, req.URL.String(), who, rec.Code, rec.Body,
					)
					internal := strings.Contains(rec.Body.String(), wire.ProblemPrefix+"internal")
					assert.False(t, internal, what)
					if rec.Code >= 400 && rec.Code != http.StatusNotFound && rec.Code != http.StatusMethodNotAllowed {
						assert.Equal(t, "application/problem+json", rec.Header().Get("Content-Type"), what)
					}
					if rec.Code < 300 {
						done++
						role := access.Role(strings.TrimPrefix(who, "only-"))
						route := strings.NewReplacer("{", ":", "}", "").Replace(strings.TrimPrefix(path, prefix))
						need := needs[method+" "+route]
						if strings.HasPrefix(who, "only-") && need.Role != "" {
							assert.True(t, need.Role == role || need.Role == access.Read && role != access.Audit, what)
						}
					}
					if t.Failed() {
						return
					}
				}
			}
		}
	}
	assert.Greater(t, asked, 300*rounds)
	assert.Greater(t, done, 20*rounds, "some of them make sense")
	_, err = d.Log.Verify(t.Context(), nil)
	require.NoError(t, err)
}
