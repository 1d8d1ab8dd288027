package test

import (
	"context"
	"errors"
	"os"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/test/browser"
)

// The console in Chromium, against the service and the lab.
func TestConsole(t *testing.T) {
	t.Parallel()
	s := newStage(t, router)
	var mu sync.Mutex
	var complaints []string
	ctx := chromium(t, func(text string) {
		mu.Lock()
		defer mu.Unlock()
		complaints = append(complaints, text)
	})
	do := func(what string, steps ...browser.Step) {
		t.Helper()
		require.NoError(t, browser.Do(ctx, what, steps...))
	}
	shows := func(text string) browser.Step { return chromedp.WaitVisible(browser.Text("*", text)) }

	// A wrong password first.
	do("wrong password", chromedp.Navigate(s.URL),
		browser.Type("Account", "mara"), browser.Type("Password", "wrong password"),
		chromedp.Click(browser.Button("Sign in")), shows("wrong account or password"))
	require.NoError(t, browser.SignIn(ctx, s.URL, "/", "mara", maraPassword))
	do("nothing waits", shows("Nothing waits for you"))

	// Open a change, stage, take back, see a wrong path.
	do(
		"open a change", chromedp.Click(browser.Button("Open a change")),
		browser.Type("What is it for?", "Bigger frames"),
		chromedp.Click(chromedp.Search(`//div[contains(@class,"ant-modal")]//button[normalize-space(.)="Open"]`)),
		shows("Change 1: Bigger frames"),
	)
	do("an empty change", shows("The change is empty"))
	stage := func(path, value string) []browser.Step {
		return []browser.Step{
			browser.Type("path", path), browser.Type("value", value),
			chromedp.Click(browser.Button("Stage")),
		}
	}
	do("pick the device", browser.Pick("device", router))
	do("stage", append(
		stage(mtu, "9000"), shows("mtu: 1500 → 9000"), shows("Ready, with care: 1 change on northmole-harbour"),
	)...)
	do("a wrong path", append(stage("/interfaces/interfase=port1", "x"), shows("there is interface"))...)
	assert.Equal(t, "1500", s.Value(router, mtu))

	// Commit on hold; the countdown is on every page.
	do(
		"commit", chromedp.Click(browser.Button("Commit on hold")), chromedp.WaitEnabled(browser.Button("Confirm")),
		shows("On northmole-harbour:"),
	)
	assert.Equal(t, "9000", s.Value(router, mtu))
	do(
		"another page", chromedp.Click(browser.Text("a", "Devices")), shows("held by change 1"),
		chromedp.WaitVisible(browser.Button("Confirm")),
	)
	const countdown = `//*[@role="timer"]`
	first := text(t, ctx, countdown)
	require.Eventually(t, func() bool {
		return text(t, ctx, countdown) != first
	}, 90*time.Second, 300*time.Millisecond, "the countdown runs")
	do("confirm", chromedp.Click(browser.Button("Confirm")), chromedp.WaitNotPresent(browser.Button("Confirm")))
	do("confirmed", chromedp.Click(browser.Text("a", "Changes")), shows("✓ confirmed"))
	assert.EqualValues(t, "confirmed", s.Change("1").State)
	assert.Equal(t, s.Devices[router].Running().Digest(), s.Devices[router].Startup().Digest())

	// A second one, with a probe, is given more time and reverted by the bar, which
	// shows first what is taken out.
	n := s.Open("mara", router+" "+mtu+" 1400")
	do(
		"second change", chromedp.Navigate(s.URL+"/changes/"+n), chromedp.WaitEnabled(browser.Button("Commit on hold")),
		chromedp.Click(browser.Button("How…")), chromedp.WaitVisible(browser.Field("probes")),
		browser.Type("probes", "state "+router+" /interfaces/interface=port1/oper-status up"),
		chromedp.KeyEvent(kb.Escape), chromedp.Sleep(600*time.Millisecond),
		chromedp.Click(browser.Button("Commit on hold")), chromedp.WaitEnabled(browser.Button("Confirm")),
	)
	do(
		"its steps", chromedp.Click(browser.Button("Devices: 1 held; 1 of 1 probes pass")),
		shows("it is up"), shows("guard: device"), chromedp.KeyEvent(kb.Escape), chromedp.Sleep(600*time.Millisecond),
	)
	before := s.Change(n).Commit.Deadline
	do(
		"more time", chromedp.Click(browser.Button("More time…")),
		chromedp.WaitVisible(browser.Text("span", "20 min more")), chromedp.Sleep(600*time.Millisecond),
		chromedp.Click(browser.Text("span", "20 min more")),
	)
	require.Eventually(
		t, func() bool { return s.Change(n).Commit.Deadline.Equal(before.Add(20 * time.Minute)) }, 90*time.Second,
		200*time.Millisecond,
	)
	do(
		"revert", chromedp.Click(browser.Button("Revert now")),
		shows("what the change did, and what is taken out again"), chromedp.Sleep(600*time.Millisecond),
		chromedp.Click(
			chromedp.Search(`//div[contains(@class,"ant-modal")]//button[normalize-space(.)="Revert now"]`),
		),
		shows("reverted by mara"),
	)
	assert.Equal(t, "9000", s.Value(router, mtu))

	// What is kept without being saved is shown, and saved from there.
	s.Do("mara", 0, "commit", n, "--hold", "1m", "--save", "no")
	s.Do("mara", 0, "confirm", n)
	do(
		"not saved", chromedp.Navigate(s.URL+"/devices/"+router),
		shows("What runs here is not in its startup: a restart would lose this"),
		chromedp.Click(browser.Button("Save it to startup")),
		chromedp.WaitNotPresent(browser.Button("Save it to startup")),
	)
	assert.Equal(t, s.Devices[router].Running().Digest(), s.Devices[router].Startup().Digest())

	// One on the schedule is listed, and taken off.
	late := s.Open("mara", router+" "+mtu+" 1450")
	s.Do("mara", 0, "commit", late, "--at", "03:30", "--zone", "Europe/Lisbon")
	do(
		"schedule", chromedp.Click(browser.Text("a", "Schedule")), shows("waiting"),
		chromedp.Click(browser.Button("Take off")), chromedp.Sleep(600*time.Millisecond),
		chromedp.Click(browser.Button("Take it off")), shows("cancelled"),
	)
	assert.Contains(t, s.Do("mara", 0, "show", late), "draft")

	do("audit", chromedp.Click(browser.Text("a", "Audit")), shows("commit.confirmed"), shows("config.changed"))
	do("device", chromedp.Navigate(s.URL+"/devices/"+router), shows("Management, the only way in"))
	do("no such page", chromedp.Navigate(s.URL+"/nothing"), shows("There is no such page"))
	do(
		"sign out, though a path was typed and not sent", chromedp.Click(browser.Button("Sign out")),
		shows("Signing out drops"), chromedp.Sleep(600*time.Millisecond),
		chromedp.Click(
			chromedp.Search(`//div[contains(@class,"ant-modal")]//button[normalize-space(.)="Sign out"]`),
		),
		chromedp.WaitVisible(browser.Field("Account")),
	)
	mu.Lock()
	defer mu.Unlock()
	assert.Empty(t, complaints, "pages throw nothing and log no errors")
}

