package lab

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/netconf"
)

const contactPath = "/system/contact"

func edit(t *testing.T, c *netconf.Client, contact string) error {
	t.Helper()
	return c.EditConfig(t.Context(), netconf.EditConfig{
		Target: netconf.Candidate,
		Config: []byte(
			`<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><contact>` + contact + `</contact></system>`,
		),
	})
}

func (d *Device) contact(t *testing.T) string {
	t.Helper()
	v, err := d.Value(contactPath)
	require.NoError(t, err)
	return v
}

const factory = "Harbour office, ext. 12"

// While a commit is on trial: who may do what (RFC 6241 section 8.4).
func TestOthersDuringATrial(t *testing.T) {
	t.Parallel()
	d := boot(t, "northmole-harbour", "")
	a, b := d.dial(t), d.dial(t)
	require.NoError(t, edit(t, a, "trial"))
	require.NoError(t, a.CommitConfirmed(t.Context(), netconf.ConfirmedCommit{Timeout: time.Minute, Persist: "token"}))
	assert.True(t, d.Pending())
	assert.True(t, netconf.Tagged(b.Commit(t.Context()), "in-use"))
	assert.True(t, netconf.Tagged(b.Lock(t.Context(), netconf.Running), "lock-denied"))
	assert.True(t, netconf.Tagged(b.Confirm(t.Context(), "other"), "invalid-value"))
	assert.True(t, netconf.Tagged(b.CancelCommit(t.Context(), ""), "in-use"))
	assert.True(t, netconf.Tagged(b.CancelCommit(t.Context(), "other"), "invalid-value"))
	require.NoError(t, edit(t, b, "meanwhile"), "the candidate may be edited")
	require.NoError(
		t, b.CopyConfig(t.Context(), netconf.Startup, netconf.Source{Datastore: netconf.Running}),
		"and running be saved",
	)
	require.NoError(t, b.CancelCommit(t.Context(), "token"))
	assert.Equal(t, factory, d.contact(t))
	data, err := b.GetConfig(
		t.Context(), netconf.Candidate,
		netconf.Filter(`<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><contact/></system>`),
	)
	require.NoError(t, err)
	assert.Equal(
		t, "meanwhile", data.Find("system", "contact").Value(), "an edited candidate is left alone by the revert",
	)
}

// A second confirmed commit extends the first; what it goes back to stays what
// was there before the first (section 8.4.1).
func TestExtending(t *testing.T) {
	t.Parallel()
	d := boot(t, "northmole-harbour", "")
	c := d.dial(t)
	require.NoError(t, edit(t, c, "first"))
	require.NoError(t, c.CommitConfirmed(t.Context(), netconf.ConfirmedCommit{Timeout: time.Minute, Persist: "token"}))
	require.NoError(t, edit(t, c, "second"))
	require.NoError(
		t, c.CommitConfirmed(t.Context(), netconf.ConfirmedCommit{Timeout: time.Second, PersistID: "token"}),
	)
	assert.Equal(t, "second", d.contact(t))
	require.Eventually(t, func() bool { return d.contact(t) == factory }, 90*time.Second, 20*time.Millisecond)
	assert.False(t, d.Pending())
	assert.True(t, netconf.Tagged(c.Confirm(t.Context(), "token"), "invalid-value"), "the token is gone with it")
}

// Without a token the session is the hold: its end is the end of the trial.
func TestSessionIsTheHold(t *testing.T) {
	t.Parallel()
	d := boot(t, "northmole-harbour", "")
	c := d.dial(t)
	require.NoError(t, edit(t, c, "trial"))
	require.NoError(t, c.CommitConfirmed(t.Context(), netconf.ConfirmedCommit{Timeout: time.Minute}))
	require.NoError(t, c.Confirm(t.Context(), ""))
	assert.False(t, d.Pending())
	assert.Equal(t, "trial", d.contact(t))
	require.NoError(t, edit(t, c, "another"))
	require.NoError(t, c.CommitConfirmed(t.Context(), netconf.ConfirmedCommit{Timeout: time.Minute}))
	c.Abort()
	require.Eventually(t, func() bool { return d.contact(t) == "trial" }, 90*time.Second, 20*time.Millisecond)
}

