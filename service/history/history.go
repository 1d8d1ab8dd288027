// Package history keeps every configuration ever seen as a numbered revision.
package history

import (
	"context"
	"errors"
	"fmt"
	"time"

	"oakenlatch/core/diff"
	"oakenlatch/core/ledger"
	"oakenlatch/core/lifecycle"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
	"oakenlatch/service/audit"
	"oakenlatch/service/fleet"
	"oakenlatch/service/outside/attribution"
	"oakenlatch/service/store"
	"oakenlatch/service/underway"
)

// History is the revisions of all devices.
type History struct {
	store  *store.Store
	log    *audit.Log
	fleet  *fleet.Fleet
	runs   *runs
	trails *trails
	seen   seen
	damage damage
	board  *underway.Board
}

// New gives the history over a store; the board tells which commits are under way.
func New(s *store.Store, log *audit.Log, f *fleet.Fleet, board *underway.Board) *History {
	return &History{
		store: s, log: log, fleet: f, board: board, runs: newRuns(), trails: newTrails(),
		seen: seen{at: map[int64]time.Time{}},
	}
}

// Holder gives the change whose commit is under way on a device, 0 if none.
func (h *History) Holder(device int64) int64 { return h.board.Holder(device) }

// errPassed: another revision was kept at this very moment.
var errPassed = errors.New("another revision came first")

// Keep makes a revision of a configuration that was read from a device, unless
// it is the one known last. change is the change that made it and actor who
// committed that; 0 for none: then a difference was made behind the service's
// back, and the ledger says so.
func (h *History) Keep(
	ctx context.Context, s *fleet.Session, n *tree.Node, change int64, actor string,
) (store.Revision, error) {
	return h.keep(ctx, s, n, change, actor, false)
}

