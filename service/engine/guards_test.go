package engine_test

import (
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/guard"
	"oakenlatch/core/markup"
	"oakenlatch/core/tree"
	"oakenlatch/lab"
	"oakenlatch/netconf"
	"oakenlatch/service/engine"
	"oakenlatch/service/order"
	"oakenlatch/service/store"
	"oakenlatch/test/pace"
	"oakenlatch/test/servicetest"
)

func TestMain(m *testing.M) { pace.Waiting(m) }

// hurry restarts the engine so that it waits less for devices: those of the lab
// need less.
func (r *room) hurry() {
	r.Close()
	r.Timing = engine.Timing{Effect: 250 * time.Millisecond, Pause: 300 * time.Millisecond, Watch: time.Second}
	r.Open()
}

func newKind(t *testing.T, alter func(*lab.Spec), names ...string) *room {
	t.Helper()
	r := &room{servicetest.NewWith(t, alter, names...), t}
	r.hurry()
	return r
}

func (r *room) say(n int64, kind guard.EventKind) {
	r.t.Helper()
	require.NoError(r.t, r.Engine.Say(r.t.Context(), n, guard.Event{Kind: kind, By: "mara"}))
}

func phase(p guard.Phase) func(guard.State) bool {
	return func(s guard.State) bool { return s.Phase == p }
}

// Every kind of device, by its own guard: kept and saved, reverted by a word, by
// the deadline, and after the service was stopped and started.
func TestEveryKind(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		kind   lab.Kind
		old    bool
		keeper guard.Keeper
	}{
		{lab.Full, true, guard.ByDevice}, {lab.NoPersist, false, guard.BySession},
		{lab.NoConfirm, false, guard.ByService}, {lab.NoCandidate, true, guard.ByService},
	} {
		t.Run(string(c.kind), func(t *testing.T) {
			t.Parallel()
			r := newKind(t, func(s *lab.Spec) { s.Kind, s.OldFraming = c.kind, c.old }, router)
			n := r.stage(router + " " + contact + " new")
			r.commit(n, 10*time.Second)
			s := r.until(n, 20*time.Second, awaiting)
			assert.Equal(t, c.keeper, s.Devices[0].Keeper)
			assert.Equal(
				t, c.keeper == guard.ByDevice, s.Devices[0].Tells,
				"its lock tells of a pending commit; where our session is the hold it has the lock itself, which "+
					"tells nothing",
			)
			assert.Equal(t, "new", r.Value(router, contact))
			if testing.Short() {
				r.say(n, guard.SayRevert)
			} else {
				s = r.until(n, 20*time.Second, func(s guard.State) bool { return s.Warned })
				assert.Equal(t, guard.Awaiting, s.Phase, "before it ends, that is said")
			}
			s = r.until(n, 20*time.Second, done)
			if !testing.Short() {
				assert.Contains(t, s.Reason, "without a confirm")
			}
			r.truth(n, s, router)

			r.commit(n, time.Minute)
			r.until(n, 20*time.Second, awaiting)
			r.say(n, guard.SayRevert)
			r.truth(n, r.until(n, 20*time.Second, done), router)

			r.commit(n, time.Minute)
			r.until(n, 20*time.Second, awaiting)
			r.Close()
			r.Open()
			if c.keeper == guard.BySession {
				s = r.until(n, 30*time.Second, done)
				assert.Contains(t, s.Reason, "the session that was the hold")
				r.truth(n, s, router)
				r.commit(n, time.Minute)
				r.until(n, 20*time.Second, awaiting)
			}
			require.Eventually(t, func() bool { // the hold goes on, once it is proved that the device is reached again
				return r.Engine.Say(t.Context(), n, guard.Event{Kind: guard.SayConfirm, By: "mara"}) == nil
			}, 90*time.Second, 100*time.Millisecond)
			s = r.until(n, 30*time.Second, done)
			r.truth(n, s, router)
			assert.Equal(t, guard.Confirmed, s.Outcome)
			assert.True(t, s.Devices[0].Saved, s.Devices[0].Said)
			assert.Equal(t, r.Devices[router].Running().Digest(), r.Devices[router].Startup().Digest())
		})
	}
}

