package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"oakenlatch/core/advice"
	"oakenlatch/core/check"
	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/guard"
	"oakenlatch/core/markup"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
	"oakenlatch/service/fleet"
	"oakenlatch/service/history"
	"oakenlatch/service/store"
)

// direct reports whether a device is edited in its running configuration: it
// has no candidate.
func direct(s *fleet.Session) bool { return !s.Capabilities.Has(netconf.CapCandidate) }

// prepare does everything up to the commit: connect, lock, read running
// afresh, rebase, write the candidate, validate, read it back. Nothing is in
// effect afterwards.
func (h *deviceWorker) prepare(ctx context.Context) error {
	if err := h.turn(ctx); err != nil {
		return err
	}
	defer func() { <-h.run.turns }()
	ctx, cancel := context.WithTimeout(ctx, 3*time.Minute)
	defer cancel()
	s, err := h.run.e.fleet.Dial(ctx, store.Everything, h.name)
	if err != nil {
		return err
	}
	h.keep(s)
	if err := lock(ctx, s); err != nil {
		return err
	}
	running, err := s.Read(ctx, netconf.Running)
	if err != nil {
		return err
	}
	if _, err := h.run.e.history.Keep(ctx, s, running, 0, h.run.commit.Actor); err != nil {
		return err
	}
	if !direct(s) {
		if err := foreignEdits(ctx, s, running); err != nil {
			return err
		}
	}
	result, err := h.rebase(s.Schema, running)
	if err != nil {
		return err
	}
	if err := h.predict(ctx, s, running, result); err != nil {
		return err
	}
	d := diff.Compare(running, result)
	switch {
	case direct(s):
		err = h.tryOut(ctx, s, d)
	case h.keeper == guard.ByService:
		err = h.thereAndBack(ctx, s, d)
	default:
		err = h.toCandidate(ctx, s, d)
	}
	h.preparedAt = time.Now()
	return err
}

// turn waits until fewer devices are being prepared, unless something else is wanted
// meanwhile.
func (h *deviceWorker) turn(ctx context.Context) error {
	look := time.NewTicker(200 * time.Millisecond)
	defer look.Stop()
	for {
		select {
		case h.run.turns <- struct{}{}:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		case <-look.C:
			h.mu.Lock()
			overtaken := h.waiting > 0
			h.mu.Unlock()
			if overtaken {
				return errors.New("it was given up before its turn came; nothing was touched")
			}
		}
	}
}

// foreignEdits makes sure that a device's candidate holds nothing but running:
// whatever else is there is someone's uncommitted work, which a commit, a
// confirming one too (RFC 6241 section 8.4), would publish, and a discard lose.
func foreignEdits(ctx context.Context, s *fleet.Session, running *tree.Node) error {
	candidate, err := s.Read(ctx, netconf.Candidate)
	if err != nil {
		return err
	}
	if d := diff.Compare(running, candidate); !d.Empty() {
		return fmt.Errorf(
			"its candidate holds %d uncommitted edits of someone else, first at %s, which a commit would put into "+
				"effect; have them committed or discarded by whoever made them",
			d.Count(), d.Items()[0].Path,
		)
	}
	return nil
}

// A lock that is denied is tried again, in growing pauses: 3 s in all.
const (
	lockTries = 4
	lockPause = 300 * time.Millisecond
)

// lock takes running, and the candidate where there is one; the error names who
// has them, as far as the device tells.
func lock(ctx context.Context, s *fleet.Session) error {
	for _, ds := range []netconf.Datastore{netconf.Running, netconf.Candidate} {
		if ds == netconf.Candidate && direct(s) {
			return nil
		}
		if err := lockOne(ctx, s, ds); err != nil {
			return err
		}
	}
	return nil
}

