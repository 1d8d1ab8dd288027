package restore

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"oakenlatch/core/advice"
	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/lifecycle"
	"oakenlatch/core/tree"
	"oakenlatch/service/access"
	"oakenlatch/service/desk"
	"oakenlatch/service/history"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Undo says what is to be taken back: one kept change, or all that a person
// had kept in a period; of it, some devices or paths only.
type Undo struct {
	Change       int64
	By           string    // instead: all of this person's
	Since, Until time.Time // of By; Until zero is now
	Devices      []string
	Paths        []string
	Title        string // of the change it is staged in; "" is made up
	Ticket       string
}

// undone is one change's work on one device, as it was committed.
type undone struct {
	change       store.Change
	base, result string // digests
}

// Undo opens a change that takes back what was kept, and nothing of what came
// after it. Of one change, what was set again since is a conflict of the part,
// to be decided there. Of several, it stays as it is, and is told.
func (rs *Restorer) Undo(ctx context.Context, p access.Person, u Undo) (store.Change, []Brought, error) {
	if (u.Change == 0) == (u.By == "") {
		return store.Change{}, nil, refusal.New(
			refusal.Invalid, "name a change",
			"one change, or one person's, is needed to undo",
		).Do(advice.UndoChange).Or("or a person and since when", advice.UndoPerson)
	}
	of, title, err := rs.toUndo(ctx, p, u)
	if err != nil {
		return store.Change{}, nil, err
	}
	c, err := rs.into(ctx, p, Bring{Title: u.Title, Ticket: u.Ticket}, title)
	if err != nil {
		return c, nil, err
	}
	devices := u.Devices
	for id := range of {
		dev, err := rs.store.DeviceByID(ctx, p.Reach(), id)
		if err != nil {
			return c, nil, err
		}
		if len(u.Devices) == 0 {
			devices = append(devices, dev.Name)
		}
	}
	slices.Sort(devices)
	var out []Brought
	err = desk.Each(devices, func(device string) error {
		dev, err := rs.desk.Device(ctx, p.Reach(), device)
		if err != nil {
			return err
		}
		if len(of[dev.ID]) == 0 {
			return refusal.New(refusal.NotFound, "", "there is nothing to undo on %s", device)
		}
		var one Brought
		if u.Change != 0 {
			one, err = rs.undoOne(ctx, p, dev, of[dev.ID][0], u)
		} else {
			one, err = rs.undoAll(ctx, p, dev, of[dev.ID], u)
		}
		out = append(out, one)
		return err
	})
	if err != nil {
		return c, nil, err
	}
	origin := fmt.Sprintf("undo of change %d", u.Change)
	if u.Change == 0 {
		origin = "undo of what " + u.By + " had confirmed since " + u.Since.UTC().Format(time.RFC3339)
	}
	return rs.stageBrought(ctx, p, c, true, out, origin)
}

// toUndo finds what is to be undone, newest first, by device.
func (rs *Restorer) toUndo(ctx context.Context, p access.Person, u Undo) (map[int64][]undone, string, error) {
	of := map[int64][]undone{}
	if u.Change != 0 {
		c, err := rs.desk.Get(ctx, p, u.Change)
		if err != nil {
			return nil, "", err
		}
		if c.State != lifecycle.Confirmed && c.State != lifecycle.Partly && c.State != lifecycle.Unsettled {
			return nil, "", refusal.New(
				refusal.Conflict, "what is not confirmed is on no device; see it",
				"change %d is %s: there is nothing to undo", u.Change, c.State,
			).Do(advice.ShowChange, u.Change)
		}
		return of, fmt.Sprintf("Undo change %d: %s", c.Number, c.Title), rs.addUndone(ctx, of, c)
	}
	until := u.Until
	if until.IsZero() {
		until = rs.log.Now()
	}
	list, err := rs.store.KeptBetween(ctx, u.By, u.Since, until)
	if err != nil {
		return nil, "", err
	}
	if len(list) == 0 {
		return nil, "", refusal.New(
			refusal.NotFound, "see the changes", "%s had nothing confirmed between %s and %s", u.By,
			u.Since.UTC().Format(time.RFC3339), until.UTC().Format(time.RFC3339),
		).Do(advice.ListChanges)
	}
	for _, c := range list {
		if err := rs.addUndone(ctx, of, c); err != nil {
			return nil, "", err
		}
	}
	return of, fmt.Sprintf(
		"Undo the changes of %s from %s to %s", u.By, u.Since.UTC().Format("2006-01-02 15:04"),
		until.UTC().Format("2006-01-02 15:04 UTC"),
	), nil
}

func (rs *Restorer) addUndone(ctx context.Context, of map[int64][]undone, c store.Change) error {
	commit, err := rs.store.LastCommit(ctx, c.Number)
	for _, part := range commit.Parts {
		of[part.Device] = append(of[part.Device], undone{c, part.Base, part.Result})
	}
	return err
}

