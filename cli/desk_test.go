package cli

import (
	"encoding/json"
	"fmt"
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
	"oakenlatch/wire"
)

// clerk answers as the service would, and remembers what it was asked.
type clerk struct {
	answers map[string]any // by method and path
	asked   []string       // method, path, If-Match and body
}

func (d *clerk) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	path := strings.TrimPrefix(r.URL.Path, "/api/v1")
	line := strings.TrimSpace(
		r.Method + " " + path + " " + r.URL.RawQuery + " " + r.Header.Get("If-Match") + " " + string(body),
	)
	d.asked = append(d.asked, strings.Join(strings.Fields(line), " "))
	doc, ok := d.answers[r.Method+" "+path]
	if !ok {
		w.WriteHeader(http.StatusNotFound)
		doc = wire.Problem{Type: wire.ProblemPrefix + "not-found", Detail: "there is no " + r.Method + " " + path}
	}
	if p, refused := doc.(wire.Problem); refused && p.Status != 0 {
		w.WriteHeader(p.Status)
	}
	_ = json.NewEncoder(w).Encode(doc)
}

func newClerk() *clerk {
	until := time.Date(2026, 11, 23, 4, 0, 0, 0, time.UTC)
	edit := wire.Edit{
		ID: 12, Device: "quay", Op: "load", Path: "/", Mode: "merge", Source: "v.outline", Lines: 1, Actor: "mara",
		At: until,
	}
	loaded := []wire.Loaded{
		{
			Device: "quay", Edit: edit, Format: "outline", Count: 1, Lines: []diff.Line{{Mark: "+", Text: "vlan [40]"}},
			Notes: []string{"merge: everything else stays"},
		},
	}
	reserved := wire.Reservation{
		Device: "quay", Holder: "joss", Reason: "fibre", Until: until,
		Asks: []wire.Note{{Actor: "mara", Text: "when?", At: until}},
	}
	change := wire.Change{Number: 7, Title: "Lamps", Author: "mara", Coworkers: []string{"joss"}, State: "draft"}
	hints := []wire.Hint{
		{Path: "/interfaces", Kind: "container", Exists: true, Help: "All of them."},
		{Path: "/interfaces/interface=", Kind: "list", Keys: []string{"name"}, Current: "a, b", Exists: true},
		{
			Path: "/mtu", Kind: "leaf", Type: "uint16 (68..max)", Units: "octets", Default: "1500", Current: "9000",
			Exists: true,
		},
		{Path: "/on", Kind: "leaf", Type: "boolean", Values: []string{"true", "false"}},
	}
	return &clerk{answers: map[string]any{
		"POST /changes/7/edits": []wire.Staged{
			{
				Edit:  wire.Edit{ID: 3, Device: "quay", Op: "move", Path: "/a=b", Value: "first"},
				Notes: []string{"the order is now: b, c"},
			},
		},
		"POST /changes/7/load": loaded,
		"GET /changes/7":       change,
		"PATCH /changes/7":     change,
		"DELETE /changes/7/edits": []wire.Edit{
			edit, {ID: 4, Op: "put", Path: "/s", Value: "x", Mode: "only", Actor: "joss", At: until},
		},
		"GET /changes/7/parts/quay": wire.Part{
			Device: "quay", Path: "/vlans", Tag: "tag1", Outline: "vlans\n  vlan [10]\n",
		},
		"POST /changes/7/coworkers": change, "DELETE /changes/7/coworkers/joss": change,
		"POST /changes/7/notes":     change,
		"POST /changes/7/readdress": change,
		"POST /changes/7/decide":    wire.Conflict{Path: "/p", Base: "a", Mine: "b", Theirs: "c", Keep: "mine"},
		"POST /changes/7/rebase": []wire.Rebased{
			{
				Device: "quay", From: 1, To: 2, Moved: []diff.Line{{Mark: "~", Text: "contact: a → b"}},
				Dropped: []wire.Edit{edit}, Mended: true,
			},
		},
		"GET /reservations": []wire.Reservation{reserved}, "POST /devices/quay/reservation": reserved,
		"POST /devices/quay/reservation/asks": reserved, "DELETE /devices/quay/reservation": struct{}{},
		"GET /me":                 wire.Session{Account: "joss", May: []string{"read", "stage"}},
		"GET /devices/quay/paths": hints, "GET /changes": []wire.Change{change}, "GET /devices": []wire.Device{
			{Name: "quay", Site: "Saltern"},
		},
		"GET /stencils": []wire.Stencil{
			{Name: "clock", Version: 2, Blanks: []wire.Blank{{Name: "place"}, {Name: "time", Shared: true}}},
		},
		"GET /stencils/clock": wire.Stencil{
			Name: "clock", Version: 2, Text: "system\n",
			Blanks:   []wire.Blank{{Name: "on", Type: "boolean", Values: []string{"true", "false"}}},
			Versions: []wire.Version{{Version: 2, Actor: "mara"}, {Version: 1, Text: "older\n"}},
			Uses: []wire.Use{
				{Device: "quay", Version: 1, Newest: 2, Change: 5, Blanks: map[string]string{"on": "true"}},
			},
		},
		"PUT /stencils/clock": wire.Saved{
			Version: 3, Change: 9, Devices: []string{"quay"}, Same: []string{"slip"}, Notes: []string{"quay: by hand"},
		}, "POST /stencils/clock/bind": loaded,
		"GET /shared": []wire.Shared{
			{Name: "time", Version: 1, Items: []string{"a", "b"}},
		}, "PUT /shared/time": wire.Saved{Version: 2},
		"PATCH /devices/quay": wire.Device{
			Name: "quay", Save: true, SeenAs: "192.0.2.12:830", SeenFrom: "198.51.100.10", Via: []string{"north"},
		},
	}}
}

