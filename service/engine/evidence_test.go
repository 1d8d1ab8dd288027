package engine_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/guard"
	"oakenlatch/core/markup"
	"oakenlatch/core/tree"
	"oakenlatch/lab"
	"oakenlatch/netconf"
	"oakenlatch/service/store"
	"oakenlatch/test/pace"
)

// confirming reports whether an operation is a commit that confirms one.
func confirming(op *markup.Element) bool {
	return op.Name.Local == "commit" && op.Find("confirmed") == nil
}

// A device that answers ok to the confirm and does nothing: as long as it does, the
// change is not kept, and when its own timer has taken it back, that is what is said.
func TestConfirmThatLies(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	for _, kind := range []lab.Kind{lab.Full, lab.NoPersist} {
		t.Run(string(kind), func(t *testing.T) {
			t.Parallel()
			r := newKind(t, func(s *lab.Spec) { s.Kind = kind }, router)
			n := r.stage(router + " " + contact + " new")
			r.commit(n, 10*time.Second)
			r.until(n, 20*time.Second, awaiting)
			r.Devices[router].OnOperation(func(op *markup.Element) lab.Fault { return lab.Fault{Skip: confirming(op)} })
			r.say(n, guard.SayConfirm)
			s := r.until(n, 90*time.Second, func(s guard.State) bool {
				assert.NotEqual(t, guard.Confirmed, s.Outcome, "nothing was ever confirmed")
				return s.Phase == guard.Done
			})
			assert.Equal(t, guard.Reverted, s.Outcome)
			assert.Contains(t, s.Reason, "had reverted when it was to be confirmed")
			r.truth(n, s, router)
		})
	}
}

// One that does so once is asked again, and the change is kept then.
func TestConfirmAskedAgain(t *testing.T) {
	t.Parallel()
	r := newKind(t, func(*lab.Spec) {}, router)
	n := r.stage(router + " " + contact + " new")
	r.commit(n, time.Minute)
	r.until(n, 20*time.Second, awaiting)
	lies := 2
	r.Devices[router].OnOperation(func(op *markup.Element) lab.Fault {
		if confirming(op) && lies > 0 {
			lies--
			return lab.Fault{Skip: true}
		}
		return lab.Fault{}
	})
	r.say(n, guard.SayConfirm)
	s := r.until(n, 60*time.Second, done)
	assert.Equal(t, guard.Confirmed, s.Outcome)
	r.truth(n, s, router)
}

// Somebody has the candidate locked: the confirm says so and whom, at once, and the
// hold goes on: it can be extended, and reverted.
func TestCandidateLockedDuringHold(t *testing.T) {
	t.Parallel()
	r := newKind(t, func(*lab.Spec) {}, router)
	n := r.stage(router + " " + contact + " new")
	r.commit(n, 2*time.Minute)
	r.until(n, 20*time.Second, awaiting)
	other := r.client(router)
	require.NoError(t, other.Lock(t.Context(), netconf.Candidate))
	began := time.Now()
	r.say(n, guard.SayConfirm)
	s := r.until(
		n, 30*time.Second, func(s guard.State) bool { return s.Phase == guard.Awaiting && s.Devices[0].Said != "" },
	)
	assert.Less(t, time.Since(began), 20*time.Second)
	assert.Contains(t, s.Devices[0].Said, "candidate is locked by session "+other.SessionID)
	assert.Contains(t, s.Devices[0].Said, "it can be extended and reverted")
	r.say(n, guard.SayRevert)
	s = r.until(n, 60*time.Second, done)
	assert.Equal(t, guard.Reverted, s.Outcome)
	r.truth(n, s, router)
}

