package outside_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/guard"
	"oakenlatch/core/lifecycle"
	"oakenlatch/lab"
	"oakenlatch/netconf"
	"oakenlatch/service/order"
	"oakenlatch/service/outside"
	"oakenlatch/service/store"
	"oakenlatch/test/servicetest"
)

const (
	quay = "saltern-quay"
	hall = "gannet-hall"
	slip = "saltern-slip"
)

// looked makes a room whose devices are looked at quickly.
func looked(t *testing.T, names ...string) *servicetest.Room {
	t.Helper()
	return lookedWith(t, func(*lab.Spec) {}, names...)
}

func lookedWith(t *testing.T, alter func(*lab.Spec), names ...string) *servicetest.Room {
	t.Helper()
	r := servicetest.NewWith(t, alter, names...)
	r.Looking = outside.Timing{
		Silent: 300 * time.Millisecond, Listened: time.Hour, Settle: 150 * time.Millisecond,
		Apart: 50 * time.Millisecond, Clocks: time.Minute, Alike: time.Hour, AtOnce: 4,
	}
	for _, n := range names {
		_, err := r.History.Read(t.Context(), store.Everything, n, "mara")
		require.NoError(t, err)
	}
	r.Look()
	time.Sleep(400 * time.Millisecond) // what is read when sessions stand is read
	return r
}

// stranger is somebody else's session on a device.
func stranger(t *testing.T, d *lab.Device) *netconf.Client {
	t.Helper()
	c, err := netconf.Dial(t.Context(), d.Address, netconf.DialOptions{Client: servicetest.Login(d)})
	require.NoError(t, err)
	t.Cleanup(c.Abort)
	return c
}

func contact(text string) []byte {
	return fmt.Appendf(
		nil, `<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><contact>%s</contact></system>`, text,
	)
}

func set(t *testing.T, c *netconf.Client, text string) {
	t.Helper()
	require.NoError(t, c.EditConfig(t.Context(), netconf.EditConfig{Target: netconf.Candidate, Config: contact(text)}))
	require.NoError(t, c.Commit(t.Context()))
}

// open waits for the outside changes of a device that are to be decided.
func open(t *testing.T, r *servicetest.Room, device string, n int) []store.Outside {
	t.Helper()
	d, err := r.Store.Device(t.Context(), store.Everything, device)
	require.NoError(t, err)
	var list []store.Outside
	require.Eventually(t, func() bool {
		list, err = r.Store.OutsideOf(t.Context(), d.ID, true, 100)
		return err == nil && len(list) == n
	}, 90*time.Second, 20*time.Millisecond)
	return list
}

func commit(t *testing.T, r *servicetest.Room, n int64) {
	t.Helper()
	parts, err := r.Desk.Parts(t.Context(), store.Everything, n)
	require.NoError(t, err)
	require.NoError(t, r.Begin("mara", n, order.Order{Hold: time.Minute}, servicetest.Works(parts)))
}

func confirm(t *testing.T, r *servicetest.Room, n int64) error {
	t.Helper()
	return r.Engine.Say(t.Context(), n, guard.Event{Kind: guard.SayConfirm, By: "mara"})
}

func eventually(t *testing.T, r *servicetest.Room, line string, n int) {
	t.Helper()
	require.Eventually(
		t, func() bool { return len(r.Found(0, "%s", line)) == n }, 90*time.Second, 20*time.Millisecond, line,
	)
}

// Who changed a device is told as the device names them, with its own time and
// the window in which it must have been; and where it names nobody, why.
func TestWho(t *testing.T) {
	t.Parallel()
	r := looked(t, quay, slip)
	c := stranger(t, r.Devices[quay])
	began := time.Now()
	set(t, c, "by somebody")
	o := open(t, r, quay, 1)[0]
	assert.Equal(t, []string{lab.User, c.SessionID, "127.0.0.1"}, []string{o.Account, o.Session, o.Address})
	assert.Equal(t, "named by the device: "+lab.User+" from 127.0.0.1 in session "+c.SessionID, o.Who)
	assert.WithinDuration(t, began, o.DeviceAt, 2*time.Second)
	assert.False(t, o.Since.After(o.DeviceAt), "the window begins before it")
	assert.False(t, o.ClockOff)
	assert.Contains(t, o.Told, "running was changed")
	assert.Equal(t, "by somebody", r.Found(1, "kind:outside.changed")[0].After)

	require.NoError(t, r.Devices[quay].Console("/system/contact", "at the console"))
	assert.Contains(t, open(t, r, quay, 2)[0].Who, "not named by the device: it says that it did it itself")
	require.NoError(t, r.Devices[quay].Quietly("/system/contact", "and nobody saw"))
	require.Never(
		t, func() bool { return len(r.Found(0, "kind:revision.outside device:saltern-quay")) > 2 },
		500*time.Millisecond, 50*time.Millisecond, "it tells nothing, and is read once an hour",
	)
	_, err := r.History.Read(t.Context(), store.Everything, quay, "mara")
	require.NoError(t, err)
	o = open(t, r, quay, 3)[0]
	assert.Contains(
		t, o.Who,
		"listened to without a gap and told of no change: it was made where it tells nothing, or what it noted "+
			"was cleared",
	)
	assert.Empty(t, o.Account)

	require.NoError(t, r.Devices[slip].Console("/system/contact", "nobody hears this one"))
	o = open(t, r, slip, 1)[0]
	assert.Equal(t, "not named by the device: it does not tell of its events", o.Who)
	d, err := r.Store.Device(t.Context(), store.Everything, slip)
	require.NoError(t, err)
	require.NotNil(t, d.Clock, "its clock is read beside it")
	assert.InDelta(t, -100, d.Clock.Ahead.Seconds(), 5)
}