// Each command asks the service for what it says, and tells what came of it.
func TestDeskCommands(t *testing.T) {
	t.Setenv("TZ", "UTC")
	file := filepath.Join(t.TempDir(), "v.outline")
	require.NoError(t, os.WriteFile(file, []byte("vlans\n"), 0o600))
	for _, c := range []struct{ line, asks, says string }{
		{
			"put 7 quay,slip /s x --only",
			`POST /changes/7/edits {"devices":["quay","slip"],"op":"put","path":"/s","value":"x","several":"only"}`,
			"the order is now: b, c",
		},
		{"changes --limit 1", "GET /changes limit=1", "Older ones: latch changes --before 7"},
		{"changes --before 9", "GET /changes before=9&limit=200", "Lamps"},
		{"put 7 quay /s x --add", `"several":"add"`, "edit 3"},
		{"put 7 quay /s --value-file " + file, `"path":"/s","value":"vlans"`, "edit 3"},
		{"stencil bind clock 7 quay --set a=b --set-file on=" + file, `"blanks":{"a":"b","on":"vlans"}`, "edit 12"},
		{"move 7 quay /a=b after c", `"op":"move","path":"/a=b","value":"after c"`, "↕ moved first"},
		{
			"load 7 quay " + file + " --mode merge",
			`POST /changes/7/load {"devices":["quay"],"mode":"merge","text":"vlans\n","name":"v.outline"}`,
			"Staged in change 7 on quay (edit 12), read as outline, nothing sent:\n  + vlan [40]",
		},
		{
			"copy 7 quay slip@rev:3 /vlans --mode replace-at",
			`{"devices":["quay"],"mode":"replace-at","path":"/vlans","fromDevice":"slip","from":"rev:3"}`, "edit 12",
		},
		{
			"unstage 7 --device quay --path /vlans", "DELETE /changes/7/edits device=quay&path=%2Fvlans",
			"removed below /vlans: edit 12: merge of v.outline at /, 1 line",
		},
		{"unstage 7 --all", "DELETE /changes/7/edits", "removed: edit 4: put /s x (only) (joss"},
		{"share 7 joss", `POST /changes/7/coworkers {"account":"joss"}`, "On it are mara, joss."},
		{"unshare 7 joss", "DELETE /changes/7/coworkers/joss", "latch unstage 7 --by joss"},
		{"note 7 told", `POST /changes/7/notes {"text":"told"}`, "Noted"},
		{"rename 7 --ticket TF-9", `PATCH /changes/7 {"title":"Lamps","ticket":"TF-9"}`, "Change 7: Lamps"},
		{
			"decide 7 quay /p mine", `POST /changes/7/decide {"device":"quay","path":"/p","keep":"mine"}`,
			"    * mine    b",
		},
		{"rebase 7 quay", `POST /changes/7/rebase {"devices":["quay"]}`, "quay: from revision 1 onto 2"},
		{
			"readdress 7 quay 192.0.2.22:830", `{"device":"quay","address":"192.0.2.22:830"}`,
			"it is proved that the device is reached there",
		},
		{
			"reserve quay --for 2h --reason fibre", `POST /devices/quay/reservation {"reason":"fibre","seconds":7200}`,
			"until 2026-11-23 04:00:00 UTC",
		},
		{"reserve ask quay when?", `asks {"text":"when?"}`, "joss will see it"},
		{"reserve list", "GET /reservations", "mara asked joss"},
		{"release quay", "DELETE /devices/quay/reservation", "not reserved any more"},
		{
			"paths quay /", "GET /devices/quay/paths path=%2F",
			"/mtu  uint16 (68..max), in octets\n    now: 9000\n    default: 1500",
		},
		{"stencils", "GET /stencils", "place, @time"},
		{
			"stencil show clock --device quay", "GET /stencils/clock device=quay",
			"# blank on: boolean, one of true, false",
		},
		{"stencil show clock --version 1", "GET /stencils/clock", "older\n"},
		{
			"stencil save clock " + file + " --set who=x --note n",
			`PUT /stencils/clock {"text":"vlans\n","note":"n","blanks":{"who":"x"}}`,
			"Change 9 was opened with a part for quay.",
		},
		{
			"stencil bind clock 7 quay --set on=true",
			`POST /stencils/clock/bind {"change":7,"devices":["quay"],"blanks":{"on":"true"}}`, "edit 12",
		},
		{"stencil unbind clock 7 quay", `"off":true`, "edit 12"}, {"shared", "GET /shared", "a, b"},
		{"shared set time a b", `PUT /shared/time {"items":["a","b"]}`, "No device needs a change."},
		{"shared set time --file " + file, `{"items":["vlans"]}`, "version 2"},
		{
			"device set quay --seen-as 192.0.2.12:830 --seen-from - --via north",
			`PATCH /devices/quay {"seenAs":"192.0.2.12:830","seenFrom":"","via":["north"]}`,
			"the way to it leads through north",
		},
	} {
		d := newClerk()
		status, out, errs := run(t, d.ServeHTTP, nil, strings.Fields(c.line)...)
		assert.Zero(t, status, "%s: %s", c.line, errs)
		assert.Contains(t, strings.Join(d.asked, "\n"), c.asks, c.line)
		assert.Contains(t, out, c.says, c.line)
	}
	for _, c := range []struct{ line, says string }{
		{"put 7 quay /s x --value-file " + file, "give the value once"},
		{"put 7 quay /s --ask", "no terminal to ask at"}, {"put 7 quay /s --value-file none", "no such file"},
		{"stencil bind clock 7 quay --set on=x --set-file on=" + file, "is given twice"},
		{"put 7 quay /s x --only --add", "not both"}, {"load 7 quay " + file, "say how with --mode"},
		{"load 7 quay none.xml --mode merge", "no such file"}, {"copy 7 quay " + file, "is a file"},
		{"unstage 7", "which? Give the number"}, {"decide 7 quay /p ours", "say mine"},
		{"reserve quay --reason x", "for how long"}, {"stencil show clock --version 9", "no version 9"},
		{"stencil bind clock 7 quay --set on", "write NAME=VALUE"}, {"shared set time", "which items"},
		{"rename 7", "give --title or --ticket"}, {"edit 7 quay /vlans", "Set EDITOR"},
		{"completion csh", "bash, zsh and fish"}, {"preview 7 --as html", "is not one of"},
	} {
		status, _, errs := run(t, newClerk().ServeHTTP, nil, strings.Fields(c.line)...)
		assert.Equal(t, WrongUse, status, c.line)
		assert.Contains(t, errs, c.says, c.line)
	}
}

