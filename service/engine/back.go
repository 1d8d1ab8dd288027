package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"oakenlatch/core/diff"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
	"oakenlatch/service/fleet"
)

// release takes a preparation back: the candidate is emptied of our edits and
// the locks are freed.
func (h *deviceWorker) release(ctx context.Context) error {
	h.mu.Lock()
	s, touched := h.session, h.result != nil
	h.mu.Unlock()
	if s != nil && s.Err() == nil {
		var err error
		if touched && !direct(s) {
			dctx, cancel := context.WithTimeout(ctx, operation)
			err = s.Wrap("discarding", s.DiscardChanges(dctx))
			cancel()
		}
		h.leave()
		return err
	}
	h.dropSession()
	if !touched {
		return nil
	}
	return h.inNewSession(ctx, "cleaning the candidate", h.cleanCandidate)
}

// cleanCandidate empties a candidate that holds exactly what a session of ours
// that died left there. Anything else is not ours and stays.
func (h *deviceWorker) cleanCandidate(ctx context.Context, s *fleet.Session) error {
	if direct(s) {
		return nil
	}
	_, result := h.trees(s.Schema)
	if result == nil {
		return nil
	}
	candidate, err := s.Read(ctx, netconf.Candidate)
	if err != nil {
		return err
	}
	if diff.Compare(result.WithoutDefaults(), candidate.WithoutDefaults()).Empty() {
		return s.DiscardChanges(ctx)
	}
	return nil
}

// restore writes the former configuration back where the device can no longer
// do so itself, leaving alone what others changed elsewhere.
func (h *deviceWorker) restore(ctx context.Context, s *fleet.Session) error {
	if h.damaged != nil {
		return h.damaged
	}
	base, result := h.trees(s.Schema)
	if err := lock(ctx, s); err != nil {
		return err
	}
	running, err := s.Read(ctx, netconf.Running)
	if err != nil {
		return err
	}
	h.beside(ctx, s, running)
	if !direct(s) {
		if err := foreignEdits(ctx, s, running); err != nil {
			return err
		}
	}
	// What can be put back is; only what somebody changed at the same place since is
	// left as it is, and named.
	target, conflicts, err := wentBack(base, result, running)
	if err != nil {
		return err
	}
	if d := diff.Compare(running, target); !d.Empty() {
		if err := h.writeBack(ctx, s, d); err != nil {
			return err
		}
	}
	if len(conflicts) == 0 {
		return nil
	}
	var places []string
	for n, c := range conflicts {
		if n == 3 {
			places = append(places, fmt.Sprintf("and %d more", len(conflicts)-n))
			break
		}
		places = append(places, c.Path.String())
	}
	return fmt.Errorf(
		"someone changed the same place since, at %s; all else of the change is reverted: decide by hand what "+
			"these should be, then accept the device as it is",
		strings.Join(places, ", "),
	)
}

// wentBack gives what a device is to hold once a change is taken back from what it
// holds, and what cannot be told. Entries that the change had taken away and that are
// there again go where they were, as nobody could have given them another place before:
// there are devices that put them back at the end.
func wentBack(base, result, running *tree.Node) (*tree.Node, []diff.Conflict, error) {
	target, conflicts := diff.Merge(result, base, running)
	var returned, rest []diff.Conflict
	for _, c := range conflicts {
		if c.Order != nil && c.Order.Unmoved() {
			returned = append(returned, c)
		} else {
			rest = append(rest, c)
		}
	}
	target, err := diff.Decided(target, base, returned)
	return target, rest, err
}

// writeBack puts into effect what takes a change back.
func (h *deviceWorker) writeBack(ctx context.Context, s *fleet.Session, d *diff.Difference) error {
	if direct(s) {
		_, err := h.written(ctx, s, d, goingBack)
		return err // what it made of it is read by the look that follows
	}
	if err := h.toCandidate(ctx, s, d); err != nil {
		return errors.Join(err, s.DiscardChanges(ctx))
	}
	err := s.Commit(ctx)
	if !d.HasOrder() || !refusesForm(err) {
		return err
	}
	// There are devices that take an order in their candidate and not in running: there
	// the entries go with one commit and come anew with another.
	short, aerr := tree.Apply(d.Old, d.Tails(), tree.None)
	if aerr != nil {
		return err
	}
	for _, step := range []*diff.Difference{diff.Compare(d.Old, short), diff.Compare(short, d.New)} {
		if step.Empty() {
			continue
		}
		derr := s.DiscardChanges(ctx)
		if derr == nil {
			derr = write(ctx, s, netconf.Candidate, step.Edits(), goingBack)
		}
		if derr == nil {
			derr = s.Commit(ctx)
		}
		if derr != nil {
			return errors.Join(err, derr, s.DiscardChanges(ctx))
		}
	}
	return nil
}
