package client_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/client"
	"oakenlatch/wire"
)

// TestEveryCall makes every call there is with odd arguments, and holds what is asked against the API's description:
// the path with each argument in its place, the query, the body.
func TestEveryCall(t *testing.T) {
	text, err := os.ReadFile("../docs/openapi.json")
	require.NoError(t, err)
	var doc struct {
		Paths map[string]map[string]struct {
			OperationID string `json:"operationId"`
			Parameters  []struct {
				Name, In string
				Schema   struct{ Type string }
			}
			RequestBody *struct{ Content map[string]any } `json:"requestBody"`
			Responses   map[string]any
		}
	}
	require.NoError(t, json.Unmarshal(text, &doc))
	var asked *http.Request
	var body string
	c := answering(t, func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		asked, body = r, string(b)
		w.WriteHeader(http.StatusNoContent)
	})
	const odd, oddInPath = "a/b %?ö", "a%2Fb%20%25%3F%C3%B6"
	made := 0
	for path, operations := range doc.Paths {
		for method, o := range operations {
			if o.Responses["302"] != nil {
				continue // for browsers
			}
			made++
			call := reflect.ValueOf(c).MethodByName(strings.ToUpper(o.OperationID[:1]) + o.OperationID[1:])
			require.True(t, call.IsValid(), "%s has no method", o.OperationID)
			want, query := path, 0
			for _, p := range o.Parameters {
				switch {
				case p.In == "query":
					query++
				case p.In == "path" && p.Schema.Type == "integer":
					want = strings.Replace(want, "{"+p.Name+"}", "7", 1)
				case p.In == "path":
					want = strings.Replace(want, "{"+p.Name+"}", oddInPath, 1)
				}
			}
			var args []reflect.Value
			for i := range call.Type().NumIn() {
				switch in := call.Type().In(i); {
				case in == reflect.TypeFor[context.Context]():
					args = append(args, reflect.ValueOf(t.Context()))
				case in == reflect.TypeFor[io.Reader]():
					args = append(args, reflect.ValueOf(strings.NewReader("the body")))
				case in.Kind() == reflect.String:
					args = append(args, reflect.ValueOf(odd))
				case in.Kind() == reflect.Int64:
					args = append(args, reflect.ValueOf(int64(7)))
				case strings.HasSuffix(in.Name(), "Query"):
					q := reflect.New(in).Elem()
					for f := range in.NumField() {
						switch field := q.Field(f); field.Kind() {
						case reflect.String:
							field.SetString(odd)
						case reflect.Int64:
							field.SetInt(7)
						case reflect.Bool:
							field.SetBool(true)
						case reflect.Pointer:
							field.Set(reflect.ValueOf(new(int)))
						default:
							t.Fatalf("%s.%s has a kind this test does not know", in, in.Field(f).Name)
						}
					}
					args = append(args, q)
				default:
					args = append(args, reflect.Zero(in))
				}
			}
			asked = nil
			out := call.Call(args)
			require.True(t, out[len(out)-1].IsNil(), "%s: %v", o.OperationID, out[len(out)-1])
			require.NotNil(t, asked, o.OperationID)
			assert.Equal(t, strings.ToUpper(method), asked.Method, o.OperationID)
			assert.Equal(t, want, asked.URL.EscapedPath(), o.OperationID)
			assert.Len(t, asked.URL.Query(), query, "%s?%s", o.OperationID, asked.URL.RawQuery)
			for _, p := range o.Parameters {
				if p.In == "query" {
					likely := map[string]string{"string": odd, "integer": "7", "boolean": "true"}[p.Schema.Type]
					if p.Name == "context" {
						likely = "0"
					}
					assert.Equal(t, likely, asked.URL.Query().Get(p.Name), "%s %s", o.OperationID, p.Name)
				}
			}
			switch {
			case o.RequestBody == nil:
				assert.Empty(t, body, o.OperationID)
			case o.RequestBody.Content["application/json"] != nil:
				assert.Equal(t, "application/json", asked.Header.Get("Content-Type"), o.OperationID)
				assert.True(t, json.Valid([]byte(body)), o.OperationID)
			default:
				assert.NotNil(t, o.RequestBody.Content[asked.Header.Get("Content-Type")], o.OperationID)
				assert.Equal(t, "the body", body, o.OperationID)
			}
		}
	}
	assert.Greater(t, made, 140)
}

