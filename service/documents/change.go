package documents

import (
	"context"
	"errors"
	"time"

	"oakenlatch/core/guard"
	"oakenlatch/core/lifecycle"
	"oakenlatch/service/access"
	"oakenlatch/service/engine"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// liveState gives how a commit stands; live where that is not on record yet, which takes a moment, or longer
// where nothing can be put there.
func (d *Documents) liveState(k store.Commit) (s guard.State, live bool) {
	if s, _, running := d.Engine.Status(k.Change); running && k.Ended.IsZero() {
		return s, true
	}
	return k.State, false
}

// Commit tells how a commit stands.
func (d *Documents) Commit(k store.Commit) *wire.Commit {
	s, _ := d.liveState(k)
	out := &wire.Commit{
		Actor: k.Actor, Started: k.Started, Ended: k.Ended, Phase: s.Phase, Outcome: s.Outcome,
		HoldSeconds: int64(k.Hold / time.Second), Deadline: s.Deadline, NewDeadline: s.NewDeadline,
		LapsesAt: s.LapsesAt, Ending: s.Warned && s.Phase == guard.Awaiting, ByProbes: s.ByProbes,
		RevertOnProbe: s.RevertOnProbe, Wave: s.Wave, Reason: s.Reason, By: s.By, Devices: s.Devices,
	}
	for _, p := range s.Probes {
		out.Probes = append(out.Probes, wire.ProbeResult{Probe: p.Text, Result: p.Result, Said: p.Said, Since: p.Since})
	}
	if s.Outcome == guard.Undecided && !s.Deadline.IsZero() {
		out.SecondsLeft = max(0, int64(s.Deadline.Sub(d.Log.Now()).Round(time.Second)/time.Second))
	}
	return out
}

// Change tells a change that a person may see, and its last commit, as they stood together.
func (d *Documents) Change(ctx context.Context, p access.Person, number int64) (wire.Change, error) {
	list, err := d.Changes(ctx, p, []int64{number})
	if err == nil && len(list) == 0 {
		err = store.ErrNotFound
	}
	if err != nil {
		return wire.Change{}, err
	}
	return list[0], nil
}

// changeFacts is what is told of changes beside themselves, read for a page at once.
type changeFacts struct {
	devices   map[int64][]store.Device
	edits     map[int64][]int
	coworkers map[int64][]string
	notes     map[int64][]store.Note
	waiting   map[int64][]store.Scheduled
	during    map[int64][]store.Outside
}

func (d *Documents) changeFacts(ctx context.Context, numbers []int64) (f changeFacts, err error) {
	var errs [6]error
	f.devices, errs[0] = d.Store.DevicesOfChanges(ctx, numbers)
	f.edits, errs[1] = d.Store.EditsOfChanges(ctx, numbers)
	f.coworkers, errs[2] = d.Store.CoworkersOfChanges(ctx, numbers)
	f.notes, errs[3] = d.Store.NotesOfChanges(ctx, numbers)
	f.waiting, errs[4] = d.Store.WaitingOfChanges(ctx, numbers)
	f.during, errs[5] = d.Store.OutsideDuringChanges(ctx, numbers)
	return f, errors.Join(errs[:]...)
}

// Changes tells changes that a person may see, in the order of their numbers as given. An error where one is on a
// device out of the person's reach.
func (d *Documents) Changes(ctx context.Context, p access.Person, numbers []int64) ([]wire.Change, error) {
	out := make([]wire.Change, 0, len(numbers))
	if len(numbers) == 0 {
		return out, nil
	}
	list, err := d.Store.ChangesNow(ctx, numbers)
	if err != nil {
		return nil, err
	}
	facts, err := d.changeFacts(ctx, numbers)
	if err != nil {
		return nil, err
	}
	var during []store.Outside
	for _, of := range facts.during {
		during = append(during, of...)
	}
	names, err := d.outsideDevices(ctx, p, during)
	if err != nil {
		return nil, err
	}
	reach := p.Reach()
	for _, x := range list {
		doc := wire.Change{
			Number: x.Change.Number, Title: x.Change.Title, Ticket: x.Change.Ticket, Author: x.Change.Author,
			State: x.Change.State, Reason: x.Change.Reason, Opened: x.Change.Opened, Updated: x.Change.Updated,
			Devices: []string{}, Coworkers: facts.coworkers[x.Change.Number],
		}
		for _, dev := range facts.devices[doc.Number] {
			if err := reach.Check(dev); err != nil {
				return nil, err
			}
			doc.Devices = append(doc.Devices, dev.Name)
		}
		if n := facts.edits[doc.Number]; len(n) > 0 {
			doc.Edits = n[0]
		}
		for _, n := range facts.notes[doc.Number] {
			doc.Notes = append(doc.Notes, wire.Note{Actor: n.Actor, At: n.At, Text: n.Text})
		}
		if w := facts.waiting[doc.Number]; x.Change.State == lifecycle.Scheduled && len(w) > 0 {
			due := scheduled(w[0])
			due.Title, due.Devices = doc.Title, doc.Devices
			doc.Scheduled = &due
		}
		if x.Commit != nil {
			if s, live := d.liveState(*x.Commit); live {
				doc.State, doc.Reason = engine.ChangeState(s) // as its commit stands, and not as it stood a moment ago
			}
			doc.Commit = d.Commit(*x.Commit)
			if of := facts.during[doc.Number]; len(of) > 0 {
				doc.Meanwhile = outsideList(of, names)
			}
		}
		out = append(out, doc)
	}
	return out, nil
}

func numbersOf(list []store.Change) []int64 {
	out := make([]int64, len(list))
	for i, c := range list {
		out[i] = c.Number
	}
	return out
}

// List tells the changes that a person may see, of those asked for.
func (d *Documents) List(ctx context.Context, p access.Person, q store.ChangeQuery) ([]wire.Change, error) {
	list, err := d.Desk.List(ctx, p, q)
	if err != nil {
		return nil, err
	}
	return d.Changes(ctx, p, numbersOf(list))
}

func scheduled(v store.Scheduled) wire.Scheduled {
	return wire.Scheduled{
		ID: v.ID, Kind: v.Kind, Change: v.Change, Devices: []string{}, At: v.At, Zone: v.Zone,
		LatenessSeconds: int64(v.Lateness / time.Second), Actor: v.Actor, State: v.State, Note: v.Note, Ended: v.Ended,
	}
}

// Scheduled tells something that is or was on the schedule.
func (d *Documents) Scheduled(ctx context.Context, p access.Person, v store.Scheduled) (wire.Scheduled, error) {
	list, err := d.Schedule(ctx, p, nil, []store.Scheduled{v})
	if err == nil && len(list) == 0 {
		err = store.ErrNotFound
	}
	if err != nil {
		return wire.Scheduled{}, err
	}
	return list[0], nil
}

// Schedule tells what of the schedule a person may see; sight is found if nil.
func (d *Documents) Schedule(
	ctx context.Context, p access.Person, sight *store.Sight, list []store.Scheduled,
) ([]wire.Scheduled, error) {
	var numbers []int64
	for _, v := range list {
		if v.Kind == lifecycle.ScheduledCommit {
			numbers = append(numbers, v.Change)
		}
	}
	changes, err := d.Desk.Visible(ctx, p, sight, numbers)
	if err != nil {
		return nil, err
	}
	devices, err := d.Store.DevicesOfChanges(ctx, numbers)
	if err != nil {
		return nil, err
	}
	out := []wire.Scheduled{}
	for _, v := range list {
		doc := scheduled(v)
		if v.Kind == lifecycle.ScheduledRestart {
			dev, err := d.Store.DeviceByID(ctx, p.Reach(), v.Device)
			if store.OutOfReach(err) {
				continue // of a device that is not theirs to see
			}
			if err != nil {
				return nil, err
			}
			doc.Devices = append(doc.Devices, dev.Name)
			out = append(out, doc)
			continue
		}
		ch, theirs := changes[v.Change]
		if !theirs || !reachesAll(p.Reach(), devices[v.Change]) {
			continue // a draft again, and not theirs
		}
		doc.Title = ch.Title
		for _, dev := range devices[v.Change] {
			doc.Devices = append(doc.Devices, dev.Name)
		}
		out = append(out, doc)
	}
	return out, nil
}

func reachesAll(r store.Reach, devices []store.Device) bool {
	for _, dev := range devices {
		if r.Check(dev) != nil {
			return false
		}
	}
	return true
}

// Emergencies tells the commits without the approval they needed that nobody looked at since, or all, of
// changes that a person may see; sight is found if nil.
func (d *Documents) Emergencies(
	ctx context.Context, p access.Person, sight *store.Sight, all bool,
) ([]wire.Emergency, error) {
	list, err := d.Store.Emergencies(ctx, all)
	if err != nil {
		return nil, err
	}
	numbers := make([]int64, len(list))
	for i, e := range list {
		numbers[i] = e.Change
	}
	changes, err := d.Desk.Visible(ctx, p, sight, numbers)
	out := make([]wire.Emergency, 0, len(list))
	for _, e := range list {
		if ch, theirs := changes[e.Change]; theirs {
			out = append(out, wire.Emergency{
				Number: e.ID, Change: e.Change, Title: ch.Title, Actor: e.Actor, Reason: e.Reason, Digest: e.Digest,
				At: e.At, ReviewedBy: e.ReviewedBy, ReviewedAt: e.Reviewed, Review: e.Review,
			})
		}
	}
	return out, err
}
