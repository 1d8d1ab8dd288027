package engine_test

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/guard"
	"oakenlatch/core/markup"
	"oakenlatch/core/tree"
	"oakenlatch/lab"
	"oakenlatch/netconf"
	"oakenlatch/service/desk"
	"oakenlatch/service/engine"
	"oakenlatch/service/order"
	"oakenlatch/service/store"
	"oakenlatch/test/pace"
	"oakenlatch/test/servicetest"
)

// room is a servicetest.Room with what the tests of the engine need.
type room struct {
	*servicetest.Room
	t testing.TB
}

const (
	router = "northmole-harbour"
	quay   = "saltern-quay"
)

func newRoom(t *testing.T, names ...string) *room {
	t.Helper()
	return &room{servicetest.New(t, names...), t}
}

// stage opens a change with edits, each "DEVICE PATH VALUE".
func (r *room) stage(edits ...string) int64 {
	r.t.Helper()
	c, err := r.Desk.Open(r.t.Context(), servicetest.Mara, "test", "")
	require.NoError(r.t, err)
	for _, e := range edits {
		f := strings.SplitN(e, " ", 3)
		mode := ""
		if strings.HasSuffix(f[1], "/search") {
			mode = desk.Add
		}
		_, err := r.Stage(servicetest.Mara, c.Number, f[0], desk.Act{Op: "put", Path: f[1], Value: &f[2], Mode: mode})
		require.NoError(r.t, err, e)
	}
	return c.Number
}

func (r *room) commit(n int64, hold time.Duration) {
	r.t.Helper()
	r.order(n, order.Order{Hold: hold})
}

func (r *room) order(n int64, o order.Order) {
	r.t.Helper()
	parts, err := r.Desk.Parts(r.t.Context(), store.Everything, n)
	require.NoError(r.t, err)
	require.NoError(r.t, r.Begin("mara", n, o, servicetest.Works(parts)))
}

// until waits until a commit is as wanted, and gives its last state.
func (r *room) until(n int64, limit time.Duration, enough func(guard.State) bool) guard.State {
	r.t.Helper()
	timeout := time.After(limit)
	for {
		s, changed, running := r.Engine.Status(n)
		if !running {
			c, err := r.Store.LastCommit(r.t.Context(), n)
			require.NoError(r.t, err)
			s = c.State
		}
		if enough(s) {
			return s
		}
		require.True(r.t, running, "it ended otherwise: %+v", s)
		select {
		case <-changed:
		case <-timeout:
			require.FailNow(r.t, "timed out", "%+v", s)
		}
	}
}

func done(s guard.State) bool     { return s.Phase == guard.Done }
func awaiting(s guard.State) bool { return s.Phase == guard.Awaiting }

// on orders a fault for the n-th operation of a name, counted from 1.
func on(name string, n int32, f lab.Fault) func(*markup.Element) lab.Fault {
	var count atomic.Int32
	return func(op *markup.Element) lab.Fault {
		if op.Name.Local == name && count.Add(1) == n {
			return f
		}
		return lab.Fault{}
	}
}

const (
	contact  = "/system/contact"
	location = "/system/location"
)

// A session that dies at each step of a commit, before or after the step was
// carried out: what is said in the end is what the device holds.
func TestSessionDiesAtEachStep(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	for _, step := range []struct {
		name  string
		nth   int32
		after bool
		want  guard.Outcome
	}{
		{"lock", 1, false, guard.Failed}, {"lock", 2, true, guard.Failed}, {"get-config", 1, false, guard.Failed},
		{"get-config", 2, true, guard.Failed}, {"edit-config", 1, false, guard.Failed},
		{"edit-config", 1, true, guard.Failed}, {"validate", 1, false, guard.Failed},
		{"discard-changes", 1, true, guard.Failed}, {"edit-config", 2, true, guard.Failed},
		{"commit", 1, false, guard.Reverted}, {"commit", 1, true, guard.Reverted},
		{"unlock", 1, false, guard.Confirmed}, {"commit", 2, false, guard.Confirmed},
		{"commit", 2, true, guard.Confirmed}, {"copy-config", 1, false, guard.Confirmed},
	} {
		t.Run(fmt.Sprintf("%s %d after %t", step.name, step.nth, step.after), func(t *testing.T) {
			t.Parallel()
			r := newRoom(t, router)
			n := r.stage(router + " " + contact + " new")
			r.Devices[router].OnOperation(
				on(step.name, step.nth, lab.Fault{DropBefore: !step.after, DropAfter: step.after}),
			)
			r.commit(n, 40*time.Second)
			s := r.until(n, 90*time.Second, func(s guard.State) bool { return done(s) || awaiting(s) })
			if awaiting(s) {
				require.NoError(t, r.Engine.Say(t.Context(), n, guard.Event{Kind: guard.SayConfirm, By: "mara"}))
				s = r.until(n, 90*time.Second, done)
			}
			r.truth(n, s, router)
			assert.Equal(t, step.want, s.Outcome, s.Reason)
		})
	}
}

