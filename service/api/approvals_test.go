package api

import (
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/test/pace"
	"oakenlatch/wire"
)

// Two persons: what a rule is about is not committed before somebody else agreed
// to it as it is; whatever moves makes that fall; and in an emergency it goes for
// a reason, and stands out until somebody else looked at it.
func TestTwoPersons(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	const quay, slip = "saltern-quay", "saltern-slip"
	d := newCounter(t, quay, slip)
	d.ok("abel", "PATCH", "/devices/"+quay, wire.Settings{Tags: &[]string{"edge"}}, nil)
	d.ok(
		"abel", "POST", "/accounts",
		wire.NewAccount{Name: "agnes", Password: "agnes's password", May: []string{"approve@tag=edge", "read"}}, nil,
	)
	var s wire.Session
	d.ok("", "POST", "/login", wire.Login{Account: "agnes", Password: "agnes's password"}, &s)
	d.tokens["agnes"] = s.Token
	var rule wire.ApprovalRule
	d.ok("abel", "POST", "/rules", wire.NewRule{Scope: "tag=edge", Path: "/system/contact", Needed: 1}, &rule)
	for _, bad := range []wire.NewRule{
		{Needed: 0}, {Needed: 9}, {Needed: 1, Scope: "moon=1"}, {Needed: 1, Path: "acls"},
	} {
		status, _, _ := d.do("abel", "POST", "/rules", bad, nil)
		assert.Equal(t, http.StatusUnprocessableEntity, status, "%+v", bad)
	}
	no := func(who, method, path string, in any, says string) {
		t.Helper()
		status, p, _ := d.do(who, method, path, in, nil)
		assert.GreaterOrEqual(t, status, 400, "%s %s", method, path)
		assert.Contains(t, p.Detail+" "+p.Next.String(), says)
	}
	open := func() {
		t.Helper()
		d.ok("nell", "POST", "/changes", wire.NewChange{Title: "Two"}, nil)
	}
	open()
	stage := func(who, at, device, path, value string) {
		t.Helper()
		d.ok(who, "POST", at+"/edits", wire.NewEdit{Device: device, Op: "put", Path: path, Value: &value}, nil)
	}
	preview := func(who, at string) (p wire.Preview) {
		t.Helper()
		d.ok(who, "GET", at+"/preview", nil, &p)
		return p
	}
	hold := wire.NewCommit{HoldSeconds: 60}
	const one = "/changes/1"
	stage("nell", one, slip, "/system/contact", "a")
	stage("nell", one, quay, "/system/location", "b")
	assert.Nil(t, preview("nell", one).Approval, "neither the device nor the path is what the rule is about")
	stage("nell", one, quay, "/system/contact", "c")
	p := preview("nell", one)
	require.NotNil(t, p.Approval)
	assert.Equal(
		t, []any{1, 1, false, false}, []any{p.Approval.Needed, p.Approval.Missing, p.Approval.Emergency, p.Ready},
	)
	no(
		"nell", "POST", one+"/commit", hold,
		"needs the approval of 1 who did not work on it, and has that of 0 (rule 1: tag=edge /system/contact)",
	)
	no(
		"nell", "POST", one+"/commit", wire.NewCommit{HoldSeconds: 60, Emergency: "the quay is on fire"},
		"does not allow it",
	)
	no(
		"nell", "POST", one+"/schedule", wire.NewSchedule{Commit: &hold, At: time.Now().Add(time.Hour)},
		"needs the approval",
	)
	no("otto", "POST", one+"/approval", wire.Approve{Digest: p.Digest}, "private to them")
	d.ok("nell", "POST", one+"/ask", wire.NewNote{Text: "The ferry sails at six."}, nil)
	no("nell", "POST", one+"/approval", wire.Approve{Digest: p.Digest}, "others have to agree")
	no("agnes", "POST", one+"/approval", wire.Approve{Digest: p.Digest}, "may not approve on "+slip)
	var now wire.Attention
	d.ok("otto", "GET", "/attention", nil, &now)
	require.Len(t, now.Approve, 1)
	no("otto", "POST", one+"/approval", wire.Approve{Digest: "0123"}, "is not what preview 0123 showed")
	d.ok("otto", "POST", one+"/approval", wire.Approve{Digest: p.Digest, Note: "right"}, nil)
	p = preview("nell", one)
	assert.Equal(
		t, []any{0, "otto", "right", true},
		[]any{p.Approval.Missing, p.Approval.Have[0].Actor, p.Approval.Have[0].Note, p.Ready},
	)
	d.ok("otto", "GET", "/attention", nil, &now)
	assert.Empty(t, now.Approve)

	// An edit, a device that moved on, and whoever agreed beginning to work on it.
	stage("nell", one, quay, "/system/contact", "d")
	p = preview("nell", one)
	assert.Equal(t, []any{1, "otto"}, []any{p.Approval.Missing, p.Approval.Fallen[0].Actor})
	no("nell", "POST", one+"/commit", hold, "otto agreed to what it was before")
	d.ok("otto", "POST", one+"/approval", wire.Approve{Digest: p.Digest}, nil)
	require.NoError(t, d.Devices[quay].Console("/system/hostname", "moved"))
	no("nell", "POST", one+"/commit", hold, "")
	p = preview("nell", one)
	assert.Equal(t, 1, p.Approval.Missing, "what it is put onto is another")
	d.ok("otto", "POST", one+"/approval", wire.Approve{Digest: p.Digest}, nil)
	d.ok("nell", "POST", one+"/coworkers", wire.Share{Account: "otto"}, nil)
	stage("otto", one, quay, "/system/contact", "d")
	assert.Equal(t, 1, preview("nell", one).Approval.Missing, "otto works on it")
	d.ok("otto", "DELETE", one+"/edits?by=otto", nil, nil)
	p = preview("nell", one)
	no("otto", "POST", one+"/approval", wire.Approve{Digest: p.Digest}, "otto worked on change 1")
	no("nell", "POST", one+"/commit", hold, "that of otto does not count: they worked on it")
	approver := func(name string) {
		d.ok(
			"abel", "POST", "/accounts",
			wire.NewAccount{Name: name, Password: "the password of " + name, May: []string{"approve", "read"}}, nil,
		)
		d.ok("", "POST", "/login", wire.Login{Account: name, Password: "the password of " + name}, &s)
		d.tokens[name] = s.Token
	}
	approver("ivo")
	d.ok("ivo", "POST", one+"/approval", wire.Approve{Digest: p.Digest}, nil)
	d.ok("ivo", "DELETE", one+"/approval", nil, nil)
	no("nell", "POST", one+"/commit", hold, "and has that of 0")
	// Who has lost the role, or is gone, agrees no more; a machine never did.
	d.ok("ivo", "POST", one+"/approval", wire.Approve{Digest: p.Digest}, nil)
	assert.Zero(t, preview("nell", one).Approval.Missing)
	d.ok("abel", "PATCH", "/accounts/ivo", wire.AccountSettings{May: &[]string{"read"}}, nil)
	no("nell", "POST", one+"/commit", hold, "that of ivo does not count: they worked on it, or may not agree any more")
	approver("uma")
	d.ok("uma", "POST", one+"/approval", wire.Approve{Digest: p.Digest}, nil)
	assert.Zero(t, preview("nell", one).Approval.Missing)
	d.ok("abel", "DELETE", "/accounts/uma", nil, nil)
	no("nell", "POST", one+"/commit", hold, "and has that of 0")
	var tok wire.Token
	d.ok("abel", "POST", "/tokens", wire.NewToken{Name: "robot", Until: time.Now().Add(time.Hour)}, &tok)
	d.tokens["robot"] = tok.Token
	no("robot", "POST", one+"/approval", wire.Approve{Digest: p.Digest}, "a machine's token agrees to nothing")
	d.ok("abel", "POST", one+"/approval", wire.Approve{Digest: p.Digest}, nil)
	d.ok("nell", "POST", one+"/commit", hold, nil)
	require.Eventually(
		t, func() bool { s, _, _ := d.do("nell", "POST", one+"/confirm", nil, nil); return s == http.StatusOK },
		90*time.Second, 50*time.Millisecond,
	)
	no("abel", "POST", one+"/approval", wire.Approve{Digest: p.Digest}, "there is nothing to agree to")

	// An emergency.
	d.ok("abel", "DELETE", "/rules/1", nil, nil)
	d.ok("abel", "POST", "/rules", wire.NewRule{Needed: 2, Emergency: true}, nil)
	d.ok("nell", "POST", "/changes", wire.NewChange{Title: "At night"}, nil)
	const two = "/changes/2"
	stage("nell", two, quay, "/system/contact", "night")
	no("nell", "POST", two+"/commit", hold, "in an emergency")
	no(
		"nell", "POST", two+"/commit", wire.NewCommit{HoldSeconds: 1, Emergency: "the quay is on fire"},
		"a hold lasts from",
	)
	assert.Empty(t, d.Found(0, "kind:emergency"), "what was not begun is none")
	d.ok("nell", "POST", two+"/commit", wire.NewCommit{HoldSeconds: 60, Emergency: "the quay is on fire"}, nil)
	d.ok("otto", "GET", "/attention", nil, &now)
	require.Len(t, now.Emergencies, 1)
	assert.Equal(
		t, []any{"nell", "the quay is on fire", int64(2)},
		[]any{now.Emergencies[0].Actor, now.Emergencies[0].Reason, now.Emergencies[0].Change},
	)
	assert.Len(t, d.Found(0, "kind:emergency"), 1)
	no("robot", "POST", "/emergencies/1/review", wire.NewNote{Text: "fine"}, "a machine's token looks at no emergency")
	no("nell", "POST", "/emergencies/1/review", wire.NewNote{Text: "fine"}, "was nell's own")
	no("otto", "POST", "/emergencies/1/review", wire.NewNote{Text: "  "}, "say what you found")
	d.ok("agnes", "POST", "/emergencies/1/review", wire.NewNote{Text: "It was out by then."}, nil)
	no("otto", "POST", "/emergencies/1/review", wire.NewNote{Text: "again"}, "looked at already, by agnes")
	d.ok("otto", "GET", "/attention", nil, &now)
	assert.Empty(t, now.Emergencies)
	d.ok("nell", "POST", two+"/revert", nil, nil)
}
