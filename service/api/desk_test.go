package api

import (
	"bytes"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/advice"
	"oakenlatch/service/access"
	"oakenlatch/service/notify"
	"oakenlatch/service/outside"
	"oakenlatch/service/report"
	"oakenlatch/test/servicetest"
	"oakenlatch/wire"
)

// counter is the API over lab devices, asked as people ask it.
type counter struct {
	*servicetest.Room
	API    *API
	t      *testing.T
	h      http.Handler
	tokens map[string]string
}

// apiOf is an API over a room, with an empty console.
func apiOf(t *testing.T, r *servicetest.Room) *API {
	t.Helper()
	return &API{
		Store: r.Store, Log: r.Log, Accounts: r.Accounts, Fleet: r.Fleet, History: r.History, Desk: r.Desk,
		Stencils: r.Stencils, Restorer: r.Restorer, Engine: r.Engine, Commits: r.Commits, Documents: r.Documents,
		Approvals: r.Approvals, Reservations: r.Reservations, Console: fstest.MapFS{},
		Logger: slog.New(slog.DiscardHandler), Stopping: t.Context(),
	}
}

func newCounter(t *testing.T, devices ...string) *counter {
	t.Helper()
	return counterOf(t, servicetest.New(t, devices...))
}

// counterOf is an API over a room, with accounts for its people.
func counterOf(t *testing.T, r *servicetest.Room) *counter {
	t.Helper()
	accounts := r.Accounts
	a := apiOf(t, r)
	sealer, err := access.OpenSealer(filepath.Join(t.TempDir(), access.KeyFile))
	require.NoError(t, err)
	a.Decisions = &outside.Decisions{Store: r.Store, Log: r.Log, Restorer: r.Restorer}
	a.Reports = &report.Reports{Store: r.Store, Log: r.Log, Fleet: r.Fleet, History: r.History, Desk: r.Desk}
	a.Notifier = notify.New(r.Store, r.Log, sealer, a.Logger)
	a.Archives = r.Archives
	d := &counter{Room: r, API: a, t: t, h: a.Handler(), tokens: map[string]string{}}
	for name, role := range map[string]access.Grants{
		"nell": servicetest.Operator, "otto": servicetest.Operator, "abel": servicetest.Admin,
		"vera": servicetest.Viewer,
	} {
		require.NoError(t, accounts.Add(t.Context(), "x", name, name+"'s password", role))
		d.tokens[name], _, _, err = accounts.Login(t.Context(), name, name+"'s password", "test", access.Site{})
		require.NoError(t, err)
	}
	return d
}

// do makes a request as somebody; the answer is read into out, unless it is
// nil, and a problem is given back.
func (d *counter) do(who, method, path string, in, out any, header ...string) (int, wire.Problem, http.Header) {
	d.t.Helper()
	var body bytes.Buffer
	if in != nil {
		require.NoError(d.t, json.NewEncoder(&body).Encode(in))
	}
	req := httptest.NewRequest(method, prefix+path, &body)
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Authorization", "Bearer "+d.tokens[who])
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	rec := httptest.NewRecorder()
	d.h.ServeHTTP(rec, req)
	judge(d.t, method, path, rec)
	var p wire.Problem
	if rec.Code >= 400 {
		require.NoError(d.t, json.Unmarshal(rec.Body.Bytes(), &p), rec.Body.String())
	} else if out != nil {
		require.NoError(d.t, json.Unmarshal(rec.Body.Bytes(), out))
	}
	return rec.Code, p, rec.Header()
}

func (d *counter) ok(who, method, path string, in, out any, header ...string) http.Header {
	d.t.Helper()
	status, p, h := d.do(who, method, path, in, out, header...)
	require.Less(d.t, status, 300, "%s %s: %s", method, path, p.Detail)
	return h
}

func text(s string) *string { return &s }

