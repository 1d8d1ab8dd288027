package restore_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/guard"
	"oakenlatch/service/desk"
	"oakenlatch/service/engine"
	"oakenlatch/service/order"
	"oakenlatch/service/restore"
	"oakenlatch/service/store"
	"oakenlatch/test/servicetest"
)

const (
	router   = "northmole-harbour"
	quay     = "saltern-quay"
	hall     = "gannet-hall"
	contact  = "/system/contact"
	place    = "/system/location"
	filter   = "/acls/acl=management-in/aces"
	ace      = filter + "/ace="
	wasThere = "Harbour office, ext. 12"
)

// past is a room in which changes are kept quickly.
type past struct {
	*servicetest.Room
	t *testing.T
}

func newPastRoom(t *testing.T, names ...string) *past {
	t.Helper()
	r := &past{t: t}
	r.Room = servicetest.New(t, names...)
	r.Close()
	r.Timing = engine.Timing{Effect: 200 * time.Millisecond, Pause: 200 * time.Millisecond, Watch: time.Second}
	r.Open()
	return r
}

// change opens a change with edits "DEVICE PATH VALUE" and keeps it.
func (r *past) change(edits ...string) int64 {
	r.t.Helper()
	c, err := r.Desk.Open(r.t.Context(), servicetest.Mara, "work", "")
	require.NoError(r.t, err)
	for _, e := range edits {
		f := strings.SplitN(e, " ", 3)
		act := desk.Act{Op: "delete", Path: f[1]}
		if len(f) == 3 {
			act = desk.Act{Op: "put", Path: f[1], Value: &f[2]}
		}
		_, err := r.Stage(servicetest.Mara, c.Number, f[0], act)
		require.NoError(r.t, err)
	}
	r.Keep(servicetest.Mara, c.Number)
	return c.Number
}

func (r *past) restore(b restore.Bring) (store.Change, restore.Brought) {
	r.t.Helper()
	c, list, err := r.Restorer.Restore(r.t.Context(), servicetest.Mara, b)
	require.NoError(r.t, err)
	return c, list[0]
}

// A restore is exactly what it names, whatever the device does after it was
// staged; what that takes away is told as it stands then.
func TestRestoreIsNeverMerged(t *testing.T) {
	t.Parallel()
	r := newPastRoom(t, quay)
	r.change(quay + " " + contact + " Mara")
	c, b := r.restore(restore.Bring{Devices: []string{quay}, From: "rev:1"})
	require.Len(t, b.Takes, 1)
	assert.Equal(t, []int64{2, 1}, []int64{b.Takes[0].Revision.Number, int64(b.Takes[0].Places)})
	require.NoError(t, r.Devices[quay].Console(place, "Attic"))
	list, _, err := r.Desk.Preview(t.Context(), servicetest.Mara, c.Number, desk.Options{})
	require.NoError(t, err)
	assert.Equal(t, 2, list[0].Difference.Count(), "what was done meanwhile goes too, and that is shown")
	assert.Empty(t, list[0].Conflicts)
	require.NoError(t, r.Devices[quay].Console(place, "Cellar"))
	_, err = r.Desk.Ready(t.Context(), store.Everything, c.Number, "mara", order.Order{})
	require.ErrorContains(t, err, "is no longer what was previewed")
	_, _, err = r.Desk.Preview(t.Context(), servicetest.Mara, c.Number, desk.Options{})
	require.NoError(t, err)
	works := r.Ready("mara", c.Number)
	assert.True(t, works[0].Exact, "also in the moment before it is committed")
	r.Keep(servicetest.Mara, c.Number)
	assert.Equal(t, wasThere, r.Value(quay, contact))
	assert.NotEqual(t, "Cellar", r.Value(quay, place))

	// A rebase keeps it a restore; a line taken out makes it an edit like others.
	r.change(quay+" "+contact+" Nora", quay+" "+place+" Roof")
	c, _ = r.restore(restore.Bring{Devices: []string{quay}, From: "rev:1"})
	require.NoError(t, r.Devices[quay].Console("/system/hostname", "kayak"))
	_, err = r.Desk.Rebase(t.Context(), servicetest.Mara, c.Number, nil)
	require.NoError(t, err)
	gone, err := r.Desk.Drop(t.Context(), servicetest.Mara, c.Number, desk.Which{Device: quay, Path: place})
	require.NoError(t, err)
	require.Len(t, gone, 1)
	list, _, err = r.Desk.Preview(t.Context(), servicetest.Mara, c.Number, desk.Options{})
	require.NoError(t, err)
	assert.Equal(
		t, []string{"/ietf-system:system/contact", "/ietf-system:system/hostname"},
		[]string{list[0].Difference.Items()[0].Path, list[0].Difference.Items()[1].Path},
	)
	assert.Equal(t, desk.Merge, list[0].Edits[0].Mode)
}

