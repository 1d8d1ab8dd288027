// Package report tells what happened: commit by commit, and as pages to be
// printed and kept.
package report

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"oakenlatch/core/diff"
	"oakenlatch/core/guard"
	"oakenlatch/core/ledger"
	"oakenlatch/core/schema"
	"oakenlatch/core/search"
	"oakenlatch/core/tree"
	"oakenlatch/service/audit"
	"oakenlatch/service/desk"
	"oakenlatch/service/fleet"
	"oakenlatch/service/history"
	"oakenlatch/service/store"
)

// Reports tells what happened.
type Reports struct {
	Store   *store.Store
	Log     *audit.Log
	Fleet   *fleet.Fleet
	History *history.History
	Desk    *desk.Desk
}

// Commit is a commit and who had a hand in it.
type Commit struct {
	store.Commit
	Change    store.Change
	Staged    []string // who staged what it committed, in the order of their first edit
	Confirmed string   // whose word kept it: a person's, or its probes'; "" where it was not kept
	Newest    bool     // of its change
	Devices   []store.Device
}

// Took is how long it took until it was decided; zero while it is not.
func (c Commit) Took() time.Duration {
	if c.Ended.IsZero() {
		return 0
	}
	return c.Ended.Sub(c.Started)
}

// Filter is which commits are wanted.
type Filter struct {
	store.CommitQuery
	Path string // those that made a difference there or below, "" for all
}

// mostLookedAt is how many commits are looked at for one page of those that touch a path.
const mostLookedAt = 2000

// Commits lists commits that are on devices within reach alone, newest first, and where the next page begins: 0 where
// there is none.
func (r *Reports) Commits(ctx context.Context, reach store.Reach, f Filter) (out []Commit, next int64, err error) {
	q := f.CommitQuery
	known := false
	var wrong error // why the path is none of any device that was looked at
	for looked := 0; ; looked += q.Limit {
		list, err := r.Store.Commits(ctx, q)
		if err != nil {
			return nil, 0, err
		}
		for _, c := range list {
			if len(out) == f.Limit {
				return out, q.Before, nil
			}
			q.Before = c.ID
			one, err := r.fill(ctx, reach, c)
			if store.OutOfReach(err) {
				continue
			}
			if err == nil && f.Path != "" {
				var touched bool
				var no *tree.PathError
				touched, err = r.touches(ctx, one, f.Path)
				if errors.As(err, &no) {
					wrong = err
					continue
				}
				if err == nil {
					known = true
					if !touched {
						continue
					}
				}
			}
			if err != nil {
				return nil, 0, err
			}
			out = append(out, one)
		}
		if len(list) < q.Limit {
			if known {
				wrong = nil
			}
			return out, 0, wrong
		}
		if looked > mostLookedAt {
			return out, q.Before, nil
		}
	}
}

// touches tells whether a commit made a difference at a path or below it, on a device whose schema has it; a PathError
// where none has.
func (r *Reports) touches(ctx context.Context, c Commit, text string) (bool, error) {
	var wrong error
	known := false
	for i, p := range c.Parts {
		if p.Base == "" || p.Result == "" || p.Base == p.Result {
			continue
		}
		s, err := r.Fleet.Schema(ctx, c.Devices[i])
		if err != nil {
			return false, err
		}
		path, err := tree.ParsePath(s, text)
		if err != nil {
			wrong = err // another kind of device
			continue
		}
		known = true
		base, result, err := r.sides(ctx, s, p)
		if err != nil {
			return false, err
		}
		if !diff.Compare(base, result).Below(path).Empty() {
			return true, nil
		}
	}
	if known {
		wrong = nil
	}
	return false, wrong
}