// The way of a change through the API, by two people.
func TestDeskRoutes(t *testing.T) {
	t.Parallel()
	d := newCounter(t, "saltern-quay", "saltern-slip")
	var ch wire.Change
	d.ok("nell", "POST", "/changes", wire.NewChange{Title: "Lamps"}, &ch)
	both := []string{"saltern-quay", "saltern-slip"}
	var staged []wire.Staged
	d.ok(
		"nell", "POST", "/changes/1/edits",
		wire.NewEdit{Devices: both, Op: "put", Path: "/system/contact", Value: text("x")}, &staged,
	)
	assert.Len(t, staged, 2)
	var part wire.Part
	h := d.ok("nell", "GET", "/changes/1/parts/saltern-quay?path=/system/contact", nil, &part)
	assert.Equal(t, "system\n  contact: x\n", part.Outline)
	assert.Equal(t, `"`+part.Tag+`"`, h.Get("ETag"))

	load := wire.NewLoad{Devices: both[:1], Mode: "merge", Text: "vlans\n  vlan [40]\n", Name: "v"}
	var loaded []wire.Loaded
	h = d.ok("nell", "POST", "/changes/1/load", load, &loaded, "If-Match", `"`+part.Tag+`"`)
	assert.Equal(t, `"`+loaded[0].Tag+`"`, h.Get("ETag"))
	load.Text = "vlans\n  vlan [50]\n"
	status, p, _ := d.do("nell", "POST", "/changes/1/load", load, nil, "If-Match", `"`+part.Tag+`"`)
	assert.Equal(t, http.StatusPreconditionFailed, status)
	assert.Equal(t, wire.ProblemPrefix+"moved", p.Type)
	assert.Contains(t, p.Detail, "the last edit is 3, load, by nell")
	d.ok("nell", "POST", "/changes/1/load", load, nil, "If-Match", "*")

	for i := range 3 {
		d.ok("nell", "POST", "/changes", wire.NewChange{Title: fmt.Sprint("Later ", i)}, nil)
	}
	for query, want := range map[string][]int64{
		"": {4, 3, 2, 1}, "?limit=2": {4, 3}, "?limit=2&before=3": {2, 1}, "?before=1": {},
	} {
		var list []wire.Change
		d.ok("nell", "GET", "/changes"+query, nil, &list)
		got := []int64{}
		for _, c := range list {
			got = append(got, c.Number)
		}
		assert.Equal(t, want, got, query)
	}
	for query, want := range map[string]string{
		"limit=501": "at most 500", "limit=0": "a number is needed", "before=x": "a number is needed",
	} {
		_, p, _ = d.do("nell", "GET", "/changes?"+query, nil, nil)
		assert.Contains(t, p.Detail, want)
	}

	// Private until shared; then it is theirs too, but for whom else is on it.
	for _, path := range []string{
		"/changes/1", "/changes/1/edits", "/changes/1/preview", "/changes/1/parts/saltern-quay",
	} {
		status, p, _ = d.do("otto", "GET", path, nil, nil)
		assert.Equal(t, http.StatusForbidden, status, path)
		assert.Equal(t, advice.Words("they can add you").Do(advice.ShareChange, 1, "otto"), p.Next)
	}
	d.ok("nell", "POST", "/changes/1/coworkers", wire.Share{Account: "otto"}, &ch)
	assert.Equal(t, []string{"otto"}, ch.Coworkers)
	status, _, _ = d.do("otto", "POST", "/changes/1/coworkers", wire.Share{Account: "abel"}, nil)
	assert.Equal(t, http.StatusForbidden, status)
	d.ok("otto", "POST", "/changes/1/notes", wire.NewNote{Text: "hello"}, &ch)
	assert.Equal(t, "hello", ch.Notes[0].Text)
	var audit wire.Audit
	d.ok("otto", "GET", "/audit?q=change:1", nil, &audit)
	assert.NotEmpty(t, audit.Entries)
	d.ok("vera", "GET", "/audit?q=change:1", nil, &audit)
	assert.Empty(t, audit.Entries, "what is private is private in the record too")

	// Every form of the preview, and only those.
	for form, holds := range map[string]string{
		"unified": "+++ saltern-quay result", "edit-config": "<config xmlns=", "yang-patch": "<yang-patch",
		"yang-patch-json": "ietf-yang-patch:yang-patch", "outline": "contact: x", "xml": "<contact>x</contact>",
		"json": `"contact": "x"`,
	} {
		var pv wire.Preview
		d.ok("otto", "GET", "/changes/1/preview?device=saltern-quay&as="+form, nil, &pv)
		assert.Contains(t, pv.Parts[0].Rendered, holds, form)
		assert.Empty(t, pv.Digest, "a part of a change cannot be committed by itself")
	}
	for _, q := range []string{"as=html", "context=-1", "device=none"} {
		status, _, _ = d.do("otto", "GET", "/changes/1/preview?"+q, nil, nil)
		assert.GreaterOrEqual(t, status, 400, q)
	}
	var pv wire.Preview
	d.ok("otto", "GET", "/changes/1/preview?validate=true", nil, &pv)
	assert.True(t, pv.Ready)
	assert.True(t, pv.Parts[0].Tried)
	require.NotEmpty(t, pv.Digest)
	assert.Contains(t, strings.Join(pv.Steps, "\n"), "with only this service to revert it: saltern-slip")
	status, p, _ = d.do("otto", "POST", "/changes/1/commit", wire.NewCommit{HoldSeconds: 60, Preview: "feedfeed"}, nil)
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, p.Detail, `no preview "feedfeed"`)
	var gone []wire.Edit
	d.ok("otto", "DELETE", "/changes/1/edits?by=nell&device=saltern-slip", nil, &gone)
	assert.Len(t, gone, 1)
	status, p, _ = d.do("otto", "POST", "/changes/1/commit", wire.NewCommit{HoldSeconds: 60, Preview: pv.Digest}, nil)
	assert.Equal(t, http.StatusPreconditionFailed, status)
	assert.Contains(t, p.Detail, "saltern-slip was taken out")
	d.ok("nell", "DELETE", "/changes/1/coworkers/otto", nil, nil)
	status, _, _ = d.do("otto", "GET", "/changes/1", nil, nil)
	assert.Equal(t, http.StatusForbidden, status)
}

