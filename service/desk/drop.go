package desk

import (
	"context"
	"fmt"
	"slices"

	"oakenlatch/core/advice"
	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/ledger"
	"oakenlatch/core/tree"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Which says which staged edits are meant. What is left out does not narrow
// them down.
type Which struct {
	ID     int64
	Device string
	By     string
	Path   string // with Device: what was staged at that line, and below it
}

// Drop takes staged edits back and gives those it took, or took something out
// of. Edits that build on them must go with them, or first.
func (d *Desk) Drop(ctx context.Context, p access.Person, number int64, which Which) ([]store.Edit, error) {
	if _, err := d.Own(ctx, p, number); err != nil {
		return nil, err
	}
	if which.Path != "" && which.Device == "" {
		return nil, refusal.New(refusal.Invalid, "", "whose %s? Name the device", which.Path)
	}
	works, err := d.Parts(ctx, p.Reach(), number)
	if err != nil {
		return nil, err
	}
	var out []dropped
	for _, w := range works {
		if which.Device != "" && which.Device != w.Device.Name {
			continue
		}
		some, err := d.matching(ctx, w, which)
		if err != nil {
			return nil, err
		}
		if err := d.standsWithout(ctx, w, some); err != nil {
			return nil, err
		}
		out = append(out, some...)
	}
	if len(out) == 0 {
		if err := together(works, which); err != nil {
			return nil, err
		}
		what := "no such edit"
		if which.ID != 0 {
			what = fmt.Sprintf("no edit %d", which.ID)
		}
		return nil, refusal.New(
			refusal.NotFound, "see them", "change %d has %s", number, what,
		).Do(advice.PreviewChange, number)
	}
	err = d.Edit(ctx, p, number, func(tx *audit.Tx) error {
		for _, x := range out {
			if err := x.take(tx, p.Name); err != nil {
				return err
			}
		}
		return nil
	})
	var edits []store.Edit
	for _, x := range out {
		edits = append(edits, x.edit)
	}
	return edits, err
}

// dropped is an edit to be taken back: whole, or, of a load, a part of it.
type dropped struct {
	edit   store.Edit
	device string
	path   string     // of what is taken out of a load
	rest   *tree.Edit // what stays of a load; nil where all goes
	body   []byte
	lines  int
	mode   string // it becomes a load of that mode; "" keeps its own
}

func (x dropped) take(tx *audit.Tx, by string) error {
	e := x.edit
	entry := ledger.Entry{
		Actor: by, Action: "edit.drop", Change: e.Change, Device: x.device, Path: e.Path,
		Note: fmt.Sprintf("edit %d of %s: %s %s", e.ID, e.Actor, e.Op, e.Value+e.Source),
	}
	if x.rest == nil {
		if err := tx.DropEdit(e.Change, e.ID); err != nil {
			return err
		}
		return tx.Record(entry)
	}
	entry.Action, entry.Path = "edit.drop-line", x.path
	if err := tx.SetEditBody(e.ID, x.lines, x.body, x.mode); err != nil {
		return err
	}
	return tx.Record(entry)
}

// matching finds the edits of a part that are meant.
func (d *Desk) matching(ctx context.Context, w Work, which Which) ([]dropped, error) {
	var path tree.Path
	if which.Path != "" {
		var err error
		if path, err = tree.ParsePath(w.Schema, which.Path); err != nil {
			return nil, refusal.New(refusal.Invalid, "", "%s: %v", w.Device.Name, err)
		}
	}
	var out []dropped
	for _, e := range w.Edits {
		switch {
		case which.ID != 0 && which.ID != e.ID, which.By != "" && which.By != e.Actor:
		case len(path) == 0:
			out = append(out, dropped{edit: e, device: w.Device.Name})
		case e.Op == "load":
			x, cut, err := d.without(ctx, w, e, path)
			if err != nil {
				return nil, err
			}
			if cut {
				out = append(out, x)
			}
		default:
			at, err := tree.ParsePath(w.Schema, e.Path)
			if err == nil && leadsTo(path, at) {
				out = append(out, dropped{edit: e, device: w.Device.Name})
			}
		}
	}
	return out, nil
}

// leadsTo reports whether a path leads to another or to something above it. A
// list without keys stands for all its entries.
func leadsTo(p, to tree.Path) bool {
	if len(to) < len(p) {
		return false
	}
	for i, s := range p {
		if s.Node != to[i].Node || s.Keys != nil && !slices.Equal(s.Keys, to[i].Keys) {
			return false
		}
	}
	return true
}

// together tells of a line that an edit stages along with another: one that
// goes because a value is to be the only one.
func together(works []Work, which Which) error {
	for _, w := range works {
		path, err := tree.ParsePath(w.Schema, which.Path)
		if which.Path == "" || w.Device.Name != which.Device || err != nil {
			continue
		}
		if i, ok := diff.Trace(w.Steps).Last[path.String()]; ok {
			e := w.Edits[i]
			return refusal.New(
				refusal.Conflict, "remove the whole edit",
				"%s: edit %d, %s %s %s, stages that line together with others", w.Device.Name, e.ID, e.Op, e.Path,
				e.Mode,
			).Do(advice.TakeBack, e.Change, e.ID)
		}
	}
	return nil
}

// without takes a line out of a load.
func (d *Desk) without(ctx context.Context, w Work, e store.Edit, path tree.Path) (dropped, bool, error) {
	x := dropped{edit: e, device: w.Device.Name, path: path.Full()}
	var body *tree.Edit
	var err error
	if e.Mode == Exact {
		// Without a line of it, it is a load like any other: what it differs in.
		i := slices.IndexFunc(w.Edits, func(x store.Edit) bool { return x.ID == e.ID })
		body, x.mode = diff.Compare(w.Steps[i], w.Steps[i+1]).Edits(), Merge
	} else {
		body, err = d.body(ctx, w.Schema, e)
	}
	if err != nil {
		return x, false, refusal.New(
			refusal.Conflict, "remove the whole edit",
			"%s: edit %d cannot be read by the modules the device has now: %v", w.Device.Name, e.ID, err,
		).Do(advice.TakeBack, e.Change, e.ID)
	}
	rest, cut, whole := body.Without(path)
	if whole != nil {
		return x, false, refusal.New(
			refusal.Conflict,
			"remove that",
			"%s: edit %d takes all of %s away, so %s alone cannot be taken out of it", w.Device.Name, e.ID, whole, path,
		).Do(advice.TakeBackPath, e.Change, w.Device.Name, whole)
	}
	if cut == 0 {
		return x, false, nil
	}
	if len(rest.Children) > 0 {
		x.rest, x.body, x.lines = rest, codec.EditXML(w.Schema, rest), max(1, e.Lines-cut)
	}
	return x, true, nil
}

// standsWithout makes sure that the other edits of a part still fit.
func (d *Desk) standsWithout(ctx context.Context, w Work, gone []dropped) error {
	mine := w.Former
	for _, e := range w.Edits {
		i := slices.IndexFunc(gone, func(x dropped) bool { return x.edit.ID == e.ID })
		var next *tree.Node
		var err error
		switch {
		case i >= 0 && gone[i].rest == nil:
			continue
		case i >= 0:
			next, err = perform(w.Schema, mine, store.Edit{Op: "load"}, gone[i].rest)
		default:
			next, err = d.perform(ctx, w.Schema, mine, e)
		}
		if err != nil && slices.ContainsFunc(w.Unfit, func(u Unfit) bool { return u.Edit.ID == e.ID }) {
			continue // it did not fit before either
		}
		if err != nil {
			return refusal.New(
				refusal.Conflict, "remove that one first",
				"%s: edit %d, by %s, builds on what would go: %v", w.Device.Name, e.ID, e.Actor, err,
			).Do(advice.TakeBack, e.Change, e.ID)
		}
		mine = next
	}
	return nil
}
