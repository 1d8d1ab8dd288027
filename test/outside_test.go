package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/lab"
	"oakenlatch/netconf"
	"oakenlatch/test/browser"
	"oakenlatch/test/outpost"
	"oakenlatch/test/servicetest"
)

// What somebody changes on a device without the service is found by what the
// device tells, told to a real log host, decided in the console and by the
// client, also by a service that was killed meanwhile; and all of it is on
// record, which holds.
func TestBehindOurBack(t *testing.T) {
	t.Parallel()
	loghost := outpost.NewSyslog(t, "tcp", outpost.Certificate{})
	s := newStage(t, quay, router)
	s.Do("admin", 0, "receiver", "add", "loghost", loghost.Place, "kind:revision.outside,outside,tell")
	s.Do("admin", 0, "receiver", "try", "loghost")
	require.Eventually(
		t, func() bool { return strings.Contains(s.Do("mara", 0, "audit", "kind:audit,device"), "device.trust") },
		90*time.Second, 200*time.Millisecond,
	)

	d := s.Devices[quay]
	c, err := netconf.Dial(t.Context(), d.Address, netconf.DialOptions{Client: servicetest.Login(d)})
	require.NoError(t, err)
	t.Cleanup(c.Abort)
	change := func(text string) {
		t.Helper()
		config := []byte(
			`<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><contact>` + text + `</contact></system>`,
		)
		require.NoError(t, c.EditConfig(t.Context(), netconf.EditConfig{Target: netconf.Candidate, Config: config}))
		require.NoError(t, c.Commit(t.Context()))
	}
	outside := func(want ...string) {
		t.Helper()
		require.Eventually(t, func() bool {
			out := s.Do("mara", 0, "outside")
			for _, w := range want {
				if !strings.Contains(out, w) {
					return false
				}
			}
			return true
		}, 90*time.Second, 200*time.Millisecond, "%q", want)
	}
	time.Sleep(2 * time.Second) // until it is listened to
	change("by night")
	outside("named by the device: "+lab.User+" from 127.0.0.1 in session "+c.SessionID, "to be decided")
	require.Eventually(t, func() bool {
		return strings.Contains(strings.Join(loghost.Lines(), "\n"), "1 audit.warning revision.outside ")
	}, 90*time.Second, 200*time.Millisecond)

	// While the service is dead nothing is heard; it is found, and said so.
	s.Kill()
	require.NoError(t, s.Devices[router].Console("/system/location", "moved while it was dead"))
	s.Start()
	outside(router, "not named by the device: it was not listened to before")

	ctx := chromium(t, func(text string) { t.Error("the page complains: " + text) })
	do := func(what string, steps ...browser.Step) {
		t.Helper()
		require.NoError(t, browser.Do(ctx, what, steps...))
	}
	shows := func(text string) browser.Step { return chromedp.WaitVisible(browser.Text("*", text)) }
	require.NoError(t, browser.SignIn(ctx, s.URL, "/", "mara", maraPassword))
	do(
		"the first page", shows("Changed outside (2)"), chromedp.Click(browser.Text("a", quay+", 1 place")),
		chromedp.WaitVisible(chromedp.Search(`//*[@role="row" and contains(., "by night")]`)),
	)
	do(
		"adopt", browser.Type("note", "Joss, by night"), chromedp.Click(browser.Button("Take it as it is")),
		shows("adopted"), shows("Joss, by night"),
	)
	do(
		"push back", chromedp.Navigate(s.URL+"/outside?number=2"), chromedp.Click(browser.Button("Push it back…")),
		shows("change 1: Push back outside change 2 on "+router),
	)
	do(
		"the change", chromedp.Navigate(s.URL+"/changes/1"), shows("location:"),
		chromedp.Click(browser.Button("Commit on hold")), chromedp.WaitEnabled(browser.Button("Confirm")),
		chromedp.Click(browser.Button("Confirm")), chromedp.WaitNotPresent(browser.Button("Confirm")),
	)
	s.Eventually("1", "confirmed", 90*time.Second)
	assert.NotContains(t, s.Value(router, "/system/location"), "moved while")
	assert.Contains(t, s.Do("mara", 0, "outside"), "Nothing was changed outside that is not decided")
	assert.Contains(t, s.Do("mara", 0, "outside", "--all"), "pushed-back")
	do(
		"commits", chromedp.Click(browser.Text("a", "Commits")), shows("Push back outside change 2 on "+router),
		chromedp.Click(browser.Text("a", "1")), shows("commit.confirm"), shows("Compare with now"),
	)
	do(
		"audit", chromedp.Navigate(s.URL+"/audit?q=kind:outside"), shows("outside.adopted"),
		chromedp.WaitVisible(chromedp.Search(`//*[@aria-label="when it happened, and by whom"]`)),
	)
	do(
		"who is told", chromedp.Click(browser.Button("Who is told…")), shows("loghost"),
		shows("kind:revision.outside,outside,tell"),
	)

	file := filepath.Join(s.Dir, "report.pdf")
	s.Do("mara", 0, "report", file, "--since", "1d")
	pdf, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(pdf), "%PDF-"))
	page := filepath.Join(s.Dir, "report.html")
	s.Do("mara", 0, "report", "change", "1", page)
	html, err := os.ReadFile(page)
	require.NoError(t, err)
	assert.Contains(t, string(html), "Push back outside change 2")
	assert.Contains(t, s.Do("mara", 6, "audit", "verify"), "consistent in itself")
	lines := strings.Join(loghost.Lines(), "\n")
	for _, want := range []string{"outside.adopted", "outside.push-back", "moved while it was dead"} {
		assert.Contains(t, lines, want)
	}
}