// truth checks what is said of a finished commit against its devices.
func (r *room) truth(n int64, s guard.State, names ...string) {
	r.t.Helper()
	c, err := r.Store.Change(r.t.Context(), n)
	require.NoError(r.t, err)
	assert.EqualValues(r.t, s.Outcome, c.State)
	for _, name := range names {
		assert.False(r.t, r.Devices[name].Pending(), "%s is left on hold", name)
		if s.Outcome == guard.Confirmed {
			assert.Equal(r.t, "new", r.Value(name, contact), "%s: kept is said", name)
		} else {
			assert.Equal(r.t, "Harbour office, ext. 12", r.Value(name, contact), "%s: %s is said", name, s.Outcome)
			assert.NotEmpty(r.t, s.Reason)
		}
	}
	v, err := r.Log.Verify(r.t.Context(), nil)
	require.NoError(r.t, err)
	assert.Empty(r.t, v.Findings)
	assert.Positive(r.t, v.Entries)
}

// One device takes the confirm, the other loses power just then and comes back
// as it was before: what was already kept is written back, and all have gone
// back. Nobody's edits in a candidate are published by that.
func TestKeptOnOneIsWrittenBack(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	r := newRoom(t, router, quay)
	n := r.stage(router+" "+contact+" new", quay+" "+contact+" new")
	r.Devices[quay].OnOperation(func() func(*markup.Element) lab.Fault {
		loses := on("commit", 2, lab.Fault{DropBefore: true})
		return func(op *markup.Element) lab.Fault {
			f := loses(op)
			if f.DropBefore {
				r.Devices[quay].PowerCycle()
			}
			return f
		}
	}())
	// The router's fifth lock is the first of the writing back: it finds someone
	// there and has to try again.
	r.Devices[router].OnOperation(
		on(
			"lock", 5,
			lab.Fault{
				Refuse: netconf.RPCErrors{
					{Type: "protocol", Tag: "lock-denied", Info: "<session-id>99</session-id>"},
				},
			},
		),
	)
	r.commit(n, 20*time.Second)
	r.until(n, 30*time.Second, awaiting)
	require.NoError(t, r.Engine.Say(t.Context(), n, guard.Event{Kind: guard.SayConfirm, By: "mara"}))
	s := r.until(n, 90*time.Second, done)
	assert.Equal(t, guard.Reverted, s.Outcome)
	assert.Contains(t, s.Reason, quay)
	r.truth(n, s, router, quay)
	entries := r.Found(0, "change:%v", n)
	var told []string
	for _, e := range entries {
		if e.Device == router {
			told = append(told, e.Action)
		}
	}
	assert.Contains(t, told, "commit.confirmed", "that it was kept for a while is on record")
	assert.Contains(t, told, "commit.restored")
}

// A device that answers ok to insertions without carrying them out gets the
// order in another way.
func TestOrderNotTaken(t *testing.T) {
	t.Parallel()
	r := newRoom(t, router)
	d := r.Devices[router]
	// The person wants it in front: stage by hand, as moving comes later.
	n := r.stage(router + " /system/dns-resolver/search first.example")
	works, err := r.Desk.Parts(t.Context(), store.Everything, n)
	require.NoError(t, err)
	first, err := tree.ParsePath(works[0].Schema, "/system/dns-resolver/search=first.example")
	require.NoError(t, err)
	doc := &tree.Edit{Children: []*tree.Edit{{Schema: first[0].Node, Children: []*tree.Edit{{Schema: first[1].Node,
		Children: []*tree.Edit{
			{Schema: first[2].Node, Keys: first[2].Keys, Insert: "first"}}}}}}}
	mine, err := tree.Apply(works[0].Former, doc, tree.Merge)
	require.NoError(t, err)
	d.OnOperation(func(op *markup.Element) lab.Fault {
		if op.Name.Local != "edit-config" {
			return lab.Fault{}
		}
		text := strings.NewReplacer(
			`yang:insert="first"`, "", `yang:insert="after"`, "",
		).Replace(string(op.Standalone()))
		el, err := markup.Parse([]byte(text), markup.Limits{})
		if err != nil {
			return lab.Fault{Refuse: err}
		}
		return lab.Fault{Instead: el}
	})
	require.NoError(
		t,
		r.Begin(
			"mara", n, order.Order{Hold: 20 * time.Second},
			[]order.Work{{Device: works[0].Device, Former: works[0].Former, Mine: mine}},
		),
	)
	r.until(n, 20*time.Second, awaiting)
	require.NoError(t, r.Engine.Say(t.Context(), n, guard.Event{Kind: guard.SayConfirm, By: "mara"}))
	r.until(n, 20*time.Second, done)
	var order []string
	now, err := r.History.Read(t.Context(), store.Everything, router, "mara")
	require.NoError(t, err)
	for _, v := range now.Running.At(first[:2]).All(first[2].Node) {
		order = append(order, v.Value())
	}
	assert.Equal(t, []string{"first.example", "tidewell.example"}, order)
}

