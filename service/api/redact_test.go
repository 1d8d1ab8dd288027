package api

import (
	"bytes"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/lifecycle"
	"oakenlatch/core/markup"
	"oakenlatch/core/redact"
	"oakenlatch/lab"
	"oakenlatch/service/access"
	"oakenlatch/service/store"
	"oakenlatch/test/pace"
	"oakenlatch/wire"
)

// A secret in a configuration, from when it is typed to the report of its change:
// shown to nobody but those who may see secrets, in no answer, entry, log or error;
// and compared exactly, taken back and brought back all the same.
func TestSecretsStaySecret(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	word := func(text string) string { return text }
	for _, c := range []struct {
		kind, at, secret string
		with             map[string]string // what it needs beside it
		written          func(string) string
	}{
		// once there are accounts, ours is needed
		{
			"a password, by its type (RFC 7317)", "/system/authentication/user=night", "password",
			map[string]string{"/system/authentication/user=" + lab.User: ""},
			func(text string) string { return "$0$" + text },
		},
		{
			"a key of another service (RFC 7317, RFC 8341 default-deny-all)", "/system/radius/server=night",
			"udp/shared-secret", map[string]string{"/system/radius/server=night/udp/address": "203.0.113.19"}, word,
		},
		{
			"a private key (RFC 9642)", "/keystore/asymmetric-keys/asymmetric-key=night", "cleartext-private-key",
			map[string]string{"/keystore/asymmetric-keys/asymmetric-key=night/public-key": "AAAA"}, inBase64,
		},
		{
			"a shared key (RFC 9642)", "/keystore/symmetric-keys/symmetric-key=night", "cleartext-symmetric-key", nil,
			inBase64,
		},
		{
			"below what nobody reads, by no name of its own", "/tunnels/tunnel=night", "agreed/phrase",
			map[string]string{"/tunnels/tunnel=night/peer": "10.64.0.9"}, word,
		},
	} {
		t.Run(c.kind, func(t *testing.T) {
			t.Parallel()
			secretStaysSecret(t, c.at, c.secret, c.with, c.written)
		})
	}
}

// inBase64 writes a word as a binary value whose text is seen to hold it: all of its letters stand in Base64, too.
func inBase64(text string) string {
	text = strings.NewReplacer("$", "", "-", "").Replace(text)
	return text + strings.Repeat("A", (4-len(text)%4)%4)
}