// A device that tells late of what was read already is heard all the same; its
// clock is wrong, and that is marked.
func TestNamedLate(t *testing.T) {
	t.Parallel()
	r := lookedWith(t, func(s *lab.Spec) { s.TellsLate, s.ClockAhead = time.Second, time.Hour }, quay)
	c := stranger(t, r.Devices[quay])
	set(t, c, "soon told")
	_, err := r.History.Read(t.Context(), store.Everything, quay, "mara")
	require.NoError(t, err)
	assert.Contains(t, open(t, r, quay, 1)[0].Who, "told of no change")
	eventually(t, r, "kind:outside.named", 1)
	o := open(t, r, quay, 1)[0]
	assert.Equal(t, []string{lab.User, c.SessionID}, []string{o.Account, o.Session})
	assert.True(t, o.ClockOff)
	assert.WithinDuration(t, time.Now().Add(time.Hour), o.DeviceAt, time.Minute)
	assert.Empty(t, r.Found(0, "kind:outside.put-back"))
}

// Who comes and goes without a change, whose work was put back before anybody
// looked, who was cut off in the middle: each is told by what was read.
func TestVisits(t *testing.T) {
	t.Parallel()
	r := looked(t, quay)
	for range 2 {
		require.NoError(t, stranger(t, r.Devices[quay]).Close(t.Context()))
		time.Sleep(300 * time.Millisecond)
	}
	eventually(t, r, "kind:visit", 1)
	e := r.Found(1, "kind:visit.nothing")[0]
	assert.Contains(t, e.Note, "session ended (closed): "+lab.User+" from 127.0.0.1")
	assert.Contains(t, e.Note, "it was read afterwards: nothing was changed")

	was := r.Value(quay, "/system/contact")
	c := stranger(t, r.Devices[quay])
	set(t, c, "for a moment")
	set(t, c, was)
	eventually(t, r, "kind:outside.put-back", 1)
	assert.Contains(t, r.Found(1, "kind:outside.put-back")[0].Note, "what it was meanwhile is not known")
	require.NoError(t, c.Close(t.Context()))
	assert.Empty(t, r.Found(0, "kind:revision.outside"))

	c = stranger(t, r.Devices[quay])
	require.NoError(
		t, c.EditConfig(t.Context(), netconf.EditConfig{Target: netconf.Candidate, Config: contact("half")}),
	)
	c.Abort()
	eventually(t, r, "kind:visit.cut-off", 1)
	left := r.Found(1, "kind:visit.left-edit")[0]
	assert.Equal(t, []string{"/ietf-system:system/contact", was, "half"}, []string{left.Path, left.Before, left.After})
	assert.Empty(t, r.Found(0, "kind:revision.outside"))

	c = stranger(t, r.Devices[quay])
	set(t, c, "and then the line broke")
	c.Abort()
	eventually(t, r, "kind:visit.ended", 1)
	open(t, r, quay, 1)
}