// A session that is the hold, cut: all have reverted, at once.
func TestSessionIsTheHold(t *testing.T) {
	t.Parallel()
	r := newKind(t, func(s *lab.Spec) {
		if s.Name == quay {
			s.Kind = lab.NoPersist
		}
	}, router, quay)
	n := r.stage(router+" "+contact+" new", quay+" "+contact+" new")
	r.commit(n, time.Minute)
	r.until(n, 20*time.Second, awaiting)
	r.Devices[quay].DropSessions()
	s := r.until(n, 20*time.Second, done)
	assert.Contains(t, s.Reason, "the session that was the hold on "+quay+" ended")
	r.truth(n, s, router, quay)
}

// A device edited in running that carries out a part of an edit and refuses the
// rest, or makes something else of it, is put back at once.
func TestDirectEditGoneWrong(t *testing.T) {
	t.Parallel()
	r := newKind(t, func(s *lab.Spec) { s.Kind = lab.NoCandidate }, router)
	for want, f := range map[string]func(string) (string, error){
		"it had carried out a part of it": func(op string) (string, error) {
			return strings.ReplaceAll(op, ">elsewhere<", "><"), netconf.RPCErrors{
				{Type: "application", Tag: "partial-operation", Message: "out of rope"},
			}
		},
		"made something else of the edit": func(op string) (string, error) {
			return strings.ReplaceAll(op, ">elsewhere<", ">ELSEWHERE<"), nil
		},
	} {
		first := true
		r.Devices[router].OnOperation(func(op *markup.Element) lab.Fault {
			text := string(op.Standalone())
			if op.Name.Local != "edit-config" || strings.Contains(text, "test-only") || !first {
				return lab.Fault{}
			}
			first = false
			text, refusal := f(text)
			el, err := markup.Parse([]byte(text), markup.Limits{})
			require.NoError(t, err)
			return lab.Fault{Instead: el, RefuseAfter: refusal}
		})
		n := r.stage(router+" "+contact+" new", router+" "+location+" elsewhere")
		r.commit(n, 10*time.Second)
		s := r.until(n, 20*time.Second, done)
		assert.Equal(t, guard.Failed, s.Outcome)
		assert.Contains(t, s.Reason, want)
		assert.Contains(t, s.Reason, "reverted at once")
		r.truth(n, s, router)
	}
}

// A hold is moved on the device's own timer too: longer, it outlives the first
// end; an edit of someone in the candidate is in the way of that, and said.
func TestHoldIsMoved(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	for _, kind := range []lab.Kind{lab.Full, lab.NoPersist, lab.NoConfirm} {
		t.Run(string(kind), func(t *testing.T) {
			t.Parallel()
			r := newKind(t, func(s *lab.Spec) { s.Kind = kind }, router)
			// How long the hold is rests on how long this machine takes for a commit: it has to be moved within it.
			began := time.Now()
			first := r.stage(router + " " + contact + " first")
			r.commit(first, time.Minute)
			r.until(first, 50*time.Second, awaiting)
			took := time.Since(began)
			require.NoError(t, r.Engine.Say(t.Context(), first, guard.Event{Kind: guard.SayRevert, By: "mara"}))
			r.until(first, 50*time.Second, done)
			n := r.stage(router + " " + contact + " new")
			r.commit(n, engine.MinHold+(4*took).Round(time.Second))
			s := r.until(n, 20*time.Second+4*took, awaiting)
			end := s.Deadline
			longer := guard.Event{Kind: guard.SayUntil, Until: end.Add(time.Minute), By: "mara"}
			require.NoError(t, r.Engine.Say(t.Context(), n, longer))
			s = r.until(n, 40*time.Second, func(s guard.State) bool { return s.NewDeadline.IsZero() })
			assert.Equal(t, longer.Until, s.Deadline)
			time.Sleep(time.Until(end.Add(4500 * time.Millisecond))) // the first timer of the device is over
			assert.Equal(t, "new", r.Value(router, contact))
			if kind == lab.Full {
				other := r.client(router)
				require.NoError(
					t,
					other.EditConfig(
						t.Context(),
						netconf.EditConfig{
							Target: netconf.Candidate,
							Config: []byte(
								`<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><location>mine</location></system>`,
							),
						},
					),
				)
				longer.Until = longer.Until.Add(time.Minute)
				require.NoError(t, r.Engine.Say(t.Context(), n, longer))
				s = r.until(
					n, 40*time.Second,
					func(s guard.State) bool { return s.NewDeadline.IsZero() && s.Devices[0].Said != "" },
				)
				assert.Contains(t, s.Devices[0].Said, "uncommitted edits of someone else")
				assert.Equal(t, end.Add(time.Minute), s.Deadline, "it stays as it was")
			}
			shorter := guard.Event{
				Kind: guard.SayUntil, Until: time.Now().UTC().Add(1500 * time.Millisecond), By: "mara",
			}
			require.NoError(t, r.Engine.Say(t.Context(), n, shorter))
			r.truth(n, r.until(n, 20*time.Second, done), router)
			require.Error(t, r.Engine.Say(t.Context(), n, shorter))
		})
	}
}

