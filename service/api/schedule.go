package api

import (
	"errors"
	"strconv"
	"sync"

	"oakenlatch/core/advice"
	"oakenlatch/service/documents"
	"oakenlatch/service/fleet"
	"oakenlatch/service/order"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// when reads a time to come, with its zone.
func when(in wire.NewSchedule) order.When {
	zone := in.Zone
	if zone == "" {
		zone = in.At.Format("-07:00")
	}
	if len(zone) > 64 {
		zone = zone[:64]
	}
	return order.When{At: in.At.UTC(), Zone: zone, Lateness: seconds(in.LatenessSeconds)}
}

// clocks reads the clocks of devices, all at once.
func (a *API) clocks(c *call, devices []store.Device) []wire.Clock {
	out := make([]wire.Clock, len(devices))
	var wg sync.WaitGroup
	for i, d := range devices {
		wg.Go(func() {
			clock, err := a.Engine.Clock(c.ctx, d)
			out[i] = documents.Clock(d.Name, clock)
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
	var in wire.NewSchedule
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
	doc, err := a.Documents.Scheduled(c.ctx, c.person, v)
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
	var in wire.NewSchedule
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
	doc, err := a.Documents.Scheduled(c.ctx, c.person, v)
	doc.Clocks = a.clocks(c, []store.Device{d})
	return doc, err
}

// scheduled lists the schedule, of what the person may see.
func (a *API) scheduled(c *call) (any, error) {
	list, err := a.Store.Schedule(c.ctx, 200)
	if err != nil {
		return nil, err
	}
	return a.Documents.Schedule(c.ctx, c.person, nil, list)
}

func (a *API) unschedule(c *call) (any, error) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return nil, refusal.New(
			refusal.Invalid, "see what waits", "%q is not a number of the schedule", c.Param("id"),
		).Do(advice.ShowSchedule)
	}
	return nil, a.Commits.Unschedule(c.ctx, c.person, id)
}