// What is written in an editor is staged as it was seen, and never lost.
func TestEditText(t *testing.T) {
	dir := t.TempDir()
	editor := func(script string) map[string]string {
		file := filepath.Join(dir, "editor")
		require.NoError(t, os.WriteFile(file, []byte("#!/bin/sh\n"+script+"\n"), 0o700)) //nolint:gosec // a program
		return map[string]string{"EDITOR": file}
	}
	d := newClerk()
	status, _, errs := run(t, d.ServeHTTP, editor(`sed -i s/10/11/ "$1"`), "edit", "7", "quay", "/vlans")
	assert.Zero(t, status, errs)
	last := d.asked[len(d.asked)-1]
	assert.Contains(t, last, `POST /changes/7/load "tag1" {"devices":["quay"],"mode":"replace-at","path":"/vlans"`)
	assert.Contains(t, last, `vlan [11]`)
	for script, says := range map[string]string{"true": "Nothing was changed", `: > "$1"`: "nothing was staged"} {
		d = newClerk()
		status, out, _ := run(t, d.ServeHTTP, editor(script), "edit", "7", "quay", "/vlans")
		assert.Zero(t, status)
		assert.Contains(t, out, says)
		assert.Len(t, d.asked, 1)
	}
	d = newClerk()
	d.answers["POST /changes/7/load"] = wire.Problem{
		Type: wire.ProblemPrefix + "moved", Status: 412, Detail: "somebody was faster",
	}
	status, _, errs = run(t, d.ServeHTTP, editor(`echo "# mine" >> "$1"`), "edit", "7", "quay", "/vlans")
	assert.Equal(t, Refused, status)
	require.Contains(t, errs, "What you wrote is in ")
	kept := strings.Fields(errs[strings.Index(errs, "What you wrote is in ")+21:])[0]
	text, err := os.ReadFile(strings.TrimSuffix(kept, ";"))
	require.NoError(t, err)
	assert.Contains(t, string(text), "# mine")
	status, _, errs = run(t, d.ServeHTTP, editor("exit 3"), "edit", "7", "quay", "/vlans")
	assert.Equal(t, WrongUse, status)
	assert.Contains(t, errs, "nothing was staged, the text is in")
}

