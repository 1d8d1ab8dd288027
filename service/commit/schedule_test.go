package commit_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/guard"
	"oakenlatch/core/lifecycle"
	"oakenlatch/core/markup"
	"oakenlatch/lab"
	"oakenlatch/service/engine"
	"oakenlatch/service/order"
	"oakenlatch/service/store"
	"oakenlatch/test/pace"
	"oakenlatch/test/servicetest"
)

const (
	router   = "northmole-harbour"
	contact  = "/system/contact"
	location = "/system/location"
)

// room is the service's rooms with devices that are quick.
type room struct {
	*servicetest.Room
	t *testing.T
}

func newRoom(t *testing.T, devices ...string) *room {
	t.Helper()
	r := &room{servicetest.New(t, devices...), t}
	r.Close()
	r.Timing = engine.Timing{Effect: 250 * time.Millisecond, Pause: 300 * time.Millisecond, Watch: time.Second}
	r.Open()
	return r
}

// stage opens a change of mara's that sets a leaf of a device.
func (r *room) stage(device, path, value string) int64 {
	r.t.Helper()
	c, err := r.Desk.Open(r.t.Context(), servicetest.Mara, "test", "")
	require.NoError(r.t, err)
	_, err = r.Put(servicetest.Mara, c.Number, device, path, value)
	require.NoError(r.t, err)
	return c.Number
}

func (r *room) schedule(n int64, in, lateness time.Duration) error {
	when := order.When{At: time.Now().UTC().Add(in), Zone: "Europe/Paris", Lateness: lateness}
	_, _, err := r.Commits.Schedule(r.t.Context(), servicetest.Mara, n, order.Order{Hold: time.Minute}, when)
	return err
}

// waits waits until a commit is in a phase.
func (r *room) waits(n int64, p guard.Phase) {
	r.t.Helper()
	require.Eventually(r.t, func() bool {
		s, _, running := r.Engine.Status(n)
		return running && s.Phase == p || !running && p == guard.Done
	}, 90*time.Second, 20*time.Millisecond, "%v", p)
}

func (r *room) state(n int64) (state, reason string) {
	c, err := r.Store.Change(r.t.Context(), n)
	require.NoError(r.t, err)
	return string(c.State), c.Reason
}

func (r *room) becomes(n int64, want string) (reason string) {
	r.t.Helper()
	state := ""
	require.Eventually(
		r.t, func() bool { state, reason = r.state(n); return state == want }, 90*time.Second, 50*time.Millisecond,
		"%s", want,
	)
	return reason
}

