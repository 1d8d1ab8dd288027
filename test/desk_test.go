package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/test/browser"
)

// A change of two people over three devices, from the first edit to the
// commit, by the client.
func TestDesk(t *testing.T) {
	t.Parallel()
	s := newStage(t, router, quay, hall)
	n := s.Open("mara", router+" /system/contact Mara")
	vlans := s.File("vlans.txt", "vlans\n  vlan [40]\n    name: lamps\n")
	assert.Contains(t, s.Do("mara", 2, "load", n, quay, vlans), "say how with --mode")
	assert.Contains(t, s.Do("mara", 0, "load", n, quay, vlans, "--mode", "merge"), "read as outline, nothing sent")
	assert.Contains(
		t, s.Do("mara", 2, "load", n, hall, vlans, "--mode", "merge"), "line 1, column 1: vlans is not under the top",
	)
	assert.Contains(
		t, s.Do("mara", 0, "move", n, hall, "/acls/acl=management-in/aces/ace=ping", "first"),
		"the order is now: ping, operations-room, nothing-else",
	)
	assert.Contains(t, s.Do("joss", 3, "preview", n), "private to them; they can add you: latch share "+n+" joss")
	s.Do("mara", 0, "share", n, "joss")
	s.Do("joss", 0, "put", n, quay, "/vlans/vlan=40/name", "lights")
	out := s.Do("joss", 0, "preview", n, "--people", "--validate")
	assert.Contains(t, out, "joss, edit 4")
	assert.Equal(t, 3, strings.Count(out, "the device itself finds the result valid"))
	assert.Equal(t, 3, strings.Count(out, "lockout forecast: "))
	assert.NotContains(t, s.Do("mara", 0, "preview", n, "--by", "mara"), "lights")
	assert.Contains(t, s.Do("mara", 0, "preview", n, "--as", "outline", "--device", quay), "name: lights")
	assert.Contains(t, s.Do("mara", 0, "preview", n, "--as", "unified"), "+++ "+hall+" result")
	assert.Contains(
		t, s.Do("mara", 0, "preview", n, "--as", "yang-patch-json", "--device", hall), "ietf-yang-patch:yang-patch",
	)

	// A device of it moves on: the commit is refused and shows what moved.
	other := s.Open("joss", router+" /system/contact Joss", router+" /system/location Roof")
	s.Do("joss", 0, "commit", other, "--hold", "1m")
	s.Do("joss", 0, "confirm", other)
	assert.Contains(t, s.Do("mara", 3, "commit", n), "northmole-harbour moved on since revision 1, in 2 places")
	assert.Contains(t, s.Do("mara", 1, "preview", n), "change "+other+" of joss")
	assert.Contains(t, s.Do("mara", 3, "rebase", n), "changed here and on the device: 1 place")
	assert.Contains(t, s.Do("mara", 0, "decide", n, router, "/system/contact", "mine"), "    * mine    Mara")
	assert.Contains(t, s.Do("mara", 0, "rebase", n), "from revision 1 onto 2")

	// Reserved by somebody else it waits.
	s.Do("joss", 0, "reserve", quay, "--for", "1h", "--reason", "new fibre")
	assert.Contains(t, s.Do("mara", 1, "preview", n), "reserved by joss until")
	assert.Contains(t, s.Do("mara", 3, "commit", n), "is reserved by joss")
	s.Do("mara", 0, "reserve", "ask", quay, "soon?")
	assert.Contains(t, s.Do("joss", 0, "reserve", "list"), "mara asked joss")
	assert.Contains(t, s.Do("admin", 0, "release", quay, "--yes"), "not reserved any more")
	s.Do("mara", 0, "preview", n)
	s.Do("mara", 0, "commit", n, "--hold", "1m")
	assert.Contains(t, s.Do("joss", 0, "confirm", n), "confirmed")
	assert.Equal(t, "Mara", s.Value(router, "/system/contact"))
	assert.Equal(t, "Roof", s.Value(router, "/system/location"))
	assert.Equal(t, "lights", s.Value(quay, "/vlans/vlan=40/name"))
	assert.Contains(t, s.Do("mara", 0, "audit", "change:"+n, "--limit", "200"), "part.decide")
}

