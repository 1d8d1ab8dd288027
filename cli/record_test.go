package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/diff"
	"oakenlatch/core/ledger"
	"oakenlatch/wire"
)

// What the commands about commits, outside changes and receivers say, their
// exit statuses, and what they asked for.
func TestRecordCommands(t *testing.T) {
	t.Setenv("TZ", "UTC")
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("a long enough secret\n"), 0o600))
	changed := []diff.Line{{Mark: "~", Text: "contact: a → b"}}
	outside := wire.Outside{
		Number: 3, Device: "quay", Revision: 4, Before: 3, Since: at, Found: at, DeviceAt: at, ClockOff: true,
		Who: "named by the device: ops\u202e",
		Told: []string{
			"running was changed: ops",
			"session ended (dropped): ops",
		}, Places: 1, During: 7, State: "open",
		Listened: "it tells of its events", Lines: changed,
	}
	decided := outside
	decided.State, decided.DecidedBy, decided.DecidedAt, decided.Note = "adopted", "mara", at, "it was Joss"
	pushed := wire.Pushed{
		Outside: outside, Change: 9, Title: "Push back", Parts: []wire.Brought{{Device: "quay", Lines: changed}},
	}
	commit := wire.CommitRecord{
		Number: 5, Change: 7, Title: "Lamps", Ticket: "TF-1", Author: "mara", Staged: []string{"mara", "joss"},
		Committed: "mara", Confirmed: "wren", Started: at, Ended: at.Add(3 * time.Minute), Seconds: 180, Hold: 600,
		Outcome: "confirmed", Devices: []string{"quay"},
		Notes: []wire.Note{{Actor: "wren", At: at, Text: "seen from the pier"}},
		Parts: []wire.CommitPart{{Device: "quay", Count: 1, Lines: changed}},
		Steps: []ledger.Entry{{Seq: 9, At: at, Actor: "mara", Action: "commit.confirm"}},
	}
	open := wire.CommitRecord{
		Number: 6, Change: 8, Title: "Masts", Committed: "joss", Started: at, Devices: []string{"slip"},
	}
	receiver := wire.Receiver{
		Name: "loghost", Kind: "syslog", Place: "tls://h:1", Told: 4, Trouble: "refused", Since: at, Behind: 2,
	}
	answers := map[string]any{
		"GET /outside": []wire.Outside{
			outside, decided, {Number: 1, Device: "slip", State: "open", Change: 9},
			{Number: 2, Device: "slip", State: "opened", Change: 10},
		},
		"GET /outside/3": outside, "GET /outside/4": decided, "POST /outside/3/adopt": decided,
		"POST /outside/3/push-back": pushed, "POST /outside/3/open": pushed,
		"POST /outside/4/push-back": wire.Pushed{
			Parts: []wire.Brought{{Device: "quay", Notes: []string{"nothing of it is left"}}},
		},
		"POST /silences":     wire.Silence{Number: 2, Path: "/system/ntp"},
		"GET /silences":      []wire.Silence{{Number: 2, Path: "/system/ntp", Actor: "mara", At: at}},
		"DELETE /silences/2": struct{}{},
		"GET /commits":       wire.CommitRecords{Commits: []wire.CommitRecord{open, commit}, Next: 5},
		"GET /commits/5":     commit, "GET /receivers": []wire.Receiver{receiver}, "POST /receivers": receiver,
		"PATCH /receivers/loghost": receiver, "POST /receivers/loghost/try": struct{}{},
		"DELETE /receivers/loghost": struct{}{},
	}
	stamp := when(at)
	for line, want := range map[string]struct {
		status int
		asked  string
		shows  []string
	}{
		"outside": {
			Done, "GET /outside",
			[]string{
				"to be decided", `named by the device: ops\u202e`, "to be pushed back by change 9",
				"change 10 goes on from it", "latch outside show 3",
			},
		},
		"outside --all --device quay": {Done, "GET /outside all=true&device=quay", nil},
		"outside show 3": {Done, "GET /outside/3 context=1", []string{
			"between " + stamp + " and " + stamp, "by the device's clock, which is wrong",
			"during     the hold of change 7", "told       running was changed: ops",
			"           session ended (dropped): ops", "~ contact: a → b",
			"Take it as it is: latch outside adopt 3 NOTE", "latch outside silence PATH --device quay",
		}},
		"outside show 4": {
			Done, "", []string{"adopted by mara, " + stamp, "it was Joss"},
		},
		"outside adopt 3 it was me": {
			Done, `POST /outside/3/adopt {"note":"it was me"}`, []string{"is adopted as it is, by mara"},
		},
		"outside push-back 3": {
			Done, `POST /outside/3/push-back {}`,
			[]string{"Staged in change 9: Push back. Nothing reached a device.\nNext: latch preview 9"},
		},
		"outside push-back 4": {
			AnswerNo, "", []string{"nothing of it is left", "No change was opened"},
		},
		"outside open 3 slip --ticket T": {
			Done, `POST /outside/3/open {"ticket":"T","devices":["slip"]}`, nil,
		},
		"outside silence /system/ntp": {
			Done, `POST /silences {"path":"/system/ntp"}`, []string{"on every device", "latch outside unsilence 2"},
		},
		"outside silences": {Done, "", []string{"/system/ntp", "every device"}},
		"outside unsilence 2": {
			Done, "DELETE /silences/2", []string{"It needs a decision again."},
		},
		"commits --who joss --since 7d": {
			Done, "GET /commits limit=40&since=7d&who=joss",
			[]string{"mara+joss / mara / wren", "3m", "confirmed", "not decided", "7 Lamps",
				"Older ones: the same, with --before 5"},
		},
		"commits show 5": {
			Done, "GET /commits/5 context=1",
			[]string{
				"Commit 5 of change 7: Lamps  confirmed", "staged     mara, joss", "hold 10m", "note by wren",
				"~ contact: a → b", "commit.confirm", "latch compare quay@change:7 quay@running",
			},
		},
		"report x.doc": {
			WrongUse, "", []string{"name the file .pdf or .html"},
		},
		"receiver list": {
			Done, "", []string{"everything", "since " + stamp + ": refused; 2 entries behind"},
		},
		"receiver add a ftp://x": {WrongUse, "", []string{"is no place"}},
		"receiver add loghost tls://h:1 who:mara": {
			Done, `POST /receivers {"name":"loghost","kind":"syslog","place":"tls://h:1","line":"who:mara"}`,
			[]string{"latch receiver try loghost"},
		},
		"receiver add hook https://h/x --secret-file " + secret: {
			Done,
			`POST /receivers {"name":"hook","kind":"webhook","place":"https://h/x","secret":"a long enough secret"}`,
			nil,
		},
		"receiver add post smtp://h:25 outcome:failed --from a@b --to c@d,e@f --gather 5m": {
			Done,
			`POST /receivers {"name":"post","kind":"mail","place":"smtp://h:25","line":"outcome:failed","from":"a@b","to":["c@d","e@f"],"gatherSeconds":300}`,
			nil,
		},
		"receiver set loghost kind:change": {
			Done, `PATCH /receivers/loghost {"line":"kind:change"}`, nil,
		},
		"receiver try loghost": {
			Done, "POST /receivers/loghost/try", []string{"loghost took it."},
		},
		"receiver retire loghost": {
			Done, "DELETE /receivers/loghost", []string{"is told nothing any more"},
		},
		"receiver try nobody": {WrongUse, "", nil},
	} {
		k := &clerk{answers: answers}
		status, out, errOut := run(t, k.ServeHTTP, nil, strings.Fields(line)...)
		assert.Equal(t, want.status, status, "%s: %s", line, errOut)
		for _, text := range want.shows {
			assert.Contains(t, out+errOut, text, line)
		}
		if want.asked != "" {
			assert.Contains(t, k.asked, want.asked, line)
		}
	}
}