// What somebody else does while a commit is on hold is told at once, is no part
// of the change, and is a revision of its own when the change is kept.
func TestDuringHold(t *testing.T) {
	t.Parallel()
	r := looked(t, quay)
	c, err := r.Desk.Open(t.Context(), servicetest.Mara, "t", "")
	require.NoError(t, err)
	_, err = r.Put(servicetest.Mara, c.Number, quay, "/system/location", "The quay")
	require.NoError(t, err)
	commit(t, r, c.Number)
	state := func() string {
		now, err := r.Store.Change(t.Context(), c.Number)
		require.NoError(t, err)
		return string(now.State)
	}
	require.Eventually(t, func() bool { return state() == "holding" }, 90*time.Second, 10*time.Millisecond)
	require.NoError(t, r.Devices[quay].Console("/system/contact", "meanwhile"))
	eventually(t, r, "kind:revision.outside", 1) // at once: it might go with the change
	e := r.Found(1, "kind:outside.changed")[0]
	assert.Equal(t, []string{"/ietf-system:system/contact", "meanwhile"}, []string{e.Path, e.After})
	assert.Equal(t, c.Number, open(t, r, quay, 1)[0].During)
	require.Eventually(t, func() bool { return confirm(t, r, c.Number) == nil }, 90*time.Second, 50*time.Millisecond)
	require.Eventually(t, func() bool { return state() == "confirmed" }, 90*time.Second, 20*time.Millisecond)
	o := open(t, r, quay, 1)[0]
	assert.Equal(t, 1, o.Places)
	d, err := r.Store.Device(t.Context(), store.Everything, quay)
	require.NoError(t, err)
	revs, err := r.Store.Revisions(t.Context(), d.ID)
	require.NoError(t, err)
	assert.Equal(
		t, []lifecycle.Cause{lifecycle.ByOutside, lifecycle.ByChange, lifecycle.FirstRead},
		[]lifecycle.Cause{revs[0].Source, revs[1].Source, revs[2].Source},
	)
	assert.Equal(t, c.Number, revs[1].Change)
	first, err := r.History.Known(t.Context(), store.Everything, quay)
	require.NoError(t, err)
	df, err := r.History.Between(t.Context(), first.Schema, d.ID, 1, 2)
	require.NoError(t, err)
	assert.Equal(t, 1, df.Count(), "the change's revision holds its own work alone")
}

// Each outside change waits until somebody decides: adopted with a note, pushed
// back by a change that was kept, gone on from, or silenced by its path.
func TestDecisions(t *testing.T) {
	t.Parallel()
	r := looked(t, quay, hall)
	dec := &outside.Decisions{Store: r.Store, Log: r.Log, Restorer: r.Restorer}
	ctx, mara := t.Context(), servicetest.Mara
	change := func(device, path, value string, n int) store.Outside {
		require.NoError(t, r.Devices[device].Console(path, value))
		return open(t, r, device, n)[0]
	}
	o := change(quay, "/system/contact", "one", 1)
	_, err := dec.Adopt(ctx, mara, o.ID, " ")
	require.ErrorContains(t, err, "needs a note")
	o, err = dec.Adopt(ctx, mara, o.ID, "it was Joss")
	require.NoError(t, err)
	assert.Equal(t, []any{lifecycle.OutsideAdopted, "mara", "it was Joss"}, []any{o.State, o.DecidedBy, o.Note})
	_, err = dec.Adopt(ctx, mara, o.ID, "again")
	require.ErrorContains(t, err, "is adopted already, by mara")
	open(t, r, quay, 0)

	// What came after it stays when it is pushed back.
	o = change(quay, "/system/contact", "two", 1)
	later := change(quay, "/system/location", "Elsewhere", 2)
	_, c, brought, err := dec.PushBack(ctx, mara, o.ID, "", "TF-1")
	require.NoError(t, err)
	require.Len(t, brought, 1)
	assert.Equal(t, 1, brought[0].Difference.Count())
	_, _, _, err = dec.PushBack(ctx, mara, o.ID, "", "")
	require.ErrorContains(t, err, "is to push it back already")
	commit(t, r, c.Number)
	require.Eventually(t, func() bool { return confirm(t, r, c.Number) == nil }, 90*time.Second, 50*time.Millisecond)
	assert.Equal(t, later.ID, open(t, r, quay, 1)[0].ID, "only the other one is left")
	assert.Equal(
		t, []string{"one", "Elsewhere"}, []string{r.Value(quay, "/system/contact"), r.Value(quay, "/system/location")},
	)

	// The same elsewhere.
	_, c, brought, err = dec.Open(ctx, mara, later.ID, []string{hall}, "", "")
	require.NoError(t, err)
	require.Len(t, brought, 1)
	assert.Equal(t, "Elsewhere", brought[0].Difference.Items()[0].New)
	edits, err := r.Store.Edits(ctx, c.Number)
	require.NoError(t, err)
	assert.Len(t, edits, 1)
	open(t, r, quay, 0)

	_, err = dec.Silence(ctx, mara, "", "/", "")
	require.ErrorContains(t, err, "is no path that can be silenced")
	s, err := dec.Silence(ctx, mara, quay, "/ietf-system:system/contact", "it moves")
	require.NoError(t, err)
	require.NoError(t, r.Devices[quay].Console("/system/contact", "three"))
	eventually(t, r, `kind:outside.changed "three"`, 1)
	open(t, r, quay, 0)
	change(hall, "/system/contact", "not silenced there", 1)
	require.NoError(t, dec.Unsilence(ctx, mara, s.ID))
	require.Error(t, dec.Unsilence(ctx, mara, s.ID))
	change(quay, "/system/contact", "four", 1)
}
