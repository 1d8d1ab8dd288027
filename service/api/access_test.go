package api

import (
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/ledger"
	"oakenlatch/lab"
	"oakenlatch/service/store"
	"oakenlatch/test/pace"
	"oakenlatch/wire"
)

// An account that may something on some devices only: the others are not there
// for it, whatever way it asks.
func TestReach(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	const quay, slip = "saltern-quay", "saltern-slip"
	d := newCounter(t, hall, quay, slip)
	for _, name := range []string{hall, quay, slip} {
		_, err := d.History.Read(t.Context(), store.Everything, name, "nell")
		require.NoError(t, err)
	}
	d.ok("abel", "PATCH", "/devices/"+quay, wire.Settings{Site: new("Saltern"), Tags: &[]string{"edge", "old"}}, nil)
	d.ok("abel", "PATCH", "/devices/"+slip, wire.Settings{Site: new("Saltern")}, nil)
	for name, may := range map[string][]string{
		"sal":  {"read,stage,commit@site=Saltern", "audit@tag=edge"},
		"edgy": {"stage@tag=edge", "administer@tag=edge", "read@site=Saltern"},
	} {
		d.ok("abel", "POST", "/accounts", wire.NewAccount{Name: name, Password: name + "'s password", May: may}, nil)
		var s wire.Session
		d.ok("", "POST", "/login", wire.Login{Account: name, Password: name + "'s password"}, &s)
		d.tokens[name] = s.Token
	}
	var devices []wire.Device
	d.ok("sal", "GET", "/devices", nil, &devices)
	require.Len(t, devices, 2)
	assert.Equal(
		t, []any{quay, "Saltern", []string{"edge", "old"}}, []any{devices[0].Name, devices[0].Site, devices[0].Tags},
	)

	// A change of somebody else's over both: not to be seen.
	var both, own wire.Change
	d.ok("nell", "POST", "/changes", wire.NewChange{Title: "Everywhere"}, &both)
	d.ok(
		"nell", "POST", "/changes/1/edits",
		wire.NewEdit{Devices: []string{hall, quay}, Op: "put", Path: "/system/contact", Value: new("hidden words")},
		nil,
	)
	d.ok("nell", "POST", "/changes/1/coworkers", wire.Share{Account: "sal"}, nil)
	d.ok("nell", "POST", "/snapshots", wire.NewSnapshot{Name: "all", All: true}, nil)
	d.ok(
		"nell", "POST", "/devices/"+hall+"/reservation", wire.NewReservation{Seconds: 300, Reason: "hidden words"}, nil,
	)
	d.ok("sal", "POST", "/changes", wire.NewChange{Title: "Mine"}, &own)
	d.ok("nell", "POST", "/silences", wire.NewSilence{Device: hall, Path: "/system/location"}, nil)
	d.ok("abel", "POST", "/devices/"+hall+"/schedule", wire.NewSchedule{At: time.Now().Add(time.Hour)}, nil)
	d.ok("nell", "PUT", "/shared/far", wire.NewShared{Items: []string{"Gannet Point"}}, nil)
	d.ok("nell", "PUT", "/stencils/far", wire.NewStencil{Text: "system\n  contact: {@far}\n  location: {room}\n"}, nil)
	d.ok("nell", "POST", "/changes", wire.NewChange{Title: "Far"}, nil)
	d.ok(
		"nell", "POST", "/stencils/far/bind",
		wire.Bind{Change: 3, Devices: []string{hall}, Blanks: map[string]string{"room": "hidden words"}}, nil,
	)
	d.ok("nell", "POST", "/changes/3/commit", wire.NewCommit{HoldSeconds: 60}, nil)
	require.Eventually(t, func() bool {
		s, _, _ := d.do("nell", "POST", "/changes/3/confirm", nil, nil)
		return s == http.StatusOK
	}, 90*time.Second, 50*time.Millisecond)
	require.NoError(t, d.Devices[hall].Console("/system/contact", "hidden words, by hand"))
	_, err := d.History.Read(t.Context(), store.Everything, hall, "nell")
	require.NoError(t, err)
	d.ok("abel", "POST", "/rules", wire.NewRule{Scope: "device=" + hall, Needed: 1, Emergency: true}, nil)
	d.ok("nell", "POST", "/changes", wire.NewChange{Title: "Far again, hidden words"}, nil)
	d.ok(
		"nell", "POST", "/changes/4/edits",
		wire.NewEdit{Devices: []string{hall}, Op: "put", Path: "/system/hostname", Value: new("hidden-words")}, nil,
	)
	d.ok("nell", "POST", "/changes/4/commit", wire.NewCommit{HoldSeconds: 60, Emergency: "hidden words"}, nil)
	d.ok("nell", "PUT", "/stencils/idle", wire.NewStencil{Text: "system\n  contact: nobody yet\n"}, nil)
	d.ok("nell", "PUT", "/shared/idle", wire.NewShared{Items: []string{"nobody"}}, nil)
	none := "there is no device"
	for _, c := range []struct {
		who, method, path string
		in                any
		status            int
		says              string
	}{
		{"sal", "GET", "/devices/" + hall, nil, 404, none},
		{"sal", "GET", "/devices/" + hall + "/config", nil, 404, none},
		{"sal", "GET", "/devices/" + hall + "/modules", nil, 404, none},
		{"sal", "GET", "/devices/" + hall + "/timeline", nil, 404, none},
		{"sal", "GET", "/devices/" + hall + "/blame", nil, 404, none},
		{"sal", "GET", "/devices/" + hall + "/filters", nil, 404, none},
		{"sal", "GET", "/compare?a=" + hall + "@running&b=" + quay + "@running", nil, 404, none},
		{"sal", "GET", "/filters/compare?a=" + hall + "/hall-in&b=" + hall + "/hall-in", nil, 404, none},
		{"sal", "GET", "/export?from=running&device=" + hall, nil, 404, none},
		{"sal", "POST", "/carry", wire.NewCarry{From: hall, Onto: quay}, 404, none},
		{"sal", "GET", "/changes/1", nil, 403, "about devices that account sal may not see"},
		{"sal", "GET", "/changes/1/preview", nil, 403, "may not see"},
		{"sal", "GET", "/changes/1/edits", nil, 403, "may not see"},
		{"sal", "GET", "/changes/1/report?format=html", nil, 403, "may not see"},
		{"sal", "GET", "/devices/" + quay + "/config?from=change:1", nil, 403, "may not see"},
		{"sal", "POST", "/undo", wire.NewUndo{Change: 1}, 403, "may not see"},
		{
			"sal", "POST", "/changes/2/edits",
			wire.NewEdit{Devices: []string{hall}, Op: "put", Path: "/system/contact", Value: new("x")}, 404, none,
		},
		{
			"sal", "POST", "/changes/2/expectations", wire.NewExpectation{Line: "deny any", Place: hall + "/hall-in"},
			404, none,
		},
		{"sal", "PATCH", "/devices/" + quay, wire.Settings{Save: new(false)}, 403, "account sal may not administer"},
		{"edgy", "GET", "/devices/" + slip, nil, 200, ""},
		{"edgy", "PATCH", "/devices/" + slip, wire.Settings{Save: new(false)}, 403, "may not administer on " + slip},
		{"edgy", "PATCH", "/devices/" + quay, wire.Settings{Save: new(false)}, 200, ""},
		{"edgy", "PATCH", "/devices/" + quay, wire.Settings{Tags: &[]string{}}, 403, "say who may do what with it"},
		{"edgy", "POST", "/changes/2/commit", wire.NewCommit{HoldSeconds: 60}, 403, "may not commit"},
		{"edgy", "GET", "/accounts", nil, 403, "may not administer on all devices"},
		{
			"sal", "PUT", "/stencils/far", wire.NewStencil{Text: "system\n  location: {@far}\n"}, 403,
			"account sal may not stage on all of them",
		},
		{
			"sal", "PUT", "/shared/far", wire.NewShared{Items: []string{"near"}}, 403,
			"account sal may not stage on all of them",
		},
		{
			"sal", "PUT", "/stencils/idle", wire.NewStencil{Text: "system\n  location: mine now\n"}, 403,
			"stencil idle is nell's, and for all devices",
		},
		{"sal", "PUT", "/shared/idle", wire.NewShared{Items: []string{"mine now"}}, 403, "shared value idle is nell's"},
		{"sal", "PUT", "/stencils/saltern-own", wire.NewStencil{Text: "system\n  location: here\n"}, 200, ""},
		{"sal", "PUT", "/stencils/saltern-own", wire.NewStencil{Text: "system\n  location: there\n"}, 200, ""},
		{"edgy", "GET", "/audit", nil, 403, "may not audit"},
		{"sal", "POST", "/snapshots", wire.NewSnapshot{Name: "x", Devices: []string{hall}}, 404, none},
	} {
		var out any
		status, p, _ := d.do(c.who, c.method, c.path, c.in, &out)
		assert.Equal(t, c.status, status, "%s %s %s: %s", c.who, c.method, c.path, p.Detail)
		assert.Contains(t, p.Detail, c.says, "%s %s %s", c.who, c.method, c.path)
	}
	// What is listed leaves the others out.
	for _, path := range []string{
		"/changes", "/attention", "/reservations", "/outside?all=true", "/commits", "/copies", "/standing", "/schedule",
		"/snapshots?retired=true", "/snapshots/all", "/searches", "/stencils", "/stencils/far", "/shared", "/silences",
		"/emergencies?all=true", "/compare/fleet?from=running&to=running",
	} {
		page := d.page("sal", path)
		assert.Equal(t, http.StatusOK, page.Code, "%s: %s", path, page.Body)
		assert.NotContains(t, page.Body.String(), hall, path)
		assert.NotContains(t, page.Body.String(), "hidden words", path)
	}
	var list wire.Audit
	d.ok("sal", "GET", "/audit?limit=1000", nil, &list)
	assert.NotEmpty(t, list.Entries)
	for _, e := range list.Entries {
		assert.True(t, e.Device == quay || e.Device == "" && e.Actor == "sal", "%+v", ledger.Entry(e))
	}

	// Secrets do not come along to where somebody may see them.
	d.ok(
		"abel", "PATCH", "/accounts/sal",
		wire.AccountSettings{May: &[]string{"read,stage,commit@site=Saltern", "reveal@tag=edge", "audit@tag=edge"}},
		nil,
	)
	require.NoError(t, d.Devices[slip].Console("/system/authentication/user="+lab.User+"/password", "$0$"+lab.Password))
	_, err = d.History.Read(t.Context(), store.Everything, slip, "nell")
	require.NoError(t, err)
	status, p, _ := d.do(
		"sal", "POST", "/changes/2/load",
		wire.NewLoad{Devices: []string{quay}, Mode: "merge", FromDevice: slip, Path: "/system"}, nil,
	)
	assert.Equal(t, http.StatusForbidden, status)
	assert.Contains(t, p.Detail, "holds secrets that account sal may not see there")
	d.ok(
		"sal", "POST", "/changes/2/load",
		wire.NewLoad{Devices: []string{quay}, Mode: "merge", FromDevice: slip, Path: "/system/location"}, nil,
	)
	d.ok(
		"nell", "POST", "/changes/1/load",
		wire.NewLoad{Devices: []string{quay}, Mode: "merge", FromDevice: slip, Path: "/system"}, nil,
	)

	// Tokens of machines, shown once; another password.
	var tok wire.Token
	d.ok(
		"sal", "POST", "/tokens",
		wire.NewToken{Name: "nightly", May: &[]string{"read@site=Saltern"}, Until: time.Now().Add(time.Hour)}, &tok,
	)
	d.tokens["machine"] = tok.Token
	d.ok("machine", "GET", "/devices/"+quay, nil, nil)
	status, p, _ = d.do("machine", "POST", "/changes", wire.NewChange{Title: "x"}, nil)
	assert.Equal(t, http.StatusForbidden, status, p.Detail)
	assert.NotContains(t, d.page("abel", "/tokens").Body.String(), tok.Token)
	d.ok("sal", "DELETE", "/tokens/"+tok.ID, nil, nil)
	status, _, _ = d.do("machine", "GET", "/devices/"+quay, nil, nil)
	assert.Equal(t, http.StatusUnauthorized, status)
	d.ok("sal", "POST", "/me/password", wire.NewPassword{Old: "sal's password", New: "another one, and longer"}, nil)
	status, p, h := d.do("", "POST", "/login", wire.Login{Account: "sal", Password: "sal's password"}, nil)
	assert.Equal(t, []any{401, "wrong account or password"}, []any{status, p.Detail})
	for range 4 {
		status, p, h = d.do("", "POST", "/login", wire.Login{Account: "sal", Password: "sal's password"}, nil)
	}
	assert.Equal(t, http.StatusTooManyRequests, status)
	assert.NotEmpty(t, h.Get("Retry-After"))
	assert.Contains(t, p.Detail, "no sooner than")
	d.ok("abel", "DELETE", "/accounts/sal", nil, nil)
	status, _, _ = d.do("sal", "GET", "/me", nil, nil)
	assert.Equal(t, http.StatusUnauthorized, status)
}
