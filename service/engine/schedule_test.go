package engine_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/guard"
	"oakenlatch/lab"
	"oakenlatch/service/desk"
	"oakenlatch/service/engine"
	"oakenlatch/service/store"
	"oakenlatch/test/servicetest"
)

func (r *room) schedule(n int64, in, lateness time.Duration) error {
	parts, _, err := r.Desk.Due(r.t.Context(), store.Everything, n, "mara", desk.Wish{})
	require.NoError(r.t, err)
	_, err = r.Engine.Schedule(r.t.Context(), "mara", n, engine.Order{Hold: time.Minute}, engine.When{At: time.Now().UTC().Add(in), Zone: "Europe/Paris", Lateness: lateness}, servicetest.Works(parts))
	return err
}

func (r *room) state(n int64) (state, reason string) {
	c, err := r.Store.Change(r.t.Context(), n)
	require.NoError(r.t, err)
	return c.State, c.Reason
}

func (r *room) becomes(n int64, want string) (reason string) {
	r.t.Helper()
	state := ""
	require.Eventually(r.t, func() bool { state, reason = r.state(n); return state == want }, 90*time.Second, 50*time.Millisecond, "%s", want)
	return reason
}

// What is scheduled goes on hold at its time; what the service slept through is
// missed in words, or begun within the lateness allowed; what no longer fits is
// not begun, and told; and it can be taken off.
func TestSchedule(t *testing.T) {
	t.Parallel()
	r := newKind(t, func(*lab.Spec) {}, router)
	n := r.stage(router + " " + contact + " new")
	require.ErrorContains(t, r.schedule(n, -time.Second, 0), "is past")
	require.ErrorContains(t, r.schedule(n, 400*24*time.Hour, 0), "more than a year")
	require.ErrorContains(t, r.schedule(n, time.Hour, 48*time.Hour), "up to 24h0m0s late")

	require.NoError(t, r.schedule(n, time.Hour, 0))
	require.ErrorContains(t, r.schedule(n, time.Hour, 0), "is scheduled and cannot be scheduled")
	_, err := r.Put(servicetest.Mara, n, router, location, "x")
	require.ErrorContains(t, err, "on the schedule")
	waiting, err := r.Store.Waiting(t.Context())
	require.NoError(t, err)
	require.NoError(t, r.Engine.Unschedule(t.Context(), "joss", waiting[0]))
	require.ErrorContains(t, r.Engine.Unschedule(t.Context(), "joss", waiting[0]), "does not wait")
	assert.Empty(t, r.becomes(n, "draft"))

	// Slept through.
	require.NoError(t, r.schedule(n, 500*time.Millisecond, time.Second))
	r.Close()
	time.Sleep(3 * time.Second)
	r.Open()
	assert.Contains(t, r.becomes(n, "draft"), "missed: it was due at")
	require.NoError(t, r.schedule(n, 500*time.Millisecond, time.Minute))
	r.Close()
	time.Sleep(1500 * time.Millisecond)
	r.Open()
	r.becomes(n, "holding")
	r.until(n, 20*time.Second, awaiting)
	r.say(n, guard.SayRevert)
	r.until(n, 20*time.Second, done)

	// The device moved on in the same place: not begun. Elsewhere: rebased.
	require.NoError(t, r.schedule(n, 1500*time.Millisecond, time.Minute))
	require.NoError(t, r.Devices[router].Console(contact, "stranger"))
	assert.Contains(t, r.becomes(n, "draft"), "not begun: change 1 cannot be committed: northmole-harbour moved on since this was staged")
	require.NoError(t, r.Devices[router].Console(contact, "Harbour office, ext. 12"))
	require.NoError(t, r.Devices[router].Console(location, "Pier 9"))
	require.NoError(t, r.schedule(n, time.Second, time.Minute))
	r.becomes(n, "holding")
	r.until(n, 20*time.Second, awaiting)
	r.say(n, guard.SayConfirm)
	r.truth(n, r.until(n, 20*time.Second, done), router)
	assert.Equal(t, "Pier 9", r.Value(router, location))

	// A restart at a time.
	d, err := r.Store.Device(t.Context(), store.Everything, router)
	require.NoError(t, err)
	booted := r.Devices[router].Booted()
	v, err := r.Engine.ScheduleRestart(t.Context(), "mara", d, engine.When{At: time.Now().Add(time.Hour), Zone: "UTC"})
	require.NoError(t, err)
	require.NoError(t, r.Engine.Unschedule(t.Context(), "mara", v))
	_, err = r.Engine.ScheduleRestart(t.Context(), "mara", d, engine.When{At: time.Now().Add(300 * time.Millisecond), Zone: "UTC", Lateness: time.Minute})
	require.NoError(t, err)
	require.Eventually(t, func() bool { return r.Devices[router].Booted().After(booted) }, 90*time.Second, 50*time.Millisecond)
	list, err := r.Store.Schedule(t.Context(), 10)
	require.NoError(t, err)
	states := map[string]int{}
	for _, s := range list {
		states[s.State]++
	}
	assert.Equal(t, map[string]int{"cancelled": 2, "missed": 1, "stopped": 1, "begun": 3}, states)
}