// What the service says of itself, or does not, is told as what it is.
func TestAnswers(t *testing.T) {
	ctx := t.Context()
	for _, bad := range []string{"", "latch.example", "ftp://latch.example", "http://", "http://h?x=1", "http://h:x"} {
		_, err := client.New(client.Options{Server: bad})
		assert.ErrorContains(t, err, "is no address", "%q", bad)
	}

	gone := httptest.NewServer(http.NotFoundHandler())
	gone.Close()
	c, err := client.New(client.Options{Server: gone.URL + "/"})
	require.NoError(t, err)
	_, err = c.ListDevices(ctx)
	var no *client.Unreachable
	require.ErrorAs(t, err, &no)
	assert.Equal(t, gone.URL, no.Server)
	assert.NotContains(t, strings.TrimPrefix(err.Error(), "the service at "+gone.URL), gone.URL, "it is told once")

	for name, answer := range map[string]http.HandlerFunc{
		"something that is not Oaken Latch": func(w http.ResponseWriter, _ *http.Request) {
			http.Error(w, "<html>bad gateway</html>", http.StatusBadGateway)
		},
		"its answer cannot be read": func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("[{")) },
	} {
		_, err = answering(t, answer).ListDevices(ctx)
		require.ErrorAs(t, err, &no)
		assert.ErrorContains(t, err, name)
	}

	ended, stop := context.WithCancel(ctx)
	stop()
	_, err = c.ListDevices(ended)
	require.ErrorIs(t, err, context.Canceled)
}

// A second factor that is asked for again is shown, and the request made again, whole, once.
func TestAnew(t *testing.T) {
	var bodies []string
	shown := 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text, _ := io.ReadAll(r.Body)
		if r.URL.Path == "/api/v1/me/proof" {
			shown++
			w.WriteHeader(http.StatusNoContent)
			return
		}
		bodies = append(bodies, string(text))
		if len(bodies) != 2 || shown == 0 {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusForbidden)
			_ = json.NewEncoder(w).Encode(wire.Problem{
				Type: wire.ProblemPrefix + "forbidden", Detail: "show it", Second: &wire.Second{Anew: true},
			})
			return
		}
		w.Header().Set(wire.StaleHeader, "the disk is gone")
		_, _ = w.Write([]byte(`{"name":"nell"}`))
	}))
	t.Cleanup(server.Close)
	var stale string
	o := client.Options{
		Server: server.URL, Stale: func(why string) { stale = why },
		Anew: func(ctx context.Context, c *client.Client, _ *wire.Second) error {
			return c.ProveFactor(ctx, wire.Shown{Code: "123456"})
		},
	}
	c, err := client.New(o)
	require.NoError(t, err)
	acc, err := c.AddAccount(t.Context(), wire.NewAccount{Name: "nell"})
	require.NoError(t, err)
	assert.Equal(t, "nell", acc.Name)
	assert.Equal(t, "the disk is gone", stale)
	require.Len(t, bodies, 2)
	assert.Equal(t, bodies[0], bodies[1])

	_, err = c.AddAccount(t.Context(), wire.NewAccount{Name: "otto"}) // it asks again and again
	assert.True(t, client.Is(err, "forbidden"), err)
	assert.Equal(t, 2, shown)
	o.Anew = nil
	c, err = client.New(o)
	require.NoError(t, err)
	_, err = c.AddAccount(t.Context(), wire.NewAccount{Name: "otto"})
	assert.True(t, client.Is(err, "forbidden"), err)
	assert.Equal(t, 2, shown, "nobody was asked")
}

// Nothing is sent to a service with a key that nobody vouches for.
func TestUntrustedKey(t *testing.T) {
	asked := 0
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked++
		_, _ = w.Write([]byte("[]"))
	}))
	t.Cleanup(server.Close)
	server.Config.ErrorLog = nil
	pin := wire.Pin(server.Certificate())
	for _, accepted := range []string{"", "SHA256:another"} {
		c, err := client.New(client.Options{Server: server.URL, Token: "secret", Pin: accepted})
		require.NoError(t, err)
		_, err = c.ListDevices(t.Context())
		var key *client.UntrustedKey
		require.ErrorAs(t, err, &key)
		assert.Equal(t, client.UntrustedKey{Server: server.URL, Shown: pin, Accepted: accepted}, *key)
		assert.Zero(t, asked)
	}
	c, err := client.New(client.Options{Server: server.URL, Pin: pin})
	require.NoError(t, err)
	_, err = c.ListDevices(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 1, asked)
}

