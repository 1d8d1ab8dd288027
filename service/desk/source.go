package desk

import (
	"context"
	"errors"
	"strconv"
	"strings"
	"time"

	"oakenlatch/core/advice"
	"oakenlatch/core/check"
	"oakenlatch/core/diff"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
	"oakenlatch/service/access"
	"oakenlatch/service/fleet"
	"oakenlatch/service/history"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// From gets a device's configuration from where a person asked for it:
// running, startup, candidate, rev:N, startup:N for one of startup's own line,
// at:TIME for what ran then, snapshot:NAME or its number, change:N for what a
// change makes of it, or made, and before:N for what was there before its
// commit, archive:N for a copy. The revision is set where it is one.
func (d *Desk) From(ctx context.Context, p access.Person, dev store.Device, from string) (history.Reading, error) {
	kind, arg, _ := strings.Cut(from, ":")
	n, nerr := strconv.ParseInt(arg, 10, 64)
	switch {
	case from == "running":
		return d.history.Read(ctx, p.Reach(), dev.Name, p.Name)
	case from == "startup", from == "candidate":
		return d.datastore(ctx, dev, netconf.Datastore(from))
	case kind == "rev" && nerr == nil:
		return d.revision(ctx, dev, n)
	case kind == "startup" && nerr == nil:
		return d.saved(ctx, dev, n)
	case kind == "at":
		return d.atTime(ctx, dev, arg)
	case kind == "snapshot":
		return d.ofSnapshot(ctx, dev, arg)
	case kind == "before" && nerr == nil:
		return d.committed(ctx, p, dev, n, true)
	case kind == "archive" && nerr == nil:
		r := history.Reading{Device: dev}
		var err error
		if r.Schema, err = d.fleet.Schema(ctx, dev); err == nil {
			r.Running, err = d.copies.Tree(ctx, n, r.Schema)
		}
		return r, err
	case kind == "change" && nerr == nil:
		return d.resultOf(ctx, p, dev, n)
	}
	return history.Reading{}, refusal.New(refusal.Invalid, "give "+Places, "%q is no place to read from", from)
}

// Places are the places that a configuration can be read from, for people.
const Places = "running, startup, candidate, rev:N, startup:N, at:TIME, snapshot:NAME, before:N, change:N or archive:N"

// kept gives a configuration of a device that is in the records.
func (d *Desk) kept(ctx context.Context, dev store.Device, rev store.Revision) (history.Reading, error) {
	r := history.Reading{Device: dev, Revision: rev}
	var err error
	if r.Schema, err = d.fleet.Schema(ctx, dev); err != nil {
		return r, err
	}
	r.Running, err = d.history.Tree(ctx, r.Schema, rev.Digest)
	return r, err
}

func (d *Desk) saved(ctx context.Context, dev store.Device, n int64) (history.Reading, error) {
	rev, err := d.store.Startup(ctx, dev.ID, n)
	if errors.Is(err, store.ErrNotFound) {
		return history.Reading{}, refusal.New(
			refusal.NotFound, "list them", "%s has no startup %d on record",
			dev.Name, n,
		).Do(advice.ListStartups, dev.Name)
	}
	if err != nil {
		return history.Reading{}, err
	}
	return d.kept(ctx, dev, store.Revision{Digest: rev.Digest, At: rev.At})
}

func (d *Desk) atTime(ctx context.Context, dev store.Device, text string) (history.Reading, error) {
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return history.Reading{}, refusal.New(
			refusal.Invalid, "write it with its zone, e.g. at:2026-11-20T02:00:00Z", "%q is no time", text,
		)
	}
	rev, err := d.store.LastRevisionAt(ctx, dev.ID, at)
	if errors.Is(err, store.ErrNotFound) {
		return history.Reading{}, refusal.New(
			refusal.NotFound, "list what there is",
			"what ran on %s at %s is not known: it was first read later", dev.Name, at.UTC().Format(time.RFC3339),
		).Do(advice.ListRevisions, dev.Name)
	}
	if err != nil {
		return history.Reading{}, err
	}
	return d.kept(ctx, dev, rev)
}

