// Package devicetest is a conformance kit: what any device must do for Oaken
// Latch, run against any address.
//
// The device must have :candidate, :confirmed-commit:1.1, :validate and
// :startup, hand out ietf-system (RFC 7317), and have no one else working on
// it. It is left as it was found.
package devicetest

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"oakenlatch/netconf"
)

// Target is a device to be tested.
type Target struct {
	Address string
	Login   ssh.ClientConfig // with its host key check
}

const systemNS = "urn:ietf:params:xml:ns:yang:ietf-system"

// kit is one run against one device.
type kit struct {
	Target
	quick time.Duration // confirm-timeout used where the timer is to fire
}

// Run tests a device.
func Run(t *testing.T, target Target) {
	k := kit{Target: target, quick: 4 * time.Second}
	if testing.Short() {
		k.quick = 2 * time.Second
	}
	for _, c := range []struct {
		name string
		test func(*testing.T, kit)
	}{
		{"hello and capabilities", hello},
		{"old framing", oldFraming},
		{"subtree filter", filter},
		{"five operations", operations},
		{"default operation none", noneOperation},
		{"errors are structured", refusals},
		{"discard", discard},
		{"locks", locks},
		{"a lock ends with its session", lockEnds},
		{"validate", validate},
		{"commit", commit},
		{"confirmed commit goes back by its timer", timer},
		{"confirmed in another session", confirmElsewhere},
		{"cancelled in another session", cancelElsewhere},
		{"without persist the session is the hold", sessionHeld},
		{"confirm without a pending commit is refused", nothingPending},
		{"startup", startup},
		{"schemas", schemas},
		{"ways of reporting defaults", defaults},
		{"kill-session", kill},
		{"a call ends with its context", contexts},
	} {
		t.Run(c.name, func(t *testing.T) { c.test(t, k) })
	}
}

func (k kit) dial(t *testing.T, opt netconf.ClientOptions) *netconf.Client {
	t.Helper()
	c, err := netconf.Dial(t.Context(), k.Address, netconf.DialOptions{Client: k.Login, NETCONF: opt})
	require.NoError(t, err)
	t.Cleanup(c.Abort)
	return c
}

func (k kit) open(t *testing.T) *netconf.Client {
	t.Helper()
	return k.dial(t, netconf.ClientOptions{})
}

func within(t *testing.T) context.Context {
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	t.Cleanup(cancel)
	return ctx
}

// system wraps content of ietf-system's container.
func system(content string) []byte {
	return []byte(`<system xmlns="` + systemNS + `" xmlns:nc="` + netconf.BaseNS + `">` + content + `</system>`)
}

func edit(t *testing.T, c *netconf.Client, content string) {
	t.Helper()
	require.NoError(t, c.EditConfig(within(t), netconf.EditConfig{Target: netconf.Candidate, Config: system(content)}))
}

// leaf reads a leaf of /system in a datastore, "" where it is not set.
func leaf(t *testing.T, c *netconf.Client, from netconf.Datastore, name string) string {
	t.Helper()
	data, err := c.GetConfig(within(t), from, system("<"+name+"/>"))
	require.NoError(t, err)
	return data.Find("system", name).Value()
}

// restoring puts a leaf of running back when the test ends.
func (k kit) restoring(t *testing.T, name string) {
	t.Helper()
	was := leaf(t, k.open(t), netconf.Running, name)
	t.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
		defer cancel()
		c, err := netconf.Dial(ctx, k.Address, netconf.DialOptions{Client: k.Login})
		if !assert.NoError(t, err) {
			return
		}
		defer c.Abort()
		content := `<` + name + ` nc:operation="remove"/>`
		if was != "" {
			content = "<" + name + ">" + was + "</" + name + ">"
		}
		assert.NoError(t, c.DiscardChanges(ctx))
		assert.NoError(t, c.EditConfig(ctx, netconf.EditConfig{Target: netconf.Candidate, Config: system(content)}))
		assert.NoError(t, c.Commit(ctx))
	})
}

// eventually waits for a leaf of running, looking no faster than some devices'
// own timers can bear.
func (k kit) eventually(t *testing.T, name, want string, limit time.Duration) {
	t.Helper()
	deadline := time.Now().Add(limit)
	for {
		c := k.open(t)
		got := leaf(t, c, netconf.Running, name)
		c.Abort()
		if got == want {
			return
		}
		if time.Now().After(deadline) {
			require.Equal(t, want, got, "running did not become what was expected within %s", limit)
		}
		time.Sleep(2 * time.Second)
	}
}

