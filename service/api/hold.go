package api

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"oakenlatch/core/guard"
	"oakenlatch/service/desk"
	"oakenlatch/service/engine"
	"oakenlatch/service/fleet"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

func guardDoc(g fleet.Guard) wire.Guard {
	return wire.Guard{Guard: g.Name(), GuardWhy: g.Why, Risk: g.Risk, Untried: g.Untried}
}

// liveState gives how a commit stands; live where that is not on record yet, which takes a moment, or longer
// where nothing can be put there.
func (a *API) liveState(cm store.Commit) (s guard.State, live bool) {
	if s, _, running := a.Engine.Status(cm.Change); running && cm.Ended.IsZero() {
		return s, true
	}
	return cm.State, false
}

func (a *API) commitDoc(cm store.Commit) *wire.Commit {
	s, _ := a.liveState(cm)
	out := &wire.Commit{
		Actor: cm.Actor, Started: cm.Started, Ended: cm.Ended, Phase: s.Phase, Outcome: s.Outcome, HoldSeconds: int64(cm.Hold / time.Second),
		Deadline: s.Deadline, NewDeadline: s.NewDeadline, LapsesAt: s.LapsesAt, Ending: s.Warned && s.Phase == guard.Awaiting,
		ByProbes: s.ByProbes, RevertOnProbe: s.RevertOnProbe, Wave: s.Wave, Reason: s.Reason, By: s.By, Devices: s.Devices,
	}
	for _, p := range s.Probes {
		out.Probes = append(out.Probes, wire.ProbeResult{Probe: p.Text, Result: p.Result, Said: p.Said, Since: p.Since})
	}
	if s.Outcome == guard.Undecided && !s.Deadline.IsZero() {
		out.SecondsLeft = max(0, int64(s.Deadline.Sub(a.Log.Now()).Round(time.Second)/time.Second))
	}
	return out
}

// Works gives a change's parts as the engine takes them.
func Works(parts []desk.Work) []engine.Work {
	works := make([]engine.Work, 0, len(parts))
	for _, w := range parts {
		works = append(works, engine.Work{Device: w.Device, Former: w.Former, Mine: w.Mine, Exact: w.Exact, MovesTo: w.MovesTo, MovesSeenAs: w.MovesSeenAs, Stamp: w.Stamp})
	}
	return works
}

// seconds reads a number of seconds; what is too large for a duration stays
// too large for every limit.
func seconds(n int64) time.Duration {
	const most = int64(10 * 366 * 24 * time.Hour / time.Second)
	return time.Duration(max(min(n, most), -most)) * time.Second
}

// order reads how a commit is wanted.
func order(in wire.NewCommit) (engine.Order, error) {
	o := engine.Order{
		Hold: seconds(in.HoldSeconds), Waves: in.Waves, ByProbes: in.ByProbes, RevertOnProbe: in.RevertOnProbe,
		Save: in.Save, Ahead: seconds(in.AheadSeconds), Preview: in.Preview, CutOff: in.CutOff,
	}
	for _, line := range in.Probes {
		p, err := guard.ParseProbe(line)
		if err != nil {
			return o, refusal.New(refusal.Invalid, "", "%v", err)
		}
		p.Grace = seconds(in.ProbeWithinSeconds)
		o.Probes = append(o.Probes, p)
	}
	return o, nil
}

// own gives the change in the path, if the person may still edit it.
func (a *API) own(c *call) (store.Change, error) {
	n, err := numberParam(c)
	if err != nil {
		return store.Change{}, err
	}
	return a.Desk.Own(c.ctx, c.person, n)
}

func (a *API) commit(c *call) (any, error) {
	ch, err := a.own(c)
	if err != nil {
		return nil, err
	}
	var in wire.NewCommit
	if err := c.read(&in); err != nil {
		return nil, err
	}
	o, err := order(in)
	if err != nil {
		return nil, err
	}
	devices, err := a.Store.ChangeDevices(c.ctx, c.person.Reach(), ch.Number)
	if err == nil {
		err = a.Engine.Free(ch.Number, devices)
	}
	if err != nil {
		return nil, err
	}
	in.Emergency = strings.TrimSpace(in.Emergency)
	if len(in.Emergency) > 500 {
		return nil, refusal.New(refusal.Invalid, "", "the reason of an emergency has at most 500 characters")
	}
	alone := false
	parts, digest, err := a.Desk.Due(c.ctx, c.person.Reach(), ch.Number, c.person.Name, desk.Wish{Digest: in.Preview, Cuts: in.CutOff, Emergency: in.Emergency, Alone: &alone})
	if err != nil {
		return nil, err
	}
	if alone {
		if err := a.fresh(c); err != nil {
			return nil, err
		}
		o.Along = a.Desk.Emergency(c.person, ch.Number, digest, in.Emergency)
	}
	if err := a.Engine.Commit(c.ctx, c.person.Name, ch.Number, o, Works(parts)); err != nil {
		return nil, err
	}
	return a.reload(c, ch.Number)
}

// begin commits what is prepared.
func (a *API) begin(c *call) (any, error) {
	ch, err := a.decidable(c)
	if err != nil {
		return nil, err
	}
	if err := a.Engine.Say(c.ctx, ch.Number, guard.Event{Kind: guard.SayCommit, By: c.person.Name}); err != nil {
		return nil, err
	}
	return a.reload(c, ch.Number)
}