// Parts are brought back to their place among the others, and go where they
// were not.
func TestRestoreParts(t *testing.T) {
	t.Parallel()
	r := newPastRoom(t, hall)
	order := func() (out []string) {
		now, err := r.History.Read(t.Context(), store.Everything, hall, "mara")
		require.NoError(t, err)
		for _, n := range now.Running.Known("acls").Children() {
			if len(n.Keys()) == 0 || n.Keys()[0] != "management-in" {
				continue
			}
			for _, a := range n.Known("aces").Children() {
				out = append(out, a.Keys()[0])
			}
		}
		return out
	}
	first := order()
	require.Greater(t, len(first), 2)
	middle := first[1]
	r.change(hall+" "+ace+middle, hall+" "+contact+" Mara")
	assert.NotContains(t, order(), middle)
	c, b := r.restore(restore.Bring{Devices: []string{hall}, From: "before:1", Paths: []string{ace + middle}})
	assert.Equal(t, "Restore "+ace+middle+" of gannet-hall from before:1", c.Title)
	assert.Len(t, b.Edits, 1)
	r.Keep(servicetest.Mara, c.Number)
	assert.Equal(t, first, order())
	assert.Equal(t, "Mara", r.Value(hall, contact), "only that")

	_, _, err := r.Restorer.Restore(
		t.Context(), servicetest.Mara,
		restore.Bring{Devices: []string{hall}, From: "rev:1", Paths: []string{ace + "never"}},
	)
	require.ErrorContains(t, err, "neither then nor now")
	r.change(hall + " /system/dns-resolver/search=tidewell.example")
	c, _ = r.restore(
		restore.Bring{Devices: []string{hall}, From: "rev:1", Paths: []string{"/system/dns-resolver/search"}},
	)
	r.Keep(servicetest.Mara, c.Number)
	known, err := r.History.Known(t.Context(), store.Everything, hall)
	require.NoError(t, err)
	old, err := r.Desk.From(t.Context(), servicetest.Mara, known.Device, "rev:1")
	require.NoError(t, err)
	assert.Equal(
		t, old.Running.Known("system").Known("dns-resolver").Digest(),
		known.Running.Known("system").Known("dns-resolver").Digest(), "all of a list is as it was",
	)
	c, b = r.restore(restore.Bring{Devices: []string{hall}, From: "running"})
	assert.Zero(t, c.Number, "no change is opened for nothing")
	assert.Contains(t, b.Notes, "it is so already; nothing was staged")
	changes, err := r.Store.Changes(t.Context())
	require.NoError(t, err)
	for _, c := range changes {
		assert.EqualValues(t, "confirmed", c.State)
	}
}