// inverse gives what a commit found and what it made, cut to the paths that are
// to be undone: the result with these as they were before.
func (rs *Restorer) inverse(
	ctx context.Context, r history.Reading, x undone, paths []string,
) (made, before *tree.Node, err error) {
	if made, err = rs.history.Tree(ctx, r.Schema, x.result); err != nil {
		return nil, nil, err
	}
	base, err := rs.history.Tree(ctx, r.Schema, x.base)
	if err != nil || len(paths) == 0 {
		return made, base, err
	}
	before = made
	for _, text := range paths {
		path, err := tree.ParsePath(r.Schema, text)
		if err != nil {
			return nil, nil, refusal.New(refusal.Invalid, "", "%s: %v", r.Device.Name, err)
		}
		if was, is := base.At(path), made.At(path); was != nil && is != nil && tree.Same(was, is) {
			continue
		}
		if before, err = diff.Restore(before, base, path); err != nil {
			return nil, nil, refusal.New(refusal.Invalid, "", "%s: change %d: %v", r.Device.Name, x.change.Number, err)
		}
	}
	return made, before, nil
}

// undoOne stages the inverse of one change on what that change made: what the
// device became since is met like any device that moved on.
func (rs *Restorer) undoOne(ctx context.Context, p access.Person, dev store.Device, x undone, u Undo) (Brought, error) {
	one := Brought{Device: dev.Name}
	now, err := rs.history.ToBuildOn(ctx, p.Reach(), dev.Name, p.Name)
	if err != nil {
		return one, err
	}
	made, before, err := rs.inverse(ctx, now, x, u.Paths)
	if err != nil {
		return one, err
	}
	w := desk.NewPart(now.Device, now.Schema, store.Revision{}, made)
	one.work = w
	revs, err := rs.store.RevisionsOf(ctx, x.change.Number)
	if err != nil {
		return one, err
	}
	i := slices.IndexFunc(revs, func(r store.Revision) bool { return r.Device == dev.ID && r.Digest == x.result })
	if i < 0 { // it was never read back as it was to be
		result, conflicts := diff.Merge(made, before, now.Running)
		one.left(x, conflicts)
		w.Base, w.Former = now.Revision, now.Running
		return one, rs.undoTo(ctx, &one, p, result, result, fmt.Sprintf("change %d", x.change.Number), x.change.Number)
	}
	w.Base = revs[i]
	result, conflicts := diff.Merge(made, before, now.Running)
	if len(conflicts) > 0 {
		one.Notes = append(
			one.Notes,
			fmt.Sprintf("%s set again since: the preview shows each, and you decide", placesAre(len(conflicts))),
		)
	}
	return one, rs.undoTo(ctx, &one, p, before, result, fmt.Sprintf("change %d", x.change.Number), x.change.Number)
}

func placesAre(n int) string {
	if n == 1 {
		return "1 place was"
	}
	return fmt.Sprintf("%d places were", n)
}

func (b *Brought) left(x undone, conflicts []diff.Conflict) {
	for _, c := range conflicts {
		b.Left = append(b.Left, Left{c, x.change.Number})
	}
}

// undoAll stages the inverses of several changes, newest first, on what the
// device holds.
func (rs *Restorer) undoAll(
	ctx context.Context,
	p access.Person,
	dev store.Device,
	list []undone,
	u Undo,
) (Brought, error) {
	one := Brought{Device: dev.Name}
	now, err := rs.history.ToBuildOn(ctx, p.Reach(), dev.Name, p.Name)
	if err != nil {
		return one, err
	}
	one.work = desk.NewPart(now.Device, now.Schema, now.Revision, now.Running)
	at := now.Running
	var changes []int64
	for _, x := range list {
		changes = append(changes, x.change.Number)
		made, before, err := rs.inverse(ctx, now, x, u.Paths)
		if err != nil {
			return one, err
		}
		next, conflicts := diff.Merge(made, before, at)
		one.left(x, conflicts)
		at = next
	}
	return one, rs.undoTo(ctx, &one, p, at, at, "change "+join64(changes), changes...)
}

// undoTo stages what makes mine of a part's base; result is what that comes to
// on the device.
func (rs *Restorer) undoTo(
	ctx context.Context, one *Brought, p access.Person, mine, result *tree.Node, of string, changes ...int64,
) error {
	w := one.work
	df := diff.Compare(w.Former, mine)
	if df.Empty() {
		one.Notes = append(one.Notes, "nothing of it is left to undo")
	} else {
		one.Edits = []store.Edit{{Device: w.Device.ID, Op: "load", Path: "/", Mode: "undo", Source: of,
			Lines: df.Count(), Body: codec.EditXML(w.Schema, df.Edits()), Actor: p.Name, At: rs.log.Now()}}
	}
	if err := rs.measure(ctx, one, result, 0); err != nil {
		return err
	}
	// What it takes back is what was asked for, and no later work.
	one.Takes = slices.DeleteFunc(one.Takes, func(l Later) bool { return slices.Contains(changes, l.Revision.Change) })
	return nil
}

func join64(list []int64) string {
	text := fmt.Sprint(list)
	return strings.ReplaceAll(text[1:len(text)-1], " ", ", ")
}
