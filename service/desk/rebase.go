package desk

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"oakenlatch/core/advice"
	"oakenlatch/core/check"
	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/ledger"
	"oakenlatch/core/tree"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/history"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// The two sides of a conflict, of which a person keeps one.
const (
	Mine   = "mine"   // what the change has; what the device has is overwritten
	Theirs = "theirs" // what the device has; what the change has is left out
)

// Decided is a conflict that a person decided.
type Decided struct {
	diff.Conflict
	store.Decision
}

// side gives one of a conflict's values as text.
func side(n *tree.Node) string {
	if n == nil {
		return ""
	}
	return codec.WholeText(n)
}

// merge puts a part on what its device holds, with what people decided where
// both changed the same, and with what the device makes of it.
func (d *Desk) merge(ctx context.Context, number int64, w Work, running *tree.Node) (merged, error) {
	m, err := d.together(ctx, number, w, running)
	if err == nil {
		m.result, m.fallen = check.Settled(w.Schema, running, m.result)
	}
	return m, err
}

// together merges. A decision holds for the three values that were shown.
func (d *Desk) together(ctx context.Context, number int64, w Work, running *tree.Node) (merged, error) {
	if tree.Same(running, w.Former) {
		return merged{result: w.Mine}, nil
	}
	if w.Exactly() {
		result, err := d.anew(ctx, w, running)
		return merged{result: result}, err
	}
	result, conflicts := diff.Merge(w.Former, w.Mine, running)
	m := merged{result: result}
	if len(conflicts) == 0 {
		return m, nil
	}
	decisions, err := d.store.Decisions(ctx, number)
	if err != nil {
		return m, err
	}
	var mine []diff.Conflict
	for _, c := range conflicts {
		i := slices.IndexFunc(decisions, func(x store.Decision) bool {
			base, mine, theirs := c.Texts(side)
			return x.Device == w.Device.ID && x.Path == c.Path.Full() && x.Base == base && x.Mine == mine &&
				x.Theirs == theirs
		})
		if i < 0 {
			m.open = append(m.open, c)
			continue
		}
		m.agreed = append(m.agreed, Decided{c, decisions[i]})
		if decisions[i].Keep == Mine {
			mine = append(mine, c)
		}
	}
	m.result, err = diff.Decided(result, w.Mine, mine)
	return m, err
}

// ownPart gives a part that a person may edit, and what its device holds now.
func (d *Desk) ownPart(
	ctx context.Context, p access.Person, number int64, device string,
) (w Work, now history.Reading, err error) {
	if _, err = d.Own(ctx, p, number); err != nil {
		return w, now, err
	}
	dev, err := d.Device(ctx, p.Reach(), device)
	if err != nil {
		return w, now, err
	}
	parts, err := d.store.Parts(ctx, number)
	if err != nil {
		return w, now, err
	}
	i := slices.IndexFunc(parts, func(x store.Part) bool { return x.Device == dev.ID })
	if i < 0 {
		return w, now, refusal.New(refusal.NotFound, "", "change %d has no part on %s", number, device)
	}
	if w, err = d.part(ctx, parts[i], dev); err != nil {
		return w, now, err
	}
	now, err = d.history.Read(ctx, p.Reach(), device, p.Name)
	if err == nil && now.Trial {
		err = refusal.New(
			refusal.Conflict, "wait until that is decided", "%s has a change on hold, which may be reverted", device,
		)
	}
	return w, now, err
}

// Decide keeps one side where a change and its device both changed the same.
func (d *Desk) Decide(
	ctx context.Context, p access.Person, number int64, device, pathText, keep string,
) (diff.Conflict, error) {
	if keep != Mine && keep != Theirs {
		return diff.Conflict{}, refusal.New(
			refusal.Invalid, "say mine (overwrite what the device has) or theirs (leave it)",
			"%q is neither mine nor theirs", keep,
		)
	}
	w, now, err := d.ownPart(ctx, p, number, device)
	if err != nil {
		return diff.Conflict{}, err
	}
	path, err := tree.ParsePath(w.Schema, pathText)
	if err != nil {
		return diff.Conflict{}, refusal.New(refusal.Invalid, "", "%s: %v", device, err)
	}
	_, conflicts := diff.Merge(w.Former, w.Mine, now.Running)
	i := slices.IndexFunc(conflicts, func(c diff.Conflict) bool { return c.Path.Full() == path.Full() })
	if i < 0 {
		var have []string
		for _, c := range conflicts {
			have = append(have, c.Path.String())
		}
		next := "there is nothing to decide"
		if len(have) > 0 {
			next = "there is to decide: " + strings.Join(have, ", ")
		}
		return diff.Conflict{}, refusal.New(
			refusal.NotFound, next, "%s: change %d and the device do not both change %s", device, number, path,
		)
	}
	c := conflicts[i]
	x := store.Decision{
		Change: number, Device: w.Device.ID, Path: c.Path.Full(), Keep: keep, Actor: p.Name, At: d.log.Now(),
	}
	x.Base, x.Mine, x.Theirs = c.Texts(side)
	base, mine, theirs := d.log.Redactor.Conflict(c).Texts(side)
	return c, d.change(ctx, p, number, func(tx *audit.Tx) error {
		if err := tx.Decide(x); err != nil {
			return err
		}
		e := ledger.Entry{
			Actor: p.Name, Action: "part.decide", Change: number, Device: device, Path: x.Path, Before: theirs,
			After: theirs, Note: "keeps what the device has; the change's is left out: " + mine,
		}
		if keep == Mine {
			e.After, e.Note = mine, "keeps the change's and overwrites what the device has; before both it was: "+base
		}
		return tx.Record(e)
	})
}

