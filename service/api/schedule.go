package api

import (
	"errors"
	"strconv"
	"sync"
	"time"

	"oakenlatch/service/fleet"
	"oakenlatch/service/order"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// clockTolerance is how far a device's clock may be off before it is said.
const clockTolerance = 30 * time.Second

// when reads a time to come, with its zone.
func when(in wire.NewDue) order.When {
	zone := in.Zone
	if zone == "" {
		zone = in.At.Format("-07:00")
	}
	if len(zone) > 64 {
		zone = zone[:64]
	}
	return order.When{At: in.At.UTC(), Zone: zone, Lateness: seconds(in.LatenessSeconds)}
}

func clockDoc(device string, c store.Clock) wire.Clock {
	return wire.Clock{Device: device, AheadSeconds: c.Ahead.Seconds(), Off: c.Ahead.Abs() > clockTolerance, Read: c.Read}
}

// clocks reads the clocks of devices, all at once.
func (a *API) clocks(c *call, devices []store.Device) []wire.Clock {
	out := make([]wire.Clock, len(devices))
	var wg sync.WaitGroup
	for i, d := range devices {
		wg.Go(func() {
			clock, err := a.Engine.Clock(c.ctx, d)
			out[i] = clockDoc(d.Name, clock)
			if errors.Is(err, fleet.ErrNotTold) {
				err = fleet.ErrNotTold
			}
			if err != nil {
				out[i] = wire.Clock{Device: d.Name, Trouble: err.Error()}
			}
		})
	}
	wg.Wait()
	return out
}

// schedule puts a change's commit on the schedule.
func (a *API) schedule(c *call) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	var in wire.NewDue
	if err := c.read(&in); err != nil {
		return nil, err
	}
	if in.Commit == nil {
		return nil, refusal.New(refusal.Invalid, "give commit", "how it is to be committed is not said")
	}
	o, err := orderOf(*in.Commit)
	if err != nil {
		return nil, err
	}
	v, devices, err := a.Commits.Schedule(c.ctx, c.person, n, o, when(in))
	if err != nil {
		return nil, err
	}
	doc, err := a.dueDoc(c, v)
	if err != nil {
		return nil, err
	}
	doc.Clocks = a.clocks(c, devices)
	return doc, nil
}

func (a *API) scheduleRestart(c *call) (any, error) {
	d, err := a.deviceParam(c)
	if err != nil {
		return nil, err
	}
	var in wire.NewDue
	if err := c.read(&in); err != nil {
		return nil, err
	}
	if in.Commit != nil {
		return nil, refusal.New(refusal.Invalid, "", "a restart is not committed")
	}
	v, err := a.Commits.ScheduleRestart(c.ctx, c.person.Name, d, when(in))
	if err != nil {
		return nil, err
	}
	doc, err := a.dueDoc(c, v)
	doc.Clocks = a.clocks(c, []store.Device{d})
	return doc, err
}

func (a *API) dueDoc(c *call, v store.Scheduled) (wire.Due, error) {
	out := wire.Due{
		ID: v.ID, Kind: v.Kind, Change: v.Change, Devices: []string{}, At: v.At, Zone: v.Zone, LatenessSeconds: int64(v.Lateness / time.Second),
		Actor: v.Actor, State: v.State, Note: v.Note, Ended: v.Ended,
	}
	if v.Kind == "restart" {
		d, err := a.Store.DeviceByID(c.ctx, c.person.Reach(), v.Device)
		out.Devices = append(out.Devices, d.Name)
		return out, err
	}
	ch, err := a.Store.Change(c.ctx, v.Change)
	if err != nil {
		return out, err
	}
	out.Title = ch.Title
	parts, err := a.Store.Parts(c.ctx, v.Change)
	for _, p := range parts {
		d, derr := a.Store.DeviceByID(c.ctx, c.person.Reach(), p.Device)
		err = errors.Join(err, derr)
		out.Devices = append(out.Devices, d.Name)
	}
	return out, err
}

// dueOf gives what of a change waits on the schedule, nil if nothing does.
func (a *API) dueOf(c *call, change int64) (*wire.Due, error) {
	list, err := a.Store.Waiting(c.ctx)
	if err != nil {
		return nil, err
	}
	for _, v := range list {
		if v.Kind == "commit" && v.Change == change {
			doc, err := a.dueDoc(c, v)
			return &doc, err
		}
	}
	return nil, nil
}

// scheduled lists the schedule, of what the person may see.
func (a *API) scheduled(c *call) (any, error) {
	list, err := a.Store.Schedule(c.ctx, 200)
	if err != nil {
		return nil, err
	}
	return a.dueDocs(c, list)
}

func (a *API) dueDocs(c *call, list []store.Scheduled) ([]wire.Due, error) {
	out := []wire.Due{}
	for _, v := range list {
		if v.Kind == "commit" {
			var no *refusal.Error
			if _, err := a.Desk.Get(c.ctx, c.person, v.Change); errors.As(err, &no) {
				continue // a draft again, and not theirs
			} else if err != nil {
				return nil, err
			}
		}
		doc, err := a.dueDoc(c, v)
		if store.OutOfReach(err) {
			continue // of a device that is not theirs to see
		}
		if err != nil {
			return nil, err
		}
		out = append(out, doc)
	}
	return out, nil
}

func (a *API) unschedule(c *call) (any, error) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return nil, refusal.New(refusal.Invalid, "see latch schedule", "%q is not a number of the schedule", c.Param("id"))
	}
	return nil, a.Commits.Unschedule(c.ctx, c.person, id)
}
