package test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/test/browser"
	"oakenlatch/test/pace"
)

// axe is the checker of the console's pages; it comes with the console's own tools.
const axe = "../console/node_modules/axe-core/axe.min.js"

// look is a width, height and theme that pages are looked at in.
type look struct {
	name          string
	width, height int64
	theme         string
}

// looks are from a phone to a wide screen; 640 by 400 is what 1280 by 800 leaves at 200 %.
var looks = []look{
	{"phone", 360, 740, "light"}, {"zoomed", 640, 400, "dark"}, {"desk", 1280, 800, "light"},
	{"phone-dark", 360, 740, "dark"}, {"desk-dark", 1280, 800, "dark"},
}

// view is a page, what has to be seen before it is judged, and what is done there first.
type view struct {
	name, path, shows string
	steps             []browser.Step
}

// violation is what axe says is wrong with a page.
type violation struct {
	ID    string
	Help  string
	Nodes []string
}

// Every page, with its dialogs and drawers, in every look: axe finds nothing, and no page is wider than its screen.
func TestEverybody(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	source, err := os.ReadFile(axe)
	if os.IsNotExist(err) {
		t.Skip("the console's tools are not installed: cd console && npm ci; skipped")
	}
	require.NoError(t, err)
	s := newStage(t, router, quay, hall, "saltern-slip")
	views := s.furnished()
	ctx := chromium(t, func(text string) { t.Error("page: " + text) })
	require.NoError(t, browser.SignIn(ctx, s.URL, "/", "mara", maraPassword))
	for _, l := range looks {
		for _, v := range views {
			t.Run(l.name+" "+v.name, func(t *testing.T) { s.judged(t, ctx, l, v, string(source)) })
		}
	}
}

// furnished fills the service with something of everything, and gives the pages to see it on.
func (s *stage) furnished() []view {
	n := s.Open(
		"mara", router+" /system/contact Mara", quay+" /system/location Here", quay+" /vlans/vlan=40/name lamps",
	)
	s.Do("mara", 0, "put", n, quay, "/interfaces/interface=quay6/description", "no type")
	s.Do("mara", 0, "put", n, quay, "/system/location", "There")
	s.Do("mara", 0, "delete", n, hall, "/acls/acl=hall-in/aces/ace=booking")
	s.Do("mara", 0, "share", n, "joss")
	s.Do("mara", 0, "note", n, "Ask the quay first.")
	done := s.Open("joss", router+" /system/contact Joss")
	s.Do("joss", 0, "commit", done, "--hold", "1m")
	s.Do("joss", 0, "confirm", done)
	held := s.Open("mara", "saltern-slip"+" /system/contact Slip")
	s.Do("mara", 0, "preview", held)
	s.Do("mara", 0, "commit", held, "--hold", "1h")
	late := s.Open("mara", hall+" /system/contact Late")
	s.Do("mara", 0, "commit", late, "--at", "03:30", "--zone", "Europe/Lisbon")
	s.Do("mara", 0, "snapshot", "take", "before-the-fair", quay)
	s.Do("joss", 0, "reserve", quay, "--for", "1h", "--reason", "new fibre")
	press := func(name string) browser.Step { return chromedp.Click(browser.Button(name)) }
	dialog := func(text string) browser.Step { return chromedp.WaitVisible(browser.Text("*", text)) }
	change, device := "/changes/"+n+"?device="+quay, "/devices/"+router
	return []view{
		{"now", "/", "What needs a decision now", nil},
		{"changes", "/changes", "a change of joss", nil},
		{"open", "/changes?new=1", "What is it for?", nil},
		{"change", change, "stop a commit", nil},
		{"details", change + "&view=details", "Lockout forecast", nil},
		{"edits", change + "&view=edits", "superseded by later", nil},
		{"staging", change, "stop a commit", []browser.Step{press("Stage…"), dialog("Edit as text")}},
		{"conflict", change, "stop a commit", []browser.Step{press("Decide the conflict…"), dialog("keep theirs")}},
		{"people", change, "stop a commit", []browser.Step{press("People and notes"), dialog("Write it down")}},
		{"how", change, "stop a commit", []browser.Step{press("How…"), dialog("When a probe fails")}},
		{"confirmed", "/changes/" + done, "Undo this change", nil},
		{"hold", "/changes/" + held, "is on hold", []browser.Step{press("Devices: "), dialog("device by device")}},
		{"commits", "/commits", "What was committed", nil},
		{"commit", "/commits/1", "Commit 1", nil},
		{"devices", "/devices", quay, nil},
		{"device", device, "Management, the only way in", nil},
		{"timeline", device + "?view=timeline", "What happened here", nil},
		{"filters", "/devices/" + hall + "?view=filters", "hall-in", nil},
		{"blame", device + "?view=blame", "Who set it", nil},
		{"compare", device + "?view=compare&a=rev:1&b=running", "contact", nil},
		{"outside", "/outside", "Changed outside", nil},
		{"stencils", "/stencils", "None yet", nil},
		{"schedule", "/schedule", "waiting", nil},
		{"snapshots", "/snapshots", "before-the-fair", nil},
		{"backups", "/backups", "Nothing is copied off this machine", nil},
		{"audit", "/audit", "commit.confirmed", nil},
		{"entry", "/audit?entry=5", "Entry 5", nil},
		{"access", "/access", "Who may do what", nil},
		{"find", "/devices", quay, []browser.Step{press("Find…"), dialog("Show the keys")}},
		{"nothing", "/nothing", "There is no such page", nil},
		{"unknown", "/devices/nobody", "There is no device", nil},
	}
}