func hello(t *testing.T, k kit) {
	c := k.open(t)
	assert.NotEmpty(t, c.SessionID)
	for _, capability := range []string{
		netconf.CapBase10, netconf.CapCandidate, netconf.CapConfirmedCommit11, netconf.CapStartup,
	} {
		assert.True(t, c.Capabilities.Has(capability), capability)
	}
	assert.True(t, c.Capabilities.Has(netconf.CapValidate11) || c.Capabilities.Has(netconf.CapValidate10), "validate")
	other := k.open(t)
	assert.NotEqual(t, c.SessionID, other.SessionID)
	require.NoError(t, c.Close(within(t)))
	select {
	case <-c.Done():
	case <-time.After(5 * time.Second):
		t.Fatal("the session did not end")
	}
}

func oldFraming(t *testing.T, k kit) {
	c := k.dial(t, netconf.ClientOptions{OnlyBase10: true})
	for range 3 {
		_, err := c.GetConfig(within(t), netconf.Running, nil)
		require.NoError(t, err)
	}
}

func filter(t *testing.T, k kit) {
	c := k.open(t)
	edit(t, c, `<contact>harbour office</contact><location>quay</location>`)
	defer func() { assert.NoError(t, c.DiscardChanges(within(t))) }()
	data, err := c.GetConfig(within(t), netconf.Candidate, system("<contact/>"))
	require.NoError(t, err)
	assert.Equal(t, "harbour office", data.Find("system", "contact").Value())
	assert.Nil(t, data.Find("system", "location"), "only what was asked for")
	data, err = c.GetConfig(within(t), netconf.Candidate, netconf.Filter(`<nothing xmlns="urn:example:nothing"/>`))
	require.NoError(t, err)
	assert.Empty(t, data.Children)
}

// searches gives the candidate's search domains, whose order the user gives.
func searches(t *testing.T, c *netconf.Client) []string {
	t.Helper()
	data, err := c.GetConfig(within(t), netconf.Candidate, system("<dns-resolver><search/></dns-resolver>"))
	require.NoError(t, err)
	var out []string
	if r := data.Find("system", "dns-resolver"); r != nil {
		for _, e := range r.Children {
			out = append(out, e.Value())
		}
	}
	return out
}

func operations(t *testing.T, k kit) {
	c := k.open(t)
	defer func() { assert.NoError(t, c.DiscardChanges(within(t))) }()
	server := func(op, name, address string) string {
		udp := ""
		if address != "" {
			udp = "<udp><address>" + address + "</address></udp>"
		}
		return fmt.Sprintf(`<ntp><server nc:operation="%s"><name>%s</name>%s</server></ntp>`, op, name, udp)
	}
	try := func(content string) error {
		return c.EditConfig(within(t), netconf.EditConfig{Target: netconf.Candidate, Config: system(content)})
	}
	require.NoError(t, try(server("create", "kit", "192.0.2.1")))
	err := try(server("create", "kit", "192.0.2.2"))
	assert.True(t, netconf.Tagged(err, "data-exists"), "create of what is there: %v", err)
	require.NoError(t, try(server("merge", "kit", "192.0.2.3")))
	require.NoError(t, try(server("replace", "kit", "192.0.2.4")))
	data, err := c.GetConfig(within(t), netconf.Candidate, system("<ntp/>"))
	require.NoError(t, err)
	assert.Equal(t, "192.0.2.4", data.Find("system", "ntp", "server", "udp", "address").Value())
	require.NoError(t, try(server("delete", "kit", "")))
	err = try(server("delete", "kit", ""))
	assert.True(t, netconf.Tagged(err, "data-missing"), "delete of what is not there: %v", err)
	require.NoError(t, try(server("remove", "kit", "")), "remove of what is not there")
	require.NoError(t, try(`<dns-resolver nc:operation="remove"/>`))
	require.NoError(t, try(`<dns-resolver><search>a.example</search><search>b.example</search></dns-resolver>`))
	assert.Equal(t, []string{"a.example", "b.example"}, searches(t, c))
}

func noneOperation(t *testing.T, k kit) {
	c := k.open(t)
	defer func() { assert.NoError(t, c.DiscardChanges(within(t))) }()
	edit(t, c, "<location>here</location>") // with none, what leads to the edit must be there
	require.NoError(t, c.EditConfig(within(t), netconf.EditConfig{
		Target: netconf.Candidate, DefaultOperation: "none", ErrorOption: "rollback-on-error",
		Config: system(`<contact nc:operation="merge">kit</contact>`),
	}))
	assert.Equal(t, "kit", leaf(t, c, netconf.Candidate, "contact"))
}

