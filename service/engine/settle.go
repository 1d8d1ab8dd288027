package engine

import (
	"context"
	"errors"
	"time"

	"oakenlatch/core/guard"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
	"oakenlatch/service/fleet"
)

// settleTries is how often a device that cannot be read is settled anew.
const settleTries = 5

// settle ends a commit on a device that keeps it. What is not saved is lost
// when the device restarts, so it does not give up at once.
func (h *deviceWorker) settle(ctx context.Context) guard.Event {
	for try := 1; ; try++ {
		saved, found, err := h.settleOnce(ctx)
		h.dropAsked()
		var fe *fleet.Error
		lost := errors.As(err, &fe) && fe.Kind == fleet.Unreachable // perhaps it restarts just now
		if (found == "" || lost) && try < settleTries && sleep(ctx, time.Duration(try)*h.run.e.opt.Timing.Pause) {
			continue
		}
		h.leave()
		ev := outcome(guard.SettleDone, guard.SettleDone, err)
		ev.Saved, ev.Found = saved, found
		return ev
	}
}

// settleOnce reads back what was kept, compares it with what was to be, makes
// it a revision and saves it to startup, unless it is not to be saved.
func (h *deviceWorker) settleOnce(ctx context.Context) (saved bool, found guard.Found, err error) {
	err = h.inAsked(ctx, "saving to startup", func(ctx context.Context, s *fleet.Session, _ bool) error {
		running, err := s.Read(ctx, netconf.Running)
		if err != nil {
			return err
		}
		found = h.classify(s.Schema, running)
		if h.damaged != nil {
			return h.damaged
		}
		change := h.run.commit.Change
		if found == guard.FoundBase {
			change = 0 // it is not this change that made it so
		}
		_, result := h.trees(s.Schema)
		if found != guard.FoundBase && !tree.Same(result.WithoutDefaults(), running.WithoutDefaults()) {
			// Somebody else changed other places meanwhile: that is no work of this change.
			if err := h.run.e.history.Beside(ctx, s, result, running, change, h.run.commit.Actor); err != nil {
				return err
			}
			if err := h.run.e.history.KeptBeside(ctx, s.Device.ID, change); err != nil {
				return err
			}
		} else if _, err := h.run.e.history.Keep(ctx, s, running, change, h.run.commit.Actor); err != nil {
			return err
		}
		change = h.run.commit.Change
		if found != guard.FoundResult {
			return errors.Join(
				errors.New(
					"read back after it was confirmed, its running is not what was committed: a restart or "+
						"someone on the "+
						"device changed it at this moment",
				),
				h.run.e.history.NoteSaved(ctx, s, running),
			)
		}
		if h.noSave || !s.Capabilities.Has(netconf.CapStartup) {
			return h.run.e.history.NoteSaved(ctx, s, running)
		}
		saved, err = h.run.e.history.Save(ctx, s, running, change, h.run.commit.Actor)
		return err
	})
	return saved, found, err
}