// Reservations, stencils and hints, with who may do what.
func TestReserveAndStencilRoutes(t *testing.T) {
	t.Parallel()
	d := newCounter(t, "saltern-quay")
	var r wire.Reservation
	d.ok("nell", "POST", "/devices/saltern-quay/reservation", wire.NewReservation{Reason: "fibre", Seconds: 3600}, &r)
	assert.Equal(t, "nell", r.Holder)
	status, p, _ := d.do(
		"otto", "POST", "/devices/saltern-quay/reservation", wire.NewReservation{Reason: "me", Seconds: 3600}, nil,
	)
	assert.Equal(t, http.StatusConflict, status)
	assert.Contains(t, p.Detail, "is reserved by nell until")
	status, _, _ = d.do(
		"nell", "POST", "/devices/none/reservation", wire.NewReservation{Reason: "x", Seconds: 3600}, nil,
	)
	assert.Equal(t, http.StatusNotFound, status)
	d.ok("otto", "POST", "/devices/saltern-quay/reservation/asks", wire.NewNote{Text: "when?"}, nil)
	var now wire.Attention
	d.ok("nell", "GET", "/attention", nil, &now)
	assert.Equal(t, "when?", now.Reserved[0].Asks[0].Text)
	var dev wire.Device
	d.ok("vera", "GET", "/devices/saltern-quay", nil, &dev)
	assert.Equal(t, "fibre", dev.Reserved.Reason)
	status, _, _ = d.do("otto", "DELETE", "/devices/saltern-quay/reservation", nil, nil)
	assert.Equal(t, http.StatusConflict, status)
	d.ok("abel", "DELETE", "/devices/saltern-quay/reservation", nil, nil)

	var saved wire.Saved
	d.ok("nell", "PUT", "/stencils/who", wire.NewStencil{Text: "system\n  contact: {who}\n"}, &saved)
	for bad, says := range map[string]string{"system\n  contact: {who\n": "a brace", "": "it says nothing"} {
		status, p, _ = d.do("nell", "PUT", "/stencils/who", wire.NewStencil{Text: bad}, nil)
		assert.Equal(t, http.StatusUnprocessableEntity, status)
		assert.Contains(t, p.Detail, says)
	}
	status, _, _ = d.do("nell", "PUT", "/stencils/1who", wire.NewStencil{Text: "system\n"}, nil)
	assert.Equal(t, http.StatusUnprocessableEntity, status, "a name begins with a letter")
	d.ok("nell", "POST", "/changes", wire.NewChange{Title: "x"}, nil)
	status, p, _ = d.do(
		"nell", "POST", "/stencils/who/bind", wire.Bind{Change: 1, Devices: []string{"saltern-quay"}}, nil,
	)
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, p.Detail, "left unfilled: who")
	d.ok(
		"nell", "POST", "/stencils/who/bind",
		wire.Bind{Change: 1, Devices: []string{"saltern-quay"}, Blanks: map[string]string{"who": "Nell"}}, nil,
	)
	var st wire.Stencil
	d.ok("vera", "GET", "/stencils/who?device=saltern-quay", nil, &st)
	assert.Equal(t, "string", st.Blanks[0].Type)
	assert.Empty(t, st.Uses, "not before it is kept")
	status, _, _ = d.do("vera", "GET", "/stencils/none", nil, nil)
	assert.Equal(t, http.StatusNotFound, status)
	var hints []wire.Hint
	d.ok("nell", "GET", "/devices/saltern-quay/paths?path=/system/con&change=1", nil, &hints)
	require.Len(t, hints, 1)
	assert.Equal(t, "Nell", hints[0].Current, "as the change makes it")
	status, _, _ = d.do("vera", "GET", "/devices/saltern-quay/paths?path=/sistem/x", nil, nil)
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	d.ok("otto", "PUT", "/shared/time", wire.NewShared{Items: []string{"a"}}, &saved)
	status, _, _ = d.do("otto", "PUT", "/shared/time", wire.NewShared{Items: []string{""}}, nil)
	assert.Equal(t, http.StatusUnprocessableEntity, status)

	for in, says := range map[string]string{
		`{"seenAs":"nowhere"}`: "is no address as packets have it", `{"seenFrom":"x"}`: "is no address",
		`{"via":["saltern-quay"]}`: "does not lead through itself", `{"via":["none"]}`: "no device",
	} {
		status, p, _ = d.do("abel", "PATCH", "/devices/saltern-quay", json.RawMessage(in), nil)
		assert.GreaterOrEqual(t, status, 400)
		assert.Contains(t, p.Detail, says)
	}
	d.ok(
		"abel", "PATCH", "/devices/saltern-quay",
		wire.Settings{SeenAs: text("192.0.2.12:830"), SeenFrom: text("198.51.100.10")}, &dev,
	)
	assert.Equal(t, "192.0.2.12:830", dev.SeenAs)
}

// What may hold a configuration may be large; nothing else may.
func TestBodyLimits(t *testing.T) {
	t.Parallel()
	d := newCounter(t, "saltern-quay")
	d.ok("nell", "POST", "/changes", wire.NewChange{Title: "x"}, nil)
	long := strings.Repeat("# a comment\n", MaxBody/10) + "system\n  contact: x\n"
	d.ok(
		"nell", "POST", "/changes/1/load", wire.NewLoad{Devices: []string{"saltern-quay"}, Mode: "merge", Text: long},
		nil,
	)
	status, p, _ := d.do("nell", "POST", "/changes/1/notes", wire.NewNote{Text: long}, nil)
	assert.Equal(t, http.StatusRequestEntityTooLarge, status)
	assert.Contains(t, p.Detail, "larger than 4 MiB, or 96 MiB for a configuration")
}