// judged looks at one page in one way.
func (s *stage) judged(t *testing.T, ctx context.Context, l look, v view, source string) {
	steps := []browser.Step{
		chromedp.EmulateViewport(l.width, l.height),
		run(fmt.Sprintf(`localStorage.setItem("oaken-latch-look", %q)`, l.theme)),
		chromedp.Navigate(s.URL + v.path), chromedp.WaitVisible(browser.Text("*", v.shows)),
	}
	if len(v.steps) > 0 { // what comes to the foot moves what is pressed there
		steps = append(steps, chromedp.Sleep(800*time.Millisecond))
	}
	steps = append(append(steps, v.steps...), chromedp.Sleep(400*time.Millisecond))
	err := browser.Do(ctx, v.name, steps...)
	if dir := os.Getenv("PICTURES"); dir != "" {
		png, perr := chromedp.Run(ctx, chromedp.CaptureScreenshot())
		require.NoError(t, perr)
		require.NoError(t, os.WriteFile(filepath.Join(dir, l.name+"-"+v.name+".png"), png, 0o600))
	}
	require.NoError(t, err)
	wide, err := chromedp.Run(ctx, chromedp.Evaluate[string](`(() => {
		const root = document.documentElement;
		if (root.scrollWidth <= root.clientWidth) return "";
		const out = [...document.querySelectorAll("body *")].filter((e) => e.getBoundingClientRect().right > root.clientWidth + 1);
		return out.slice(0, 6).map((e) => e.tagName + "." + e.className + ": " + e.textContent.slice(0, 40)).join("\n");
	})()`))
	require.NoError(t, err)
	assert.Empty(t, wide, "the page is wider than the screen")
	require.NoError(t, browser.Do(ctx, "axe", run(source)))
	out, err := chromedp.Run(ctx, chromedp.Evaluate[string](`axe.run(document, {resultTypes: ["violations"]}).then((r) =>
		JSON.stringify(r.violations.map((v) => ({
			id: v.id, help: v.help, nodes: v.nodes.slice(0, 4).map((n) => n.html.slice(0, 200) + " | " + n.failureSummary.slice(0, 200)),
		}))))`, chromedp.EvalAwaitPromise))
	require.NoError(t, err)
	var found []violation
	require.NoError(t, json.Unmarshal([]byte(out), &found))
	for _, x := range found {
		t.Errorf("%s: %s\n    %s", x.ID, x.Help, strings.Join(x.Nodes, "\n    "))
	}
}

// run has the page do something that answers nothing.
func run(script string) browser.Step {
	return chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		_, err := chromedp.Evaluate[bool]("{"+script+";\n}; true")(ctx, target)
		return err
	})
}
