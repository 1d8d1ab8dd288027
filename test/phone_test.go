package test

import (
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/test/browser"
	"oakenlatch/test/pace"
)

// On a phone of 360 by 740: signed in, seen what waits, a difference read and approved, a change committed, given more
// time, reverted, committed again and confirmed. What is pressed is really what is there: nothing lies over it.
func TestPhone(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	s := newStage(t, router, quay)
	s.Do("admin", 0, "rule", "add", "--on", "device="+quay)
	ask := s.Open("joss", quay+" /system/contact Joss")
	s.Do("joss", 0, "ask", ask)
	n := s.Open("mara", router+" /system/contact Mara")
	ctx := chromium(t, func(text string) { t.Error("page: " + text) })
	require.NoError(t, browser.Do(ctx, "a phone", chromedp.EmulateViewport(360, 740, chromedp.EmulateMobile)))
	do := func(what string, steps ...browser.Step) {
		t.Helper()
		require.NoError(t, browser.Do(ctx, what, steps...))
	}
	shows := func(text string) browser.Step { return chromedp.WaitVisible(browser.Text("*", text)) }
	settle := chromedp.Sleep(700 * time.Millisecond)
	press := func(name string) browser.Step {
		return chromedp.Steps(chromedp.WaitEnabled(browser.Button(name)), settle, chromedp.Click(browser.Button(name)))
	}
	do(
		"sign in", chromedp.Navigate(s.URL), chromedp.WaitVisible(browser.Field("Account")),
		browser.Type("Account", "mara"), browser.Type("Password", maraPassword), press("Sign in"),
		shows("What needs a decision now"),
	)
	do(
		"approve", shows("To be approved (1)"), settle,
		chromedp.Click(browser.Text("a", "Change "+ask)), shows("1 approval is missing"), shows("contact:"),
		press("To the approval"), press("Approve what is shown…"), settle,
		chromedp.Click(
			chromedp.Search(`//div[contains(@class,"popover")]//button[normalize-space(.)="Approve"]`),
		),
		shows("It has the approvals it needs."),
	)
	do(
		"the menu", press("☰"), settle,
		chromedp.Click(chromedp.Search(`//nav[@aria-label="all places"]//a[normalize-space(.)="Changes"]`)),
		shows("Any state"), settle,
	)
	do(
		"commit", chromedp.Navigate(s.URL+"/changes/"+n), shows("Nothing wrong was found."), press("Commit on hold"),
		chromedp.WaitEnabled(browser.Button("Confirm")),
	)
	assert.Equal(t, "Mara", s.Value(router, "/system/contact"))
	before := s.Change(n).Commit.Deadline
	do("more time", press("More time…"), settle, chromedp.Click(browser.Text("span", "20 min more")))
	require.Eventually(
		t, func() bool { return s.Change(n).Commit.Deadline.Equal(before.Add(20 * time.Minute)) }, 90*time.Second,
		200*time.Millisecond,
	)
	do(
		"revert", press("Revert now"), shows("what is taken out again"), settle,
		chromedp.Click(
			chromedp.Search(`//div[contains(@class,"ant-modal")]//button[normalize-space(.)="Revert now"]`),
		),
		shows("It was reverted"),
	)
	assert.NotEqual(t, "Mara", s.Value(router, "/system/contact"))
	do("once more", press("Commit on hold"), press("Confirm"), chromedp.WaitNotPresent(browser.Button("Confirm")))
	assert.Equal(t, "Mara", s.Value(router, "/system/contact"))
}