// Locks: whose they are, what they forbid, and that they go with the session.
func TestLocks(t *testing.T) {
	t.Parallel()
	d := boot(t, "northmole-harbour", "")
	a, b := d.dial(t), d.dial(t)
	require.NoError(t, a.Lock(t.Context(), netconf.Candidate))
	require.NoError(t, edit(t, a, "mine"))
	assert.True(t, netconf.Tagged(edit(t, b, "yours"), "in-use"))
	assert.True(t, netconf.Tagged(b.DiscardChanges(t.Context()), "in-use"))
	assert.True(t, netconf.Tagged(b.Commit(t.Context()), "in-use"))
	assert.True(t, netconf.Tagged(b.Unlock(t.Context(), netconf.Candidate), "operation-failed"))
	a.Abort()
	require.Eventually(
		t, func() bool { return b.Lock(t.Context(), netconf.Candidate) == nil }, 90*time.Second, 20*time.Millisecond,
		"the lock and the edits under it are gone with their session",
	)
	require.NoError(t, b.Unlock(t.Context(), netconf.Candidate))
	require.NoError(t, edit(t, b, "left behind"))
	assert.True(
		t, netconf.Tagged(d.dial(t).Lock(t.Context(), netconf.Candidate), "resource-denied"),
		"someone's uncommitted work",
	)
	require.NoError(t, b.Lock(t.Context(), netconf.Startup))
	other := d.dial(t)
	assert.True(
		t,
		netconf.Tagged(
			other.CopyConfig(t.Context(), netconf.Startup, netconf.Source{Datastore: netconf.Running}), "in-use",
		),
	)
	assert.True(t, netconf.Tagged(other.DeleteConfig(t.Context(), netconf.Startup), "in-use"))
}

// A whole configuration by copy-config, and inline validation.
func TestWholeConfigurations(t *testing.T) {
	t.Parallel()
	d := boot(t, "northmole-harbour", "")
	c := d.dial(t)
	whole := []byte(`<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><contact>alone</contact></system>`)
	broken := []byte(
		`<interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces"><interface><name>x</name></interface></interfaces>`,
	)
	require.NoError(t, c.Validate(t.Context(), netconf.Source{Config: whole}))
	err := c.Validate(t.Context(), netconf.Source{Config: broken})
	require.ErrorContains(t, err, "/interfaces/interface=x/type")
	require.NoError(t, c.CopyConfig(t.Context(), netconf.Candidate, netconf.Source{Config: whole}))
	data, err := c.GetConfig(t.Context(), netconf.Candidate, nil)
	require.NoError(t, err)
	require.Len(t, data.Children, 1)
	require.NoError(t, c.CopyConfig(t.Context(), netconf.Candidate, netconf.Source{Config: broken}))
	require.Error(t, c.Commit(t.Context()), "what is invalid is not committed")
	assert.Equal(t, factory, d.contact(t))
	require.NoError(
		t,
		c.EditConfig(
			t.Context(),
			netconf.EditConfig{
				Target: netconf.Candidate, TestOption: "test-only", DefaultOperation: "replace", Config: whole,
			},
		),
	)
	require.NoError(t, c.DiscardChanges(t.Context()))
	require.NoError(
		t,
		c.EditConfig(
			t.Context(),
			netconf.EditConfig{
				Target: netconf.Candidate, DefaultOperation: "replace", ErrorOption: "rollback-on-error", Config: whole,
			},
		),
	)
	data, err = c.GetConfig(t.Context(), netconf.Candidate, nil)
	require.NoError(t, err)
	assert.Len(t, data.Children, 1, "replace is replace")
}
