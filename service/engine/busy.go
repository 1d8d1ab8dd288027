package engine

import (
	"errors"
	"fmt"

	"oakenlatch/core/advice"
	"oakenlatch/service/audit"
	"oakenlatch/service/order"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// held is the no to a device on which another commit is under way.
func held(device string, by, change int64) error {
	return refusal.New(refusal.Conflict, fmt.Sprintf("wait until it is decided, then preview change %d again", change),
		"%s is held by the commit of change %d, which is not decided yet", device, by)
}

// Free refuses a change on whose devices another commit is under way.
func (e *Engine) Free(change int64, devices []store.Device) error {
	for _, d := range devices {
		if n := e.Holder(d.ID); n != 0 && n != change {
			return held(d.Name, n, change)
		}
	}
	return nil
}

// unedited makes sure, as a commit begins, that what was worked out is all that
// is staged: somebody may have been at it at this moment.
func unedited(tx *audit.Tx, change int64, works []order.Work) error {
	now, err := tx.Stamp(change)
	if err != nil {
		return err
	}
	for _, w := range works {
		if w.Stamp != "" && w.Stamp != now {
			return refusal.New(
				refusal.Moved, "nothing was committed; look at it again",
				"change %d was edited at this very moment", change,
			).Do(advice.PreviewChange, change)
		}
	}
	return nil
}

// claim makes sure, as a commit begins, that a device is nobody else's.
func (e *Engine) claim(tx *audit.Tx, actor string, w order.Work) error {
	v, err := tx.Reserved(w.Device.ID, e.log.Now())
	switch {
	case errors.Is(err, store.ErrNotFound):
	case err != nil:
		return err
	case v.Holder != actor:
		return refusal.Reserved(w.Device.Name, v.Holder, v.Until, v.Reason)
	}
	moving := w.MovesTo
	if moving != "" {
		moving += " " + w.MovesSeenAs
	}
	if moving == w.Device.MovingTo {
		return nil
	}
	return tx.SetMoving(w.Device.ID, moving)
}

// Owns reports whether a session on a device belongs to a commit under way.
func (e *Engine) Owns(device int64, session string) bool {
	r, ok := e.board.On(device).(*run)
	if !ok {
		return false
	}
	for _, h := range r.workers {
		h.mu.Lock()
		ours := h.device == device && (h.session != nil && h.session.SessionID == session || h.asked != nil &&
			h.asked.SessionID == session)
		h.mu.Unlock()
		if ours {
			return true
		}
	}
	return false
}

// Holder gives the change whose commit is under way on a device, 0 if none.
func (e *Engine) Holder(device int64) int64 { return e.board.Holder(device) }