// An undo leaves what came after it. Of several changes, what was set again
// since is left, and told.
func TestUndoOfAPerson(t *testing.T) {
	t.Parallel()
	r := newPastRoom(t, quay)
	r.change(quay+" "+contact+" One", quay+" "+place+" Roof")
	r.change(quay + " " + contact + " Two")
	require.NoError(t, r.Devices[quay].Console(place, "Cellar"))
	c, list, err := r.Restorer.Undo(
		t.Context(),
		servicetest.Mara,
		restore.Undo{By: "mara", Since: time.Now().Add(-time.Hour)},
	)
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Len(t, list[0].Left, 1)
	assert.Equal(t, []any{place, int64(1)}, []any{list[0].Left[0].Path.String(), list[0].Left[0].Change})
	assert.Empty(t, list[0].Takes, "it takes nothing but what it undoes")
	r.Keep(servicetest.Mara, c.Number)
	assert.Equal(t, wasThere, r.Value(quay, contact), "through both of them")
	assert.Equal(t, "Cellar", r.Value(quay, place))

	_, _, err = r.Restorer.Undo(
		t.Context(), servicetest.Joss,
		restore.Undo{By: "mara", Since: time.Now().Add(-2 * time.Hour), Until: time.Now().Add(-time.Hour)},
	)
	require.ErrorContains(t, err, "mara had nothing confirmed between")
	_, _, err = r.Restorer.Undo(t.Context(), servicetest.Joss, restore.Undo{Change: 1, By: "mara"})
	require.ErrorContains(t, err, "one change, or one person's")
	_, _, err = r.Restorer.Undo(t.Context(), servicetest.Joss, restore.Undo{Change: 1, Devices: []string{hall}})
	require.ErrorContains(t, err, `there is no device "gannet-hall"`)

	// An undo can be undone.
	c, _, err = r.Restorer.Undo(t.Context(), servicetest.Mara, restore.Undo{Change: c.Number})
	require.NoError(t, err)
	r.Keep(servicetest.Mara, c.Number)
	assert.Equal(t, "Two", r.Value(quay, contact))
}

// What is on hold may revert: nothing is built on it, and a snapshot of it says
// so and holds it.
func TestSnapshotOnHold(t *testing.T) {
	t.Parallel()
	r := newPastRoom(t, quay)
	c, err := r.Desk.Open(t.Context(), servicetest.Mara, "work", "")
	require.NoError(t, err)
	_, err = r.Put(servicetest.Mara, c.Number, quay, contact, "On trial")
	require.NoError(t, err)
	works := r.Ready("mara", c.Number)
	require.NoError(t, r.Begin("mara", c.Number, order.Order{Hold: time.Minute}, works))
	r.Until(c.Number, guard.Awaiting)
	devices, err := r.Store.Devices(t.Context(), store.Everything)
	require.NoError(t, err)
	taken, err := r.History.Snapshot(t.Context(), "joss", "  In the middle ", "", devices)
	require.NoError(t, err)
	assert.Equal(t, "In the middle", taken.Name)
	assert.Zero(t, taken.Items[0].Revision)
	assert.Contains(t, strings.Join(taken.Items[0].Unclean, "; "), "the commit of change 1 is under way on it")
	require.NoError(t, r.Engine.Say(t.Context(), c.Number, guard.Event{Kind: guard.SayRevert, By: "mara"}))
	r.Until(c.Number, guard.Done)
	held, err := r.Desk.From(t.Context(), servicetest.Mara, devices[0], "snapshot:In the middle")
	require.NoError(t, err)
	_, b := r.restore(restore.Bring{From: "snapshot:In the middle"})
	assert.Equal(t, 1, b.Difference.Count())
	assert.Equal(t, "On trial", held.Running.Known("system").Known("contact").Value())
	before, err := r.Store.SnapshotBefore(t.Context(), c.Number)
	require.NoError(t, err)
	assert.Equal(t, "Before change 1: work", before.Name)
	_, _, err = r.Restorer.Undo(t.Context(), servicetest.Mara, restore.Undo{Change: c.Number})
	require.ErrorContains(t, err, "change 1 is reverted: there is nothing to undo")
}