// The stream is read as it is written, whatever else is in it; its end is an error, and it goes on from an event.
func TestEvents(t *testing.T) {
	var after []string
	long := strings.Repeat("x", 1<<20)
	c := answering(t, func(w http.ResponseWriter, r *http.Request) {
		after = append(after, r.Header.Get("Last-Event-ID"))
		_, _ = fmt.Fprintf(w, ": hello\n\nevent:entry\nid: 7\ndata: {\"a\":\ndata: \"%s\"}\n\n\n", long)
		_, _ = io.WriteString(w, "retry: 5\n\nnonsense\ndata: 2\n\ndata: half")
	})
	var got []client.Event
	var end error
	for e, err := range c.Events(t.Context(), "6") {
		if err != nil {
			end = err
			break
		}
		got = append(got, e)
	}
	require.Len(t, got, 3)
	assert.Equal(t, client.Event{Kind: client.Opened}, got[0])
	got = got[1:]
	var first struct{ A string }
	require.NoError(t, got[0].Read(&first))
	assert.Equal(t, "entry 7", got[0].Kind+" "+got[0].ID)
	assert.Len(t, first.A, len(long))
	assert.Equal(t, "2", string(got[1].Data))
	assert.ErrorContains(t, end, "the service ended the stream")
	assert.Equal(t, []string{"6"}, after)
	for _, err := range c.Events(t.Context(), "") { // whoever leaves is not told more
		require.NoError(t, err)
		break
	}
}

// Against a service: what rests on a part as it was is refused when it moved, a file comes as one, and long work is
// followed to its end.
func TestService(t *testing.T) {
	c, _ := served(t)
	ctx, stop := context.WithTimeout(t.Context(), time.Minute)
	defer stop()
	change, err := c.OpenChange(ctx, wire.NewChange{Title: "work"})
	require.NoError(t, err)
	value := "Quay office"
	edit := wire.NewEdit{Device: quay, Op: "put", Path: "/system/contact", Value: &value}
	staged, err := c.StageEdit(ctx, change.Number, edit)
	require.NoError(t, err)
	require.Len(t, staged, 1)
	part, err := c.GetPart(ctx, change.Number, quay, client.GetPartQuery{})
	require.NoError(t, err)
	value = "Harbour office"
	_, err = c.IfTag(part.Tag).StageEdit(ctx, change.Number, edit)
	require.NoError(t, err)
	_, err = c.IfTag(part.Tag).StageEdit(ctx, change.Number, edit)
	assert.True(t, client.Is(err, "moved"), err)

	d, err := c.ExportConfigurations(ctx, client.ExportConfigurationsQuery{From: "running", Device: quay})
	require.NoError(t, err)
	assert.Equal(t, "oaken-latch-export.tar", d.Name)
	assert.Equal(t, "application/x-tar", d.Type)
	bundle, err := io.ReadAll(d.Body)
	require.NoError(t, err)
	require.NoError(t, d.Body.Close())
	in, err := c.ImportBundle(ctx, client.ImportBundleQuery{}, strings.NewReader(string(bundle)))
	require.NoError(t, err)
	assert.Empty(t, in.Refused)

	_, err = c.As("").ListDevices(ctx)
	assert.True(t, client.Is(err, "sign-in"), err)
}

// Long work is followed to its end, and what it came to is read.
func TestAwait(t *testing.T) {
	asked := 0
	c := answering(t, func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "/api/v1/jobs/3?wait=1", r.URL.String())
		asked++
		j := wire.Job{ID: 3, State: "running", Done: asked, Total: 3}
		if asked == 3 {
			j.State, j.Result = "done", wire.Copied{Archive: "office", Copies: 5}
		}
		_ = json.NewEncoder(w).Encode(j)
	})
	var out wire.Copied
	var told []int
	each := func(j wire.Job) { told = append(told, j.Done) }
	j, err := c.Await(t.Context(), wire.Job{ID: 3, State: "running"}, &out, each)
	require.NoError(t, err)
	assert.Equal(t, wire.JobDone, j.State)
	assert.Equal(t, wire.Copied{Archive: "office", Copies: 5}, out)
	assert.Equal(t, []int{0, 1, 2}, told)
}
