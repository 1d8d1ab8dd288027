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

// The first page comes with what the build allows it, and a page that nothing happens on asks for nothing.
func TestConsoleIsLight(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	s := newStage(t, router)
	n := s.Open("mara", router+" /system/contact Mara")
	ctx := chromium(t, func(text string) { t.Error("page: " + text) })
	require.NoError(t, browser.SignIn(ctx, s.URL, "/", "mara", maraPassword))
	shown := browser.Text("*", "Your drafts (1)")
	require.NoError(t, browser.Do(
		ctx, "the first page, by a browser that has nothing of it", run(`caches?.keys?.()`),
		chromedp.Navigate(s.URL+"/?anew"), chromedp.WaitVisible(shown), chromedp.Sleep(time.Second),
	))
	kilobytes, err := chromedp.Run(ctx, chromedp.Evaluate[float64](`performance.getEntries()
		.filter((e) => e.entryType === "resource" || e.entryType === "navigation")
		.reduce((sum, e) => sum + e.encodedBodySize, 0) / 1000`))
	require.NoError(t, err)
	t.Logf("tell: the first page is %.0f kB, compressed", kilobytes)
	assert.Less(t, kilobytes, 250.0)
	assert.Greater(t, kilobytes, 100.0, "it was measured")

	asked := func() int {
		t.Helper()
		n, err := chromedp.Run(ctx, chromedp.Evaluate[int](
			`performance.getEntriesByType("resource").filter((e) => e.name.includes("/api/")).length`,
		))
		require.NoError(t, err)
		return n
	}
	for _, page := range []string{"/", "/devices", "/changes/" + n, "/audit"} {
		require.NoError(t, browser.Do(
			ctx, page, chromedp.Navigate(s.URL+page), chromedp.WaitVisible(chromedp.Search("//h1")),
			chromedp.Sleep(4*time.Second),
		))
		before := asked()
		require.NoError(t, browser.Do(ctx, "idle", chromedp.Sleep(8*time.Second)))
		assert.Equal(t, before, asked(), "%s asks for what no event asked for", page)
	}
}
