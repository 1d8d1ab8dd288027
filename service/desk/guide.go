package desk

import (
	"context"
	"errors"

	"oakenlatch/core/advice"
	"oakenlatch/core/complete"
	"oakenlatch/core/stencil"
	"oakenlatch/service/access"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Next helps to write a path on a device: see [guide.Next]. change is the one
// that is being staged, 0 for none.
func (d *Desk) Next(ctx context.Context, p access.Person, device, text string, change int64) ([]complete.Hint, error) {
	dev, err := d.Device(ctx, p.Reach(), device)
	if err != nil {
		return nil, err
	}
	now, err := d.history.Known(ctx, p.Reach(), device)
	if errors.Is(err, store.ErrNotFound) {
		return nil, refusal.New(
			refusal.NotFound, "read it first", "%s was never read", device,
		).Do(advice.ReadConfig, device)
	}
	if err != nil {
		return nil, err
	}
	if change != 0 {
		if r, err := d.resultOf(ctx, p, dev, change); err == nil {
			now = r
		}
	}
	if !p.Grants.May(access.Reveal, dev) {
		now.Running = d.log.Redactor.Tree(now.Running)
	}
	hints, err := complete.Next(now.Schema, now.Running, text)
	if err != nil {
		return nil, refusal.New(refusal.Invalid, "", "%s: %v", device, err)
	}
	return hints, nil
}

// Blank is a blank of a stencil with what it takes on a device.
type Blank struct {
	stencil.Blank
	Type   string
	Values []string
	Help   string
}

// Blanks lists a stencil's blanks; by a device's schema where one is named.
func (d *Desk) Blanks(ctx context.Context, p access.Person, text, device string) ([]Blank, error) {
	st, err := stencil.Parse(text)
	if err != nil {
		return nil, refusal.New(refusal.Invalid, "", "%v", err)
	}
	var out []Blank
	for _, b := range st.Blanks() {
		out = append(out, Blank{Blank: b})
	}
	if device == "" {
		return out, nil
	}
	now, err := d.history.Known(ctx, p.Reach(), device)
	if errors.Is(err, store.ErrNotFound) {
		return nil, refusal.New(
			refusal.NotFound, "list them", "there is no device %q that was ever read", device,
		).Do(advice.ListDevices)
	}
	if err != nil {
		return nil, err
	}
	places, err := st.Places(now.Schema)
	if err != nil {
		return nil, refusal.New(refusal.Invalid, "", "%s: %v", device, err)
	}
	for i := range out {
		key := out[i].Name
		if out[i].Shared {
			key = "@" + key
		}
		at, ok := places[key]
		if !ok {
			continue
		}
		out[i].Type, out[i].Values, out[i].Help = complete.Describe(now.Schema, at.Node.Type), complete.Values(
			now.Schema, d.log.Redactor.Tree(now.Running), at.Node.Type,
		), at.Node.Description
		if !at.Whole {
			out[i].Type, out[i].Values = "part of "+out[i].Type, nil
		}
	}
	return out, nil
}