func secretStaysSecret(t *testing.T, user, leaf string, with map[string]string, written func(string) string) {
	const quay = "saltern-quay"
	d := newCounter(t, hall, quay)
	var logged bytes.Buffer
	d.API.Logger = slog.New(slog.NewTextHandler(&logged, &slog.HandlerOptions{Level: slog.LevelDebug}))
	d.h = d.API.Handler()
	first, second := written("canary-in-the-hold"), written("canary-on-the-mast")
	pages := 0
	hidden := func(who, path, body string) {
		t.Helper()
		// and those that the devices came with
		for _, secret := range []string{
			"canary", "tar-and-oakum", "low water at four bells", "dGhlIHF1YXkga2V5", "d2hhdCBoYWxsIGFuZCBoYXJib3Vy",
		} {
			if who == "nell" || secret == "canary" {
				assert.NotContains(t, body, secret, "%s as %s", path, who)
			}
		}
	}
	clean := func(who, path string) string {
		t.Helper()
		page := d.page(who, path)
		require.Less(t, page.Code, 500, "%s: %s", path, page.Body)
		hidden(who, path, page.Body.String())
		pages++
		return page.Body.String()
	}
	change := func(title string, edits ...wire.NewEdit) string {
		t.Helper()
		var ch wire.Change
		d.ok("nell", "POST", "/changes", wire.NewChange{Title: title}, &ch)
		at := fmt.Sprintf("/changes/%d", ch.Number)
		for _, e := range edits {
			var staged []wire.Staged
			d.ok("nell", "POST", at+"/edits", e, &staged)
			assert.NotContains(t, fmt.Sprint(staged), "canary")
		}
		return at
	}
	keep := func(at string) {
		t.Helper()
		d.ok("nell", "POST", at+"/commit", wire.NewCommit{HoldSeconds: 60}, nil)
		require.Eventually(
			t, func() bool { s, _, _ := d.do("nell", "POST", at+"/confirm", nil, nil); return s == http.StatusOK },
			90*time.Second, 50*time.Millisecond,
		)
	}
	put := func(value string) wire.NewEdit {
		return wire.NewEdit{Devices: []string{hall, quay}, Op: "put", Path: user + "/" + leaf, Value: &value}
	}
	var edits []wire.NewEdit
	for path, value := range with {
		e := wire.NewEdit{Devices: []string{hall, quay}, Op: "put", Path: path}
		if value != "" {
			e.Value = &value
		}
		edits = append(edits, e)
	}
	at := change("A night account", append(edits, put(first))...)
	for _, form := range []string{
		"", "unified", "edit-config", "yang-patch", "yang-patch-json", "outline", "xml", "json",
	} {
		assert.Contains(t, clean("nell", at+"/preview?as="+form), "hidden:", form)
	}
	assert.Contains(t, clean("nell", at+"/edits"), redact.Prefix)
	clean("nell", at+"/report?format=html")
	clean("nell", at+"/parts/"+hall+"?path=/system")
	keep(at)
	v, err := d.Devices[hall].Value(user + "/" + leaf)
	require.NoError(t, err)
	assert.Equal(t, first, v, "the device has it as it is")

	at = change("Another word", put(second))
	clean("nell", at+"/preview")
	clean("nell", at+"/report?format=html")
	keep(at)
	for _, path := range []string{
		"/devices/%s/config", "/devices/%s/config?from=rev:2", "/devices/%s/difference",
		"/devices/%s/difference?from=rev:2&to=rev:3", "/devices/%s/blame?path=/system",
		"/devices/%s/history?path=" + user + "/" + leaf, "/devices/%s/timeline",
		"/compare?a=%[1]s@rev:2&b=%[1]s@rev:3&as=unified", "/compare?a=%[1]s@rev:1&b=%[1]s@rev:3&as=edit-config",
		"/export?from=running&device=%s", "/export?from=running&format=json&device=%s",
		"/devices/%s/paths?path=" + user + "/" + leaf,
	} {
		clean("nell", fmt.Sprintf(path, hall))
	}
	for _, path := range []string{
		"/compare?a=" + hall + "@running&b=" + quay + "@running", "/commits", "/commits/1", "/commits/2",
		"/changes/1/preview", "/changes/1/edits", "/changes/1/report?format=html", "/changes/2/report?format=html",
		"/report?since=2020-01-01&format=html", "/audit?limit=1000", "/audit/export?format=csv",
		"/audit/export?format=jsonl", "/attention", "/audit?q=canary",
	} {
		clean("nell", path)
	}
	for _, e := range d.Found(0, "") {
		assert.NotContains(t, fmt.Sprint(e), "canary", "the ledger has names of them, for everybody")
	}
	assert.NotEmpty(t, d.Found(0, "kind:config path:%s", user))
	assert.Contains(t, d.page("abel", "/devices/"+hall+"/config").Body.String(), second, "who may see secrets does")
	assert.Contains(t, d.page("abel", "/compare?a="+hall+"@rev:2&b="+hall+"@rev:3").Body.String(), second)
	clean("abel", "/audit?limit=1000")
	clean("abel", "/changes/2/report?format=html")

	// A somebody else changes it on the device: found, told, and not shown.
	require.NoError(t, d.Devices[hall].Console(user+"/"+leaf, written("canary-overboard")))
	_, err = d.History.Read(t.Context(), store.Everything, hall, "nell")
	require.NoError(t, err)
	clean("nell", "/outside?all=true")
	clean("nell", "/outside/1")
	assert.NotEmpty(t, d.Found(0, "kind:outside path:%s", user))

	// What is seen can be edited as text and put back: a name stands for the value
	// that is there, and for no other, and in no other place.
	var ch wire.Change
	d.ok("nell", "POST", "/changes", wire.NewChange{Title: "As text"}, &ch)
	at = fmt.Sprintf("/changes/%d", ch.Number)
	var part wire.Part
	d.ok("nell", "GET", at+"/parts/"+quay, nil, &part)
	assert.Contains(t, part.Outline, redact.Prefix)
	load := wire.NewLoad{
		Devices: []string{quay}, Mode: "replace",
		Text: regexp.MustCompile(`contact: ("?)`).ReplaceAllString(part.Outline, "contact: ${1}Night "), Name: "x",
	}
	var loaded []wire.Loaded
	d.ok("nell", "POST", at+"/load", load, &loaded)
	assert.Equal(t, 1, loaded[0].Count, "the contact alone: %v", loaded[0].Lines)
	name := d.Log.Redactor.Name(second)
	d.ok(
		"nell", "POST", at+"/edits",
		wire.NewEdit{Devices: []string{quay}, Op: "put", Path: user + "/" + leaf, Value: &name}, nil,
	)
	d.ok(
		"nell", "POST", at+"/edits",
		wire.NewEdit{Devices: []string{quay}, Op: "put", Path: "/system/location", Value: &name}, nil,
	)
	d.ok("nell", "POST", at+"/coworkers", wire.Share{Account: "abel"}, nil)
	result := d.page("abel", at+"/preview?as=outline").Body.String()
	assert.Contains(t, result, "location: hidden:", "not where all read it")
	assert.Contains(t, result, second)
	other := d.Log.Redactor.Name(written("never-there"))
	status, p, _ := d.do(
		"nell", "POST", at+"/edits",
		wire.NewEdit{Devices: []string{quay}, Op: "put", Path: user + "/" + leaf, Value: &other}, nil,
	)
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, p.Detail, "does not stand in this configuration")

	// A device that repeats what it was sent in its refusal.
	at = change(
		"Refused",
		wire.NewEdit{
			Devices: []string{quay}, Op: "put", Path: user + "/" + leaf, Value: new(written("canary-refused")),
		},
	)
	d.Devices[quay].OnOperation(func(op *markup.Element) lab.Fault {
		if op.Name.Local == "validate" {
			return lab.Fault{Refuse: errors.New("value " + written("canary-refused") + " is not liked")}
		}
		return lab.Fault{}
	})
	d.do("nell", "POST", at+"/commit", wire.NewCommit{HoldSeconds: 60}, nil)
	require.Eventually(t, func() bool {
		var ch wire.Change
		d.ok("nell", "GET", at, nil, &ch)
		return ch.State == lifecycle.Failed
	}, 90*time.Second, 50*time.Millisecond)
	assert.Contains(t, clean("nell", at), "is not liked")
	clean("nell", "/audit?limit=1000")
	// One that its type does not take: told to who typed it, and to nobody else.
	for _, wrong := range []string{"canary of no type, \u00e4", "$9$canary"} {
		d.do("nell", "POST", at+"/edits", put(wrong), nil)
	}
	d.ok("nell", "POST", "/snapshots", wire.NewSnapshot{Name: "after", Devices: []string{hall, quay}}, nil)
	// Whatever can be asked for, of all that there is.
	fill := strings.NewReplacer(
		":name", hall, ":device", hall, ":number", "2", ":ref", "1", ":id", "1", ":archive", "none", ":account", "nell",
		":revision", "3", ":stencil", "none",
	)
	for _, r := range d.API.routes() {
		if r.method == http.MethodGet && !r.needs.Open && !r.lasts {
			for _, query := range []string{
				"", "?device=" + hall + "&path=" + url.QueryEscape(user) + "&from=running&all=true&q=night",
			} {
				rec := httptest.NewRecorder()
				req := httptest.NewRequestWithContext(t.Context(), "GET", "/api/v1"+fill.Replace(r.path)+query, nil)
				req.Header.Set("Authorization", "Bearer "+d.tokens["nell"])
				d.h.ServeHTTP(rec, req)
				require.Less(t, rec.Code, 500, "%s: %s", r.path, rec.Body)
				hidden("nell", r.path+query, rec.Body.String())
				pages++
			}
		}
	}
	for _, e := range d.Found(0, "") {
		assert.NotContains(t, fmt.Sprint(e), "canary")
	}
	assert.NotContains(t, logged.String(), "canary")
	assert.Greater(t, pages, 120)
}