func lockOne(ctx context.Context, s *fleet.Session, ds netconf.Datastore) error {
	err := s.Lock(ctx, ds)
	// A session that just ended, one of ours perhaps, may not be gone yet there.
	for i := 1; i <= lockTries && netconf.Tagged(err, "lock-denied") && sleep(ctx, time.Duration(i)*lockPause); i++ {
		err = s.Lock(ctx, ds)
	}
	if err == nil {
		return nil
	}
	msg := fmt.Sprintf("%s cannot be locked: %v", ds, err)
	next := advice.Words("nothing was touched; try again once that is over")
	switch {
	case netconf.Tagged(err, "resource-denied"), ds == netconf.Candidate && nobodyHolds(err):
		// RFC 6241 section 7.5: a candidate that was changed and not committed is not
		// locked; some name session 0, which is nobody's, for that.
		msg = "its candidate holds someone's uncommitted edits"
		next = advice.Words("nothing was touched; compare what runs with the candidate to see them").
			Do(advice.Compare, s.Device.Name, s.Device.Name+"@candidate").
			Or("or clear the candidate, which discards them", advice.ClearCandidate, s.Device.Name)
	case netconf.Refused(err):
		msg = s.Denied(ctx, ds, err)
		next = next.Or("see who is there", advice.ListSessions, s.Device.Name)
	}
	return &fleet.Error{
		Device: s.Device.Name, Address: s.Device.Address, Kind: fleet.Refusal, Msg: msg, Next: next, Err: err,
	}
}

// nobodyHolds reports whether a lock was denied on account of session 0.
func nobodyHolds(err error) bool {
	var errs netconf.RPCErrors
	return errors.As(err, &errs) && slices.ContainsFunc(
		errs, func(e netconf.RPCError) bool { return e.Tag == "lock-denied" && e.SessionID() == "0" },
	)
}

// rebase puts the part's edits on what the device holds now.
func (h *deviceWorker) rebase(s *schema.Schema, running *tree.Node) (*tree.Node, error) {
	if moved := diff.Compare(h.former, running); h.exact && !moved.Empty() {
		return nil, fmt.Errorf(
			"the device moved on since the change was previewed: %d changes, first %s; nothing was touched: "+
				"preview it again",
			moved.Count(), moved.Items()[0].Path,
		)
	}
	result, conflicts := diff.Merge(h.former, h.mine, running)
	result, _ = check.Settled(s, running, result)
	if len(conflicts) > 0 {
		var lines []string
		for i, c := range conflicts {
			if i == 3 {
				lines = append(lines, fmt.Sprintf("and %d more", len(conflicts)-i))
				break
			}
			was, mine, theirs := c.Texts(show)
			line := fmt.Sprintf(
				"%s (it was %s, this change makes it %s, the device now has %s)", c.Path, was, mine, theirs,
			)
			if c.Order != nil {
				line = fmt.Sprintf("%s (%s)", c.Path, c.Why)
			}
			lines = append(lines, line)
		}
		return nil, fmt.Errorf(
			"the device moved on since this was staged, and both changed the same: %s; nothing was touched: preview "+
				"the change, remove or stage again what should stay",
			strings.Join(lines, "; "),
		)
	}
	if diff.Compare(running.WithoutDefaults(), result.WithoutDefaults()).Empty() {
		return nil, errors.New(
			"the device already holds all of this (a value set to its default means what an unset one does); there " +
				"is nothing to commit on it: take that part back",
		)
	}
	return result, nil
}

func show(n *tree.Node) string {
	switch {
	case n == nil:
		return "absent"
	case n.Schema() != nil && n.Schema().IsLeaf():
		return codec.Quote(n.Value())
	}
	return strings.Join(codec.Heads(n)[:1], "")
}

// predict keeps what the device holds and is to hold, before anything is sent.
func (h *deviceWorker) predict(ctx context.Context, s *fleet.Session, base, result *tree.Node) error {
	err := h.run.e.store.Write(ctx, func(tx *store.Tx) error {
		for _, n := range []*tree.Node{base, result} {
			if _, err := h.run.e.history.Add(tx, s.Device.ID, s.Device.ModuleSet, s.Schema, n); err != nil {
				return err
			}
		}
		return tx.SetCommitPart(h.run.commit.ID, h.place, history.Digest(base), history.Digest(result))
	})
	if err != nil {
		return err
	}
	h.mu.Lock()
	h.base, h.result, h.schema = base, result, s.Schema
	h.mu.Unlock()
	return nil
}

