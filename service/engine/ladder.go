package engine

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"oakenlatch/core/diff"
	"oakenlatch/netconf"
	"oakenlatch/service/fleet"
)

// Devices differ in what forms of an edit they take where entries have an order:
// some refuse the name of a neighbour, some the name of one that the same edit
// makes, some answer ok and move nothing. Every write to a device, there or back,
// tries one form after another (diff.Forms), each naming fewer neighbours; what a
// device did not take once is not tried on it again.

// ladders remembers which form of an edit devices took last.
type ladders struct {
	mu   sync.Mutex
	form map[int64]int // by device
}

func (l *ladders) of(device int64) int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.form[device]
}

func (l *ladders) took(device int64, form int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.form == nil {
		l.form = map[int64]int{}
	}
	l.form[device] = form
}

// put writes what makes one configuration of another to a datastore, in the first
// form that the device takes.
func (h *hand) put(ctx context.Context, s *fleet.Session, to netconf.Datastore, d *diff.Difference, test string) error {
	return h.putFrom(ctx, s, to, d, test, func() (*diff.Difference, error) { return h.startAgain(ctx, s, to, d) })
}

// putFrom is put where what a refused form may have left behind is cleared away as
// again does it; it gives what is left to be done then.
func (h *hand) putFrom(ctx context.Context, s *fleet.Session, to netconf.Datastore, d *diff.Difference, test string, again func() (*diff.Difference, error)) error {
	forms := d.Forms()
	var refusals []error
	for n := min(h.run.e.ladders.of(h.device), len(forms)-1); n < len(forms); n++ {
		err := write(ctx, s, to, forms[n], test)
		switch {
		case err == nil:
			if len(forms) > 1 {
				h.run.e.ladders.took(h.device, n)
			}
			return nil
		case !refusesForm(err):
			return errors.Join(append(refusals, err)...)
		}
		refusals = append(refusals, err)
		if n == len(forms)-1 || test != "" {
			continue
		}
		// What it refused it may have carried out in part.
		if d, err = again(); err != nil {
			return errors.Join(append(refusals, err)...)
		}
		if d.Empty() {
			return nil
		}
		if forms = d.Forms(); len(forms) == 1 {
			n = -1 // no order is left in it
		}
	}
	if len(refusals) > 1 {
		return fmt.Errorf("%w (it was tried in %d forms; the last was refused with: %w)", refusals[0], len(refusals), refusals[len(refusals)-1])
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
func (h *hand) startAgain(ctx context.Context, s *fleet.Session, to netconf.Datastore, d *diff.Difference) (*diff.Difference, error) {
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

// climb has the next form tried, where a device took one and made another order of
// it; false where there is none.
func (h *hand) climb(d *diff.Difference) bool {
	n := h.run.e.ladders.of(h.device)
	if n+1 >= len(d.Forms()) {
		return false
	}
	h.run.e.ladders.took(h.device, n+1)
	return true
}

// written puts into effect, or into the candidate, what makes one configuration of
// another, and reads it back; an order that was not taken is written in the next
// form.
func (h *hand) written(ctx context.Context, s *fleet.Session, d *diff.Difference) (off *diff.Difference, err error) {
	for {
		if err := h.put(ctx, s, netconf.Running, d, ""); err != nil {
			return nil, err
		}
		running, err := s.Read(ctx, netconf.Running)
		if err != nil {
			return nil, err
		}
		off = diff.Compare(d.New.WithoutDefaults(), running.WithoutDefaults())
		if off.Empty() || !diff.OrderOnly(off) || !h.climb(d) {
			return off, nil
		}
		d = diff.Compare(running, d.New)
	}
}
