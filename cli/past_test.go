package cli

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/diff"
	"oakenlatch/core/lifecycle"
	"oakenlatch/wire"
	"oakenlatch/wire/bundle"
)

// keeper answers about the past as the service would.
func keeper(t *testing.T) *clerk {
	t.Helper()
	t.Setenv("TZ", "UTC")
	byMara := wire.Revision{
		Number: 2, At: at, Source: lifecycle.ByChange, Change: 7, Title: "Lamps", Ticket: "TF-1", Author: "mara",
		Actor: "joss",
	}
	outside := wire.Revision{Number: 3, At: at, Source: lifecycle.ByOutside}
	first := wire.Revision{Number: 1, At: at, Source: lifecycle.FirstRead}
	rebuilt := wire.Revision{Number: 4, At: at, Source: lifecycle.ByRebuilt, Actor: "mara", Note: "change 9: Roof"}
	changed := []diff.Line{
		{Mark: "~", Text: "contact: a → b", Before: "contact: a", After: "contact: b", Path: "/system/contact"},
		{Mark: "+", Depth: 1, Text: "vlan [40]"}, {Mark: "−", Text: "old"},
	}
	brought := wire.BroughtBack{Change: 8, Title: "Restore", Parts: []wire.Brought{{
		Device: "quay", Count: 3, Lines: changed, Notes: []string{"a note"},
		Takes: []wire.Later{
			{Revision: 3, Source: lifecycle.ByOutside, At: at, Places: 2},
			{Revision: 2, Source: lifecycle.ByChange, Change: 7, Author: "mara", Title: "Lamps", At: at, Places: 1},
		},
		Left: []wire.Left{{Path: "/p", Change: 7, Before: "x", Made: "y"}},
	}}}
	snapshot := wire.Snapshot{
		Number: 4, Name: "Before winter", Note: "all quiet", Actor: "mara", At: at, Devices: 2, Protected: true,
		Unclean: true,
		Items: []wire.SnapshotItem{
			{Device: "quay", Revision: 3, At: at},
			{Device: "slip", At: at, Unclean: []string{"the commit of change 9 is under way on it"}},
		},
	}
	archive := wire.Archive{
		Name: "away", Kind: "sftp", Place: "h:22/a", AfterChange: true, EverySeconds: 3600, KeepLast: 5, KeepDays: 30,
		Copies: 7, Copied: at, Trouble: "no route", TroubleAt: at, Stale: true, Damaged: 1,
		Caveat: "it is on this machine, and goes with it: no backup",
	}
	done := func(result any) wire.Job { return wire.Job{ID: 3, State: "done", Done: 2, Total: 2, Result: result} }
	return &clerk{answers: map[string]any{
		"GET /devices/quay/revisions": []wire.Revision{rebuilt, outside, byMara, first},
		"GET /devices/quay/timeline": []wire.Moment{
			{At: at, Kind: "reverted", Text: "Roof: nobody confirmed", Actor: "mara", Change: 9},
			{At: at, Kind: "snapshot", Text: "Before winter", Snapshot: 4},
			{At: at, Kind: "saved", Text: "saved to startup", Startup: 2},
			{At: at.Add(-24 * time.Hour), Kind: "change", Text: "Lamps", Revision: 2, Change: 7, Actor: "mara"},
			{At: at.Add(-24 * time.Hour), Kind: "holding", Text: "Masts", Change: 10},
			{At: at.Add(-24 * time.Hour), Kind: "outside", Text: "changed, not by this service", Revision: 3},
		},
		"GET /devices/quay/blame": wire.Blame{
			Device: "quay", Path: "/", Revision: 3, Revisions: []wire.Revision{byMara, first, outside, rebuilt},
			Lines: []wire.BlameLine{
				{Text: "system"}, {Depth: 1, Text: "contact: b", Revision: 2},
				{Depth: 1, Text: "hostname: quay", Revision: 1}, {Depth: 1, Text: "location: x", Revision: 3},
				{Depth: 1, Text: "roof: y", Revision: 4},
			},
			Gone: []wire.GoneLine{{Path: "/vlans/vlan=40", Was: "vlan [40]\n  name: lamps", Revision: 3}},
		},
		"GET /devices/quay/history": wire.Life{Device: "quay", Path: "/system",
			Revisions: []wire.Revision{byMara, first, outside}, Events: []wire.LifeStep{
				{Revision: 1, Kind: diff.Added, Path: "/system", New: "system"},
				{Revision: 2, Kind: diff.Changed, Path: "/system/contact", Old: "a", New: "b"},
				{Revision: 3, Kind: diff.Removed, Path: "/system", Old: "system"},
				{Revision: 3, Kind: diff.Moved, Path: "/system/server=x"},
			}},
		"GET /compare/fleet": wire.FleetComparison{From: "snapshot:4", To: "running", Same: 2,
			Devices: []wire.DeviceMoved{
				{Device: "hall", Trouble: "it was first read later"},
				{
					Device: "quay", Site: "Saltern", Added: 1, Removed: 2, Changed: 3, Changes: []int64{7}, Outside: 1,
					First: "/system/contact", Open: []string{"quay@snapshot:4", "quay@running"},
				},
			}},
		"POST /restore": brought, "POST /undo": brought, "POST /import": brought,
		"POST /carry": wire.Carried{
			BroughtBack: wire.BroughtBack{Change: 9, Title: "Carry", Parts: []wire.Brought{}},
			Own: []wire.Own{
				{Path: "/system/hostname", From: "quay", Kept: "slip", Why: "it names the device"},
				{Path: "/system/banner", From: "This is quay", Why: "it holds the device's own name or address"},
			},
		},
		"GET /snapshots": []wire.Snapshot{
			snapshot, {Number: 3, Name: "Before change 7: Lamps", Change: 7, At: at, Devices: 1},
		}, "POST /snapshots": snapshot, "GET /snapshots/4": snapshot, "PATCH /snapshots/4": snapshot,
		"GET /archives": []wire.Archive{archive}, "POST /archives": archive, "PATCH /archives/away": archive,
		"GET /standing": []wire.Standing{
			{Device: "quay", Revision: 3, Changed: at, Behind: []string{"startup", "copy"}},
			{Device: "slip", Revision: 1, Changed: at, Copy: 1, Copied: at, Archive: "away"},
		},
		"GET /copies": []wire.Copy{
			{ID: 12, Archive: "away", Device: "quay", Revision: 3, Name: "a.xml", Read: at},
			{ID: 11, Archive: "away", Device: "quay", Revision: 2, Name: "b.xml", Trouble: "its SHA-256 is another"},
		},
		"GET /copies/12": wire.CopyText{Text: "<config/>\n"}, "POST /copies": wire.Job{
			ID: 3, State: "running", Total: 2,
		}, "GET /jobs/3": done(
			wire.Copied{Archive: "away", Copies: 2, Gone: 1, Failed: []string{"share: not mounted"}},
		),
		"POST /archives/away/verify": wire.Job{ID: 4, State: "running"}, "GET /jobs/4": done(
			wire.VerifiedArchive{
				Archive: "away", Copies: 3, Whole: 2, Wrong: []string{"copy 11: its SHA-256 is another"},
			},
		),
		"POST /archives/away/rebuild": wire.Job{ID: 5, State: "running"}, "GET /jobs/5": done(
			wire.Rebuilt{Devices: []string{"quay"}, Revisions: 4, Skipped: []string{"c.json: cut off"}},
		),
	}}
}