// Secrets in stencils, in what fills their blanks and in shared values: hidden from
// those who may not see them, put back where they were by those who saw their names,
// and put nowhere else.
func TestSecretsOfStencils(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	const users, eve = "/system/authentication/user=", "$0$canary-of-eve"
	d := newCounter(t, hall, "saltern-quay")
	clean := func(who, path string) string {
		t.Helper()
		page := d.page(who, path).Body.String()
		assert.NotContains(t, page, "canary", "%s as %s", path, who)
		return page
	}
	refused := func(who, method, path string, in any, status int, want string) {
		t.Helper()
		got, p, _ := d.do(who, method, path, in, nil)
		assert.Equal(t, status, got, p.Detail)
		assert.Contains(t, p.Detail+fmt.Sprint(p.Next), want)
		assert.NotContains(t, p.Detail+fmt.Sprint(p.Next), "canary")
	}
	doors := "system\n  location: {place}\n  authentication\n    user [{who}]\n      password: {word}\n    user " +
		"[dawn]\n      password: $0$canary-at-dawn\n    user [noon]\n      password: {@noon}\n    user [" + lab.User +
		"]\n"
	d.ok("abel", "PUT", "/stencils/doors", wire.NewStencil{Text: doors, Note: "doors"}, nil)
	d.ok("abel", "PUT", "/shared/noon", wire.NewShared{Items: []string{"$0$canary-at-noon"}}, nil)
	bind := func(change int64, word string) wire.Bind {
		return wire.Bind{
			Change: change, Devices: []string{hall},
			Blanks: map[string]string{"place": "Hut", "who": "eve", "word": word},
		}
	}
	open := func(who string) int64 {
		var ch wire.Change
		d.ok(who, "POST", "/changes", wire.NewChange{Title: "Doors"}, &ch)
		return ch.Number
	}
	keep := func(n int64) {
		t.Helper()
		at := fmt.Sprintf("/changes/%d", n)
		clean("nell", at+"/preview")
		clean("nell", at+"/edits")
		d.ok("nell", "POST", at+"/commit", wire.NewCommit{HoldSeconds: 60}, nil)
		require.Eventually(
			t, func() bool { s, _, _ := d.do("nell", "POST", at+"/confirm", nil, nil); return s == http.StatusOK },
			90*time.Second, 50*time.Millisecond,
		)
	}
	n := open("nell")
	refused(
		"nell", "POST", "/stencils/doors/bind", bind(n, "canary\x01"), http.StatusUnprocessableEntity, "stencil doors",
	)
	var loaded []wire.Loaded
	d.ok("nell", "POST", "/stencils/doors/bind", bind(n, eve), &loaded)
	assert.NotContains(t, fmt.Sprint(loaded), "canary")
	keep(n)
	for user, want := range map[string]string{"eve": eve, "dawn": "$0$canary-at-dawn", "noon": "$0$canary-at-noon"} {
		v, err := d.Devices[hall].Value(users + user + "/password")
		require.NoError(t, err)
		assert.Equal(t, want, v)
	}
	require.NoError(t, d.Devices[hall].Console(users+"eve/password", "$0$canary-by-hand"))
	_, err := d.History.Read(t.Context(), store.Everything, hall, "nell")
	require.NoError(t, err)

	for _, path := range []string{
		"/stencils", "/stencils/doors", "/stencils/doors?device=" + hall, "/shared", "/audit?limit=1000",
	} {
		clean("nell", path)
	}
	assert.Contains(t, clean("nell", "/stencils/doors"), `"strayed":`, "that it strayed is told")
	for _, path := range []string{"/stencils", "/stencils/doors", "/shared"} {
		assert.Contains(t, d.page("abel", path).Body.String(), "canary", "who may see secrets does")
	}

	// What was seen is edited and saved: its secrets stay what they are.
	var seen wire.Stencil
	d.ok("nell", "GET", "/stencils/doors", nil, &seen)
	require.Contains(t, seen.Text, redact.Prefix)
	var saved wire.Saved
	d.ok(
		"nell", "PUT", "/stencils/doors",
		wire.NewStencil{Text: strings.Replace(seen.Text, "location: {place}", "location: {place}-again", 1)}, &saved,
	)
	assert.NotContains(t, fmt.Sprint(saved), "canary")
	assert.Contains(t, fmt.Sprint(saved.Notes), "changed by hand since")
	refused(
		"nell", "PUT", "/shared/noon", wire.NewShared{Items: []string{d.Log.Redactor.Name("$0$canary-at-noon")}},
		http.StatusConflict, "is so already",
	)
	var list []wire.Stencil
	d.ok("abel", "GET", "/stencils", nil, &list)
	assert.Equal(t, strings.Replace(doors, "{place}", "{place}-again", 1), list[0].Text)
	n = open("nell")
	d.ok("nell", "POST", "/stencils/doors/bind", bind(n, d.Log.Redactor.Name(eve)), nil)
	keep(n)
	v, err := d.Devices[hall].Value(users + "eve/password")
	require.NoError(t, err)
	assert.Equal(t, eve, v, "the value that has the name")

	// Nobody learns one by putting it elsewhere.
	for text, want := range map[string]string{
		strings.Replace(
			doors, "{place}", "{word}", 1,
		): "{word} is filled in with secrets",
		strings.Replace(
			doors, "{place}", "{@noon}", 1,
		): "{@noon} is filled in with secrets",
		"system\n  location: " + d.Log.Redactor.Name("$0$canary-at-dawn") + "\n":             "does not stand in this",
		"system\n  user [x]\n    password: " + d.Log.Redactor.Name("$0$canary-never") + "\n": "does not stand in this",
	} {
		got, p, _ := d.do("nell", "PUT", "/stencils/doors", wire.NewStencil{Text: text}, nil)
		assert.GreaterOrEqual(t, got, 400)
		assert.Contains(t, p.Detail, want)
	}
	refused(
		"nell", "PUT", "/stencils/other", wire.NewStencil{Text: "system\n  location: {@noon}\n"}, http.StatusForbidden,
		"is filled in with secrets",
	)
	refused(
		"nell", "POST", "/stencils/doors/bind", bind(open("nell"), d.Log.Redactor.Name("$0$canary-never")),
		http.StatusUnprocessableEntity, "does not stand in this",
	)
	on, err := access.ParseGrants([]string{"read", "stage", "reveal@device=" + hall})
	require.NoError(t, err)
	require.NoError(t, d.API.Accounts.Add(t.Context(), "x", "dora", "a long password", on))
	d.tokens["dora"], _, _, err = d.API.Accounts.Login(t.Context(), "dora", "a long password", "test", access.Site{})
	require.NoError(t, err)
	refused(
		"dora", "POST", "/stencils/doors/bind", bind(open("dora"), "$0$x"), http.StatusForbidden, "may not see in it",
	)
}
