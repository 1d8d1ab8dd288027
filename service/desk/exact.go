package desk

import (
	"context"
	"errors"
	"slices"

	"oakenlatch/core/advice"
	"oakenlatch/core/diff"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Exact is how a load is staged that stands for a configuration itself and not
// for what it differs in: what it names is so whatever the device does
// meanwhile, never merged with it.
const Exact = "restore"

// exact carries out an exact load.
func (d *Desk) exact(ctx context.Context, s *schema.Schema, base *tree.Node, e store.Edit) (*tree.Node, error) {
	target, err := d.history.Tree(ctx, s, e.Value)
	if errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	if err != nil {
		return nil, &brokenStore{err}
	}
	path, err := tree.ParsePath(s, e.Path)
	if err != nil {
		return nil, err
	}
	return diff.Restore(base, target, path)
}

// Exactly reports whether a part holds edits that stand for a configuration
// itself: then it is carried out anew on what the device holds, not merged.
func (w *Work) Exactly() bool {
	return slices.ContainsFunc(w.Edits, func(e store.Edit) bool { return e.Mode == Exact })
}

// anew carries a part's edits out on another base.
func (d *Desk) anew(ctx context.Context, w Work, base *tree.Node) (*tree.Node, error) {
	for _, e := range w.Edits {
		if slices.ContainsFunc(w.Unfit, func(u Unfit) bool { return u.Edit.ID == e.ID }) {
			continue
		}
		next, err := d.perform(ctx, w.Schema, base, e)
		var broken *brokenStore
		if errors.As(err, &broken) {
			return nil, broken.err
		}
		if err != nil {
			return nil, refusal.New(
				refusal.Conflict, "remove it",
				"%s moved on, and edit %d of change %d no longer fits: %v", w.Device.Name, e.ID, e.Change, err,
			).Do(advice.TakeBack, e.Change, e.ID)
		}
		base = next
	}
	return base, nil
}