// What a shell is told a word may become.
func TestCompletion(t *testing.T) {
	for line, want := range map[string]string{
		"pu": "put", "reserve": "reserve", "reserve |": "ask list quay", "stencil |": "bind save show unbind",
		"put |": "7", "put 7 |": "quay", "put 7 quay /i": "/interfaces/ /interfaces/interface=",
		"put 7 quay /on |": "9000", "put 7 quay /mtu --o": "--only", "stencil show |": "clock", "nonsense x |": "",
		"put 7 quay /p v |": "", "show |": "7",
	} {
		d := newClerk()
		if strings.Contains(line, "/on") { // the hint of the path itself
			d.answers["GET /devices/quay/paths"] = []wire.Hint{{Path: "/on", Kind: "leaf", Current: "9000"}}
		}
		words := strings.Split(strings.ReplaceAll(line, "|", ""), " ")
		status, out, errs := run(t, d.ServeHTTP, nil, append([]string{"complete", "--"}, words...)...)
		assert.Zero(t, status, errs)
		var got []string
		for _, l := range strings.Split(strings.TrimSpace(out), "\n") {
			word, _, _ := strings.Cut(l, "\t")
			got = append(got, word)
		}
		assert.ElementsMatch(t, strings.Fields(want), strings.Fields(strings.Join(got, " ")), line)
	}
	for shell := range shells {
		status, out, _ := run(t, nil, nil, "completion", shell)
		assert.Zero(t, status)
		assert.Contains(t, out, "latch complete --")
	}
}

// Long output goes through a pager where there is a terminal; there is none here.
func TestPager(t *testing.T) {
	var b strings.Builder
	a := &app{out: &screen{&b}, err: io.Discard, getenv: func(string) string { return "" }, tty: true, ctx: t.Context()}
	require.NoError(t, a.paged(func() error { a.printf("%s", fmt.Sprintln("line")); return nil }))
	assert.Equal(t, "line\n", b.String())
}