// A confirm that one device does not answer is confirmed nowhere and holds
// nothing up: the hold can still be moved on the others, and confirmed then.
func TestConfirmNotAnswered(t *testing.T) {
	t.Parallel()
	r := newKind(t, func(*lab.Spec) {}, router, quay)
	n := r.stage(router+" "+contact+" new", quay+" "+contact+" new")
	r.commit(n, time.Minute)
	s := r.until(n, 20*time.Second, awaiting)
	end := s.Deadline
	r.Devices[quay].OnOperation(func(op *markup.Element) lab.Fault {
		if op.Name.Local == "get-config" {
			return lab.Fault{Delay: 300 * time.Millisecond, DropBefore: true}
		}
		return lab.Fault{}
	})
	r.say(n, guard.SayConfirm)
	s = r.until(n, 20*time.Second, func(s guard.State) bool { return awaiting(s) && s.Devices[1].Unreachable })
	r.Devices[quay].OnOperation(nil)
	require.NoError(
		t, r.Engine.Say(t.Context(), n, guard.Event{Kind: guard.SayUntil, Until: end.Add(time.Hour), By: "mara"}),
	)
	s = r.until(n, 20*time.Second, func(s guard.State) bool { return s.NewDeadline.IsZero() })
	assert.Equal(t, end.Add(time.Hour), s.Deadline, "%+v", s.Devices)
	r.say(n, guard.SayConfirm)
	s = r.until(n, 20*time.Second, done)
	assert.Equal(t, guard.Confirmed, s.Outcome)
	r.truth(n, s, router, quay)
}

// Waves: the first is proved, with its probes, before the next begins; a probe
// that fails there keeps the others untouched.
func TestWavesAndProbes(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	r := newKind(t, func(*lab.Spec) {}, router, quay)
	var mu sync.Mutex
	var began []string
	for _, name := range []string{router, quay} {
		r.Devices[name].OnOperation(func(op *markup.Element) lab.Fault {
			mu.Lock()
			defer mu.Unlock()
			if op.Name.Local == "commit" && op.Child(netconf.BaseNS, "confirmed") != nil {
				began = append(began, name)
			}
			return lab.Fault{}
		})
	}
	probe := guard.Probe{
		Kind: guard.ProbeState, Device: quay, Path: "/interfaces/interface=mgmt0/oper-status", Want: "up",
		Grace: time.Second,
	}
	o := order.Order{
		Hold: time.Minute, Waves: [][]string{{quay}}, Probes: []guard.Probe{probe}, ByProbes: true, RevertOnProbe: true,
	}
	n := r.stage(router+" "+contact+" new", quay+" "+contact+" new")
	r.order(n, o)
	s := r.until(n, 30*time.Second, done)
	assert.Equal(t, guard.Confirmed, s.Outcome, s.Reason)
	assert.Equal(t, "probes", s.By)
	assert.Equal(t, []string{quay, router}, began)
	assert.Equal(t, guard.Passed, s.Probes[0].Result)
	r.truth(n, s, router, quay)

	r.Devices[quay].Unplug("mgmt0", true)
	n = r.stage(router+" "+location+" x", quay+" "+location+" x")
	r.order(n, o)
	s = r.until(n, 30*time.Second, done)
	assert.Equal(t, guard.Reverted, s.Outcome)
	assert.Contains(t, s.Reason, "probe state "+quay)
	assert.Contains(t, s.Reason, "it is lower-layer-down, up is wanted")
	assert.Equal(t, guard.IsUntouched, s.Devices[0].Standing, "the second wave was never begun")
	assert.NotEqual(t, "x", r.Value(quay, location))

	// Told to wait, a failing probe is left to the person, and named when they confirm.
	o.RevertOnProbe, o.Waves = false, nil
	r.order(n, o)
	s = r.until(n, 30*time.Second, awaiting)
	assert.Equal(t, guard.Missed, s.Probes[0].Result)
	require.ErrorContains(
		t, r.Engine.Say(t.Context(), n, guard.Event{Kind: guard.SayConfirm, By: "mara"}), "probes fail (state "+quay,
	)
	r.Devices[quay].Unplug("mgmt0", false)
	s = r.until(n, 30*time.Second, done)
	assert.Equal(t, guard.Confirmed, s.Outcome, "it passes again, and that confirms")
}

