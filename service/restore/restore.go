// Package restore brings back what was: a configuration or parts of it from the records, a file or another device, and
// the inverse of changes and of outside changes. It stages them, to be previewed and committed like any other change.
package restore

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"oakenlatch/core/advice"
	"oakenlatch/core/clip"
	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/ledger"
	"oakenlatch/core/lifecycle"
	"oakenlatch/core/tree"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/desk"
	"oakenlatch/service/history"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Restorer stages what is brought back.
type Restorer struct {
	store   *store.Store
	log     *audit.Log
	history *history.History
	desk    *desk.Desk
}

// New gives a restorer that stages at a desk.
func New(s *store.Store, log *audit.Log, h *history.History, d *desk.Desk) *Restorer {
	return &Restorer{store: s, log: log, history: h, desk: d}
}

// Bring is what a person wants brought back.
type Bring struct {
	Change  int64    // the change to stage it in; 0 opens one
	Title   string   // of one that is opened; "" is made up
	Ticket  string   // of one that is opened
	From    string   // see [desk.Desk.From]
	Devices []string // none: all that a snapshot holds
	Paths   []string // none: the whole configuration

	// Instead of From, what was read from a file: for one device.
	Text *schemaText
}

// readFunc reads a configuration for a part.
type readFunc func(w desk.Work) (*tree.Node, codec.Format, error)

// schemaText is a configuration from elsewhere and what to call it.
type schemaText struct {
	read readFunc
	name string
}

// Later is what somebody did since, and bringing something back takes away.
type Later struct {
	Revision store.Revision
	Change   store.Change // Number 0 where none made it
	Places   int
}

// Brought tells what bringing something back came to on one device.
type Brought struct {
	Device     string
	Edits      []store.Edit
	Difference *diff.Difference // against what the device was last known to hold
	Takes      []Later          // newest first
	Left       []Left           // an undo could not take these back
	Notes      []string

	work   *desk.Work
	target *tree.Node // what exact edits stand for
}

// Left is what an undo leaves as it is, for it was set again since.
type Left struct {
	diff.Conflict
	Change int64 // the one that was to be undone
}

// Restore stages a configuration, or parts of it, as it was: to be previewed
// and committed like any other change.
func (rs *Restorer) Restore(ctx context.Context, p access.Person, b Bring) (store.Change, []Brought, error) {
	devices := b.Devices
	ref, ofSnapshot := strings.CutPrefix(b.From, "snapshot:")
	what := b.From
	if ofSnapshot {
		s, err := rs.history.FindSnapshot(ctx, ref)
		if err != nil {
			return store.Change{}, nil, err
		}
		b.From, what = fmt.Sprintf("snapshot:%d", s.Number), fmt.Sprintf(
			"snapshot %d, %q, of %s", s.Number, s.Name, s.At.Format(time.RFC3339),
		)
		if len(devices) == 0 {
			taken, err := rs.history.TakenOf(ctx, p.Reach(), s.Number)
			if err != nil {
				return store.Change{}, nil, err
			}
			for _, i := range taken.Items {
				devices = append(devices, i.Device.Name)
			}
		}
	}
	if b.Text != nil {
		what = b.Text.name
	}
	title := "Restore " + what
	if len(devices) == 1 {
		title = fmt.Sprintf("Restore %s from %s", devices[0], what)
		if len(b.Paths) == 1 {
			title = fmt.Sprintf("Restore %s of %s from %s", b.Paths[0], devices[0], what)
		}
	}
	c, err := rs.into(ctx, p, b, title)
	if err != nil {
		return c, nil, err
	}
	var out []Brought
	err = desk.Each(devices, func(device string) error {
		one, err := rs.restored(ctx, p, c, device, what, b)
		out = append(out, one)
		return err
	})
	if err != nil {
		return c, nil, err
	}
	return rs.stageBrought(ctx, p, c, b.Change == 0, out, "restored from "+what)
}

// into gives the change that something is brought back in: one there is, or
// one that is yet to be opened.
func (rs *Restorer) into(ctx context.Context, p access.Person, b Bring, title string) (store.Change, error) {
	if b.Change != 0 {
		return rs.desk.Own(ctx, p, b.Change)
	}
	title, ticket, err := desk.Titled(cmp.Or(b.Title, clip.To(title, 120)), b.Ticket)
	return store.Change{Title: title, Ticket: ticket, Author: p.Name, State: lifecycle.Draft}, err
}