// A device that makes something else of an edit is not committed, and the
// difference is told; one that answers ok to a commit that it does not carry
// out is found out.
func TestDevicesThatDoNotDoAsTheySay(t *testing.T) {
	t.Parallel()
	t.Run("the edit", func(t *testing.T) {
		t.Parallel()
		r := newRoom(t, router)
		n := r.stage(router+" "+contact+" new", router+" "+location+" elsewhere")
		r.Devices[router].OnOperation(func(op *markup.Element) lab.Fault {
			if op.Name.Local != "edit-config" {
				return lab.Fault{}
			}
			el, err := markup.Parse(
				[]byte(strings.ReplaceAll(string(op.Standalone()), ">elsewhere<", ">ELSEWHERE<")), markup.Limits{},
			)
			if err != nil {
				return lab.Fault{Refuse: err}
			}
			return lab.Fault{Instead: el}
		})
		r.commit(n, 10*time.Second)
		s := r.until(n, 20*time.Second, done)
		assert.Equal(t, guard.Failed, s.Outcome)
		assert.Contains(t, s.Reason, "location: elsewhere → ELSEWHERE")
		r.Devices[router].OnOperation(nil)
		r.truth(n, s, router)
	})
	t.Run("the commit", func(t *testing.T) {
		t.Parallel()
		r := newRoom(t, router)
		n := r.stage(router + " " + contact + " new")
		r.Devices[router].OnOperation(on("commit", 1, lab.Fault{Skip: true}))
		r.commit(n, 10*time.Second)
		s := r.until(n, 30*time.Second, done)
		assert.Equal(t, guard.Reverted, s.Outcome)
		assert.Contains(t, s.Reason, "does not hold the change")
		r.truth(n, s, router)
	})
	t.Run("the saving", func(t *testing.T) {
		t.Parallel()
		r := newRoom(t, router)
		n := r.stage(router + " " + contact + " new")
		r.Devices[router].OnOperation(on("copy-config", 1, lab.Fault{Skip: true}))
		r.commit(n, 10*time.Second)
		r.until(n, 20*time.Second, awaiting)
		require.NoError(t, r.Engine.Say(t.Context(), n, guard.Event{Kind: guard.SayConfirm, By: "mara"}))
		s := r.until(n, 20*time.Second, done)
		assert.Equal(t, guard.Confirmed, s.Outcome)
		assert.False(t, s.Devices[0].Saved)
		assert.Contains(t, s.Devices[0].Said, "its startup still differs")
		d, err := r.Store.Device(t.Context(), store.Everything, router)
		require.NoError(t, err)
		assert.True(t, d.Unsaved, "and it is told everywhere")
		r.truth(n, s, router)
	})
}

// Values set to their defaults: alone there is nothing to commit; beside others
// they do no harm, whether the device stores them or not.
func TestDefaultsInACommit(t *testing.T) {
	t.Parallel()
	r := newRoom(t, router)
	n := r.stage(router + " /interfaces/interface=port1/enabled true")
	r.commit(n, 10*time.Second)
	s := r.until(n, 20*time.Second, done)
	assert.Equal(t, guard.Failed, s.Outcome)
	assert.Contains(t, s.Reason, "nothing to commit")
	n = r.stage(router+" /interfaces/interface=port1/enabled true", router+" "+contact+" new")
	r.Devices[router].OnOperation(func(op *markup.Element) lab.Fault {
		el, err := markup.Parse(
			[]byte(
				strings.ReplaceAll(
					string(op.Standalone()), `nc:operation="merge">true</enabled>`,
					`nc:operation="remove">true</enabled>`,
				),
			),
			markup.Limits{},
		)
		if err != nil || op.Name.Local != "edit-config" {
			return lab.Fault{}
		}
		return lab.Fault{Instead: el}
	})
	r.commit(n, 20*time.Second)
	r.until(n, 20*time.Second, awaiting)
	require.NoError(t, r.Engine.Say(t.Context(), n, guard.Event{Kind: guard.SayConfirm, By: "mara"}))
	r.truth(n, r.until(n, 20*time.Second, done), router)
	assert.Empty(t, r.Value(router, "/interfaces/interface=port1/enabled"), "the device did not store it")
}

