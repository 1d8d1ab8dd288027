package api

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/service/access"
	"oakenlatch/test/servicetest"
	"oakenlatch/wire"
	"oakenlatch/wire/bundle"
)

// Long work is looked at, waited for and stopped by whoever began it, or an
// administrator, and there is only so much of it at a time.
func TestJobs(t *testing.T) {
	t.Parallel()
	d := newCounter(t)
	as := func(who string) *call {
		return &call{ctx: t.Context(), person: access.Person{Name: who, Grants: servicetest.Operator}}
	}
	begun := make(chan struct{})
	waits := func(ctx context.Context, progress func(int, int, string)) (any, error) {
		progress(1, 3, "a thing")
		begun <- struct{}{}
		<-ctx.Done()
		return nil, ctx.Err()
	}
	var ids []int64
	for range atOnceJobs {
		j, err := d.API.startJob(as("nell"), "test", waits)
		require.NoError(t, err)
		ids = append(ids, j.ID)
		<-begun
	}
	_, err := d.API.startJob(as("otto"), "test", waits)
	require.ErrorContains(t, err, "4 long works are running already")
	path := func(id int64) string { return fmt.Sprintf("/jobs/%d", id) }
	var j wire.Job
	d.ok("nell", "GET", path(ids[0]), nil, &j)
	assert.Equal(t, []any{wire.JobRunning, 1, 3, "a thing"}, []any{j.State, j.Done, j.Total, j.Doing})
	status, _, _ := d.do("otto", "GET", path(ids[0]), nil, nil)
	assert.Equal(t, http.StatusNotFound, status, "it is not theirs")
	status, _, _ = d.do("otto", "DELETE", path(ids[0]), nil, nil)
	assert.Equal(t, http.StatusNotFound, status)
	d.ok("abel", "DELETE", path(ids[0]), nil, nil)
	d.ok("nell", "GET", path(ids[0])+"?wait=20", nil, &j)
	assert.Equal(t, []string{"stopped", "it was stopped"}, []string{string(j.State), j.Trouble})
	for _, id := range ids[1:] {
		d.ok("nell", "DELETE", path(id), nil, nil)
		d.ok("nell", "GET", path(id)+"?wait=20", nil, &j)
	}
	long, err := d.API.startJob(as("nell"), "test", waits)
	require.NoError(t, err)
	<-begun
	for range keptJobs {
		last, err := d.API.startJob(as("nell"), "test", func(context.Context, func(int, int, string)) (any, error) {
			return wire.Copied{Archive: "away"}, errors.New("no")
		})
		require.NoError(t, err)
		d.ok("nell", "GET", path(last.ID)+"?wait=20", nil, &j)
		require.Equal(
			t, []any{wire.JobFailed, "no", map[string]any{"archive": "away", "copies": 0.0}},
			[]any{j.State, j.Trouble, j.Result},
		)
	}
	status, _, _ = d.do("nell", "GET", path(ids[0]), nil, nil)
	assert.Equal(t, http.StatusNotFound, status, "old ones are forgotten")
	d.ok("nell", "GET", path(long.ID), nil, &j)
	assert.Equal(t, wire.JobRunning, j.State, "one that runs is not forgotten, however many came after it")
	d.ok("nell", "DELETE", path(long.ID), nil, nil)
	status, _, _ = d.do("nell", "GET", "/jobs/x", nil, nil)
	assert.Equal(t, http.StatusNotFound, status)
}

const (
	quay   = "saltern-quay"
	router = "northmole-harbour"
)

func compare(a, b string, more ...string) string {
	q := url.Values{"a": {a}, "b": {b}}
	for i := 0; i+1 < len(more); i += 2 {
		q.Set(more[i], more[i+1])
	}
	return "/compare?" + q.Encode()
}

