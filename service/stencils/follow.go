package stencils

import (
	"context"
	"errors"
	"fmt"

	"oakenlatch/core/codec"
	"oakenlatch/core/lifecycle"
	"oakenlatch/core/markup"
	"oakenlatch/core/stencil"
	"oakenlatch/core/tree"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/desk"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Follow is the change that a new version of something opened for the devices
// that use it; zero where none does.
type Follow struct {
	Change  int64
	Devices []string
	Same    []string // devices that use it and hold all of it already
	Notes   []string
}

// restage is a device on which a stencil is to set something else.
type restage struct {
	old     store.Binding // in force so far; its Filled is nil where there is none
	st      *stencil.Stencil
	text    string // that of the version
	cover   stencil.Cover
	version int64
	values  map[string]string
	shared  map[string][]string
	again   bool // set all of it, also what was changed by hand since
}

// user gives the device that uses a stencil, where a person may stage on it: what
// they change of the stencil is staged on all that use it.
func (s *Stencils) user(ctx context.Context, p access.Person, b store.Binding) (store.Device, error) {
	dev, err := s.store.DeviceByID(ctx, p.Reach(), b.Device)
	if errors.Is(err, store.ErrNotFound) {
		return dev, refusal.New(
			refusal.Forbidden, "nothing was saved; ask somebody who may, or save it under another name",
			"stencil %s is used on devices on which account %s may not stage", b.Stencil, p.Name,
		)
	}
	return dev, err
}

// follow saves something and stages what follows from it in a new change.
func (s *Stencils) follow(
	ctx context.Context, p access.Person, title string, plan []restage, save func(tx *audit.Tx) error,
) (Follow, error) {
	var out Follow
	var staged []boundLoad
	var names []string
	byName := map[string][]restage{} // a device may use several stencils that hold a shared value
	for _, r := range plan {
		dev, err := s.user(ctx, p, r.old)
		if err != nil {
			return out, err
		}
		names = append(names, dev.Name)
		byName[dev.Name] = append(byName[dev.Name], r)
	}
	if len(names) > 0 {
		err := desk.Each(names, func(device string) error {
			w, err := s.lastKnown(ctx, p, device)
			if err != nil {
				return err
			}
			for _, r := range byName[device] {
				part := w
				one, err := s.restaged(&part, p, r)
				if err != nil {
					return err
				}
				staged = append(staged, one)
				w.Mine = one.load.Difference.New
				for _, n := range one.load.Notes {
					out.Notes = append(out.Notes, device+": "+n)
				}
			}
			if tree.Same(w.Former, w.Mine) {
				out.Same = append(out.Same, device)
			} else {
				out.Devices = append(out.Devices, device)
			}
			return nil
		})
		if err != nil {
			return Follow{}, err
		}
	}
	return out, s.log.Write(ctx, func(tx *audit.Tx) error {
		if err := save(tx); err != nil || len(staged) == 0 {
			return err
		}
		c, err := desk.Draft(
			tx, store.Change{Title: title, Author: p.Name, State: lifecycle.Draft, Opened: s.log.Now()}, title,
		)
		if err != nil {
			return err
		}
		if len(out.Devices) > 0 {
			out.Change = c.Number
		} else if err := tx.SetState(
			c.Number, lifecycle.Dropped, "every device holds all of it already", s.log.Now(),
		); err != nil {
			return err
		}
		for i := range staged {
			if err := s.stageBound(tx, &staged[i], c.Number); err != nil {
				return err
			}
		}
		return nil
	})
}

// lastKnown gives the start of a part: from the device as it is now or, where
// it cannot be reached, as it was last known.
func (s *Stencils) lastKnown(ctx context.Context, p access.Person, device string) (desk.Work, error) {
	r, err := s.history.ToBuildOn(ctx, p.Reach(), device, p.Name)
	if err != nil {
		if r, err = s.history.Known(ctx, p.Reach(), device); err != nil {
			return desk.Work{}, err
		}
	}
	return *desk.NewPart(r.Device, r.Schema, r.Revision, r.Running), nil
}

// boundLoad is what a stencil comes to on one device.
type boundLoad struct {
	w       *desk.Work
	load    desk.Loaded
	binding store.Binding
}

// restaged puts what a stencil sets in the place of what it set before, and
// says of what was changed by hand since what becomes of it.
func (s *Stencils) restaged(w *desk.Work, p access.Person, r restage) (boundLoad, error) {
	set := tree.Empty
	var err error
	if r.st != nil {
		if set, err = r.st.Read(w.Schema, r.values, r.shared); err != nil {
			return boundLoad{}, refusal.New(
				refusal.Invalid, "", "%s: stencil %s: %v", w.Device.Name, r.old.Stencil,
				r.cover.Error(err, r.text, r.values, r.shared),
			)
		}
	}
	before := tree.Empty
	if r.old.Filled != nil {
		if before, err = (codec.Decoder{Schema: w.Schema}).ParseTree(r.old.Filled); err != nil {
			return boundLoad{}, err
		}
	}
	next, err := stencil.Restage(before, set, w.Mine, r.again)
	if err != nil {
		return boundLoad{}, refusal.New(refusal.Invalid, "", "%s: %v", w.Device.Name, err)
	}
	source := fmt.Sprintf("stencil %s version %d", r.old.Stencil, r.version)
	out := boundLoad{w: w, load: s.desk.ToLoad(w, p, 0, desk.Load{Mode: desk.Merge, Name: source}, next)}
	out.load.Edit.Mode = "stencil"
	out.load.Notes = nil
	for _, s := range stencil.Strayed(s.log.Redactor.Tree(before), s.log.Redactor.Tree(w.Mine)) {
		took := "it is left as it is"
		if setsAgain(w, s, next) {
			took = "the stencil sets it again"
		}
		out.load.Notes = append(
			out.load.Notes,
			fmt.Sprintf(
				"%s was changed by hand since the stencil set it (%s → %s): %s", s.Path, s.Set, orGone(s), took,
			),
		)
	}
	out.binding = store.Binding{
		Stencil: r.old.Stencil, Device: w.Device.ID, Version: r.version, Blanks: r.values, Actor: p.Name,
		At: s.log.Now(),
	}
	if r.st != nil {
		out.binding.Filled = codec.XML(w.Schema, set, markup.Name{Space: codec.NetconfNS, Local: "config"})
	}
	return out, nil
}

// setsAgain reports whether a place that was changed by hand is another one in
// the result.
func setsAgain(w *desk.Work, s stencil.Standing, next *tree.Node) bool {
	p, err := tree.ParsePath(w.Schema, s.Path)
	return err == nil && !tree.Same(w.Mine.At(p), next.At(p))
}

func orGone(s stencil.Standing) string {
	if s.Gone {
		return "gone"
	}
	return s.Now
}

func (s *Stencils) stageBound(tx *audit.Tx, b *boundLoad, change int64) error {
	b.load.Edit.Change = change
	if err := s.desk.StageLoad(tx, b.w, &b.load, ""); err != nil {
		return err
	}
	b.binding.Change, b.binding.Edit = change, b.load.Edit.ID
	return tx.AddBinding(b.binding)
}
