package desk

import (
	"context"
	"errors"
	"strconv"
	"strings"

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
// running, startup, candidate, rev:N, or change:N for what a change makes of
// it. The revision is set where it is one.
func (d *Desk) From(ctx context.Context, p access.Person, dev store.Device, from string) (history.Reading, error) {
	kind, arg, _ := strings.Cut(from, ":")
	n, nerr := strconv.ParseInt(arg, 10, 64)
	switch {
	case from == "running":
		return d.history.Read(ctx, dev.Name, p.Name)
	case from == "startup", from == "candidate":
		return d.datastore(ctx, dev, netconf.Datastore(from))
	case kind == "rev" && nerr == nil:
		return d.revision(ctx, dev, n)
	case kind == "change" && nerr == nil:
		return d.resultOf(ctx, p, dev, n)
	}
	return history.Reading{}, refusal.New(refusal.Invalid, "give running, startup, candidate, rev:N or change:N", "%q is no place to read from", from)
}

// datastore reads one of a device's other datastores.
func (d *Desk) datastore(ctx context.Context, dev store.Device, ds netconf.Datastore) (r history.Reading, err error) {
	needs, without := netconf.CapStartup, "startup of its own: what runs there is what it boots"
	if ds == netconf.Candidate {
		needs, without = netconf.CapCandidate, "candidate"
	}
	err = d.fleet.Reading(ctx, dev.Name, func(ctx context.Context, s *fleet.Session) error {
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
	r := history.Reading{Device: dev, Revision: rev}
	if r.Schema, err = d.fleet.Schema(ctx, dev); err != nil {
		return r, err
	}
	r.Running, err = d.history.Tree(ctx, r.Schema, rev.Digest)
	return r, err
}

// resultOf gives what a change makes of a device: of what it was last known to
// hold, with what a person decided where both changed the same.
func (d *Desk) resultOf(ctx context.Context, p access.Person, dev store.Device, n int64) (history.Reading, error) {
	if _, err := d.Get(ctx, p, n); err != nil {
		return history.Reading{}, err
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
		now, err := d.history.Known(ctx, dev.Name)
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
}
