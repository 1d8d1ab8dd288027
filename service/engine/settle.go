package engine

import (
	"context"
	"errors"

	"oakenlatch/core/guard"
	"oakenlatch/netconf"
	"oakenlatch/service/fleet"
)

// settle reads back what was kept, compares it with what was to be, makes it a
// revision and saves it to startup, unless it is not to be saved.
func (h *hand) settle(ctx context.Context) guard.Event {
	saved := false
	err := h.inAsked(ctx, "saving to startup", func(ctx context.Context, s *fleet.Session, _ bool) error {
		running, err := s.Read(ctx, netconf.Running)
		if err != nil {
			return err
		}
		found := h.classify(running)
		change := h.run.commit.Change
		if found == guard.FoundBase {
			change = 0 // it is not this change that made it so
		}
		if _, err := h.run.e.history.Keep(ctx, s, running, change, h.run.commit.Actor); err != nil {
			return err
		}
		if found != guard.FoundResult {
			return errors.Join(errors.New("read back after it was kept, its running is not what was committed: look at it, someone or a restart changed it at this moment"),
				h.run.e.history.NoteSaved(ctx, s, running))
		}
		if h.noSave || !s.Capabilities.Has(netconf.CapStartup) {
			return h.run.e.history.NoteSaved(ctx, s, running)
		}
		saved, err = h.run.e.history.Save(ctx, s, running)
		return err
	})
	h.dropAsked()
	h.leave()
	ev := outcome(guard.SettleDone, guard.SettleDone, err)
	ev.Saved = saved
	return ev
}