func refusals(t *testing.T, k kit) {
	c := k.open(t)
	defer func() { _ = c.DiscardChanges(within(t)) }()
	err := c.EditConfig(
		within(t), netconf.EditConfig{Target: netconf.Candidate, Config: system("<no-such-leaf>1</no-such-leaf>")},
	)
	var errs netconf.RPCErrors
	require.ErrorAs(t, err, &errs)
	assert.NotEmpty(t, errs[0].Tag)
	assert.NotEmpty(t, errs[0].Type)
	err = c.EditConfig(
		within(t),
		netconf.EditConfig{
			Target: netconf.Candidate, Config: system("<clock><timezone-utc-offset>9000</timezone-utc-offset></clock>"),
		},
	)
	require.ErrorAs(t, err, &errs, "a value out of range")
	_, err = c.GetConfig(within(t), netconf.Running, nil)
	require.NoError(t, err, "the session goes on after a refusal")
}

func discard(t *testing.T, k kit) {
	c := k.open(t)
	was := leaf(t, c, netconf.Candidate, "contact")
	edit(t, c, "<contact>to be discarded</contact>")
	assert.Equal(t, "to be discarded", leaf(t, c, netconf.Candidate, "contact"))
	assert.Equal(t, was, leaf(t, c, netconf.Running, "contact"), "running is untouched")
	require.NoError(t, c.DiscardChanges(within(t)))
	assert.Equal(t, was, leaf(t, c, netconf.Candidate, "contact"))
}

func locks(t *testing.T, k kit) {
	a, b := k.open(t), k.open(t)
	require.NoError(t, a.Lock(within(t), netconf.Running))
	require.NoError(t, a.Lock(within(t), netconf.Candidate))
	err := b.Lock(within(t), netconf.Candidate)
	var errs netconf.RPCErrors
	require.ErrorAs(t, err, &errs)
	assert.Equal(t, "lock-denied", errs[0].Tag)
	assert.Equal(t, a.SessionID, errs[0].SessionID(), "the holder is named")
	err = b.EditConfig(within(t), netconf.EditConfig{Target: netconf.Candidate, Config: system("<contact>b</contact>")})
	assert.True(t, netconf.Refused(err), "an edit under another's lock: %v", err)
	require.NoError(t, a.Unlock(within(t), netconf.Candidate))
	require.NoError(t, a.Unlock(within(t), netconf.Running))
	require.NoError(t, b.Lock(within(t), netconf.Candidate))
	require.NoError(t, b.Unlock(within(t), netconf.Candidate))
}

func lockEnds(t *testing.T, k kit) {
	a, b := k.open(t), k.open(t)
	require.NoError(t, a.Lock(within(t), netconf.Running))
	a.Abort()
	require.Eventually(t, func() bool {
		return b.Lock(within(t), netconf.Running) == nil
	}, 10*time.Second, 200*time.Millisecond)
	require.NoError(t, b.Unlock(within(t), netconf.Running))
}

func validate(t *testing.T, k kit) {
	c := k.open(t)
	edit(t, c, "<contact>valid</contact>")
	defer func() { assert.NoError(t, c.DiscardChanges(within(t))) }()
	require.NoError(t, c.Validate(within(t), netconf.Source{Datastore: netconf.Candidate}))
}

func commit(t *testing.T, k kit) {
	k.restoring(t, "contact")
	c := k.open(t)
	edit(t, c, "<contact>committed</contact>")
	require.NoError(t, c.Commit(within(t)))
	assert.Equal(t, "committed", leaf(t, k.open(t), netconf.Running, "contact"))
}

// trial commits a contact on trial and ends the session.
func (k kit) trial(t *testing.T, timeout time.Duration, persist string) (was string) {
	t.Helper()
	c := k.open(t)
	was = leaf(t, c, netconf.Running, "contact")
	edit(t, c, "<contact>on trial</contact>")
	require.NoError(t, c.CommitConfirmed(within(t), netconf.ConfirmedCommit{Timeout: timeout, Persist: persist}))
	assert.Equal(t, "on trial", leaf(t, c, netconf.Running, "contact"))
	require.NoError(t, c.Close(within(t)))
	return was
}

func timer(t *testing.T, k kit) {
	was := k.trial(t, k.quick, "kit-timer")
	assert.Equal(
		t, "on trial", leaf(t, k.open(t), netconf.Running, "contact"), "a persistent trial outlives its session",
	)
	k.eventually(t, "contact", was, k.quick+20*time.Second)
}

