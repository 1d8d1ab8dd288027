package desk

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"slices"
	"strings"

	"oakenlatch/core/guard"
	"oakenlatch/core/lockout"
	"oakenlatch/service/fleet"
	"oakenlatch/service/store"
)

// Forecast is the lockout forecast for a device: the part's own, or one behind
// it.
type Forecast struct {
	Device string
	lockout.Verdict
}

// Helpless reports whether a part is forecast to cut its device off with
// nobody left to revert it.
func (v Verdict) Helpless() bool {
	return v.Guard.Keeper == guard.ByService && len(v.Forecasts) > 0 && v.Forecasts[0].Answer == lockout.Cuts
}

// way gives how management packets go to a device, as far as it is known: what
// a person told, else what the device itself told, else what we connect with.
func way(d store.Device) lockout.ManagementPath {
	w := lockout.ManagementPath{Account: d.Account}
	seenAs := d.SeenAs
	if seenAs == "" {
		seenAs = d.Address
	}
	w.Address, w.Port = endpoint(seenAs)
	from := d.SeenFrom
	if from == "" {
		from = d.ToldFrom
	}
	if a, err := netip.ParseAddr(from); err == nil {
		w.Us = a.Unmap()
	}
	return w
}

// seenBy is way, with us where it is not known how the device sees us.
func seenBy(d store.Device, us netip.Addr) lockout.ManagementPath {
	w := way(d)
	if !w.Us.IsValid() {
		w.Us = us
	}
	return w
}

// endpoint is Endpoint for what may also be a name, which is nowhere.
func endpoint(text string) (netip.Addr, uint16) {
	a, port, err := Endpoint(text)
	if err != nil {
		return netip.Addr{}, 0
	}
	return a.Unmap(), port
}

// forecast works out for every part whether it cuts our way to its device, or
// to any device behind it.
func (d *Desk) forecast(ctx context.Context, list []Verdict) error {
	if len(list) == 0 {
		return nil
	}
	devices, err := d.store.Devices(ctx, store.Everything) // the way to a device leads where it leads, whoever asks
	if err != nil {
		return err
	}
	var us netip.Addr // as some device sees us
	for i := range list {
		v := &list[i]
		j := slices.IndexFunc(devices, func(x store.Device) bool { return x.ID == v.work.Device.ID })
		if j < 0 || !v.Read {
			v.Forecasts = []Forecast{
				{v.Device, lockout.Verdict{Answer: lockout.Unknown, Because: "the device could not be read"}},
			}
			continue
		}
		if v.from != "" {
			devices[j].ToldFrom = v.from
		}
		w := way(devices[j])
		switch {
		case v.work.MovesSeenAs != "":
			w.Moved, _ = endpoint(v.work.MovesSeenAs)
		case v.MovesTo != "":
			w.Moved, _ = endpoint(v.MovesTo)
		}
		v.Forecasts = []Forecast{{v.Device, lockout.Forecast(v.running, v.result, w)}}
		if !us.IsValid() {
			us = w.Us
		}
	}
	return d.behind(ctx, list, devices, us)
}

// behind adds the forecasts for devices whose way leads through those of the
// change. A device of which it is not known how it sees us is taken to see us as
// the others do.
func (d *Desk) behind(ctx context.Context, list []Verdict, devices []store.Device, us netip.Addr) error {
	if len(devices) < 2 {
		return nil
	}
	ways, err := d.ways(ctx, devices, us)
	if err != nil {
		return err
	}
	for i := range list {
		v := &list[i]
		if !v.Read {
			continue
		}
		for _, b := range devices {
			if slices.Contains(ways[b.Name], v.Device) {
				v.Forecasts = append(v.Forecasts, Forecast{b.Name, lockout.Transit(v.running, v.result, seenBy(b, us))})
			}
		}
	}
	return nil
}

// mostLearned is up to how many devices the ways between them are learned from
// their configurations.
const mostLearned = 500

// ways tells through which devices the way to each one leads: as a person told,
// or by whose address the device sends its answers to.
func (d *Desk) ways(ctx context.Context, devices []store.Device, us netip.Addr) (map[string][]string, error) {
	out := map[string][]string{}
	owner := map[netip.Addr]string{}
	hop := map[string]netip.Addr{}
	for _, dev := range devices {
		if dev.Via != "" {
			out[dev.Name] = strings.Split(dev.Via, ",")
		}
		if len(devices) > mostLearned || dev.ModuleSet == "" {
			continue
		}
		known, err := d.history.Known(ctx, store.Everything, dev.Name)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		for _, a := range lockout.Addresses(known.Running) {
			owner[a] = dev.Name
		}
		if w := seenBy(dev, us); w.Us.IsValid() {
			hop[dev.Name] = lockout.NextHop(known.Running, w.Us)
		}
	}
	for _, dev := range devices {
		if dev.Via != "" {
			continue
		}
		seen := map[string]bool{dev.Name: true}
		for at := owner[hop[dev.Name]]; at != "" && !seen[at]; at = owner[hop[at]] {
			seen[at] = true
			out[dev.Name] = append(out[dev.Name], at)
		}
	}
	return out, nil
}

// askFrom learns from a device by which address it sees us (RFC 6022,
// source-host); "" where it does not tell.
func (d *Desk) askFrom(ctx context.Context, dev store.Device) string {
	from := ""
	err := d.fleet.Reading(ctx, store.Everything, dev.Name, func(ctx context.Context, s *fleet.Session) error {
		list, err := s.Visitors(ctx)
		for _, v := range list {
			if v.Own {
				from = v.Source
			}
		}
		if host, _, serr := net.SplitHostPort(s.Local); err != nil && serr == nil {
			from = host // no address translation on the way, as far as one can tell
		}
		return nil
	})
	if err != nil || from == "" || from == dev.ToldFrom {
		return from
	}
	_ = d.store.Write(ctx, func(tx *store.Tx) error { return tx.SetToldFrom(dev.ID, from) }) // asked again next time
	return from
}