// Rebased tells what putting a part on a new base came to.
type Rebased struct {
	Device   string
	From, To int64 // revisions
	Moved    *diff.Difference
	Dropped  []store.Edit // those that mean nothing any more
	Mended   bool         // an edit was added, for what the others alone do not come to
}

// Rebase puts parts whose devices moved on onto what these hold now. Every
// conflict must be decided. No devices means all parts.
func (d *Desk) Rebase(ctx context.Context, p access.Person, number int64, devices []string) ([]Rebased, error) {
	if len(devices) == 0 {
		works, err := d.Parts(ctx, p.Reach(), number)
		if err != nil {
			return nil, err
		}
		for _, w := range works {
			devices = append(devices, w.Device.Name)
		}
	}
	var out []Rebased
	var steps []func(tx *audit.Tx) error
	err := Each(devices, func(device string) error {
		one, step, err := d.rebase(ctx, p, number, device)
		if err == nil && step != nil {
			out, steps = append(out, one), append(steps, step)
		}
		return err
	})
	if err != nil || len(steps) == 0 {
		return nil, err
	}
	return out, d.Edit(ctx, p, number, func(tx *audit.Tx) error {
		for _, step := range steps {
			if err := step(tx); err != nil {
				return err
			}
		}
		return nil
	})
}

// rebase works out one part on its new base, and what writes that down; nil
// where its device did not move on.
func (d *Desk) rebase(
	ctx context.Context, p access.Person, number int64, device string,
) (one Rebased, write func(tx *audit.Tx) error, err error) {
	w, now, err := d.ownPart(ctx, p, number, device)
	if err != nil || w.Base.Number == now.Revision.Number {
		return one, nil, err
	}
	if err := w.fits(); err != nil {
		return one, nil, err
	}
	m, err := d.merge(ctx, number, w, now.Running)
	if err != nil {
		return one, nil, err
	}
	if len(m.open) > 0 {
		return one, nil, refusal.New(
			refusal.Conflict,
			"decide each",
			"%s: changed here and on the device: %s, first %s", device, CountPlaces(len(m.open)), m.open[0].Path,
		).Do(advice.DecideConflict, number, device, m.open[0].Path)
	}
	one = Rebased{
		Device: device, From: w.Base.Number, To: now.Revision.Number, Moved: diff.Compare(w.Former, now.Running),
	}
	theirs := map[string]bool{}
	for _, x := range m.agreed {
		theirs[x.Decision.Path] = x.Keep == Theirs
	}
	at := now.Running
	for _, e := range w.Edits {
		next, perr := d.perform(ctx, w.Schema, at, e)
		if perr != nil || theirs[e.Path] && e.Op != "load" || tree.Same(next, at) && e.Mode != "stencil" {
			one.Dropped = append(one.Dropped, e)
			continue
		}
		at = next
	}
	rest := diff.Compare(at, m.result)
	one.Mended = !rest.Empty()
	return one, func(tx *audit.Tx) error {
		edits, err := tx.EditsOf(number, w.Device.ID)
		if err != nil {
			return err
		}
		if tagOf(w.Base.Number, edits) != w.Tag() {
			return w.moved(edits)
		}
		if err := tx.SetPart(store.Part{Change: number, Device: w.Device.ID, Base: one.To}); err != nil {
			return err
		}
		if one.Mended {
			e := store.Edit{
				Change: number, Device: w.Device.ID, Op: "load", Path: "/", Mode: "rebase",
				Source: fmt.Sprintf("the rebase onto revision %d", one.To), Lines: rest.Count(),
				Body: codec.EditXML(w.Schema, rest.Edits()), Actor: p.Name, At: d.log.Now(),
			}
			if _, err := tx.AddEdit(e); err != nil {
				return err
			}
		}
		for _, e := range one.Dropped {
			if err := tx.DropEdit(number, e.ID); err != nil {
				return err
			}
		}
		if err := tx.DropDecisions(number, w.Device.ID); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{
			Actor: p.Name, Action: "part.rebase", Change: number, Device: device,
			Before: fmt.Sprintf("revision %d", one.From), After: fmt.Sprintf("revision %d", one.To),
			Note: fmt.Sprintf(
				"the device moved by %d; %d edits mean nothing any more", one.Moved.Count(), len(one.Dropped),
			),
		})
	}, nil
}
