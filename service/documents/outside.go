package documents

import (
	"context"
	"encoding/json"

	"oakenlatch/service/access"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// mostOutside is how many outside changes are listed at once.
const mostOutside = 500

func outside(o store.Outside, dev store.Device) wire.Outside {
	out := wire.Outside{
		Number: o.ID, Device: dev.Name, Site: dev.Site, Revision: o.Revision, Before: o.Before, Since: o.Since,
		Found: o.Found, DeviceAt: o.DeviceAt, ClockOff: o.ClockOff, Account: o.Account, Session: o.Session,
		Address: o.Address, Who: o.Who, Told: []string{}, Places: o.Places, During: o.During, State: o.State,
		DecidedBy: o.DecidedBy, DecidedAt: o.DecidedAt, Note: o.Note, Change: o.Change,
	}
	if err := json.Unmarshal([]byte(o.Told), &out.Told); err != nil || out.Told == nil {
		out.Told = []string{}
	}
	return out
}

// Outside tells one outside change.
func (d *Documents) Outside(ctx context.Context, p access.Person, o store.Outside) (wire.Outside, error) {
	dev, err := d.Store.DeviceByID(ctx, p.Reach(), o.Device)
	return outside(o, dev), err
}

// Outsides tells the outside changes of a device, 0 for all of them, newest first: those that are to be
// decided, or the newest of all.
func (d *Documents) Outsides(ctx context.Context, p access.Person, device int64, open bool) ([]wire.Outside, error) {
	list, err := d.Store.OutsideOf(ctx, device, open, mostOutside)
	if err != nil {
		return nil, err
	}
	names, err := d.outsideDevices(ctx, p, list)
	return outsideList(list, names), err
}

// outsideDevices gives the devices within a person's reach that outside changes are about.
func (d *Documents) outsideDevices(
	ctx context.Context, p access.Person, list []store.Outside,
) (map[int64]store.Device, error) {
	out := map[int64]store.Device{}
	if len(list) == 0 {
		return out, nil
	}
	devices, err := d.Store.DevicePlaces(ctx, p.Reach())
	for _, dev := range devices {
		out[dev.ID] = dev
	}
	return out, err
}

// outsideList leaves out what is about devices that are not the person's to see.
func outsideList(list []store.Outside, devices map[int64]store.Device) []wire.Outside {
	out := make([]wire.Outside, 0, len(list))
	for _, o := range list {
		if dev, theirs := devices[o.Device]; theirs {
			out = append(out, outside(o, dev))
		}
	}
	return out
}
