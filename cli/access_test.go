package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/wire"
)

// What the client tells of who may do what, and of others' approval; the exit status
// is the answer.
func TestAccessCommands(t *testing.T) {
	t.Setenv("TZ", "UTC")
	pw := filepath.Join(t.TempDir(), "pw")
	require.NoError(t, os.WriteFile(pw, []byte("a long password\n"), 0o600))
	hanna := wire.Account{Name: "hanna", May: []string{"read", "commit@site=Saltern"}, Created: at}
	rule := wire.ApprovalRule{
		Number: 2, Scope: "tag=edge", Path: "/acls", Needed: 2, Emergency: true, Note: "two\u202e", Actor: "admin",
		At: at,
	}
	lacking := wire.Preview{
		Against: "running", Digest: "d1g",
		Change: wire.Change{Number: 7, Title: "Slip", State: "draft", Author: "mara"},
		Parts: []wire.PartPreview{
			{Device: "hall", Edits: []wire.Edit{}, Read: true, Guard: wire.Guard{Guard: "device"}, Count: 1},
		},
		Approval: &wire.Approval{
			Needed: 2, Missing: 1, Rules: []wire.ApprovalRule{rule},
			Have:   []wire.Agreement{{Actor: "otto", Digest: "d1g", Note: "right", At: at}},
			Fallen: []wire.Agreement{{Actor: "agnes", Digest: "old", At: at}}, AskedBy: "mara", AskedAt: at,
			AskedNote: "soon",
		},
	}
	answers := map[string]any{
		"POST /accounts":        hanna,
		"GET /accounts":         []wire.Account{hanna, {Name: "gone", May: []string{"read"}, Created: at, Closed: at}},
		"PATCH /accounts/hanna": hanna, "DELETE /accounts/hanna": struct{}{}, "POST /me/password": struct{}{},
		"GET /me": wire.Session{Account: "mara", May: []string{"read", "stage@site=Saltern"}},
		"GET /tokens": []wire.Token{
			{
				ID: "0a1b2c3d", Account: "mara", Kind: "session", Created: at, Expires: at.Add(time.Hour),
				IdleUntil: at, Used: at, Source: "198.51.100.7", Own: true,
			},
			{ID: "4e5f6071", Account: "mara", Kind: "machine", Name: "nightly", May: &[]string{"read"}, Expires: at},
		},
		"POST /tokens":            wire.Token{ID: "4e5f6071", Token: "SHOWN-ONCE", Expires: at},
		"DELETE /tokens/4e5f6071": struct{}{}, "GET /rules": []wire.ApprovalRule{rule}, "POST /rules": rule,
		"DELETE /rules/2": struct{}{}, "GET /changes/7/preview": lacking, "POST /changes/7/ask": struct{}{},
		"POST /changes/7/approval": struct{}{}, "DELETE /changes/7/approval": struct{}{},
		"GET /emergencies": []wire.Emergency{
			{Number: 3, Change: 7, Title: "Slip", Actor: "mara", Reason: "on fire", At: at},
		},
		"POST /emergencies/3/review": struct{}{},
	}
	for line, want := range map[string]struct {
		status int
		asked  string
		shows  []string
	}{
		"account add hanna --may read --may commit@site=Saltern --password-file PW": {
			Done, `POST /accounts {"name":"hanna","password":"a long password","may":["read","commit@site=Saltern"]}`,
			[]string{"Account hanna is made; it may: read commit@site=Saltern"},
		},
		"account list": {Done, "", []string{"hanna", "read commit@site=Saltern", "closed 2026"}},
		"account may hanna --add approve@tag=edge --drop commit@site=Saltern": {
			Done, `PATCH /accounts/hanna {"may":["read","approve@tag=edge"]}`, []string{"Account hanna may:"},
		},
		"account may hanna --set read,audit": {
			Done, `PATCH /accounts/hanna {"may":["read,audit"]}`, nil,
		},
		"account may hanna --drop stage": {
			WrongUse, "", []string{"hanna has not stage; it may: read commit@site=Saltern"},
		},
		"account may hanna": {
			WrongUse, "", []string{"say --add and --drop, or --set"},
		},
		"account password --old-password-file PW --password-file PW": {
			Done, `POST /me/password {"old":"a long password","new":"a long password"}`,
			[]string{"Other sessions of the account have ended"},
		},
		"account password hanna --password-file PW": {
			Done, `PATCH /accounts/hanna {"password":"a long password"}`, nil,
		},
		"account close hanna": {
			Refused, "", []string{"was not closed; --yes closes it"},
		},
		"account close hanna --yes": {
			Done, "DELETE /accounts/hanna", []string{"is closed"},
		},
		"whoami": {
			Done, "", []string{"mara at", "may: read stage@site=Saltern"},
		},
		"token list": {
			Done, "",
			[]string{
				"0a1b2c3d  mara     session  (this one)", "198.51.100.7",
				"4e5f6071  mara     machine  nightly     read",
			},
		},
		"token add nightly --may read --until 2027-03-31": {
			Done, `POST /tokens {"name":"nightly","may":["read"],"until":"2027-03-31T23:59:59Z"}`,
			[]string{"SHOWN-ONCE\nThis is shown only now."},
		},
		"token add nightly": {
			WrongUse, "", []string{"--until says when it ends"},
		},
		"token end 4e5f6071": {
			Done, "DELETE /tokens/4e5f6071", []string{"lets nobody in any more"},
		},
		"rule list": {
			Done, "", []string{"2     tag=edge /acls  2 persons  allowed, with a reason  two\\u202e"},
		},
		"rule add --on tag=edge --path /acls --persons 2 --emergency": {
			Done, `POST /rules {"scope":"tag=edge","path":"/acls","needed":2,"emergency":true}`,
			[]string{"Rule 2: a change of tag=edge /acls needs 2 persons"},
		},
		"rule drop 2": {
			Done, "DELETE /rules/2", []string{"Rule 2 is gone"},
		},
		"preview 7": {
			AnswerNo, "",
			[]string{
				"To be approved: it needs 2 persons who did not work on it; 1 is missing.",
				"rule 2: tag=edge /acls: two\\u202e", "otto agreed 2026", "agnes agreed",
				"to preview old: no longer valid", "asked for by mara", "latch approve 7 --preview d1g",
			},
		},
		"ask 7 The ferry sails at six.": {
			Done, `POST /changes/7/ask {"text":"The ferry sails at six."}`, []string{"latch approve 7"},
		},
		"ask x": {
			WrongUse, "", []string{"is not a change number"},
		},
		"approve 7": {
			Refused, "", []string{"To be approved", "nothing was agreed to", "latch approve 7 --preview d1g"},
		},
		"approve 7 --preview d1g --note right": {
			Done, `POST /changes/7/approval {"digest":"d1g","note":"right"}`,
			[]string{"Agreed to change 7 as preview d1g shows it, and to nothing else."},
		},
		"unapprove 7": {
			Done, "DELETE /changes/7/approval", []string{"is withdrawn"},
		},
		"emergency list": {
			Done, "", []string{"Emergency 3  change 7, Slip, by mara", "reason: on fire", "latch emergency review 3"},
		},
		"emergency review 3 It was right.": {
			Done, `POST /emergencies/3/review {"text":"It was right."}`, []string{"is looked at"},
		},
	} {
		k := &clerk{answers: answers}
		status, out, errOut := run(t, k.ServeHTTP, nil, strings.Fields(strings.ReplaceAll(line, "PW", pw))...)
		assert.Equal(t, want.status, status, "%s: %s%s", line, out, errOut)
		for _, text := range want.shows {
			assert.Contains(t, out+errOut, text, line)
		}
		if want.asked != "" {
			assert.Contains(t, strings.Join(k.asked, "\n"), want.asked, line)
		}
	}
}