// chromium opens a browser, or skips the test where there is none. What its
// pages complain about is told.
func chromium(t *testing.T, complaint func(text string)) context.Context {
	t.Helper()
	ctx, stop, err := browser.Open(context.Background(), complaint)
	if errors.Is(err, browser.ErrMissing) {
		t.Skip(err.Error() + ": skipped")
	}
	require.NoError(t, err)
	t.Cleanup(stop)
	return ctx
}

func text(t *testing.T, ctx context.Context, sel string) string {
	t.Helper()
	out, err := chromedp.Run(ctx, chromedp.Text(chromedp.Search(sel)))
	require.NoError(t, err)
	return out
}

// The service goes while a hold is shown: that is said within seconds, with since when, nothing is counted down and
// nothing can be pressed. It comes back, and so does the page, by itself.
func TestLostContact(t *testing.T) {
	t.Parallel()
	s, n := holding(t, "10m")
	ctx := chromium(t, func(string) {})
	do := func(what string, steps ...browser.Step) {
		t.Helper()
		require.NoError(t, browser.Do(ctx, what, steps...))
	}
	require.NoError(t, browser.SignIn(ctx, s.URL, "/", "mara", maraPassword))
	lost := browser.Text("*", "No contact with the service since")
	do("the hold", chromedp.WaitEnabled(browser.Button("Confirm")), chromedp.WaitNotPresent(lost))
	for range 2 {
		s.Kill()
		gone := time.Now()
		do("it is gone", chromedp.WaitVisible(lost))
		assert.Less(t, time.Since(gone), 15*time.Second, "said soon, on a machine that has much to do")
		do(
			"nothing can be pressed", chromedp.WaitVisible(browser.Text("*", ", when the service was last heard")),
			chromedp.WaitReady(chromedp.Search(`//button[normalize-space(.)="Confirm" and @disabled]`)),
			chromedp.WaitReady(chromedp.Search(`//button[normalize-space(.)="Open a change" and @disabled]`)),
		)
		if dir := os.Getenv("PICTURES"); dir != "" {
			png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(dir+"/lost.png", png, 0o600))
		}
		s.Start()
		do(
			"it is back", chromedp.WaitNotPresent(lost), chromedp.WaitEnabled(browser.Button("Confirm")),
			chromedp.WaitNotPresent(browser.Text("*", "The service does not answer")),
		)
	}
	do("confirm", chromedp.Click(browser.Button("Confirm")), chromedp.WaitNotPresent(browser.Button("Confirm")))
	s.Eventually(n, "confirmed", 90*time.Second)
}