// write sends edits to a datastore; the Op of their root is the default operation.
func write(ctx context.Context, s *fleet.Session, to netconf.Datastore, edits *tree.Edit, why purpose) error {
	ctx, cancel := context.WithTimeout(ctx, operation)
	defer cancel()
	w := &markup.Writer{}
	codec.EncodeEdit(w, s.Schema, edits)
	e := netconf.EditConfig{Target: to, DefaultOperation: string(edits.Op), Config: w.Bytes()}
	if why == trying {
		e.TestOption = "test-only"
	}
	if s.Capabilities.Has(netconf.CapRollbackOnError) {
		e.ErrorOption = "rollback-on-error"
	}
	return s.Answered("the device refuses the edit", "writing the edit", s.EditConfig(ctx, e))
}

// toCandidate writes the candidate, has the device validate it and compares what it
// made of the edits with the prediction. The edits are written anew after the
// validate: there are servers on which a commit that follows one is answered with
// ok and changes nothing. Order that was not taken is written in the next form.
func (h *deviceWorker) toCandidate(ctx context.Context, s *fleet.Session, d *diff.Difference) error {
	for {
		if err := h.put(ctx, s, netconf.Candidate, d, going); err != nil {
			return err
		}
		if err := h.validate(ctx, s, d); err != nil {
			return err
		}
		got, err := s.Read(ctx, netconf.Candidate)
		if err != nil {
			return err
		}
		// Defaults that are set and defaults that are not mean the same.
		off := diff.Compare(d.New.WithoutDefaults(), got.WithoutDefaults())
		switch {
		case off.Empty():
			return nil
		case h.climb(d, off, netconf.Candidate, going):
			if err := s.DiscardChanges(ctx); err != nil {
				return s.Wrap("discarding", err)
			}
			continue
		}
		return fmt.Errorf(
			"the device took the edit but made something else of it, so it was not committed; against what was "+
				"asked for:\n%s",
			off.Text(0),
		)
	}
}

// thereAndBack proves the way back before the way there is gone: where only this
// service would send the device back, what would do that is tried in its candidate,
// on top of the change.
func (h *deviceWorker) thereAndBack(ctx context.Context, s *fleet.Session, d *diff.Difference) error {
	if err := h.toCandidate(ctx, s, d); err != nil {
		return err
	}
	back := d.Invert()
	there := func() error {
		if err := s.DiscardChanges(ctx); err != nil {
			return s.Wrap("discarding", err)
		}
		return h.put(ctx, s, netconf.Candidate, d, going)
	}
	for {
		err := h.putFrom(
			ctx, s, netconf.Candidate, back, goingBack, func() (*diff.Difference, error) { return back, there() },
		)
		if err != nil {
			return fmt.Errorf(
				"nothing was committed: the device takes the change and refuses what would take it back, and nobody "+
					"but this service would: %w",
				err,
			)
		}
		got, err := s.Read(ctx, netconf.Candidate)
		if err != nil {
			return err
		}
		off := diff.Compare(d.Old.WithoutDefaults(), got.WithoutDefaults())
		if off.Empty() {
			break
		}
		if !h.climb(back, off, netconf.Candidate, goingBack) {
			return fmt.Errorf(
				"nothing was committed: what would take the change back makes something else of the device than it "+
					"was, and nobody but this service would take it back; against what it holds:\n%s",
				off.Text(0),
			)
		}
		if err := there(); err != nil {
			return err
		}
	}
	if err := s.DiscardChanges(ctx); err != nil {
		return s.Wrap("discarding", err)
	}
	return h.toCandidate(ctx, s, d)
}

// validate asks the device to check the candidate, and writes it anew.
func (h *deviceWorker) validate(ctx context.Context, s *fleet.Session, d *diff.Difference) error {
	if !s.Capabilities.Has(netconf.CapValidate11) && !s.Capabilities.Has(netconf.CapValidate10) {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, operation)
	defer cancel()
	if err := s.Validate(ctx, netconf.Source{Datastore: netconf.Candidate}); err != nil {
		return s.Answered("the device finds the result invalid", "having the device check the result", err)
	}
	if err := s.DiscardChanges(ctx); err != nil {
		return s.Wrap("discarding", err)
	}
	return h.put(ctx, s, netconf.Candidate, d, going)
}