// restored works out what restoring comes to on one device.
func (rs *Restorer) restored(
	ctx context.Context, p access.Person, c store.Change, device, what string, b Bring,
) (Brought, error) {
	one := Brought{Device: device}
	w, err := rs.desk.Workable(ctx, p, c, device, "")
	if err != nil {
		return one, err
	}
	target, since, err := rs.target(ctx, p, w, b)
	if err != nil {
		return one, err
	}
	if target.Len() == 0 && len(b.Paths) == 0 {
		return one, refusal.New(
			refusal.Invalid, "", "%s: %s holds nothing: the device would be left without any configuration", device,
			what,
		).With(emptied(device, b.From, w.Mine))
	}
	paths := []tree.Path{nil}
	if len(b.Paths) > 0 {
		paths = nil
		for _, text := range b.Paths {
			path, err := tree.ParsePath(w.Schema, text)
			if err != nil {
				return one, refusal.New(refusal.Invalid, "", "%s: %v", device, err)
			}
			paths = append(paths, path)
		}
	}
	at := w.Mine
	for _, path := range paths {
		next, err := diff.Restore(at, target, path)
		if err != nil {
			return one, refusal.New(refusal.Invalid, "", "%s: %v", device, err)
		}
		if tree.Same(at, next) {
			continue
		}
		one.Edits = append(one.Edits, store.Edit{
			Change: c.Number, Device: w.Device.ID, Op: "load", Path: path.Full(), Mode: desk.Exact, Source: what,
			Value: history.Digest(target), Lines: diff.Compare(at, next).Count(), Actor: p.Name, At: rs.log.Now(),
		})
		at = next
	}
	one.work, one.target = &w, target
	switch {
	case len(one.Edits) == 0:
		one.Notes = append(one.Notes, "it is so already; nothing was staged")
	case len(w.Edits) > 0:
		one.Notes = append(one.Notes, "what was staged before on this device stays only where this does not reach")
	}
	return one, rs.measure(ctx, &one, at, since)
}

// emptied says how a device is left with nothing, where that is meant: in so many words.
func emptied(device, from string, now *tree.Node) advice.Steps {
	var paths []string
	for c := range now.Each() {
		if len(paths) == 10 {
			paths = append(paths, "and so on")
			break
		}
		paths = append(paths, tree.Path{tree.StepTo(c)}.String())
	}
	if len(paths) == 0 {
		return advice.Words("it holds nothing now either")
	}
	return advice.Words("bring back parts of it").Do(advice.RestorePart, device, from, paths[0]).Or(
		"or, if all is meant to go, open a change and delete each of "+strings.Join(paths, ", "),
		advice.StageDelete, "", device,
	)
}

// target gives what a restore puts in place, and the revision it is of, 0 where
// that is not known.
func (rs *Restorer) target(ctx context.Context, p access.Person, w desk.Work, b Bring) (*tree.Node, int64, error) {
	if b.Text != nil {
		n, _, err := b.Text.read(w)
		if err != nil {
			return nil, 0, desk.Unfitting(w.Device.Name, err)
		}
		return n, 0, nil
	}
	r, err := rs.desk.From(ctx, p, w.Device, b.From)
	if err != nil {
		return nil, 0, err
	}
	if r.Schema != w.Schema {
		return nil, 0, refusal.New(
			refusal.Conflict, "do it again", "%s handed out other modules just now", w.Device.Name,
		)
	}
	return r.Running, r.Revision.Number, nil
}

// measure tells how what is staged differs from what the device was last known
// to hold, and whose later work that takes away.
func (rs *Restorer) measure(ctx context.Context, one *Brought, result *tree.Node, since int64) error {
	return rs.history.Follow(ctx, one.work.Device, func(t *history.Trail) error {
		if t.Schema != one.work.Schema {
			return nil
		}
		one.Difference = diff.Compare(t.Now, result)
		for step, places := range t.Takes(one.Difference) {
			if rev := t.By(step); step != 0 && rev.Number > since {
				one.Takes = append(one.Takes, Later{Revision: rev, Places: places})
			}
		}
		slices.SortFunc(one.Takes, func(a, b Later) int { return int(b.Revision.Number - a.Revision.Number) })
		for i := range one.Takes {
			n := one.Takes[i].Revision.Change
			if n == 0 {
				continue
			}
			var err error
			if one.Takes[i].Change, err = rs.store.Change(ctx, n); err != nil {
				return err
			}
		}
		return nil
	})
}

// stageBrought stages what was worked out, in a change that may be yet to open.
func (rs *Restorer) stageBrought(
	ctx context.Context, p access.Person, c store.Change, open bool, list []Brought, origin string,
) (store.Change, []Brought, error) {
	if !slices.ContainsFunc(list, func(b Brought) bool { return len(b.Edits) > 0 }) {
		return store.Change{}, list, nil
	}
	stage := func(tx *audit.Tx) error {
		for i := range list {
			for j := range list[i].Edits {
				e := &list[i].Edits[j]
				e.Change = c.Number
				if err := rs.stageOne(tx, &list[i], e); err != nil {
					return err
				}
			}
		}
		return nil
	}
	if !open {
		return c, list, rs.desk.Edit(ctx, p, c.Number, stage)
	}
	c.Opened, c.Origin = rs.log.Now(), origin
	err := rs.log.Write(ctx, func(tx *audit.Tx) (err error) {
		if c, err = desk.Draft(tx, c, c.Title+"; "+origin); err != nil {
			return err
		}
		return stage(tx)
	})
	return c, list, err
}

// stageOne stages one edit of something that is brought back. What an exact one
// stands for is kept in the records first.
func (rs *Restorer) stageOne(tx *audit.Tx, b *Brought, e *store.Edit) error {
	w := b.work
	if e.Mode == desk.Exact {
		var err error
		if e.Value, err = rs.history.Add(tx.Tx, w.Device.ID, w.Device.ModuleSet, w.Schema, b.target); err != nil {
			return err
		}
	}
	if err := rs.desk.AddEdit(tx, w, e, ""); err != nil {
		return err
	}
	return tx.Record(
		ledger.Entry{
			Actor: e.Actor, Action: "edit.load", Change: e.Change, Device: w.Device.Name, Path: e.Path,
			Note: fmt.Sprintf("%s, %s, in %s", e.Mode, e.Source, desk.CountPlaces(e.Lines)),
		},
	)
}