func (a *API) confirm(c *call) (any, error) {
	var in wire.Confirm
	if c.Request().ContentLength != 0 {
		if err := c.read(&in); err != nil {
			return nil, err
		}
	}
	return a.say(c, guard.Event{Kind: guard.SayConfirm, Despite: in.Despite}, func(s guard.State) bool {
		return s.Phase != guard.Asking && s.Phase != guard.Keeping && s.Phase != guard.Settling
	})
}

func (a *API) revert(c *call) (any, error) {
	ch, err := a.decidable(c)
	if err != nil {
		return nil, err
	}
	if s, _, running := a.Engine.Status(ch.Number); running && s.Phase == guard.Reverting {
		return a.reload(c, ch.Number) // that is being done: how it stands is the answer
	}
	return a.say(c, guard.Event{Kind: guard.SayRevert}, func(s guard.State) bool {
		return s.Phase == guard.Done || slices.ContainsFunc(s.Devices, guard.Device.Stuck)
	})
}

// hold moves the end of a hold.
func (a *API) hold(c *call) (any, error) {
	ch, err := a.decidable(c)
	if err != nil {
		return nil, err
	}
	var in wire.NewHold
	if err := c.read(&in); err != nil {
		return nil, err
	}
	if (in.AddSeconds == 0) == in.Until.IsZero() {
		return nil, refusal.New(refusal.Invalid, "give addSeconds or until", "when the hold is to end is not said, or said twice")
	}
	until := in.Until
	if in.AddSeconds != 0 {
		s, _, running := a.Engine.Status(ch.Number)
		if running && !s.Deadline.IsZero() {
			until = s.Deadline.Add(seconds(in.AddSeconds))
		}
	}
	word := guard.Event{Kind: guard.SayUntil, Until: until.UTC(), By: c.person.Name}
	return a.sayWord(c, ch, word, func(s guard.State) bool { return s.NewDeadline.IsZero() })
}

// leave settles a device that holds neither configuration.
func (a *API) leave(c *call) (any, error) {
	ch, err := a.decidable(c)
	if err != nil {
		return nil, err
	}
	var in wire.Leave
	if err := c.read(&in); err != nil {
		return nil, err
	}
	s, _, _ := a.Engine.Status(ch.Number)
	for i, d := range s.Devices {
		if d.Name == in.Device {
			return a.sayWord(c, ch, guard.Event{Kind: guard.SayLeave, Device: i, By: c.person.Name}, func(guard.State) bool { return true })
		}
	}
	return nil, refusal.New(refusal.NotFound, "", "no commit of change %d is under way on %q", ch.Number, in.Device)
}

// sayTimeout is how long a person's word waits for what comes of it; what is still
// under way then is told as that.
const sayTimeout = 20 * time.Second

// say gives a commit a person's word and waits until it is decided.
func (a *API) say(c *call, word guard.Event, decided func(guard.State) bool) (any, error) {
	ch, err := a.decidable(c)
	if err != nil {
		return nil, err
	}
	word.By = c.person.Name
	return a.sayWord(c, ch, word, decided)
}

func (a *API) sayWord(c *call, ch store.Change, word guard.Event, decided func(guard.State) bool) (any, error) {
	if err := a.Engine.Say(c.ctx, ch.Number, word); err != nil {
		return nil, err
	}
	timeout := time.After(sayTimeout)
	for {
		s, changed, running := a.Engine.Status(ch.Number)
		if !running || decided(s) {
			if running && s.Phase == guard.Awaiting {
				if err := notDone(ch.Number, word, s); err != nil {
					return nil, err
				}
			}
			return a.reload(c, ch.Number)
		}
		select {
		case <-changed:
		case <-timeout:
			return a.reload(c, ch.Number)
		case <-c.ctx.Done():
			return nil, c.ctx.Err()
		}
	}
}

// notDone says that a word was not carried out because a device did not take
// part, and the hold goes on as it was.
func notDone(number int64, word guard.Event, s guard.State) error {
	var why []string
	for _, d := range s.Devices {
		if d.Unreachable || d.Said != "" {
			why = append(why, d.Name+": "+d.Said)
		}
	}
	told := strings.Join(why, "; ")
	until := s.Deadline.UTC().Format(time.RFC3339)
	switch {
	case word.Kind == guard.SayConfirm:
		return refusal.New(refusal.Conflict, fmt.Sprintf("mend that and confirm again before %s, or revert", until),
			"change %d was confirmed nowhere and is still on hold: %s", number, told)
	case word.Kind == guard.SayUntil && s.Deadline.Before(word.Until):
		return refusal.New(refusal.Conflict, "", "the hold of change %d ends at %s as before: %s", number, until, told)
	}
	return nil
}

// decidable gives the change in the path, if the person may decide its commit:
// its author, or an administrator.
func (a *API) decidable(c *call) (store.Change, error) {
	ch, err := a.visible(c)
	if err != nil || ch.Author == c.person.Name || c.person.Administers() {
		return ch, err
	}
	company, err := a.Store.Coworkers(c.ctx, ch.Number)
	if err == nil && !slices.Contains(company, c.person.Name) {
		err = refusal.New(refusal.Forbidden, "ask them, or an administrator", "change %d belongs to %s, who alone can decide it, with those they added", ch.Number, ch.Author)
	}
	return ch, err
}
