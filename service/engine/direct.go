package engine

import (
	"context"
	"fmt"

	"oakenlatch/core/check"
	"oakenlatch/core/diff"
	"oakenlatch/core/guard"
	"oakenlatch/netconf"
	"oakenlatch/service/fleet"
)

// Devices without a candidate take edits in running, where they are in effect
// at once (RFC 6241 section 8.2). What can be checked before is checked here.

// tryOut checks an edit of running before it is made: by our own rules, and by
// the device's where it can test without carrying out.
func (h *deviceWorker) tryOut(ctx context.Context, s *fleet.Session, d *diff.Difference) error {
	for _, f := range check.Change(s.Schema, d.Old, d.New).Findings {
		if f.Severity == check.Error {
			return fmt.Errorf("the result is not valid at %s: %s; nothing was sent", f.Path, f.Message)
		}
	}
	if !s.Capabilities.Has(netconf.CapValidate11) {
		return nil
	}
	if err := h.put(ctx, s, netconf.Running, d, trying); err != nil {
		return err
	}
	running, err := s.Read(ctx, netconf.Running)
	if err != nil {
		return err
	}
	if diff.Compare(d.Old, running).Empty() {
		return nil
	}
	return h.undoAtOnce(ctx, s, "it was asked only to test the edit, and carried it out")
}

// commitDirectly edits running and reads it back. What came of it otherwise
// than predicted is taken back at once.
func (h *deviceWorker) commitDirectly(ctx context.Context, s *fleet.Session) guard.Event {
	base, result := h.trees(s.Schema)
	_, err := h.written(ctx, s, diff.Compare(base, result), going)
	if err != nil && !netconf.Refused(err) {
		h.dropSession()
		return guard.Event{Kind: guard.CommitUnknown, Err: brief(err)}
	}
	running, rerr := s.Read(ctx, netconf.Running)
	if rerr != nil {
		h.dropSession()
		return guard.Event{Kind: guard.CommitUnknown, Err: brief(rerr)}
	}
	off := diff.Compare(result.WithoutDefaults(), running.WithoutDefaults())
	switch {
	case err == nil && off.Empty():
		return guard.Event{Kind: guard.Applied}
	case err != nil && h.classify(s.Schema, running) == guard.FoundBase:
		return guard.Event{Kind: guard.CommitRefused, Refused: true, Err: brief(err)}
	case err != nil:
		err = h.undoAtOnce(ctx, s, brief(err)+"; it had carried out a part of it")
	case diff.OrderOnly(off):
		err = h.undoAtOnce(ctx, s, "it did not take the order that was asked for")
	default:
		err = h.undoAtOnce(ctx, s, "it made something else of the edit; against what was asked for:\n"+off.Text(0))
	}
	if running, rerr := s.Read(ctx, netconf.Running); rerr == nil && diff.Compare(
		base.WithoutDefaults(), running.WithoutDefaults(),
	).Empty() {
		return guard.Event{Kind: guard.CommitRefused, Err: brief(err)}
	}
	h.dropSession()
	return guard.Event{Kind: guard.CommitUnknown, Err: brief(err)}
}

// undoAtOnce writes back what stands in running against the base, in the
// session that has it locked, and says why.
func (h *deviceWorker) undoAtOnce(ctx context.Context, s *fleet.Session, why string) error {
	base, _ := h.trees(s.Schema)
	running, err := s.Read(ctx, netconf.Running)
	if err == nil {
		_, err = h.written(ctx, s, diff.Compare(running, base), goingBack)
	}
	if err != nil {
		return fmt.Errorf("%s; taking that back failed: %w", why, err)
	}
	return fmt.Errorf("%s; it was reverted at once", why)
}