// A device whose management moves while the service is killed: it is found at
// the new address and kept there.
func TestManagementMovesThroughAKill(t *testing.T) {
	t.Parallel()
	s := newStage(t, router)
	d := s.Devices[router]
	s.Do("admin", 0, "device", "set", router, "--seen-as", d.Spec.Management.Address.String())
	n := s.Open("mara", router+" /system/contact moved")
	for a := range d.Spec.Management.Others {
		s.Do("mara", 0, "put", n, router, "/interfaces/interface=mgmt0/ipv4/address="+a.String()+"/prefix-length", "24")
		s.Do(
			"mara", 0, "delete", n, router,
			"/interfaces/interface=mgmt0/ipv4/address="+d.Spec.Management.Address.String(),
		)
		assert.Contains(t, s.Do("mara", 0, "preview", n), "lockout forecast: cuts")
		s.Do("mara", 0, "readdress", n, router, d.At(a), "--seen-as", a.String())
	}
	assert.Contains(t, s.Do("mara", 0, "preview", n), "lockout forecast: keeps")
	s.Do("mara", 0, "commit", n, "--hold", "2m")
	s.Kill()
	s.Start()
	require.Eventually(t, func() bool { // once it is proved that the device is reached again
		_, status := s.Latch("mara", "confirm", n)
		return status == 0
	}, 90*time.Second, 500*time.Millisecond)
	assert.Contains(t, s.Do("mara", 0, "config", router, "/system/contact"), "moved")
	assert.NotContains(t, s.Do("admin", 0, "device", "show", router), d.Address+" as")
}

// The desk in Chromium: a line taken back, a conflict decided, a text edited, a
// stencil saved and bound.
func TestConsoleDesk(t *testing.T) {
	t.Parallel()
	s := newStage(t, router, quay)
	ctx := chromium(t, func(text string) { t.Error("page: " + text) })
	do := func(what string, steps ...browser.Step) {
		t.Helper()
		require.NoError(t, browser.Do(ctx, what, steps...))
	}
	shows := func(text string) browser.Step { return chromedp.WaitVisible(browser.Text("*", text)) }
	tab := func(name string) browser.Step {
		return chromedp.Click(chromedp.Search(`//div[@role="tab" and normalize-space(.)="` + name + `"]`))
	}
	n := s.Open("mara", quay+" /system/contact Mara", quay+" /system/location Here")
	other := s.Open("joss", quay+" /system/contact Joss")
	s.Do("joss", 0, "commit", other, "--hold", "1m")
	s.Do("joss", 0, "confirm", other)

	require.NoError(t, browser.SignIn(ctx, s.URL, "/changes/"+n, "mara", maraPassword))
	do(
		"a conflict, three ways", chromedp.Click(browser.Button("Decide the conflict…")),
		shows("Conflict at /system/contact"), shows("Joss"),
		shows("1 thing stops a commit."),
	)
	do(
		"is decided", chromedp.Click(chromedp.Search(`//button[@aria-label="keep mine at /system/contact"]`)),
		shows("Ready to commit on hold."), tab("Details"), shows("Decided by mara: /system/contact"),
	)
	do(
		"and rebased", chromedp.Click(browser.Button("Rebase onto what it holds now")),
		chromedp.WaitNotPresent(browser.Text("*", "Decided by mara: /system/contact")), tab("Difference"),
	)
	do(
		"a line is removed", chromedp.Click(chromedp.Search(`//button[@aria-label="remove /system/location"]`)),
		chromedp.WaitNotPresent(chromedp.Search(`//button[@aria-label="remove /system/location"]`)),
	)
	do(
		"a path is completed", chromedp.Click(browser.Button("Stage…")), chromedp.Sleep(300*time.Millisecond),
		browser.Type("path", "/system/dns-resolver/sea"), shows("/system/dns-resolver/search"),
		browser.Type("path", "rch"), browser.Type("value", "quay.example"), chromedp.Sleep(600*time.Millisecond),
		chromedp.Click(browser.Text("span", "the only one, the others go")), chromedp.Click(browser.Button("Stage")),
		shows("this makes it the only one"),
	)
	do(
		"edited as text", tab("Edit as text"), chromedp.WaitVisible(browser.Field("path to edit")),
		browser.Type("path to edit", "system/contact"),
		chromedp.Click(chromedp.Search(`//button[normalize-space(.)="Edit as text"]`)),
		chromedp.WaitVisible(chromedp.Search(`//div[@aria-label="outline"]`)),
	)
	do(
		"typed", chromedp.Click(chromedp.Search(`//div[@aria-label="outline"]//div[contains(@class,"cm-line")][2]`)),
		chromedp.Sleep(300*time.Millisecond), chromedp.KeyEvent(kb.End), chromedp.KeyEvent("2"),
	)
	do(
		"staged", chromedp.Click(browser.Button("Stage the text")),
		shows("replace-at: only what is at /system/contact changes"),
	)
	out := s.Do("mara", 0, "preview", n)
	assert.Contains(t, out, "contact: Joss → Mara2")
	assert.Contains(t, out, "+     search: quay.example")
	assert.NotContains(t, out, "location")
	do(
		"committed", chromedp.Navigate(s.URL+"/changes/"+n), chromedp.WaitEnabled(browser.Button("Commit on hold")),
		chromedp.Click(browser.Button("Commit on hold")), chromedp.WaitEnabled(browser.Button("Confirm")),
		chromedp.Click(browser.Button("Confirm")), chromedp.WaitNotPresent(browser.Button("Confirm")),
	)
	assert.Equal(t, "Mara2", s.Value(quay, "/system/contact"))

	// Thousands of changed lines are scrolled, not drawn.
	var b strings.Builder
	b.WriteString("vlans\n")
	for i := 100; i < 2600; i++ {
		fmt.Fprintf(&b, "  vlan [%d]\n    name: v%d\n", i, i)
	}
	big := s.Open("mara", router+" /system/contact x")
	s.Do("mara", 0, "load", big, quay, s.File("big.outline", b.String()), "--mode", "merge")
	do(
		"a long difference", chromedp.Navigate(s.URL+"/changes/"+big+"?device="+quay), shows("Line by line"),
		chromedp.Click(browser.Text("span", "Line by line")), shows("vlan [100]"),
	)
	rows, err := chromedp.Run(ctx, chromedp.Evaluate[int](`document.querySelectorAll('[role=row]').length`))
	require.NoError(t, err)
	assert.Less(t, rows, 300)

	do(
		"a stencil", chromedp.Navigate(s.URL+"/stencils"), shows("None yet"), chromedp.Click(browser.Button("New")),
		browser.Type("name", "who"), chromedp.Click(browser.Button("Save a version")), shows("Saved as version 1"),
	)
	do(
		"is bound", chromedp.Navigate(s.URL+"/changes/"+big+"?device="+quay), shows("Line by line"),
		chromedp.Click(browser.Button("Stage…")), chromedp.Sleep(300*time.Millisecond), tab("Stencil"),
		chromedp.Sleep(600*time.Millisecond), browser.Pick("stencil", "who, version 1"), shows("contact: {contact}"),
	)
	assert.Contains(t, s.Do("mara", 0, "stencils"), "who")
	do(
		"a reservation", chromedp.Navigate(s.URL+"/devices/"+quay), browser.Type("reason", "winch"),
		chromedp.Click(browser.Button("Reserve it for me")), shows("By you until"),
	)
	assert.Contains(t, s.Do("joss", 0, "reserve", "list"), "winch")
}