func (r *Reports) fill(ctx context.Context, reach store.Reach, c store.Commit) (Commit, error) {
	out := Commit{Commit: c}
	var err error
	if out.Change, err = r.Store.Change(ctx, c.Change); err != nil {
		return out, err
	}
	last, err := r.Store.LastCommit(ctx, c.Change)
	if err != nil {
		return out, err
	}
	out.Newest = last.ID == c.ID
	for _, p := range c.Parts {
		d, err := r.Store.DeviceByID(ctx, reach, p.Device)
		if err != nil {
			return out, err // ErrNotFound where a device is not the person's to see
		}
		out.Devices = append(out.Devices, d)
	}
	if c.State.Outcome == guard.Confirmed {
		out.Confirmed = c.State.By
	}
	out.Staged, err = r.stagers(ctx, c)
	return out, err
}

// stagers gives who staged what a commit committed: by the record, up to its
// beginning, without what was taken back again.
func (r *Reports) stagers(ctx context.Context, c store.Commit) ([]string, error) {
	edits, err := r.Store.Edits(ctx, c.Change)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, e := range edits {
		if !e.At.After(c.Started) && !slices.Contains(out, e.Actor) {
			out = append(out, e.Actor)
		}
	}
	return out, nil
}

// stepKinds are the entries that are a commit's steps.
var stepKinds = []string{"commit", "device", "probe", "hold", "change", "revision", "startup", "outside.during-hold"}

// Steps gives what happened during a commit, oldest first, as the ledger has it.
func (r *Reports) Steps(ctx context.Context, c Commit) ([]ledger.Entry, error) {
	q := store.LedgerQuery{Oldest: true, Limit: 2000}
	q.Terms = []search.Term{
		{Key: search.Change, Values: []string{itoa(c.Change.Number)}}, {Key: search.Kind, Values: stepKinds},
	}
	q.Since = c.Started
	if !c.Ended.IsZero() {
		q.Until = c.Ended.Add(time.Second)
	}
	list, err := r.Log.Entries(ctx, q)
	return slices.DeleteFunc(
		list, func(e ledger.Entry) bool { return e.Action == "change.note" || e.Action == "change.open" },
	), err
}

// Made gives what a commit made of its devices, as far as it was prepared.
func (r *Reports) Made(ctx context.Context, c Commit) (map[string]*diff.Difference, error) {
	out := map[string]*diff.Difference{}
	for i, p := range c.Parts {
		if p.Base == "" || p.Result == "" {
			continue
		}
		s, err := r.Fleet.Schema(ctx, c.Devices[i])
		if err != nil {
			return nil, err
		}
		base, result, err := r.sides(ctx, s, p)
		if err != nil {
			return nil, err
		}
		out[c.Devices[i].Name] = diff.Compare(base, result)
	}
	return out, nil
}

// sides gives what a commit found on a device, and what it made of it.
func (r *Reports) sides(
	ctx context.Context, s *schema.Schema, p store.CommitPart,
) (base, result *tree.Node, err error) {
	if base, err = r.tree(ctx, s, p.Base); err == nil {
		result, err = r.tree(ctx, s, p.Result)
	}
	return base, result, err
}

func (r *Reports) tree(ctx context.Context, s *schema.Schema, digest string) (*tree.Node, error) {
	n, err := r.History.Tree(ctx, s, digest)
	if store.OutOfReach(err) {
		return nil, errors.New("configuration " + digest + " is not on record any more")
	}
	return n, err
}

// Hands puts who had a hand in a commit in a sentence.
func (c Commit) Hands() string {
	parts := []string{}
	if len(c.Staged) > 0 {
		parts = append(parts, "staged by "+strings.Join(c.Staged, ", "))
	}
	parts = append(parts, "committed by "+c.Actor)
	if c.Confirmed != "" {
		parts = append(parts, "confirmed by "+c.Confirmed)
	}
	return strings.Join(parts, "; ")
}

// Find gives a commit by its number.
func (r *Reports) Find(ctx context.Context, reach store.Reach, id int64) (Commit, error) {
	c, err := r.Store.Commit(ctx, id)
	if err != nil {
		return Commit{}, err
	}
	return r.fill(ctx, reach, c)
}
