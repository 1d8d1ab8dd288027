package documents

import (
	"context"

	"oakenlatch/core/redact"
	"oakenlatch/service/access"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// Page makes the documents of one answer, each as its person may see it. What many of them need (a device, who may
// see its secrets, a change's title) is read once. It is for one goroutine.
type Page struct {
	*Documents
	ctx    context.Context
	person access.Person

	devices map[string]*knownDevice
	names   map[int64]string
	changes map[int64]store.Change
}

// knownDevice is a device that a page tells of. One that is not to be found hides all its secrets.
type knownDevice struct {
	store.Device
	found    bool
	redactor *redact.Redactor
}

// Page begins the documents of an answer to a person.
func (d *Documents) Page(ctx context.Context, p access.Person) *Page {
	return &Page{
		Documents: d, ctx: ctx, person: p, devices: map[string]*knownDevice{}, names: map[int64]string{},
		changes: map[int64]store.Change{},
	}
}

// Redactor gives what hides a device's secret values from the person: nil where they may see them.
func (p *Page) Redactor(d store.Device) *redact.Redactor {
	if p.person.Grants.May(access.Reveal, d) {
		return nil
	}
	return p.Log.Redactor
}

// RedactorOf is the same by the device's name; of one that is not to be found all is hidden.
func (p *Page) RedactorOf(device string) *redact.Redactor { return p.known(device).redactor }

func (p *Page) known(device string) *knownDevice {
	k := p.devices[device]
	if k == nil {
		k = &knownDevice{redactor: p.Log.Redactor}
		if d, err := p.Store.Device(p.ctx, p.person.Sight(), device); err == nil {
			k.Device, k.found, k.redactor = d, true, p.Redactor(d)
		}
		p.devices[device] = k
	}
	return k
}

// know reads changes that documents name, at once.
func (p *Page) know(numbers []int64) error {
	list, err := p.Store.ChangesNow(p.ctx, numbers)
	for _, x := range list {
		p.changes[x.Change.Number] = x.Change
	}
	return err
}

// change is one that documents name; none has the number 0.
func (p *Page) change(n int64) (store.Change, error) {
	if have, ok := p.changes[n]; ok || n == 0 {
		return have, nil
	}
	ch, err := p.Store.Change(p.ctx, n)
	p.changes[n] = ch
	return ch, err
}

// Edit tells of an edit, with a name in the place of a secret value.
func (p *Page) Edit(device string, e store.Edit) wire.Edit {
	out := wire.Edit{
		ID: e.ID, Device: device, Op: e.Op, Path: e.Path, Value: e.Value, Mode: e.Mode, Source: e.Source,
		Lines: e.Lines, Actor: e.Actor, At: e.At,
	}
	k := p.known(device)
	if k.redactor == nil {
		return out
	}
	if k.found {
		if s, err := p.Fleet.Schema(p.ctx, k.Device); err == nil {
			out.Path, out.Value = k.redactor.Edit(s, e.Path, e.Value)
			return out
		}
	}
	if out.Value != "" {
		out.Value = k.redactor.Name(out.Value)
	}
	return out
}

// Edits tells of edits on devices that the person may see; of another it is an error.
func (p *Page) Edits(list []store.Edit) ([]wire.Edit, error) {
	out := make([]wire.Edit, 0, len(list))
	for _, e := range list {
		if p.names[e.Device] == "" {
			d, err := p.Store.DeviceByID(p.ctx, p.person.Reach(), e.Device)
			if err != nil {
				return nil, err
			}
			p.names[e.Device] = d.Name
		}
		out = append(out, p.Edit(p.names[e.Device], e))
	}
	return out, nil
}