func confirmElsewhere(t *testing.T, k kit) {
	k.restoring(t, "contact")
	k.trial(t, k.quick, "kit-confirm")
	c := k.open(t)
	err := c.Confirm(within(t), "not the token")
	assert.True(t, netconf.Refused(err), "a wrong token: %v", err)
	require.NoError(t, c.Confirm(within(t), "kit-confirm"))
	time.Sleep(k.quick + 2*time.Second)
	assert.Equal(t, "on trial", leaf(t, c, netconf.Running, "contact"), "confirmed is for good")
}

func cancelElsewhere(t *testing.T, k kit) {
	was := k.trial(t, time.Minute, "kit-cancel")
	c := k.open(t)
	require.NoError(t, c.CancelCommit(within(t), "kit-cancel"))
	k.eventually(t, "contact", was, 5*time.Second)
}

func sessionHeld(t *testing.T, k kit) {
	was := k.trial(t, time.Minute, "")
	k.eventually(t, "contact", was, 10*time.Second)
}

func nothingPending(t *testing.T, k kit) {
	c := k.open(t)
	err := c.Confirm(within(t), "no such token")
	assert.True(t, netconf.Refused(err), "%v", err)
	err = c.CancelCommit(within(t), "no such token")
	assert.True(t, netconf.Refused(err), "%v", err)
}

func startup(t *testing.T, k kit) {
	k.restoring(t, "contact")
	c := k.open(t)
	edit(t, c, "<contact>saved</contact>")
	require.NoError(t, c.Commit(within(t)))
	assert.NotEqual(t, "saved", leaf(t, c, netconf.Startup, "contact"), "a commit alone does not save")
	t.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
		defer cancel()
		last, err := netconf.Dial(ctx, k.Address, netconf.DialOptions{Client: k.Login})
		if assert.NoError(t, err) {
			assert.NoError(t, last.CopyConfig(ctx, netconf.Startup, netconf.Source{Datastore: netconf.Running}))
			last.Abort()
		}
	})
	require.NoError(t, c.CopyConfig(within(t), netconf.Startup, netconf.Source{Datastore: netconf.Running}))
	assert.Equal(t, "saved", leaf(t, c, netconf.Startup, "contact"))
}

func schemas(t *testing.T, k kit) {
	c := k.open(t)
	text, err := c.GetSchema(within(t), "ietf-system", "", "yang")
	require.NoError(t, err)
	assert.Contains(t, text, systemNS)
	_, err = c.GetSchema(within(t), "no-such-module", "", "yang")
	assert.True(t, netconf.Refused(err), "%v", err)
	found := false
	for _, m := range c.Capabilities.Modules() {
		found = found || m.Name == "ietf-system" && strings.HasPrefix(m.Namespace, "urn:ietf:")
	}
	assert.True(t, found, "ietf-system is announced in the hello")
}

// defaults asks for an explicitly set default in every way the device knows
// (RFC 6243 section 3).
func defaults(t *testing.T, k kit) {
	c := k.open(t)
	basic, also := c.Capabilities.Defaults()
	if basic == "" {
		t.Skip("the device announces no :with-defaults")
	}
	edit(
		t, c,
		"<ntp><enabled>true</enabled><server><name>tide</name><udp><address>203.0.113.5</address></udp></server></ntp>",
	)
	defer func() { require.NoError(t, c.DiscardChanges(within(t))) }()
	for _, mode := range append([]string{basic}, also...) {
		data, err := c.GetConfigWith(within(t), netconf.Candidate, system("<ntp/>"), mode)
		require.NoError(t, err, mode)
		data, err = data.Open()
		require.NoError(t, err, mode)
		require.NotNil(t, data.Find("system", "ntp", "server"), mode)
		assert.Equal(t, mode != "trim", data.Find("system", "ntp", "enabled") != nil, mode)
	}
	_, err := c.GetConfigWith(within(t), netconf.Candidate, nil, "by-heart")
	assert.True(t, netconf.Refused(err), "a way there is not")
}

func kill(t *testing.T, k kit) {
	a, b := k.open(t), k.open(t)
	require.NoError(t, a.KillSession(within(t), b.SessionID))
	select {
	case <-b.Done():
	case <-time.After(10 * time.Second):
		t.Fatal("the killed session goes on")
	}
	_, err := b.GetConfig(within(t), netconf.Running, nil)
	require.ErrorIs(t, err, netconf.ErrClosed)
	assert.True(t, netconf.Refused(a.KillSession(within(t), "4294967295")), "a session that is not there")
}

func contexts(t *testing.T, k kit) {
	c := k.open(t)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := c.GetConfig(ctx, netconf.Running, nil)
	require.ErrorIs(t, err, context.Canceled)
	_, err = c.GetConfig(within(t), netconf.Running, nil)
	require.NoError(t, err, "the session goes on")
}
