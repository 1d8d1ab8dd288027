package test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/test/browser"
	"oakenlatch/test/pace"
)

// keys drives a page by the keyboard alone.
type keys struct {
	t   *testing.T
	ctx context.Context
}

// here is what has the focus, as it is called, and whether it is seen that it has.
func (k keys) here() (name string, seen bool) {
	k.t.Helper()
	name, err := chromedp.Run(k.ctx, chromedp.Evaluate[string](`(() => {
		const e = document.activeElement;
		const label = e.id && document.querySelector("label[for='" + CSS.escape(e.id) + "']");
		return e.getAttribute("aria-label") || label?.textContent || e.textContent || e.tagName;
	})()`))
	require.NoError(k.t, err)
	seen, err = chromedp.Run(k.ctx, chromedp.Evaluate[bool](`(() => {
		for (let e = document.activeElement; e && e !== document.body; e = e.parentElement) {
			const s = getComputedStyle(e);
			if (s.outlineStyle !== "none" && parseFloat(s.outlineWidth) > 0 || s.boxShadow !== "none") return true;
		}
		return false;
	})()`))
	require.NoError(k.t, err)
	return name, seen
}

// to moves on by the tabulator until something of that name has the focus. Wherever it goes, that is seen.
func (k keys) to(name string) {
	k.t.Helper()
	var met []string
	for range 120 {
		k.press(kb.Tab)
		at, seen := k.here()
		if at == name {
			assert.True(k.t, seen, "the focus is seen on %s", name)
			return
		}
		met = append(met, at)
	}
	k.t.Fatalf("the tabulator does not come to %s; it came to %q", name, met)
}

func (k keys) press(text string) {
	k.t.Helper()
	require.NoError(k.t, browser.Do(k.ctx, "press", chromedp.KeyEvent(text), chromedp.Sleep(40*time.Millisecond)))
}

func (k keys) shows(text string) {
	k.t.Helper()
	require.NoError(k.t, browser.Do(k.ctx, "see "+text, chromedp.WaitVisible(browser.Text("*", text))))
	require.NoError(k.t, browser.Do(k.ctx, "settle", chromedp.Sleep(500*time.Millisecond)))
}

// push presses a button of that name.
func (k keys) push(name string) {
	k.t.Helper()
	k.to(name)
	k.press(kb.Enter)
}

// A whole change by keyboard alone: signed in, opened, staged, committed, reverted; and one of somebody else found and
// approved.
func TestKeyboard(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	s := newStage(t, router, quay)
	s.Do("admin", 0, "rule", "add", "--on", "device="+quay)
	ask := s.Open("joss", quay+" /system/contact Joss")
	s.Do("joss", 0, "ask", ask)
	k := keys{t, chromium(t, func(text string) { t.Error("page: " + text) })}
	err := browser.Do(k.ctx, "open", chromedp.Navigate(s.URL), chromedp.WaitVisible(browser.Field("Account")))
	require.NoError(t, err)

	k.to("Account")
	k.press("mara")
	k.to("Password")
	k.press(maraPassword)
	k.press(kb.Enter)
	k.shows("What needs a decision now")

	k.push("Open a change")
	k.shows("What is it for?")
	at, _ := k.here()
	assert.Equal(t, "What is it for?", at, "the first field has the focus")
	k.press("By the keyboard")
	k.press(kb.Enter)
	k.shows("The change is empty")
	at, _ = k.here()
	assert.Contains(t, at, "By the keyboard", "the focus is on the new page")
	k.to("device")
	k.press(router)
	k.press(kb.Enter)
	k.press(kb.Escape)
	k.to("path")
	k.press("/system/contact")
	k.to("value")
	k.press("Mara")
	k.push("Stage")
	k.shows("Ready: 1 change on " + router)
	k.push("Commit on hold")
	require.NoError(t, browser.Do(k.ctx, "hold", chromedp.WaitEnabled(browser.Button("Confirm"))))
	assert.Equal(t, "Mara", s.Value(router, "/system/contact"))
	k.push("Revert now")
	k.shows("what is taken out again")
	k.push("Revert now")
	k.shows("It was reverted")
	assert.NotEqual(t, "Mara", s.Value(router, "/system/contact"))
	at, _ = k.here()
	assert.NotEqual(t, "BODY", at, "what had the focus went, and it is on the page")

	// Found by its number, and approved.
	k.press("/")
	k.shows("Show the keys")
	k.press(ask)
	k.shows(fmt.Sprintf("change %s", ask))
	k.press(kb.Enter)
	k.shows("1 approval is missing")
	k.push("To the approval")
	k.shows("Approve what is shown…")
	k.push("Approve what is shown…")
	k.shows("when anything moves, this falls")
	k.push("Approve")
	k.shows("It has the approvals it needs.")
	assert.Contains(t, s.Do("joss", 0, "preview", ask), "Ready")
}