// No more devices are prepared at a time than is set; one that waits for its turn is
// given up at once where that is said.
func TestPreparedInTurns(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	names := []string{router, quay, "saltern-slip"}
	r := newRoom(t, names...)
	r.Close()
	r.Timing = engine.DefaultTiming
	r.Timing.AtOnce = 1
	r.Open()
	var under, most atomic.Int32
	for _, name := range names {
		r.Devices[name].OnOperation(func(op *markup.Element) lab.Fault {
			switch op.Name.Local {
			case "lock": // of running, and of the candidate
				if most.Store(max(most.Load(), under.Add(1))); under.Load() > 2 {
					return lab.Fault{}
				}
				return lab.Fault{Delay: 100 * time.Millisecond}
			case "validate":
				under.Add(-2)
			}
			return lab.Fault{}
		})
	}
	n := r.stage(router+" "+contact+" new", quay+" "+contact+" new", "saltern-slip "+contact+" new")
	r.commit(n, time.Minute)
	r.until(n, 60*time.Second, awaiting)
	assert.Equal(t, int32(2), most.Load(), "two locks of one device")
	require.NoError(t, r.Engine.Say(t.Context(), n, guard.Event{Kind: guard.SayRevert, By: "mara"}))
	r.until(n, 60*time.Second, done)

	asked := make(chan struct{})
	var once sync.Once
	for _, name := range names {
		r.Devices[name].OnOperation(func(op *markup.Element) lab.Fault {
			if op.Name.Local == "lock" {
				once.Do(func() { close(asked) })
				return lab.Fault{Delay: 2 * time.Second}
			}
			return lab.Fault{}
		})
	}
	r.commit(n, time.Minute)
	<-asked
	began := time.Now()
	require.NoError(t, r.Engine.Say(t.Context(), n, guard.Event{Kind: guard.SayRevert, By: "mara"}))
	s := r.until(n, 60*time.Second, done)
	assert.Less(t, time.Since(began), 20*time.Second)
	assert.Equal(t, guard.Failed, s.Outcome, s.Reason)
	for _, name := range names {
		assert.False(t, r.Devices[name].Pending())
	}
}

// Commits that cannot be done are refused, and nothing is begun.
func TestRefusedCommits(t *testing.T) {
	t.Parallel()
	r := newRoom(t, router)
	n := r.stage(router + " " + contact + " new")
	parts, err := r.Desk.Parts(t.Context(), store.Everything, n)
	require.NoError(t, err)
	work := order.Work{Device: parts[0].Device, Former: parts[0].Former, Mine: parts[0].Mine}
	for _, c := range []struct {
		hold  time.Duration
		works []order.Work
		want  string
	}{
		{time.Second, []order.Work{work}, "a hold lasts from 10s"},
		{30 * 24 * time.Hour, []order.Work{work}, "a hold lasts"}, {time.Minute, nil, "is empty"},
		{
			time.Minute, []order.Work{{Device: store.Device{Name: "old", Capabilities: []string{netconf.CapBase10}}}},
			"old cannot be changed: it has neither",
		},
	} {
		require.ErrorContains(t, r.Begin("mara", n, order.Order{Hold: c.hold}, c.works), c.want)
	}
	r.commit(n, time.Minute)
	require.ErrorContains(
		t, r.Begin("mara", n, order.Order{Hold: time.Minute}, []order.Work{work}), "being committed already",
	)
	other := r.stage(router + " " + location + " there")
	require.ErrorContains(
		t, r.Begin("mara", other, order.Order{Hold: time.Minute}, []order.Work{work}),
		fmt.Sprintf("held by the commit of change %d", n),
	)
	assert.Equal(t, n, r.Engine.Holder(parts[0].Device.ID))
	r.until(n, 20*time.Second, awaiting)
	require.NoError(t, r.Engine.Say(t.Context(), n, guard.Event{Kind: guard.SayRevert, By: "mara"}))
	r.until(n, 20*time.Second, done)
	require.ErrorContains(
		t, r.Engine.Say(t.Context(), n, guard.Event{Kind: guard.SayConfirm, By: "mara"}), "already reverted",
	)
	require.ErrorContains(
		t,
		r.Engine.Say(t.Context(), other, guard.Event{Kind: guard.SayConfirm, By: "mara"}),
		"has not been committed",
	)
	require.Eventually(
		t, func() bool { return r.Engine.Holder(parts[0].Device.ID) == 0 }, time.Second, 10*time.Millisecond,
	)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	require.Error(t, r.Engine.Say(ctx, 99, guard.Event{Kind: guard.SayConfirm, By: "mara"}))
}
