package engine_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/markup"
	"oakenlatch/lab"
	"oakenlatch/netconf"
	"oakenlatch/service/desk"
	"oakenlatch/service/store"
	"oakenlatch/test/pace"
	"oakenlatch/test/servicetest"
)

// Each kind of device is asked for its own word in its own way, and nothing of
// the question stays on it.
func TestTryOutOnEveryKind(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	for _, kind := range []lab.Kind{lab.Full, lab.NoPersist, lab.NoConfirm, lab.NoCandidate} {
		t.Run(string(kind), func(t *testing.T) {
			t.Parallel()
			r := newKind(t, func(s *lab.Spec) { s.Kind = kind }, router)
			n := r.stage(router + " " + contact + " tried")
			ask := func() desk.Verdict {
				list, _, err := r.Desk.Preview(t.Context(), servicetest.Mara, n, desk.Options{TryOut: true})
				require.NoError(t, err)
				return list[0]
			}
			d := r.Devices[router]
			before := d.Running().Digest()
			v := ask()
			if kind == lab.NoCandidate && !v.Tried {
				assert.Contains(t, v.Said, "only a commit tells")
			} else {
				assert.True(t, v.Tried, v.Said)
				assert.Empty(t, v.Said)
			}
			d.OnOperation(func(op *markup.Element) lab.Fault {
				if op.Name.Local == "edit-config" {
					return lab.Fault{
						Refuse: netconf.RPCError{
							Type: "application", Tag: "operation-failed", Severity: "error", Message: "not on a Monday",
						},
					}
				}
				return lab.Fault{}
			})
			if v.Tried {
				no := ask()
				assert.True(t, no.Tried)
				assert.Contains(t, no.Said, "not on a Monday")
				assert.NotEmpty(t, no.Blocker())
			}
			// It goes away in the middle: that is no verdict.
			d.OnOperation(
				func(op *markup.Element) lab.Fault { return lab.Fault{DropBefore: op.Name.Local == "edit-config"} },
			)
			if v.Tried {
				lost := ask()
				assert.False(t, lost.Tried)
				assert.Contains(t, lost.Said, "could not be asked")
				assert.Empty(t, lost.Blocker(), "what was not answered speaks for nothing and against nothing")
			}
			d.OnOperation(nil)
			assert.Equal(t, before, d.Running().Digest())
			require.Eventually(
				t, func() bool { again := ask(); return again.Tried == v.Tried }, 90*time.Second, 200*time.Millisecond,
				"no lock stays",
			)
			_, _, err := r.Desk.Preview(t.Context(), servicetest.Mara, n, desk.Options{})
			require.NoError(t, err)
			r.commit(n, time.Minute)
			r.until(n, 20*time.Second, awaiting)
			dev, err := r.Store.Device(t.Context(), store.Everything, router)
			require.NoError(t, err)
			_, err = r.Engine.TryOut(t.Context(), dev, d.Running(), d.Running())
			require.ErrorContains(t, err, "the commit of change 1 is under way on it")
		})
	}
}

// A device that somebody left edits on is not asked: what is theirs would be
// judged too, and lost.
func TestTryOutLeavesOthersAlone(t *testing.T) {
	t.Parallel()
	r := newRoom(t, router)
	n := r.stage(router + " " + contact + " tried")
	other, err := netconf.Dial(
		t.Context(), r.Devices[router].Address, netconf.DialOptions{Client: servicetest.Login(r.Devices[router])},
	)
	require.NoError(t, err)
	t.Cleanup(other.Abort)
	require.NoError(
		t,
		other.EditConfig(
			t.Context(),
			netconf.EditConfig{
				Target: netconf.Candidate,
				Config: []byte(
					`<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><location>theirs</location></system>`,
				),
			},
		),
	)
	list, _, err := r.Desk.Preview(t.Context(), servicetest.Mara, n, desk.Options{TryOut: true})
	require.NoError(t, err)
	assert.False(t, list[0].Tried)
	assert.Contains(t, list[0].Said, "uncommitted edits")
	candidate, err := other.GetConfig(t.Context(), netconf.Candidate, nil)
	require.NoError(t, err)
	assert.Equal(t, "theirs", candidate.Find("system", "location").Value())
}