// Programs run without a shell, from their folder alone, with an end.
func TestProbePrograms(t *testing.T) {
	t.Parallel()
	r := newKind(t, func(*lab.Spec) {}, router)
	dir := t.TempDir()
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(dir, "phones"), []byte("#!/bin/sh\necho \"$OAKEN_LATCH_CHANGE $1\"\n[ \"$1\" = 'a b;c' ]\n"),
			0o755,
		),
	)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "notes.txt"), []byte("x"), 0o644))
	n := r.stage(router + " " + contact + " new")
	commit := func(p guard.Probe) error {
		parts, err := r.Desk.Parts(t.Context(), store.Everything, n)
		require.NoError(t, err)
		return r.Begin("mara", n, order.Order{Hold: time.Minute, Probes: []guard.Probe{p}}, servicetest.Works(parts))
	}
	require.ErrorContains(
		t, commit(guard.Probe{Kind: guard.ProbeProgram, Program: "phones"}), "this service runs no programs",
	)
	here, err := os.Getwd()
	require.NoError(t, err)
	r.Close()
	r.Programs, err = filepath.Rel(here, dir) // as somebody may give it
	require.NoError(t, err)
	r.Open()
	for want, p := range map[string]guard.Probe{
		"not the name of a probe program": {Kind: guard.ProbeProgram, Program: "../phones"},
		"there is no program notes.txt":   {Kind: guard.ProbeProgram, Program: "notes.txt"},
		"is no address":                   {Kind: guard.ProbeTCP, Address: "harbour"},
		"there is no device":              {Kind: guard.ProbeState, Device: "x", Path: "/a", Want: "b"},
		"is not a single value":           {Kind: guard.ProbeState, Device: router, Path: "/interfaces", Want: "b"},
		"no kind of probe":                {Kind: "ping"},
		"for up to 10m0s at first":        {Kind: guard.ProbeTCP, Address: "a:1", Grace: time.Hour},
	} {
		require.ErrorContains(t, commit(p), want)
	}
	require.NoError(t, commit(guard.Probe{Kind: guard.ProbeProgram, Program: "phones", Args: []string{"a b;c"}}))
	s := r.until(n, 20*time.Second, awaiting)
	assert.Equal(t, guard.Passed, s.Probes[0].Result, s.Probes[0].Said)
	assert.Contains(t, s.Probes[0].Said, "a b;c")
	r.say(n, guard.SayRevert)
	r.until(n, 20*time.Second, done)
	require.NoError(t, commit(guard.Probe{Kind: guard.ProbeProgram, Program: "phones", Args: []string{"other"}}))
	s = r.until(n, 20*time.Second, awaiting)
	assert.Contains(t, s.Probes[0].Said, "exit status 1: ")
	r.say(n, guard.SayRevert)
	r.until(n, 20*time.Second, done)
	require.NoError(t, commit(guard.Probe{Kind: guard.ProbeTCP, Address: "127.0.0.1:1"}))
	s = r.until(n, 20*time.Second, awaiting)
	assert.Contains(t, s.Probes[0].Said, "refused")
}