// The completion that the client writes for bash, in bash.
func TestBashCompletion(t *testing.T) {
	t.Parallel()
	s := newStage(t, router)
	n := s.Open("mara", router+" /system/contact x")
	script := s.File("complete.sh", `source <(latch completion bash)
compopt() { :; }
COMP_LINE=$1 COMP_POINT=${#1}
_latch
printf '%s\n' "${COMPREPLY[@]}"
`)
	for line, want := range map[string]string{
		"latch reve": "revert", "latch put " + n + " north": router,
		"latch put " + n + " " + router + " /inter":                                   "/interfaces/",
		"latch put " + n + " " + router + " /interfaces/interface=por":                "port1/ port2/ port3/ port4/",
		"latch put " + n + " " + router + " /interfaces/interface=port1/ipv4/m":       "port1/ipv4/mtu",
		"latch put " + n + " " + router + " /interfaces/interface=port1/enabled ":     "true false",
		"latch delete " + n + " " + router + " /interfaces/interface=port1/ipv4/addr": "port1/ipv4/address=",
		"latch commit " + n + " --ho":                                                 "--hold",
		"latch config " + router + " /system/cont":                                    "/system/contact",
		"latch restore " + router + " run":                                            "running",
		"latch compare " + router + "@run":                                            router + "@running",
	} {
		cmd := exec.Command("bash", script, line)
		home := filepath.Join(s.Dir, "home-mara")
		cmd.Env = append(
			os.Environ(), "HOME="+home, "XDG_CONFIG_HOME="+home, "OAKEN_LATCH_SERVER="+s.URL,
			"PATH="+bin+":"+os.Getenv("PATH"),
		)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		assert.ElementsMatch(t, strings.Fields(want), strings.Fields(string(out)), line)
	}
}
