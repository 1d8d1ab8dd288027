package api

import (
	"errors"
	"slices"
	"strings"

	"oakenlatch/core/advice"
	"oakenlatch/service/history"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

func (a *API) snapshots(c *call) (any, error) {
	device, err := a.deviceQuery(c)
	if err != nil {
		return nil, err
	}
	list, err := a.Store.Snapshots(c.ctx, device)
	if err != nil {
		return nil, err
	}
	if c.QueryParam("retired") != "true" {
		list = slices.DeleteFunc(list, func(s store.Snapshot) bool { return !s.Retired.IsZero() })
	}
	return a.page(c).Snapshots(list)
}

// some gives the devices that a request means: those named, of a site, or all.
func (a *API) some(c *call, names []string, site string, all bool) ([]store.Device, error) {
	if n := min(len(names), 1) + min(len(site), 1); n > 1 || n == 1 && all {
		return nil, refusal.New(refusal.Invalid, "", "name devices, or a site, or say all: one of these")
	}
	list, err := a.Store.Devices(c.ctx, c.person.Reach())
	if err != nil {
		return nil, err
	}
	switch {
	case len(names) > 0:
		var out []store.Device
		for _, name := range names {
			i := slices.IndexFunc(list, func(d store.Device) bool { return d.Name == name })
			if i < 0 {
				return nil, refusal.NoDevice(name)
			}
			if !slices.ContainsFunc(out, func(d store.Device) bool { return d.Name == name }) {
				out = append(out, list[i])
			}
		}
		return out, nil
	case site != "":
		list = slices.DeleteFunc(list, func(d store.Device) bool { return !strings.EqualFold(d.Site, site) })
		if len(list) == 0 {
			return nil, refusal.New(
				refusal.NotFound, "see the sites", "there is no device at site %q", site,
			).Do(advice.ListDevices)
		}
	case !all:
		return nil, refusal.New(refusal.Invalid, "name devices, a site, or say all", "no device is named")
	}
	return list, nil
}

func (a *API) takeSnapshot(c *call) (any, error) {
	var in wire.NewSnapshot
	if err := c.read(&in); err != nil {
		return nil, err
	}
	devices, err := a.some(c, in.Devices, in.Site, in.All)
	if err != nil {
		return nil, err
	}
	t, err := a.History.Snapshot(c.ctx, c.person.Name, in.Name, in.Note, devices)
	if err != nil {
		return nil, err
	}
	return a.page(c).Taken(t)
}

func (a *API) snapshotParam(c *call) (store.Snapshot, error) {
	return a.History.FindSnapshot(c.ctx, c.Param("ref"))
}

func (a *API) snapshot(c *call) (any, error) {
	s, err := a.snapshotParam(c)
	if err != nil {
		return nil, err
	}
	t, err := a.History.TakenOf(c.ctx, c.person.Reach(), s.Number)
	if err != nil {
		return nil, err
	}
	return a.page(c).Taken(t)
}

func (a *API) relabel(c *call) (any, error) {
	s, err := a.snapshotParam(c)
	if err != nil {
		return nil, err
	}
	var in wire.Relabel
	if err := c.read(&in); err != nil {
		return nil, err
	}
	seen, serr := a.History.TakenOf(c.ctx, c.person.Reach(), s.Number)
	all, aerr := a.History.TakenOf(c.ctx, store.Everything, s.Number)
	if err := errors.Join(serr, aerr); err != nil {
		return nil, err
	}
	if len(seen.Items) != len(all.Items) {
		return nil, refusal.New(
			refusal.Forbidden, "ask an administrator", "snapshot %d holds devices on which account %s may not stage",
			s.Number, c.person.Name,
		)
	}
	t, err := a.History.Relabel(
		c.ctx, c.person.Reach(), c.person.Name, s.Number,
		history.Relabel{Name: in.Name, Note: in.Note, Protected: in.Protected, Retired: in.Retired},
	)
	if err != nil {
		return nil, err
	}
	return a.page(c).Taken(t)
}