// What is prepared ahead is only committed; it lapses in the open when the
// device moves on, its session ends, or its time is over.
func TestPreparedAhead(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	for _, kind := range []lab.Kind{lab.Full, lab.NoCandidate} {
		t.Run(string(kind), func(t *testing.T) {
			t.Parallel()
			r := newKind(t, func(s *lab.Spec) { s.Kind = kind }, router)
			n := r.stage(router + " " + contact + " new")
			for want, befall := range map[string]func(){
				"the device moved on since it was prepared": func() {
					require.NoError(t, r.Devices[router].Console(location, "moved"+time.Now().String()))
				},
				"the session that held it ended": func() { r.Devices[router].DropSessions() },
				"given up by mara":               nil,
			} {
				r.order(n, order.Order{Hold: time.Minute, Ahead: time.Hour})
				r.until(n, 20*time.Second, phase(guard.AllReady))
				assert.NotEqual(t, "new", r.Value(router, contact))
				if befall == nil {
					r.say(n, guard.SayRevert)
					want = "reverted by mara"
				} else {
					befall()
				}
				s := r.until(n, 20*time.Second, done)
				assert.Contains(t, s.Reason, want)
				r.truth(n, s, router)
			}
			r.order(n, order.Order{Hold: time.Minute, Ahead: 2 * time.Second})
			assert.Contains(t, r.until(n, 20*time.Second, done).Reason, "not committed by then")
			r.order(n, order.Order{Hold: time.Minute, Ahead: time.Hour})
			r.until(n, 20*time.Second, phase(guard.AllReady))
			r.say(n, guard.SayCommit)
			r.until(n, 20*time.Second, awaiting)
			r.say(n, guard.SayConfirm)
			r.truth(n, r.until(n, 20*time.Second, done), router)
		})
	}
}

// A stranger changes the very same place during the hold: the device holds
// neither, says so, and is left as it is only by a person's word.
func TestLeftByAWord(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	r := newKind(t, func(s *lab.Spec) { s.Kind = lab.NoConfirm }, router, quay)
	n := r.stage(router+" "+contact+" new", quay+" "+contact+" new")
	r.commit(n, time.Minute)
	r.until(n, 20*time.Second, awaiting)
	require.NoError(t, r.Devices[quay].Console(contact, "stranger"))
	s := r.until(n, 20*time.Second, func(s guard.State) bool {
		return s.Devices[1].Odd && strings.Contains(s.Devices[1].Said, "decide by hand")
	})
	assert.Equal(t, guard.Reverting, s.Phase)
	require.NoError(t, r.Engine.Say(t.Context(), n, guard.Event{Kind: guard.SayAccept, Device: 1, By: "mara"}))
	s = r.until(n, 20*time.Second, done)
	assert.Equal(t, guard.Partly, s.Outcome, "a device that was left is not reverted")
	assert.Equal(t, guard.IsReverted, s.Devices[0].Standing)
	assert.Equal(t, guard.IsAccepted, s.Devices[1].Standing)
	assert.Equal(t, "stranger", r.Value(quay, contact))
	assert.Equal(t, "Harbour office, ext. 12", r.Value(router, contact))
}

