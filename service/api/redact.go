package api

import (
	"oakenlatch/core/redact"
	"oakenlatch/service/access"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// redactor gives what hides a device's secret values from whoever asks: nil for those
// who may see them.
func (a *API) redactor(c *call, d store.Device) *redact.Redactor {
	if c.person.Grants.May(access.Reveal, d) {
		return nil
	}
	return a.Log.Redactor
}

// redactorOf is the same by the device's name; of one that is not to be found all is
// hidden.
func (a *API) redactorOf(c *call, device string) *redact.Redactor {
	d, err := a.Store.Device(c.ctx, c.person.Sight(), device)
	if err != nil {
		return a.Log.Redactor
	}
	return a.redactor(c, d)
}

// editDoc tells of an edit, with a name in the place of a secret value.
func (a *API) editDoc(c *call, device string, e store.Edit) wire.Edit {
	out := wire.Edit{
		ID: e.ID, Device: device, Op: e.Op, Path: e.Path, Value: e.Value, Mode: e.Mode, Source: e.Source,
		Lines: e.Lines, Actor: e.Actor, At: e.At,
	}
	v := a.redactorOf(c, device)
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
