package test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/lab"
	"oakenlatch/test/browser"
)

// A filter is opened further than was meant: it is told with an address in it,
// and not committed before it is mended.
func TestIntendedSlip(t *testing.T) {
	t.Parallel()
	const rule = "/acls/acl=hall-in/aces/ace=slip-office"
	s := newStage(t, hall)
	passes := func(from string) bool {
		return lab.Forwards(
			s.Devices[hall].Running(), "hall-in",
			lab.Packet{
				From: netip.MustParseAddr(from), To: netip.MustParseAddr("192.0.2.80"), Protocol: 6, FromPort: 50000,
				ToPort: 8443,
			},
		)
	}
	n := s.Open("mara",
		hall+" "+rule+"/matches/ipv4/protocol 6",
		hall+" "+rule+"/matches/ipv4/source-ipv4-network 198.51.0.0/16",
		hall+" "+rule+"/matches/ipv4/destination-ipv4-network 192.0.2.80/32",
		hall+" "+rule+"/matches/tcp/destination-port/operator eq",
		hall+" "+rule+"/matches/tcp/destination-port/port 8443",
		hall+" "+rule+"/actions/forwarding accept")
	s.Do("mara", 0, "move", n, hall, rule, "first")

	ctx := chromium(t, func(text string) { t.Error("the page complains: " + text) })
	do := func(what string, steps ...browser.Step) {
		t.Helper()
		require.NoError(t, browser.Do(ctx, what, steps...))
	}
	shows := func(text string) browser.Step { return chromedp.WaitVisible(browser.Text("*", text)) }
	require.NoError(t, browser.SignIn(ctx, s.URL, "/changes/"+n+"?view=traffic", "mara", maraPassword))
	do(
		"a wrong line", shows("newly permitted"), browser.Type("expectation", "permit tcp from 198.51.100.64/33"),
		chromedp.Click(browser.Button("Expect it")), shows("198.51.100.64/33"),
	)
	s.Do("mara", 0, "expect", n, "permit tcp from 198.51.100.64/26 to 192.0.2.80 port 8443", "--at", hall+"/hall-in")
	do(
		"the surplus",
		chromedp.Navigate(s.URL+"/changes/"+n+"?view=traffic"),
		shows("which nobody expects"),
		shows("198.51.0.1:50000"),
		shows("delivered"),
	)
	assert.Contains(t, s.Do("mara", 1, "preview", n), "which nobody expects")
	_, status := s.Latch("mara", "commit", n, "--hold", "1m")
	assert.NotZero(t, status)
	assert.False(t, passes("198.51.100.70"))

	s.Do("mara", 0, "put", n, hall, rule+"/matches/ipv4/source-ipv4-network", "198.51.100.64/26")
	do(
		"mended",
		shows("All other packets are treated as before, proved."),
		chromedp.Click(browser.Button("Commit on hold")),
		chromedp.WaitEnabled(browser.Button("Confirm")),
		chromedp.Click(browser.Button("Confirm")),
	)
	s.Eventually(n, "confirmed", 90*time.Second)
	assert.True(t, passes("198.51.100.70"))
	assert.False(t, passes("198.51.0.1"))
	do(
		"its filters", chromedp.Navigate(s.URL+"/devices/"+hall+"?view=filters"), shows("slip-office"),
		browser.Type("packets", "tcp from 198.51.0.1 to 192.0.2.80 port 8443"), chromedp.Click(browser.Button("Ask")),
		shows("Denied, all of it."),
	)
}
