package api

import (
	"oakenlatch/core/veil"
	"oakenlatch/service/access"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// veil gives what hides a device's secret values from whoever asks: nil for those
// who may see them.
func (a *API) veil(c *call, d store.Device) *veil.Veil {
	if c.person.Grants.May(access.Reveal, d) {
		return nil
	}
	return a.Log.Veil
}

// veilOf is the same by the device's name; of one that is not to be found all is
// hidden.
func (a *API) veilOf(c *call, device string) *veil.Veil {
	d, err := a.Store.Device(c.ctx, c.person.Sight(), device)
	if err != nil {
		return a.Log.Veil
	}
	return a.veil(c, d)
}

// editDoc tells of an edit, with a name in the place of a secret value.
func (a *API) editDoc(c *call, device string, e store.Edit) wire.Edit {
	out := wire.Edit{ID: e.ID, Device: device, Op: e.Op, Path: e.Path, Value: e.Value, Mode: e.Mode, Source: e.Source, Lines: e.Lines, Actor: e.Actor, At: e.At}
	v := a.veilOf(c, device)
	if v == nil {
		return out
	}
	d, err := a.Store.Device(c.ctx, c.person.Sight(), device)
	if err == nil {
		s, serr := a.Fleet.Schema(c.ctx, d)
		if serr == nil {
			out.Path, out.Value = v.Edit(s, e.Path, e.Value)
			return out
		}
	}
	if out.Value != "" {
		out.Value = v.Name(out.Value)
	}
	return out
}