// Places lead to what one may see, and say what is wrong with them.
func TestPlaces(t *testing.T) {
	t.Parallel()
	d := newCounter(t, quay, router)
	d.ok("nell", "POST", "/snapshots", wire.NewSnapshot{Name: "now", All: true}, nil)
	var c wire.Change
	d.ok("nell", "POST", "/changes", wire.NewChange{Title: "secret"}, &c)
	value := "hidden"
	d.ok(
		"nell", "POST", fmt.Sprintf("/changes/%d/edits", c.Number),
		wire.NewEdit{Devices: []string{quay}, Op: "put", Path: "/system/contact", Value: &value}, nil,
	)
	draft := fmt.Sprintf("%s@change:%d", quay, c.Number)
	var got wire.Comparison
	d.ok("nell", "GET", compare(quay, draft), nil, &got)
	assert.Equal(t, 1, got.Count)
	status, p, _ := d.do("otto", "GET", compare(quay, draft), nil, nil)
	assert.Equal(t, http.StatusForbidden, status)
	assert.NotContains(t, p.Detail, value, "a draft is private, also through a place")
	d.ok("nell", "GET", compare(quay+"@snapshot:now", quay+"@startup", "as", "yang-patch"), nil, &got)
	assert.Zero(t, got.Count)
	d.ok("nell", "GET", compare(quay, router, "path", "/system/contact", "context", "0"), nil, &got)
	assert.Equal(t, "/system/contact", got.Path)
	for place, want := range map[string]string{
		"nix": `there is no device "nix"`, quay + "@": "is no place to read from", quay + "@rev:x": "is no place",
		quay + "@rev:9": "has no revision 9", quay + "@startup:9": "has no startup 9",
		quay + "@change:99": "there is no change 99", quay + "@snapshot:9": `there is no snapshot "9"`,
		quay + "@at:then": "is no time", quay + "@archive:1": "there is no copy 1",
		quay + "@before:1": "was not committed on",
	} {
		status, p, _ := d.do("nell", "GET", compare(place, quay), nil, nil)
		assert.Contains(t, []int{http.StatusUnprocessableEntity, http.StatusNotFound}, status, place)
		assert.Contains(t, p.Detail, want, place)
	}
	status, p, _ = d.do("nell", "GET", "/compare/fleet?from=yesterday", nil, nil)
	assert.Equal(t, []any{http.StatusUnprocessableEntity, `"yesterday" is no moment`}, []any{status, p.Detail})
	status, _, _ = d.do("nell", "GET", "/compare/fleet?from=running&site=Nowhere", nil, nil)
	assert.Equal(t, http.StatusNotFound, status)
	for _, q := range []string{
		"/devices/" + quay + "/revisions?line=candidate", "/devices/" + quay + "/history",
		"/devices/" + quay + "/blame?path=system",
	} {
		status, _, _ := d.do("vera", "GET", q, nil, nil)
		assert.Equal(t, http.StatusUnprocessableEntity, status, q)
	}
}

