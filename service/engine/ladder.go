package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/markup"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
	"oakenlatch/service/fleet"
)

// Devices differ in what forms of an edit they take where entries have an order:
// some refuse the name of a neighbour, some the name of one that the same edit
// makes, some answer ok and move nothing, some replace nothing. Every write to a
// device, there or back, tries one form after another (diff.Forms), each naming fewer
// neighbours, and in the end gives it the whole configuration; what a device did not
// take once is not tried on it again.

// purpose is what an edit is written for.
type purpose int

const (
	going     purpose = iota
	goingBack         // to take a change back
	trying            // to hear what the device makes of it: nothing is carried out
)

// form is one way to write a difference: one edit after another, or all that is to
// be there.
type form struct {
	edits []*tree.Edit
	all   *tree.Node
}

// forms are the ways to write a difference to a datastore, the least first. The last
// takes entries away and adds them anew: in running the device is without them for a
// moment, so there it is only for reverting, where the other choice is not to.
func forms(d *diff.Difference, to netconf.Datastore, why purpose) (out []form) {
	for _, e := range d.Forms() {
		out = append(out, form{edits: []*tree.Edit{e}})
	}
	if len(out) == 1 || why == trying {
		return out
	}
	out = append(out, form{all: d.New})
	if to == netconf.Candidate || why == goingBack {
		tails := d.Tails()
		if short, err := tree.Apply(d.Old, tails, tree.None); err == nil {
			out = append(out, form{edits: []*tree.Edit{tails, diff.Compare(short, d.New).Edits()}})
		}
	}
	return out
}

// write sends a form to a datastore.
func (f form) write(ctx context.Context, s *fleet.Session, to netconf.Datastore, why purpose) error {
	for _, e := range f.edits {
		if err := write(ctx, s, to, e, why); err != nil {
			return err
		}
	}
	if f.all == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, operation)
	defer cancel()
	w := &markup.Writer{}
	codec.Encode(w, s.Schema, f.all)
	return s.Answered(
		"the device refuses the configuration as a whole", "writing the configuration as a whole",
		s.CopyConfig(ctx, to, netconf.Source{Config: w.Bytes()}),
	)
}

// ladders remembers which form of an edit devices took last.
type ladders struct {
	mu   sync.Mutex
	form map[place]int
}

// place is where entries are placed: on a device, at the very top or below.
type place struct {
	device int64
	top    bool
}

func (h *deviceWorker) at(d *diff.Difference) place {
	return place{h.device, slices.ContainsFunc(d.Changes, func(c *diff.Change) bool { return c.Placed })}
}

func (l *ladders) of(p place) int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.form[p]
}

func (l *ladders) took(p place, form int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.form == nil {
		l.form = map[place]int{}
	}
	l.form[p] = max(l.form[p], form)
}

// put writes what makes one configuration of another to a datastore, in the first
// form that the device takes.
func (h *deviceWorker) put(
	ctx context.Context, s *fleet.Session, to netconf.Datastore, d *diff.Difference, why purpose,
) error {
	return h.putFrom(ctx, s, to, d, why, func() (*diff.Difference, error) { return h.startAgain(ctx, s, to, d) })
}

// putFrom is put where what a refused form may have left behind is cleared away as
// again does it; it gives what is left to be done then.
func (h *deviceWorker) putFrom(
	ctx context.Context, s *fleet.Session, to netconf.Datastore, d *diff.Difference, why purpose,
	again func() (*diff.Difference, error),
) error {
	list := forms(d, to, why)
	var refusals []error
	for n := min(h.run.e.ladders.of(h.at(d)), len(list)-1); n < len(list); n++ {
		err := list[n].write(ctx, s, to, why)
		switch {
		case err == nil:
			if len(list) > 1 {
				h.run.e.ladders.took(h.at(d), n)
			}
			return nil
		case !refusesForm(err):
			return errors.Join(append(refusals, err)...)
		}
		refusals = append(refusals, err)
		if n == len(list)-1 || why == trying {
			continue
		}
		// What it refused it may have carried out in part.
		if d, err = again(); err != nil {
			return errors.Join(append(refusals, err)...)
		}
		if d.Empty() {
			return nil
		}
		if list = forms(d, to, why); len(list) == 1 {
			n = -1 // no order is left in it
		}
	}
	if len(refusals) > 1 {
		return fmt.Errorf(
			"%w (it was tried in %d forms; the last was refused with: %w)", refusals[0], len(refusals),
			refusals[len(refusals)-1],
		)
	}
	return errors.Join(refusals...)
}

// refusesForm reports whether a device may refuse an edit for the form of it.
func refusesForm(err error) bool {
	if !netconf.Refused(err) {
		return false
	}
	for _, tag := range []string{"lock-denied", "in-use", "access-denied", "resource-denied", "too-big"} {
		if netconf.Tagged(err, tag) {
			return false
		}
	}
	return true
}

// startAgain gives what is left to be done after an edit was refused.
func (h *deviceWorker) startAgain(
	ctx context.Context, s *fleet.Session, to netconf.Datastore, d *diff.Difference,
) (*diff.Difference, error) {
	if to == netconf.Candidate {
		if err := s.DiscardChanges(ctx); err != nil {
			return nil, s.Wrap("discarding", err)
		}
		return d, nil
	}
	now, err := s.Read(ctx, to)
	if err != nil {
		return nil, err
	}
	return diff.Compare(now, d.New), nil
}

// climb has the next form tried, where a device took one and made something else of
// it: another order, or, where it was to replace a node, what it had left there; false
// where there is none.
func (h *deviceWorker) climb(d, off *diff.Difference, to netconf.Datastore, why purpose) bool {
	n := h.run.e.ladders.of(h.at(d))
	if n+1 >= len(forms(d, to, why)) || n == 0 && !diff.OrderOnly(off) {
		return false
	}
	h.run.e.ladders.took(h.at(d), n+1)
	return true
}

// written puts into effect, or into the candidate, what makes one configuration of
// another, and reads it back; an order that was not taken is written in the next
// form.
func (h *deviceWorker) written(
	ctx context.Context, s *fleet.Session, d *diff.Difference, why purpose,
) (off *diff.Difference, err error) {
	for {
		if err := h.put(ctx, s, netconf.Running, d, why); err != nil {
			return nil, err
		}
		running, err := s.Read(ctx, netconf.Running)
		if err != nil {
			return nil, err
		}
		off = diff.Compare(d.New.WithoutDefaults(), running.WithoutDefaults())
		if off.Empty() || !h.climb(d, off, netconf.Running, why) {
			return off, nil
		}
		d = diff.Compare(running, d.New)
	}
}
