package desk

import (
	"context"
	"errors"
	"fmt"

	"oakenlatch/core/check"
	"oakenlatch/core/diff"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/service/access"
	"oakenlatch/service/fleet"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Work is a part ready to be looked at or committed.
type Work struct {
	Device store.Device
	Schema *schema.Schema
	Base   store.Revision
	Former *tree.Node // what the base revision holds
	Mine   *tree.Node // that with the part's edits
	Edits  []store.Edit
	Idle   []store.Edit // those that set what was so already

	fresh bool // the part is not in the records yet
}

// work gives a change's part on a device. A part that is not there yet starts
// from what the device holds now.
func (d *Desk) work(ctx context.Context, c store.Change, device, actor string) (Work, error) {
	dev, err := d.store.Device(ctx, device)
	if errors.Is(err, store.ErrNotFound) {
		return Work{}, refusal.New(refusal.NotFound, "list them with: latch devices", "there is no device %q", device)
	}
	if err != nil {
		return Work{}, err
	}
	parts, err := d.store.Parts(ctx, c.Number)
	if err != nil {
		return Work{}, err
	}
	for _, p := range parts {
		if p.Device == dev.ID {
			return d.part(ctx, p, dev)
		}
	}
	r, err := d.history.Read(ctx, device, actor)
	if err != nil {
		return Work{}, err
	}
	return Work{Device: r.Device, Schema: r.Schema, Base: r.Revision, Former: r.Running, Mine: r.Running, fresh: true}, nil
}

// part gives a recorded part with its edits applied.
func (d *Desk) part(ctx context.Context, p store.Part, dev store.Device) (Work, error) {
	w := Work{Device: dev}
	s, err := d.history.Known(ctx, dev.Name)
	if err != nil {
		return w, err
	}
	w.Schema = s.Schema
	if w.Base, err = d.store.Revision(ctx, p.Device, p.Base); err != nil {
		return w, err
	}
	if w.Former, err = d.history.Tree(ctx, w.Schema, w.Base.Digest); err != nil {
		return w, err
	}
	all, err := d.store.Edits(ctx, p.Change)
	if err != nil {
		return w, err
	}
	w.Mine = w.Former
	for _, e := range all {
		if e.Device != p.Device {
			continue
		}
		w.Edits = append(w.Edits, e)
		before := w.Mine
		path, perr := tree.ParsePath(w.Schema, e.Path)
		if perr == nil {
			w.Mine, perr = tree.Apply(w.Mine, document(e.Op, path, e.Value), tree.None)
		}
		if perr == nil && tree.Same(before, w.Mine) {
			w.Idle = append(w.Idle, e)
		}
		if perr != nil {
			return w, refusal.New(refusal.Conflict, fmt.Sprintf("take it back with: latch unstage %d %d", p.Change, e.ID),
				"%s: edit %d of change %d no longer fits: %v", dev.Name, e.ID, p.Change, perr)
		}
	}
	return w, nil
}

// Parts gives all parts of a change with their edits applied.
func (d *Desk) Parts(ctx context.Context, number int64) ([]Work, error) {
	parts, err := d.store.Parts(ctx, number)
	if err != nil {
		return nil, err
	}
	var out []Work
	for _, p := range parts {
		dev, err := d.store.DeviceByID(ctx, p.Device)
		if err != nil {
			return nil, err
		}
		w, err := d.part(ctx, p, dev)
		if err != nil {
			return nil, err
		}
		out = append(out, w)
	}
	return out, nil
}

// Verdict is the preview of one part.
type Verdict struct {
	Device     string
	Base       int64 // revision
	Edits      []store.Edit
	Difference *diff.Difference // against running as just read, or as last known
	Read       bool             // running was read just now
	Trouble    string           // why it was not
	Behind     bool             // the device moved on since the base
	Moved      *diff.Difference // how, where Behind
	Conflicts  []diff.Conflict
	Check      check.Result
	Guard      fleet.Guard
	Unsaved    bool

	// Idle is set where the result means what is there already: nothing
	// differs, or only values that are set to their defaults.
	Idle bool
}

// Preview says what a change would do, part by part. Devices are read, never
// written.
func (d *Desk) Preview(ctx context.Context, p access.Person, number int64) (store.Change, []Verdict, error) {
	c, err := d.Get(ctx, p, number)
	if err != nil {
		return c, nil, err
	}
	parts, err := d.Parts(ctx, number)
	if err != nil {
		return c, nil, err
	}
	out := make([]Verdict, 0, len(parts))
	for _, w := range parts {
		v, err := d.verdict(ctx, w, p.Name)
		if err != nil {
			return c, nil, err
		}
		out = append(out, v)
	}
	return c, out, nil
}

// Hindrance says why a part cannot be committed as it is, "" where it can.
func (v Verdict) Hindrance() string {
	if !v.Read {
		return v.Trouble
	}
	if v.Guard.Keeper == "" {
		return v.Device + " cannot be changed: " + v.Guard.Why
	}
	if len(v.Conflicts) > 0 {
		return fmt.Sprintf("%s moved on since this was staged, and both changed the same: %s", v.Device, v.Conflicts[0].Path)
	}
	for _, f := range v.Check.Findings {
		if f.Severity == check.Error {
			return fmt.Sprintf("%s: not valid at %s: %s", v.Device, f.Path, f.Message)
		}
	}
	return ""
}

// Due gives the work of a change that could be committed now, or says why it
// could not. Devices are read for that.
func (d *Desk) Due(ctx context.Context, number int64) ([]Work, error) {
	c, err := d.store.Change(ctx, number)
	if err != nil {
		return nil, err
	}
	works, err := d.Parts(ctx, number)
	if err != nil {
		return nil, err
	}
	idle := true
	for _, w := range works {
		v, err := d.verdict(ctx, w, c.Author)
		if err != nil {
			return nil, err
		}
		if why := v.Hindrance(); why != "" {
			return nil, refusal.New(refusal.Conflict, fmt.Sprintf("see it with: latch preview %d", number), "change %d cannot be committed: %s", number, why)
		}
		idle = idle && v.Idle
	}
	if idle {
		return nil, refusal.New(refusal.Conflict, "", "change %d has nothing to commit: it is so already", number)
	}
	return works, nil
}

func (d *Desk) verdict(ctx context.Context, w Work, actor string) (Verdict, error) {
	v := Verdict{Device: w.Device.Name, Base: w.Base.Number, Edits: w.Edits, Read: true}
	now, err := d.history.Read(ctx, w.Device.Name, actor)
	var trouble *fleet.Error
	if errors.As(err, &trouble) {
		v.Read, v.Trouble = false, trouble.Error()
		now, err = d.history.Known(ctx, w.Device.Name)
	}
	if err != nil {
		return v, err
	}
	result := w.Mine
	if now.Running.Digest() != w.Former.Digest() {
		v.Behind, v.Moved = true, diff.Compare(w.Former, now.Running)
		result, v.Conflicts = diff.Merge(w.Former, w.Mine, now.Running)
	}
	v.Difference = diff.Compare(now.Running, result)
	v.Check = check.Change(now.Schema, now.Running, result)
	for _, e := range w.Idle {
		v.Check.Findings = append(v.Check.Findings, check.Finding{Severity: check.Hint, Path: e.Path,
			Message: fmt.Sprintf("edit %d sets what it was already; take it back with: latch unstage %d %d", e.ID, e.Change, e.ID)})
	}
	v.Idle = diff.Compare(now.Running.WithoutDefaults(), result.WithoutDefaults()).Empty()
	if v.Idle && !v.Difference.Empty() {
		v.Check.Findings = append(v.Check.Findings, check.Finding{Severity: check.Warning, Path: v.Difference.Items()[0].Path,
			Message: "sets what is the default already: it means nothing new, and there is nothing to commit here"})
	}
	v.Guard = fleet.GuardOf(now.Device.Capabilities)
	dev, err := d.store.Device(ctx, w.Device.Name) // the reading noted what it found
	v.Unsaved = dev.Unsaved
	return v, err
}
