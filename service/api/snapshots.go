package api

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"oakenlatch/core/advice"

	"oakenlatch/service/access"
	"oakenlatch/service/history"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// snapshotDoc tells of a snapshot. One that a commit took is called after its change: who may not see that
// is told its number alone.
func (a *API) snapshotDoc(c *call, s store.Snapshot) (wire.Snapshot, error) {
	if s.Change != 0 && !c.person.Grants.Everywhere(access.Read) {
		devices, err := a.Store.ChangeDevices(c.ctx, store.Everything, s.Change)
		if err != nil {
			return wire.Snapshot{}, err
		}
		if slices.ContainsFunc(devices, func(d store.Device) bool { return !c.person.Grants.May(access.Read, d) }) {
			s.Name, s.Note = fmt.Sprintf("Before change %d", s.Change), ""
		}
	}
	return wire.Snapshot{
		Number: s.Number, Name: s.Name, Note: s.Note, Actor: s.Actor, At: s.At, Change: s.Change,
		Protected: s.Protected, Retired: s.Retired, RetiredBy: s.RetiredBy, Devices: s.Devices,
	}, nil
}

func (a *API) takenDoc(c *call, t history.Taken) (wire.Snapshot, error) {
	out, err := a.snapshotDoc(c, t.Snapshot)
	for _, i := range t.Items {
		out.Items = append(
			out.Items, wire.SnapshotItem{Device: i.Device.Name, Revision: i.Revision, At: i.At, Unclean: i.Unclean},
		)
		out.Unclean = out.Unclean || len(i.Unclean) > 0
	}
	return out, err
}

func (a *API) snapshots(c *call) (any, error) {
	device, err := a.deviceQuery(c)
	if err != nil {
		return nil, err
	}
	list, err := a.Store.Snapshots(c.ctx, device)
	out := make([]wire.Snapshot, 0, len(list))
	for _, s := range list {
		if s.Retired.IsZero() || c.QueryParam("retired") == "true" {
			doc, derr := a.snapshotDoc(c, s)
			if derr != nil {
				return nil, derr
			}
			out = append(out, doc)
		}
	}
	return out, err
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
	return a.takenDoc(c, t)
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
	return a.takenDoc(c, t)
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
	return a.takenDoc(c, t)
}