// Two services on one device: the second names the first's session and keeps
// its hands off; nobody's edits are lost.
func TestTwoServices(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	r := newKind(t, func(*lab.Spec) {}, router)
	n := r.stage(router + " " + contact + " new")
	other := r.client(router)
	require.NoError(t, other.Lock(t.Context(), netconf.Candidate))
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
	r.commit(n, time.Minute)
	s := r.until(n, 20*time.Second, done)
	assert.Contains(
		t, s.Reason,
		"candidate is locked by session "+other.SessionID+" of account harbour from 198.51.100.10, there since ",
	)
	require.NoError(
		t, other.CommitConfirmed(t.Context(), netconf.ConfirmedCommit{Timeout: time.Minute, Persist: "theirs"}),
	)
	require.NoError(t, other.Unlock(t.Context(), netconf.Candidate))
	r.commit(n, time.Minute)
	s = r.until(n, 20*time.Second, done)
	assert.Contains(t, s.Reason, "a confirmed commit is pending, by session "+other.SessionID)
	d, err := r.Store.Device(t.Context(), store.Everything, router)
	require.NoError(t, err)
	require.ErrorContains(t, r.Engine.Save(t.Context(), "mara", d), "not saved: a confirmed commit is pending")
	require.NoError(t, other.Confirm(t.Context(), "theirs"))
	assert.Equal(t, "theirs", r.Value(router, location))

	// What somebody left in the candidate is shown, and goes only when that is said.
	require.NoError(
		t,
		other.EditConfig(
			t.Context(),
			netconf.EditConfig{
				Target: netconf.Candidate,
				Config: []byte(
					`<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><location>half done</location></system>`,
				),
			},
		),
	)
	r.commit(n, time.Minute)
	s = r.until(n, 20*time.Second, done)
	assert.Contains(t, s.Reason, "its candidate holds someone's uncommitted edits")
	require.NoError(t, r.Engine.ClearCandidate(t.Context(), "mara", d))
	require.ErrorContains(t, r.Engine.ClearCandidate(t.Context(), "mara", d), "holds nothing but running")
	list := r.Found(1, "device:%v", router)
	assert.Equal(t, "candidate.discard half done", list[0].Action+" "+list[0].Before)

	// A lock held by a session that is of no use any more is ended by a word.
	require.NoError(t, other.Lock(t.Context(), netconf.Running))
	require.ErrorContains(t, r.Engine.EndVisit(t.Context(), "mara", d, "4711"), "there is no session 4711")
	require.NoError(t, r.Engine.EndVisit(t.Context(), "mara", d, other.SessionID))
	r.commit(n, time.Minute)
	r.until(n, 20*time.Second, awaiting)
	require.ErrorContains(t, r.Engine.Restart(t.Context(), "mara", d, 0), "the commit of change 1 is under way on it")
	r.say(n, guard.SayConfirm)
	s = r.until(n, 20*time.Second, done)
	assert.Equal(t, guard.Confirmed, s.Outcome)
}

// client is somebody else's session on a device.
func (r *room) client(name string) *netconf.Client {
	r.t.Helper()
	c, err := netconf.Dial(
		r.t.Context(), r.Devices[name].Address, netconf.DialOptions{Client: servicetest.Login(r.Devices[name])},
	)
	require.NoError(r.t, err)
	r.t.Cleanup(c.Abort)
	return c
}

// A restart brings startup back, and loses what was not saved; the clock is
// read, and one that is off is seen.
func TestRestartAndClock(t *testing.T) {
	t.Parallel()
	r := newKind(t, func(s *lab.Spec) { s.ClockAhead = -3 * time.Minute }, router)
	no := false
	n := r.stage(router + " " + contact + " new")
	r.order(n, order.Order{Hold: time.Minute, Save: &no})
	r.until(n, 20*time.Second, awaiting)
	r.say(n, guard.SayConfirm)
	s := r.until(n, 20*time.Second, done)
	assert.False(t, s.Devices[0].Saved)
	d, err := r.Store.Device(t.Context(), store.Everything, router)
	require.NoError(t, err)
	assert.True(t, d.Unsaved)
	c, err := r.Engine.Clock(t.Context(), d)
	require.NoError(t, err)
	assert.InDelta(t, -180, c.Ahead.Seconds(), 2)
	require.NoError(t, r.Engine.Restart(t.Context(), "mara", d, 0))
	require.Eventually(t, func() bool {
		now, err := r.History.Read(t.Context(), store.Everything, router, "mara")
		return err == nil && tree.Same(now.Running, r.Devices[router].Startup())
	}, 90*time.Second, 300*time.Millisecond)
	assert.Equal(t, "Harbour office, ext. 12", r.Value(router, contact))
}