// keep is Keep; on hold says that what the change made is not decided, or was taken
// back again.
func (h *History) keep(
	ctx context.Context, s *fleet.Session, n *tree.Node, change int64, actor string, onTrial bool,
) (store.Revision, error) {
	last, err := h.store.LastRevision(ctx, s.Device.ID)
	if err == nil && last.Digest == Digest(n) && !s.Device.Replaced {
		h.seen.note(s.Device.ID, h.log.Now())
		return last, nil
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return last, err
	}
	var before *tree.Node
	if err == nil {
		if before, err = h.Tree(ctx, s.Schema, last.Digest); err != nil {
			return last, err
		}
	}
	if before != nil && tree.Same(before, n) && !s.Device.Replaced {
		return last, nil // the same, though an older release of this service named it otherwise
	}
	rev := store.Revision{
		Device: s.Device.ID, Digest: Digest(n), At: h.log.Now(), Change: change, Source: lifecycle.FirstRead,
	}
	var model, serial string
	if before == nil || s.Device.Replaced {
		if model, serial, err = s.Box(ctx); err != nil {
			return rev, err
		}
	}
	err = h.log.Write(ctx, func(tx *audit.Tx) error {
		newest, err := tx.LastRevision(s.Device.ID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		known := err == nil
		dev, err := tx.DeviceByID(s.Device.ID)
		switch {
		case err != nil:
			return err
		case known && dev.Replaced:
			rev.Source = lifecycle.ByReplaced
			if err := errors.Join(tx.SetRead(dev.ID), tx.SetBox(dev.ID, model, serial)); err != nil {
				return err
			}
		case known && newest.Digest == rev.Digest:
			rev = newest // someone else read it at the same time
			return nil
		case newest.Number != last.Number:
			return errPassed
		case known && change != 0:
			rev.Source, rev.Actor = lifecycle.ByChange, actor
		case known:
			rev.Source = lifecycle.ByOutside
		case model+serial != "":
			if err := tx.SetBox(dev.ID, model, serial); err != nil {
				return err
			}
		}
		if _, err := h.Add(tx.Tx, s.Device.ID, s.Device.ModuleSet, s.Schema, n); err != nil {
			return err
		}
		if rev, err = tx.AddRevision(rev); err != nil {
			return err
		}
		if rev.Source == lifecycle.ByOutside {
			return h.outside(tx, dev, last, rev, before, n)
		}
		if change != 0 && !onTrial {
			if err := tx.PushedBack(change, dev.ID, h.log.Now()); err != nil {
				return err
			}
		}
		return h.record(tx, s.Device.Name, rev, actor)
	})
	if errors.Is(err, errPassed) {
		return h.keep(ctx, s, n, change, actor, onTrial)
	}
	s.Device.Replaced = s.Device.Replaced && err != nil
	return rev, err
}

func (h *History) record(tx *audit.Tx, device string, rev store.Revision, actor string) error {
	e := ledger.Entry{
		Actor: actor, Device: device, Change: rev.Change, Action: "revision." + string(rev.Source),
		Note: fmt.Sprintf("revision %d", rev.Number),
	}
	if rev.Source == lifecycle.ByReplaced {
		e.Note += ": what the box held that was put in its place"
	}
	return tx.Record(e)
}

// keepStartup notes what startup was read to hold, and whether that is what
// runs: a revision of its own line where it is another than before. by is the
// person who had this service save it, "" where it did not.
func (h *History) keepStartup(
	ctx context.Context, s *fleet.Session, startup *tree.Node, saved bool, change int64, by string,
) error {
	digest := Digest(startup)
	last, err := h.store.LastStartup(ctx, s.Device.ID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	d, err := h.store.DeviceByID(ctx, store.Everything, s.Device.ID)
	if err != nil || last.Digest == digest && d.Unsaved != saved {
		return err // it is noted so already
	}
	return h.log.Write(ctx, func(tx *audit.Tx) error {
		if d.Unsaved == saved {
			if err := tx.SetUnsaved(s.Device.ID, !saved); err != nil {
				return err
			}
		}
		rev := store.Revision{
			Device: s.Device.ID, Digest: digest, At: h.log.Now(), Source: lifecycle.BySave, Change: change, Actor: by,
		}
		newest, err := tx.LastStartup(s.Device.ID)
		switch {
		case err != nil && !errors.Is(err, store.ErrNotFound):
			return err
		case err == nil && newest.Digest == rev.Digest:
			return nil
		case by != "":
		case err == nil:
			rev.Source = lifecycle.ByOutside
		default:
			rev.Source = "first"
		}
		if _, err := h.Add(tx.Tx, s.Device.ID, s.Device.ModuleSet, s.Schema, startup); err != nil {
			return err
		}
		if rev, err = tx.AddStartup(rev); err != nil || rev.Source == lifecycle.FirstRead {
			return err
		}
		e := ledger.Entry{
			Actor: by, Device: s.Device.Name, Change: change, Action: "startup.saved",
			Note: fmt.Sprintf("startup %d", rev.Number),
		}
		if rev.Source == lifecycle.ByOutside {
			a := attribution.Of(h.evidence(s.Device, newest.At, rev.At, netconf.Startup))
			e.Actor, e.Action, e.Address, e.Session = audit.Service, "startup.outside", a.Address, a.Session
			e.Note += ": saved by somebody, not by this service; " + a.Who
		}
		return tx.Record(e)
	})
}

// Reading is what a device was just read to hold.
type Reading struct {
	Device   store.Device
	Schema   *schema.Schema
	Revision store.Revision
	Running  *tree.Node

	// Trial is set where this is what a commit on hold makes of the device: it
	// may revert, and Revision is the one before it.
	Trial bool
}

// Read reads a device's running now and keeps it; where the device has a
// startup it also notes whether the two differ.
func (h *History) Read(ctx context.Context, reach store.Reach, device, actor string) (r Reading, err error) {
	err = h.fleet.Reading(ctx, reach, device, func(ctx context.Context, s *fleet.Session) error {
		r = Reading{Device: s.Device, Schema: s.Schema}
		if r.Running, err = s.Read(ctx, netconf.Running); err != nil {
			return err
		}
		if r.Trial, err = h.onTrial(ctx, s, r.Running); r.Trial || err != nil {
			// It is a commit's trial, and nobody else's doing; whether it becomes a
			// revision is not decided yet.
			if err == nil {
				r.Revision, err = h.store.LastRevision(ctx, s.Device.ID)
			}
			return err
		}
		if r.Revision, err = h.Keep(ctx, s, r.Running, 0, actor); err != nil {
			return err
		}
		return h.NoteSaved(ctx, s, r.Running)
	})
	return r, err
}

// onTrial reports whether a configuration is what a commit under way makes of a
// device. What somebody else changed beside it is recorded.
func (h *History) onTrial(ctx context.Context, s *fleet.Session, running *tree.Node) (bool, error) {
	base, result := h.board.Making(s.Device.ID, s.Schema)
	if base == nil || result == nil {
		return false, nil
	}
	if result.Digest() == running.Digest() {
		return true, nil
	}
	plain := result.WithoutDefaults()
	now := running.WithoutDefaults()
	if old, _ := diff.Compare(base.WithoutDefaults(), plain).Where(now); old {
		return false, nil
	}
	change := h.Holder(s.Device.ID)
	commit, err := h.store.LastCommit(ctx, change)
	if err != nil {
		return true, err
	}
	return true, h.Beside(ctx, s, result, running, change, commit.Actor)
}

// NoteSaved compares startup with running and notes the outcome.
func (h *History) NoteSaved(ctx context.Context, s *fleet.Session, running *tree.Node) error {
	if !s.Capabilities.Has(netconf.CapStartup) {
		return nil
	}
	startup, err := s.Read(ctx, netconf.Startup)
	if err != nil {
		return err
	}
	return h.keepStartup(ctx, s, startup, same(startup, running), 0, "")
}

// Save copies running to startup, reads that back, and notes how it went:
// because of a change, or of none, and by whose word.
func (h *History) Save(
	ctx context.Context, s *fleet.Session, running *tree.Node, change int64, actor string,
) (saved bool, err error) {
	copyErr := s.Wrap(
		"saving to startup", s.CopyConfig(ctx, netconf.Startup, netconf.Source{Datastore: netconf.Running}),
	)
	startup, err := s.Read(ctx, netconf.Startup)
	if err != nil {
		return false, errors.Join(copyErr, err)
	}
	saved = same(startup, running)
	if !saved {
		change, actor = 0, ""
	}
	noteErr := h.keepStartup(ctx, s, startup, saved, change, actor)
	if copyErr == nil && !saved {
		copyErr = errors.New("the device said that it saved, but its startup still differs from running")
	}
	return saved, errors.Join(copyErr, noteErr)
}

// same reports whether two configurations mean the same. Defaults that are set
// and defaults that are not do.
func same(a, b *tree.Node) bool { return a.WithoutDefaults().Digest() == b.WithoutDefaults().Digest() }

// ToBuildOn is Read for what something is to be staged on: never what a commit on hold made of the device, as that may
// revert.
func (h *History) ToBuildOn(ctx context.Context, reach store.Reach, device, actor string) (Reading, error) {
	r, err := h.Read(ctx, reach, device, actor)
	if err == nil && r.Trial {
		return h.Known(ctx, reach, device)
	}
	return r, err
}

// Known gives a device's configuration as it was last read, without asking it.
func (h *History) Known(ctx context.Context, reach store.Reach, device string) (Reading, error) {
	d, err := h.store.Device(ctx, reach, device)
	if err != nil {
		return Reading{}, fmt.Errorf("device %s: %w", device, err)
	}
	r := Reading{Device: d}
	if r.Schema, err = h.fleet.Schema(ctx, d); err != nil {
		return r, err
	}
	if r.Revision, err = h.store.LastRevision(ctx, d.ID); err != nil {
		return r, fmt.Errorf("device %s has no revision: %w", device, err)
	}
	r.Running, err = h.Tree(ctx, r.Schema, r.Revision.Digest)
	return r, err
}