// What is imported says what it is from; a load of another's is warned of, and
// carrying keeps what is the device's own.
func TestImportAndCarry(t *testing.T) {
	t.Parallel()
	d := newCounter(t, quay, "saltern-slip")
	const slip = "saltern-slip"
	get := func(path string) []byte {
		req := httptest.NewRequest("GET", prefix+path, nil)
		req.Header.Set("Authorization", "Bearer "+d.tokens["vera"])
		rec := httptest.NewRecorder()
		d.h.ServeHTTP(rec, req)
		require.Equal(t, 200, rec.Code, rec.Body.String())
		return rec.Body.Bytes()
	}
	_, err := bundle.Check(bytes.NewReader(get("/export?from=rev:1&device="+quay)), nil)
	require.ErrorContains(t, err, "it was broken off: saltern-quay has no revision 1")
	for _, name := range []string{quay, slip} {
		d.ok("nell", "GET", "/devices/"+name+"/config", nil, nil)
	}
	for _, format := range []string{"xml", "json"} {
		tar := get("/export?from=rev:1&format=" + format + "&device=" + quay + "," + slip)
		m, err := bundle.Check(bytes.NewReader(tar), nil)
		require.NoError(t, err)
		require.Len(t, m.Files, 2)
		var text string
		require.NoError(t, bundle.Each(bytes.NewReader(tar), func(name string, _ int64, r io.Reader) error {
			b, err := io.ReadAll(r)
			if strings.HasSuffix(name, quay+"."+format) {
				text = string(b)
			}
			return err
		}))
		var out wire.BroughtBack
		d.ok("nell", "POST", "/import", wire.NewImport{Device: quay, Name: "a file", Text: text}, &out)
		assert.Zero(t, out.Change, "it is so already")
		assert.Contains(t, out.Parts[0].Notes[0], format+" file of "+quay+", as of 20")
		d.ok(
			"nell", "POST", "/import",
			wire.NewImport{
				Device: slip, Name: "a file", Text: text, Paths: []string{"/system/contact", "/vlans"},
				From: &wire.Origin{
					Device: quay, Model: "Box", Serial: "S-1", At: time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC),
				},
			},
			&out,
		)
		assert.Contains(
			t, strings.Join(out.Parts[0].Notes, "\n"),
			"as of 2026-11-20T00:00:00Z, Box S-1\nWarning: it is from "+quay+" and goes onto "+slip,
		)
	}
	status, p, _ := d.do(
		"nell", "POST", "/import",
		wire.NewImport{
			Device: slip, Name: "bad.xml",
			Text: "<config xmlns='urn:ietf:params:xml:ns:netconf:base:1.0'><nix/></config>",
		},
		nil,
	)
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, p.Detail, "bad.xml, read as xml: line 1, column")
	for _, in := range []wire.NewImport{
		{Device: slip, Text: "x"}, {Device: "nix", Name: "x", Text: "system\n"}, {Device: slip, Name: "x", Text: ""},
	} {
		status, _, _ := d.do("nell", "POST", "/import", in, nil)
		assert.GreaterOrEqual(t, status, 400, "%+v", in)
	}
	// A bundle is imported as a whole, each onto its own; what is damaged in it
	// stages nothing.
	tar := get("/export?from=rev:1&device=" + quay + "," + slip)
	post := func(query string, body []byte) (int, string) {
		req := httptest.NewRequest("POST", prefix+"/import/bundle"+query, bytes.NewReader(body))
		req.Header.Set("Authorization", "Bearer "+d.tokens["nell"])
		rec := httptest.NewRecorder()
		d.h.ServeHTTP(rec, req)
		return rec.Code, rec.Body.String()
	}
	var whole wire.ImportedBundle
	status, body := post("", tar)
	require.Equal(t, 201, status, body)
	require.NoError(t, json.Unmarshal([]byte(body), &whole))
	assert.Zero(t, whole.Change, "all of it is so already")
	assert.Len(t, whole.Parts, 2)
	status, body = post("?onto="+slip+"&device="+quay, tar)
	require.Equal(t, 201, status, body)
	assert.Contains(t, body, "Warning: it is from "+quay+" and goes onto "+slip)
	for query, says := range map[string]string{
		"?onto=" + slip: "the bundle holds 2 configurations", "?device=nix": "holds nothing of nix; it holds " + quay,
		"?onto=nix&device=" + quay: `there is no device \"nix\"`,
	} {
		status, body = post(query, tar)
		assert.GreaterOrEqual(t, status, 400, query)
		assert.Contains(t, body, says)
	}
	hurt := bytes.Replace(tar, []byte("<hostname"), []byte("<hostnamE"), 1)
	require.NotEqual(t, tar, hurt)
	status, body = post("", hurt)
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, body, "SHA-256")
	var k wire.Carried
	d.ok("nell", "POST", "/carry", wire.NewCarry{From: quay, Onto: slip}, &k)
	own := map[string]string{}
	for _, o := range k.Own {
		own[o.Path] = o.Kept
	}
	assert.Equal(t, slip, own["/system/hostname"])
	for _, l := range k.Parts[0].Lines {
		assert.NotContains(t, l.Path, "/hostname")
		assert.NotContains(t, l.Text, "192.0.2.12")
	}
	status, p, _ = d.do("nell", "POST", "/carry", wire.NewCarry{From: quay, Onto: quay}, nil)
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, p.Detail, "is carried onto itself")
	changes, err := d.Store.Changes(t.Context())
	require.NoError(t, err)
	assert.Len(t, changes, 2, "what was refused, or was so already, opened none")
}