// What each command says, its exit status, and what it asked for.
func TestPast(t *testing.T) {
	stamp := when(at)
	for line, want := range map[string]struct {
		status int
		asked  string
		shows  []string
	}{
		"revisions quay": {
			Done, "GET /devices/quay/revisions line=running",
			[]string{
				"rev:2  " + stamp + "  mara, committed by joss  change 7: Lamps (TF-1)",
				"not known                changed outside of this service", "rebuilt from an archive: change 9: Roof",
				"latch compare quay@rev:3 quay@rev:4",
			},
		},
		"revisions quay --startup --limit 1": {
			Done, "GET /devices/quay/revisions line=startup", []string{"startup:4", "And 3 revisions older"},
		},
		"timeline quay": {
			Done, "",
			[]string{
				"↩ change 9 reverted: Roof: nobody confirmed, mara", "# snapshot 4: Before winter",
				"s saved to startup (startup 2)", "✓ revision 2, change 7: Lamps, mara",
				"… change 10 is being committed: Masts", "! revision 3, changed, not by this service",
			},
		},
		"blame quay /system": {
			Done, "GET /devices/quay/blame path=%2Fsystem",
			[]string{
				"│ system", "mara  change 7 TF-1", "first read", "outside", "mara  change 9: Roof",
				"1 place was removed",
			},
		},
		"blame quay --gone": {
			Done, "",
			[]string{
				"− /vlans/vlan=40\n    removed by changed outside of this service, not known", "name: lamps",
				"latch restore quay rev:2 --path /vlans/vlan=40",
			},
		},
		"history quay /system": {
			Done, "",
			[]string{
				"rev 2 ", "~ /contact: a → b", "change 7: Lamps (TF-1), mara, committed by joss", "− system (gone)",
				"↕ /server=x: moved to another place", "It is not there now.",
			},
		},
		"moved snapshot:4 --site Saltern": {
			AnswerNo, "GET /compare/fleet from=snapshot%3A4&site=Saltern",
			[]string{
				"change 7, 1 outside change; first /system/contact",
				"1 device differs, 1 cannot be compared, 2 the same",
				"Open one: latch compare quay@snapshot:4 quay@running",
			},
		},
		"restore quay,slip rev:2 --path /vlans --path /system --ticket T": {
			Done, `POST /restore {"ticket":"T","from":"rev:2","devices":["quay","slip"],"paths":["/vlans","/system"]}`,
			[]string{
				"~ contact: a → b", "a note",
				"left as it is /p: change 7 made it y, it was set again since: it is absent now",
				"later work that this takes away:\n    revision 3, " + stamp +
					", changed outside of this service: 2 places\n    revision 2, " + stamp +
					", change 7 of mara: Lamps: 1 place",
				"Staged in change 8: Restore. Nothing reached a device.\nNext: latch preview 8",
			},
		},
		"restore snapshot:4 --all --change 3": {Done, `POST /restore {"change":3,"from":"snapshot:4"}`, nil},
		"restore quay": {
			WrongUse, "", []string{"give DEVICE and a place, or a snapshot with --all"},
		},
		"undo 7 --device quay --path /p": {Done, `POST /undo {"change":7,"devices":["quay"],"paths":["/p"]}`, nil},
		"undo --by joss --since 2026-11-20T08:00:00Z --until 2026-11-21T08:00:00+01:00": {
			Done, `POST /undo {"by":"joss","since":"2026-11-20T08:00:00Z","until":"2026-11-21T07:00:00Z"}`, nil,
		},
		"undo --by joss":   {WrongUse, "", []string{"say since when"}},
		"undo 7 --by joss": {WrongUse, "", []string{"give a change, or --by"}},
		"undo --by joss --since soon": {
			WrongUse, "", []string{`"soon" is no time; write it like 2d (ago)`},
		},
		"carry quay@rev:2 slip": {
			Done, `POST /carry {"from":"quay","place":"rev:2","onto":"slip"}`,
			[]string{
				"kept: /system/hostname stays slip (quay has quay): it names the device",
				"look at: /system/banner is This is quay, as on quay", "1 place was carried as it is on quay",
			},
		},
		"snapshots": {
			Done, "", []string{"protected", "Before winter", "And 1 snapshot taken before commits"},
		},
		"snapshots --all --device quay": {
			Done, "GET /snapshots device=quay", []string{"Before change 7: Lamps"},
		},
		"snapshot take Winter quay slip --note n": {
			Done, `POST /snapshots {"name":"Winter","note":"n","devices":["quay","slip"]}`,
			[]string{
				"Snapshot 4, \"Before winter\", of 2 devices.", "The moment was not clean:",
				"slip: what a commit made of it, on hold", "the commit of change 9 is under way on it",
			},
		},
		"snapshot show 4": {
			Done, "",
			[]string{"all quiet", "quay: revision 3", "latch moved snapshot:4", "latch restore quay snapshot:4"},
		},
		"snapshot rename 4 Spring": {
			Done, `PATCH /snapshots/4 {"name":"Spring"}`, []string{"is called so now"},
		},
		"snapshot note 4 x": {Done, `PATCH /snapshots/4 {"note":"x"}`, nil},
		"snapshot protect 4 --off": {
			Done, `PATCH /snapshots/4 {"protected":false}`, []string{"is protected no more"},
		},
		"snapshot retire 4": {
			Done, `PATCH /snapshots/4 {"retired":true}`, []string{"what it named stays on record"},
		},
		"snapshot retire 4 --back": {Done, `PATCH /snapshots/4 {"retired":false}`, nil},
		"archive list": {
			Done, "",
			[]string{
				"after each change, every 1h, keeps 5 and 30d", "! away: nobody accepted its host key yet",
				"does not take copies since " + stamp + ": no route", "is stale", "1 copy did not read back whole",
				"no backup",
			},
		},
		"archive add x --folder /a --git b": {WrongUse, "", []string{"one of --folder, --sftp, --git"}},
		"archive add x":                     {WrongUse, "", []string{"where?"}},
		"archive add x --folder /a --every 2h --keep-last 3 --by-hand": {
			Done,
			`POST /archives {"name":"x","kind":"folder","place":"/a","afterChange":false,"everySeconds":7200,"keepLast":3}`,
			nil,
		},
		"archive set away --position 2 --after-change no --every 0s --keep-last 0": {
			Done, `PATCH /archives/away {"position":2,"afterChange":false,"everySeconds":0,"keepLast":0}`, nil,
		},
		"archive set away --after-change maybe": {
			WrongUse, "", []string{"is yes or no"},
		},
		"archive set away --retire": {
			Done, `PATCH /archives/away {"retired":true}`, []string{"is used no more"},
		},
		"archive copy quay --to away": {
			Done, `POST /copies {"archive":"away","devices":["quay"]}`,
			[]string{
				"not taken by share: not mounted", "away: 2 copies made",
				"1 copy was dropped by the rules of retention",
			},
		},
		"archive copies --device quay": {
			Done, "GET /copies device=quay",
			[]string{
				"archive:12", "whole, read " + stamp, "DAMAGED: its SHA-256 is another",
				"latch compare quay@archive:12 quay",
			},
		},
		"archive read archive:12": {
			Done, "GET /copies/12", []string{"<config/>"},
		},
		"archive verify away": {
			AnswerNo, "", []string{"damaged: copy 11", "2 of 3 copies read back whole", "latch archive copy --to away"},
		},
		"archive restore away": {
			Refused, "", []string{"nothing was made"},
		},
		"archive restore away --yes": {
			Done, "",
			[]string{
				"left: c.json: cut off", "4 revisions made again, of 1 device that was not known: quay",
				"latch device replace quay",
			},
		},
		"backups": {
			AnswerNo, "", []string{"not saved to startup, newest not copied", "revision 1 in away", "complete"},
		},
	} {
		k := keeper(t)
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

func TestSides(t *testing.T) {
	var b bytes.Buffer
	a := &app{out: &screen{&b}, getenv: func(string) string { return "" }}
	a.sides(
		[]diff.Line{
			{Mark: " ", Text: "system"},
			{Mark: "~", Depth: 1, Text: "x", Before: "contact: a", After: "contact: " + strings.Repeat("b", 80)},
			{Mark: "−", Depth: 1, Text: "gone"}, {Mark: "+", Depth: 1, Text: "new"},
		},
		"then", "now",
	)
	lines := strings.Split(b.String(), "\n")
	at := strings.IndexRune(lines[0], '│')
	for i, l := range lines[:5] {
		assert.Equal(
			t, at, strings.IndexRune(strings.Replace(l, "−", "-", 1), '│'),
			"line %d: the columns stand below each other", i,
		)
	}
	assert.Regexp(t, `^~   contact: a +│   contact: b+…$`, lines[2])
	assert.Regexp(t, `^−   gone +│$`, lines[3])
	assert.Regexp(t, `^\+ +│   new$`, lines[4])
}

func TestPastTimes(t *testing.T) {
	now := time.Date(2026, 11, 24, 1, 30, 0, 0, time.UTC)
	for text, want := range map[string]time.Time{
		"2d": now.AddDate(0, 0, -2), "90m": now.Add(-90 * time.Minute),
		"02:00": time.Date(2026, 11, 23, 2, 0, 0, 0, time.UTC), "01:00": time.Date(2026, 11, 24, 1, 0, 0, 0, time.UTC),
		"2026-11-20 08:15":          time.Date(2026, 11, 20, 8, 15, 0, 0, time.UTC),
		"2026-11-20T08:15:00+02:00": time.Date(2026, 11, 20, 6, 15, 0, 0, time.UTC),
	} {
		got, err := past(text, now)
		require.NoError(t, err, text)
		assert.True(t, want.Equal(got), "%s: %s", text, got)
	}
	_, err := past("yesterday", now)
	require.ErrorContains(t, err, "write it like 2d (ago)")
}

// What is exported is checked before it has its name, and what is imported
// before any of it is used.
func TestFilesOutAndIn(t *testing.T) {
	dir := t.TempDir()
	var tar bytes.Buffer
	w, err := bundle.NewWriter(&tar, "export", "mara", at, nil)
	require.NoError(t, err)
	for _, name := range []string{"quay", "slip"} {
		require.NoError(
			t,
			w.Add(
				"saltern/"+name+".xml", 9, strings.NewReader("<config/>"),
				wire.Origin{Device: name, Revision: 3, At: at, Model: "Box", Serial: "S-" + name},
			),
		)
	}
	require.NoError(t, w.Close())
	serve := func(text []byte) http.HandlerFunc {
		k := keeper(t)
		return func(rw http.ResponseWriter, r *http.Request) {
			if strings.HasSuffix(r.URL.Path, "/export") {
				_, _ = rw.Write(text)
				return
			}
			k.ServeHTTP(rw, r)
			if r.Method == "POST" {
				require.NoError(t, os.WriteFile(filepath.Join(dir, "asked"), []byte(k.asked[len(k.asked)-1]), 0o600))
			}
		}
	}
	file := filepath.Join(dir, "out.tar")
	status, _, errOut := run(t, serve(tar.Bytes()[:2000]), nil, "export", file, "--all")
	assert.NotEqual(t, Done, status)
	assert.Contains(t, errOut, "nothing was written")
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, left, "not a part of it stays")
	status, out, _ := run(t, serve(tar.Bytes()), nil, "export", file, "quay", "slip")
	assert.Equal(t, Done, status)
	assert.Contains(t, out, "saltern/quay.xml: quay, revision 3, as of "+when(at)+", Box S-quay")
	got, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, tar.Bytes(), got)
	for _, args := range [][]string{
		{"export", file}, {"export", file, "quay", "--all"}, {"export", file, "quay", "slip", "--alone"},
	} {
		status, _, _ = run(t, serve(tar.Bytes()), nil, args...)
		assert.Equal(t, WrongUse, status, "%v", args)
	}

	status, _, errOut = run(t, serve(nil), nil, "import", file)
	assert.Equal(t, WrongUse, status)
	assert.Contains(t, errOut, "which one? Give --device NAME")
	status, _, _ = run(t, serve(nil), nil, "import", file, "--device", "slip", "--onto", "quay")
	assert.Equal(t, Done, status)
	asked, err := os.ReadFile(filepath.Join(dir, "asked"))
	require.NoError(t, err)
	var in wire.NewImport
	require.NoError(t, json.Unmarshal(asked[bytes.IndexByte(asked, '{'):], &in))
	assert.Equal(
		t,
		wire.NewImport{
			Device: "quay", Name: "out.tar saltern/slip.xml", Text: "<config/>",
			From: &wire.Origin{Device: "slip", Revision: 3, At: at, Model: "Box", Serial: "S-slip"},
		},
		in,
	)
	status, _, errOut = run(t, func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		assert.NoError(t, err)
		assert.Equal(t, got, body)
		assert.Equal(t, "/api/v1/import/bundle", r.URL.Path)
		assert.NoError(
			t,
			json.NewEncoder(w).Encode(
				wire.ImportedBundle{
					BroughtBack: wire.BroughtBack{Change: 8, Title: "Import"},
					Refused:     []string{"saltern/slip.xml: there is no device"},
				},
			),
		)
	}, nil, "import", file, "--all")
	assert.Equal(t, AnswerNo, status)
	assert.Contains(t, errOut, "not staged: saltern/slip.xml")
	bad := bytes.Clone(got)
	bad[520] ^= 1
	require.NoError(t, os.WriteFile(file, bad, 0o600))
	status, _, errOut = run(t, serve(nil), nil, "import", file, "--device", "slip")
	assert.Equal(t, WrongUse, status)
	assert.Contains(t, errOut, "saltern/quay.xml: its SHA-256 is")
	plain := filepath.Join(dir, "plain.bin")
	require.NoError(t, os.WriteFile(plain, []byte("system\n"), 0o600))
	status, _, errOut = run(t, serve(nil), nil, "import", plain)
	assert.Equal(t, WrongUse, status)
	assert.Contains(t, errOut, "--onto DEVICE")
	status, _, errOut = run(t, serve(nil), nil, "import", plain, "--all")
	assert.Equal(t, WrongUse, status)
	assert.Contains(t, errOut, "--all is of a bundle")
	status, _, _ = run(t, serve(nil), nil, "import", plain, "--onto", "quay")
	assert.Equal(t, Done, status)
}
