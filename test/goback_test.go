package test

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/markup"
	"oakenlatch/lab"
	"oakenlatch/netconf"
	"oakenlatch/test/browser"
)

// What a person sees, in client and console, of a device that has no way back of its
// own and then refuses to revert, and of somebody else at work during the hold: it is
// told before, while it lasts, and after it was left.
func TestWontGoBack(t *testing.T) {
	t.Parallel()
	s := newStage(t, router)
	s.AddLabOf(quay, lab.NoCandidate)
	n := s.Open("mara", quay+" /system/contact Night desk", router+" /system/contact Night desk")
	out, _ := s.Latch("mara", "preview", n)
	assert.Contains(
		t, out, "revert not tested: whether the device can be reverted cannot be tested before the change is active",
	)
	assert.Contains(t, out, "careful "+quay+": reverting it is not tested")
	assert.Contains(t, out, "Next: latch commit "+n)

	complaints := ""
	ctx := chromium(t, func(text string) { complaints += text + "\n" })
	do := func(what string, steps ...browser.Step) {
		t.Helper()
		require.NoError(t, browser.Do(ctx, what, steps...))
		if dir := os.Getenv("PICTURES"); dir != "" {
			png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(dir+"/"+strings.ReplaceAll(what, " ", "-")+".png", png, 0o600))
		}
	}
	shows := func(text string) browser.Step { return chromedp.WaitVisible(browser.Text("*", text)) }
	require.NoError(t, browser.SignIn(ctx, s.URL, "/changes/"+n+"?device="+quay, "mara", maraPassword))
	do("the preview", shows("reverting it is not tested: whether"))

	s.Do("mara", 0, "commit", n, "--hold", "5m")
	require.NoError(t, s.Devices[router].Console("/system/location", "by the lighthouse keeper"))
	no := netconf.RPCErrors{
		{Type: "application", Tag: "operation-not-supported", Severity: "error", Message: "not on a Sunday"},
	}
	s.Devices[quay].OnOperation(func(op *markup.Element) lab.Fault {
		if op.Name.Local == "edit-config" || op.Name.Local == "copy-config" {
			return lab.Fault{Refuse: no}
		}
		return lab.Fault{}
	})
	out, _ = s.Latch("mara", "revert", n, "--yes")
	require.Eventually(t, func() bool {
		out, _ = s.Latch("mara", "show", n)
		return strings.Contains(out, "not on a Sunday")
	}, 90*time.Second, 300*time.Millisecond)
	require.Eventually(t, func() bool {
		out, _ = s.Latch("mara", "revert", n, "--yes")
		return strings.Contains(out, "does not revert; this is tried again")
	}, 60*time.Second, 300*time.Millisecond, "a second word is no circle: it is answered with how it stands")
	assert.Contains(t, out, "latch compare "+quay+" "+quay+"@before:"+n+" --as edit-config")
	assert.Contains(t, out, "While it was on hold, 1 place of "+router+" was changed by somebody else")
	out = s.Do("mara", 1, "compare", quay, quay+"@before:"+n, "--as", "edit-config")
	assert.Contains(t, out, "<contact")
	assert.NotContains(t, out, "Night desk")
	do(
		"stuck", chromedp.Navigate(s.URL+"/changes/"+n), shows("What would have to be sent to "+quay),
		shows("Accept "+quay+" as it is"), shows("It reverts"),
	)
	do(
		"what to send", chromedp.Click(browser.Text("a", "What would have to be sent to "+quay)),
		shows("Compare, and bring back"), shows("ext. 12"),
	)

	s.Do("mara", 0, "accept", n, quay, "--yes")
	s.Eventually(n, "partly", 90*time.Second)
	out, _ = s.Latch("mara", "show", n)
	assert.Contains(t, out, "accepted so by mara")
	assert.Contains(
		t, out,
		"It may have been lost when the change was reverted. See it: latch outside show 1    Stage it again: latch "+
			"outside open 1 "+router,
	)
	do(
		"partly", chromedp.Navigate(s.URL+"/changes/"+n), shows("Its devices do not all hold the same"),
		shows("While it was on hold, somebody else changed 1 place of "+router),
	)
	s.Do("mara", 0, "outside", "open", "1", router)
	out, _ = s.Latch("mara", "preview", "2")
	assert.Contains(t, out, "by the lighthouse keeper", "it is staged again")
	assert.NotContains(t, s.Value(router, "/system/location"), "lighthouse", "it went with the rollback")
	assert.Empty(t, complaints)
}