// What is scheduled goes on hold at its time; what the service slept through is
// missed in words, or begun within the lateness allowed; what no longer fits is
// not begun, and told; and it can be taken off.
func TestSchedule(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	r := newRoom(t, router)
	n := r.stage(router, contact, "new")
	require.ErrorContains(t, r.schedule(n, -time.Second, 0), "is past")
	require.ErrorContains(t, r.schedule(n, 400*24*time.Hour, 0), "more than a year")
	require.ErrorContains(t, r.schedule(n, time.Hour, 48*time.Hour), "up to 24h0m0s late")

	require.NoError(t, r.schedule(n, time.Hour, 0))
	require.ErrorContains(t, r.schedule(n, time.Hour, 0), "is on the schedule and cannot be edited or committed")
	_, err := r.Put(servicetest.Mara, n, router, location, "x")
	require.ErrorContains(t, err, "on the schedule")
	waiting, err := r.Store.Waiting(t.Context())
	require.NoError(t, err)
	require.ErrorContains(
		t, r.Commits.Unschedule(t.Context(), servicetest.Joss, waiting[0].ID), "was put on the schedule by mara",
	)
	require.NoError(t, r.Commits.Unschedule(t.Context(), servicetest.Mara, waiting[0].ID))
	require.ErrorContains(t, r.Commits.Unschedule(t.Context(), servicetest.Mara, waiting[0].ID), "does not wait")
	require.ErrorContains(t, r.Commits.Unschedule(t.Context(), servicetest.Mara, 99), "there is no number 99")
	assert.Empty(t, r.becomes(n, "draft"))

	// Slept through.
	require.NoError(t, r.schedule(n, 4*time.Second, time.Second)) // devices are read first, which may take a while
	r.Close()
	time.Sleep(7 * time.Second)
	r.Open()
	assert.Contains(t, r.becomes(n, "draft"), "missed: it was due at")
	require.NoError(t, r.schedule(n, 4*time.Second, time.Minute))
	r.Close()
	time.Sleep(5 * time.Second)
	r.Open()
	r.becomes(n, "holding")
	r.waits(n, guard.Awaiting)
	require.NoError(t, r.Commits.Revert(t.Context(), servicetest.Mara, n))

	// The device moved on in the same place: not begun. Elsewhere: rebased.
	require.NoError(t, r.schedule(n, 4*time.Second, time.Minute))
	require.NoError(t, r.Devices[router].Console(contact, "stranger"))
	assert.Contains(
		t, r.becomes(n, "draft"),
		"not begun: change 1 cannot be committed: northmole-harbour moved on since this was staged",
	)
	require.NoError(t, r.Devices[router].Console(contact, "Harbour office, ext. 12"))
	require.NoError(t, r.Devices[router].Console(location, "Pier 9"))
	require.NoError(t, r.schedule(n, time.Second, time.Minute))
	r.becomes(n, "holding")
	r.waits(n, guard.Awaiting)
	require.NoError(t, r.Commits.Confirm(t.Context(), servicetest.Mara, n, false))
	r.becomes(n, "confirmed")
	assert.Equal(t, "new", r.Value(router, contact))
	assert.Equal(t, "Pier 9", r.Value(router, location))

	// A restart at a time.
	d, err := r.Store.Device(t.Context(), store.Everything, router)
	require.NoError(t, err)
	booted := r.Devices[router].Booted()
	v, err := r.Commits.ScheduleRestart(t.Context(), "mara", d, order.When{At: time.Now().Add(time.Hour), Zone: "UTC"})
	require.NoError(t, err)
	require.NoError(t, r.Commits.Unschedule(t.Context(), servicetest.Mara, v.ID))
	_, err = r.Commits.ScheduleRestart(
		t.Context(), "mara", d,
		order.When{At: time.Now().Add(300 * time.Millisecond), Zone: "UTC", Lateness: time.Minute},
	)
	require.NoError(t, err)
	require.Eventually(
		t, func() bool { return r.Devices[router].Booted().After(booted) }, 90*time.Second, 50*time.Millisecond,
	)
	list, err := r.Store.Schedule(t.Context(), 10)
	require.NoError(t, err)
	states := map[lifecycle.ScheduledState]int{}
	for _, s := range list {
		states[s.State]++
	}
	assert.Equal(t, map[lifecycle.ScheduledState]int{
		lifecycle.Cancelled: 2, lifecycle.Missed: 1, lifecycle.Stopped: 1, lifecycle.Begun: 3,
	}, states)
}

// A time that passes while the devices are read for it is refused, and not missed at once.
func TestTimePassesMeanwhile(t *testing.T) {
	t.Parallel()
	r := &room{servicetest.New(t, router), t}
	n := r.stage(router, contact, "late")
	asked := false
	r.Devices[router].OnOperation(func(*markup.Element) lab.Fault {
		asked = true
		r.SetClock(time.Hour) // so long does it take
		return lab.Fault{}
	})
	require.ErrorContains(t, r.schedule(n, 30*time.Minute, time.Minute), "is past, it is")
	r.Devices[router].OnOperation(nil)
	assert.True(t, asked)
	c, err := r.Store.Change(t.Context(), n)
	require.NoError(t, err)
	assert.Equal(t, lifecycle.Draft, c.State)
	waiting, err := r.Store.Waiting(t.Context())
	require.NoError(t, err)
	assert.Empty(t, waiting)
}
