package documents

import (
	"context"
	"strings"
	"time"

	"oakenlatch/service/access"
	"oakenlatch/service/fleet"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// clockTolerance is how far a device's clock may be off before it is said.
const clockTolerance = 30 * time.Second

// Clock tells a device's clock.
func Clock(device string, c store.Clock) wire.Clock {
	return wire.Clock{
		Device: device, AheadSeconds: c.Ahead.Seconds(), Off: c.Ahead.Abs() > clockTolerance, Read: c.Read,
	}
}

// Guard tells by what guard a device can be changed.
func Guard(g fleet.Guard) wire.Guard {
	return wire.Guard{Guard: g.Name(), GuardWhy: g.Why, Risk: g.Risk, Untried: g.Untried}
}

// Reservation tells who has a device for themselves.
func Reservation(device string, v store.Reservation) wire.Reservation {
	out := wire.Reservation{Device: device, Holder: v.Holder, Reason: v.Reason, Made: v.Made, Until: v.Until}
	for _, x := range v.Asks {
		out.Asks = append(out.Asks, wire.Note{Actor: x.Actor, At: x.At, Text: x.Text})
	}
	return out
}

// Reservations tells those in force, of devices that a person may see.
func (d *Documents) ReservationList(ctx context.Context, p access.Person) ([]wire.Reservation, error) {
	list, err := d.Reservations.List(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]wire.Reservation, 0, len(list))
	for _, v := range list {
		dev, err := d.Store.DeviceByID(ctx, p.Reach(), v.Device)
		if store.OutOfReach(err) {
			continue // not theirs to see
		}
		if err != nil {
			return nil, err
		}
		out = append(out, Reservation(dev.Name, v))
	}
	return out, nil
}

// Device tells a device, with what of its modules cannot be read.
func (d *Documents) Device(ctx context.Context, dev store.Device) (wire.Device, error) {
	list, err := d.these(ctx, []store.Device{dev})
	if err != nil {
		return wire.Device{}, err
	}
	if dev.ModuleSet == "" {
		return list[0], nil
	}
	s, err := d.Fleet.Schema(ctx, dev)
	if err != nil {
		return list[0], nil // that is told as its trouble
	}
	for _, p := range s.Problems {
		list[0].Unread = append(list[0].Unread, p.String())
	}
	return list[0], nil
}

// Devices tells all devices that a person may see.
func (d *Documents) Devices(ctx context.Context, p access.Person) ([]wire.Device, error) {
	list, err := d.Store.Devices(ctx, p.Reach())
	if err != nil {
		return nil, err
	}
	return d.these(ctx, list)
}

// these tells devices.
func (d *Documents) these(ctx context.Context, list []store.Device) ([]wire.Device, error) {
	out := make([]wire.Device, 0, len(list))
	if len(list) == 0 {
		return out, nil
	}
	ids := make([]int64, len(list))
	for i, dev := range list {
		ids[i] = dev.ID
	}
	revisions, err := d.Store.RevisionNumbers(ctx, ids)
	if err != nil {
		return nil, err
	}
	reservations, err := d.Reservations.List(ctx)
	if err != nil {
		return nil, err
	}
	reserved := map[int64]*wire.Reservation{}
	for _, v := range reservations {
		reserved[v.Device] = &wire.Reservation{}
		for _, dev := range list {
			if dev.ID == v.Device {
				*reserved[v.Device] = Reservation(dev.Name, v)
			}
		}
	}
	for _, dev := range list {
		doc := wire.Device{
			Name: dev.Name, Address: dev.Address, Account: dev.Account, Auth: dev.Auth, Site: dev.Site, Role: dev.Role,
			Tags: append([]string{}, dev.Tags...), Trusted: dev.HostKey != "", Seen: dev.Seen, Trouble: dev.Trouble,
			Model: dev.Model, Serial: dev.Serial, Unsaved: dev.Unsaved, Save: !dev.NoSave,
			Guard: Guard(fleet.GuardOf(dev.Capabilities)), HeldBy: d.Engine.Holder(dev.ID), SeenAs: dev.SeenAs,
			SeenFrom: dev.SeenFrom, Revision: revisions[dev.ID], Reserved: reserved[dev.ID],
		}
		if dev.Clock != nil {
			clock := Clock("", *dev.Clock)
			doc.Clock = &clock
		}
		if dev.Via != "" {
			doc.Via = strings.Split(dev.Via, ",")
		}
		if dev.ModuleSet != "" {
			if s, err := d.Fleet.Schema(ctx, dev); err != nil { // the others are to be seen all the same
				doc.Trouble = "what its modules say cannot be read from the records: " + err.Error()
			} else {
				doc.Modules = len(s.Modules)
			}
		}
		out = append(out, doc)
	}
	return out, nil
}

// inNeed tells the devices that need somebody: first those whose running is not saved, then those in trouble.
func (d *Documents) inNeed(ctx context.Context, p access.Person) (unsaved, trouble []wire.Device, err error) {
	list, err := d.Store.DevicesInNeed(ctx, p.Reach())
	if err != nil {
		return nil, nil, err
	}
	kinds, err := d.Store.DevicesByModules(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, one := range kinds {
		if _, err := d.Fleet.Schema(ctx, one); err == nil {
			continue
		}
		more, err := d.Store.DevicesWith(ctx, p.Reach(), one.ModuleSet) // whose modules cannot be read from the records
		if err != nil {
			return nil, nil, err
		}
		list = append(list, more...)
	}
	docs, err := d.these(ctx, list)
	if err != nil {
		return nil, nil, err
	}
	seen := map[string]bool{}
	for _, doc := range docs {
		if seen[doc.Name] {
			continue
		}
		seen[doc.Name] = true
		if doc.Unsaved && doc.HeldBy == 0 {
			unsaved = append(unsaved, doc)
		}
		if doc.Trouble != "" || !doc.Trusted {
			trouble = append(trouble, doc)
		}
	}
	return unsaved, trouble, nil
}