func (d *Desk) ofSnapshot(ctx context.Context, dev store.Device, ref string) (history.Reading, error) {
	s, err := d.history.FindSnapshot(ctx, ref)
	if err != nil {
		return history.Reading{}, err
	}
	items, err := d.store.SnapshotItems(ctx, s.Number)
	if err != nil {
		return history.Reading{}, err
	}
	for _, i := range items {
		if i.Device == dev.ID {
			return d.kept(ctx, dev, store.Revision{Device: dev.ID, Number: i.Revision, Digest: i.Digest, At: i.At})
		}
	}
	return history.Reading{}, refusal.New(
		refusal.NotFound, "see what it holds",
		"snapshot %d, %q, does not hold %s", s.Number, s.Name, dev.Name,
	).Do(advice.ShowSnapshot, s.Number)
}

// committed gives what a change's newest commit made of a device, or what was
// there before it.
func (d *Desk) committed(
	ctx context.Context, p access.Person, dev store.Device, n int64, before bool,
) (history.Reading, error) {
	if _, err := d.Get(ctx, p, n); err != nil {
		return history.Reading{}, err
	}
	c, err := d.store.LastCommit(ctx, n)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return history.Reading{}, err
	}
	for _, part := range c.Parts {
		digest := part.Result
		if before {
			digest = part.Base
		}
		if part.Device == dev.ID && digest != "" {
			return d.kept(ctx, dev, store.Revision{Digest: digest, At: c.Started})
		}
	}
	return history.Reading{}, refusal.New(refusal.NotFound, "", "change %d was not committed on %s", n, dev.Name)
}

// datastore reads one of a device's other datastores.
func (d *Desk) datastore(ctx context.Context, dev store.Device, ds netconf.Datastore) (r history.Reading, err error) {
	needs, without := netconf.CapStartup, "startup of its own: what runs there is what it boots"
	if ds == netconf.Candidate {
		needs, without = netconf.CapCandidate, "candidate"
	}
	err = d.fleet.Reading(ctx, store.Everything, dev.Name, func(ctx context.Context, s *fleet.Session) error {
		if !s.Capabilities.Has(needs) {
			return refusal.New(refusal.NotFound, "", "%s has no %s", dev.Name, without)
		}
		r.Device, r.Schema = s.Device, s.Schema
		r.Running, err = s.Read(ctx, ds)
		return err
	})
	return r, err
}

func (d *Desk) revision(ctx context.Context, dev store.Device, n int64) (history.Reading, error) {
	rev, err := d.store.Revision(ctx, dev.ID, n)
	if errors.Is(err, store.ErrNotFound) {
		return history.Reading{}, refusal.New(refusal.NotFound, "", "%s has no revision %d", dev.Name, n)
	}
	if err != nil {
		return history.Reading{}, err
	}
	return d.kept(ctx, dev, rev)
}

// resultOf gives what a change made of a device, or would make: of what it was
// last known to hold, with what a person decided where both changed the same.
func (d *Desk) resultOf(ctx context.Context, p access.Person, dev store.Device, n int64) (history.Reading, error) {
	c, err := d.Get(ctx, p, n)
	if err != nil {
		return history.Reading{}, err
	}
	switch c.State {
	case "applying", "holding", "confirmed":
		return d.committed(ctx, p, dev, n, false)
	}
	parts, err := d.store.Parts(ctx, n)
	if err != nil {
		return history.Reading{}, err
	}
	for _, part := range parts {
		if part.Device != dev.ID {
			continue
		}
		w, err := d.part(ctx, part, dev)
		if err != nil {
			return history.Reading{}, err
		}
		now, err := d.history.Known(ctx, store.Everything, dev.Name)
		if err != nil {
			return now, err
		}
		m, err := d.merge(ctx, n, w, now.Running)
		now.Running, now.Revision = m.result, store.Revision{}
		return now, err
	}
	return history.Reading{}, refusal.New(refusal.NotFound, "", "change %d has no part on %s", n, dev.Name)
}

// merged is a part put on what its device holds.
type merged struct {
	result *tree.Node
	open   []diff.Conflict // nobody decided yet
	agreed []Decided
	fallen []check.Finding // what goes as well, as the device deletes it
}