// A device that refuses for good to be reverted is told as stuck, and a person can
// leave it: that is no revert.
func TestRefusesToGoBack(t *testing.T) {
	t.Parallel()
	r := newKind(t, func(s *lab.Spec) { s.Kind = lab.NoConfirm }, router, quay)
	n := r.stage(router+" "+contact+" new", quay+" "+contact+" new")
	r.commit(n, time.Minute)
	r.until(n, 20*time.Second, awaiting)
	no := netconf.RPCErrors{
		{Type: "application", Tag: "operation-not-supported", Severity: "error", Message: "not on a Sunday"},
	}
	r.Devices[quay].OnOperation(func(op *markup.Element) lab.Fault {
		if op.Name.Local == "edit-config" {
			return lab.Fault{Refuse: no}
		}
		return lab.Fault{}
	})
	r.say(n, guard.SayRevert)
	s := r.until(n, 60*time.Second, func(s guard.State) bool { return s.Devices[1].Stuck() })
	assert.Contains(t, s.Devices[1].Said, "not on a Sunday")
	assert.Equal(t, guard.Reverting, s.Phase)
	require.NoError(t, r.Engine.Say(t.Context(), n, guard.Event{Kind: guard.SayAccept, Device: 1, By: "mara"}))
	s = r.until(n, 20*time.Second, done)
	assert.Equal(t, guard.Partly, s.Outcome)
	assert.Equal(t, "new", r.Value(quay, contact))
	c, err := r.Store.Change(t.Context(), n)
	require.NoError(t, err)
	assert.EqualValues(t, "partly", c.State)
	assert.True(t, strings.Contains(s.Devices[1].Said, "accepted so by mara"), s.Devices[1].Said)
}

// Somebody edits running during a hold, and the device's own rollback takes that
// away with the change: it is on record before, as a revision and an outside change
// with its values, by word and by the deadline.
func TestForeignEditGoesWithTheRollback(t *testing.T) {
	t.Parallel()
	for _, kind := range []lab.Kind{lab.Full, lab.NoPersist, lab.NoConfirm} {
		t.Run(string(kind), func(t *testing.T) {
			t.Parallel()
			r := newKind(t, func(s *lab.Spec) { s.Kind = kind }, router)
			n := r.stage(router + " " + contact + " new")
			r.commit(n, time.Minute)
			r.until(n, 20*time.Second, awaiting)
			require.NoError(t, r.Devices[router].Console(location, "by the lighthouse keeper"))
			r.say(n, guard.SayRevert)
			s := r.until(n, 60*time.Second, done)
			assert.Equal(t, guard.Reverted, s.Outcome)
			r.truth(n, s, router)
			list, err := r.Store.OutsideOf(t.Context(), 0, false, 10)
			require.NoError(t, err)
			require.Len(t, list, 1, "it is told once")
			assert.Equal(t, n, list[0].During)
			assert.Equal(t, 1, list[0].Places, "what is ours is none of it")
			found := r.at(list[0].Device, list[0].Revision)
			assert.Equal(t, "by the lighthouse keeper", found.Under("system").Text("location", ""))
			assert.Equal(t, "new", found.Under("system").Text("contact", ""))
			last, err := r.Store.LastRevision(t.Context(), list[0].Device)
			require.NoError(t, err)
			if kind == lab.NoConfirm { // the service took back its own alone
				assert.Equal(t, "by the lighthouse keeper", r.Value(router, location))
			} else {
				assert.Equal(t, "Northmole terminal, ramp house", r.Value(router, location))
			}
			assert.Equal(t, n, last.Change, "reverting is of this change")
			assert.Equal(
				t, r.Value(router, location), r.at(last.Device, last.Number).Under("system").Text("location", ""),
			)
		})
	}
}

// at gives a revision of a device.
func (r *room) at(device, number int64) *tree.Node {
	r.t.Helper()
	rev, err := r.Store.Revision(r.t.Context(), device, number)
	require.NoError(r.t, err)
	known, err := r.History.Known(r.t.Context(), store.Everything, router)
	require.NoError(r.t, err)
	n, err := r.History.Tree(r.t.Context(), known.Schema, rev.Digest)
	require.NoError(r.t, err)
	return n
}
