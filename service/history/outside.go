package history

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"oakenlatch/core/diff"
	"oakenlatch/core/ledger"
	"oakenlatch/core/lifecycle"
	"oakenlatch/core/schema"
	"oakenlatch/core/search"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
	"oakenlatch/service/audit"
	"oakenlatch/service/fleet"
	"oakenlatch/service/outside/attribution"
	"oakenlatch/service/store"
)

// seen remembers when devices were last read to be as they were known.
type seen struct {
	mu sync.Mutex
	at map[int64]time.Time
}

func (s *seen) note(device int64, at time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.at[device] = at
}

// last gives when a device was last read to be as it was known; what is on
// record where it was not read since the start.
func (s *seen) last(device int64, record time.Time) time.Time {
	s.mu.Lock()
	defer s.mu.Unlock()
	if at := s.at[device]; at.After(record) {
		return at
	}
	return record
}

// evidence gathers what is known of a change that was found just now.
func (h *History) evidence(d store.Device, since, found time.Time, ds netconf.Datastore) attribution.Evidence {
	e := attribution.Evidence{Since: since, Found: found, Clock: d.Clock, Datastore: ds}
	e.Tells, _ = netconf.Tells(d.Capabilities)
	if at, ok := h.fleet.Listening(d.Name); ok {
		e.Listening = at
	}
	e.Told = h.fleet.Told(d.Name, since)
	return e
}

// outside records a change that was found and is not ours: what changed, who
// did it as far as the device tells, and that somebody is to decide about it.
func (h *History) outside(tx *audit.Tx, d store.Device, last, rev store.Revision, before, now *tree.Node) error {
	e := h.evidence(d, h.seen.last(d.ID, last.At), rev.At, netconf.Running)
	a := attribution.Of(e)
	told, err := json.Marshal(a.Told)
	if err != nil {
		return err
	}
	df := diff.Compare(before, now)
	o := store.Outside{
		Device: d.ID, Revision: rev.Number, Before: last.Number, Found: rev.At, Since: e.Since, DeviceAt: a.At,
		ClockOff: a.ClockOff, Account: a.Account, Session: a.Session, Address: a.Address, Who: a.Who,
		Told: string(told), Places: df.Count(), State: lifecycle.OutsideOpen, During: h.Holder(d.ID),
	}
	items := h.log.Redactor.Difference(df).Items()
	silent, err := silenced(tx, d.ID, items)
	if err != nil {
		return err
	}
	if silent != "" {
		o.State, o.Note = lifecycle.OutsideSilenced, "it always moves: "+silent
	}
	if o, err = tx.AddOutside(o); err != nil {
		return err
	}
	entry := ledger.Entry{
		Actor: audit.Service, Device: d.Name, Action: "revision.outside", Change: o.During, Address: a.Address,
		Session: a.Session,
		Note: fmt.Sprintf(
			"revision %d, outside change %d: found changed, not by this service; %s; between %s and %s", rev.Number,
			o.ID, a.Who, e.Since.UTC().Format(time.RFC3339), rev.At.UTC().Format(time.RFC3339),
		),
	}
	if err := tx.Record(entry); err != nil {
		return err
	}
	return recordItems(tx, d.Name, items)
}

// Named looks whether a device named somebody late: after what they changed was
// read already. It reports whether the revision is an outside change.
func (h *History) Named(ctx context.Context, d store.Device, rev store.Revision) (bool, error) {
	o, err := h.store.OutsideAt(ctx, d.ID, rev.Number)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	if err != nil || o.Account != "" {
		return true, err
	}
	a := attribution.Of(h.evidence(d, o.Since, o.Found, netconf.Running))
	if a.Account == "" {
		return true, nil
	}
	told, err := json.Marshal(a.Told)
	if err != nil {
		return true, err
	}
	o.Account, o.Session, o.Address = a.Account, a.Session, a.Address
	o.DeviceAt, o.ClockOff, o.Who, o.Told = a.At, a.ClockOff, a.Who, string(told)
	return true, h.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.NameOutside(o); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{
			Actor: audit.Service, Device: d.Name, Action: "outside.named", Change: o.During, Address: a.Address,
			Session: a.Session,
			Note:    fmt.Sprintf("outside change %d, revision %d: the device told late; %s", o.ID, o.Revision, a.Who),
		})
	})
}

// recordItems enters what somebody else changed, place by place.
func recordItems(tx *audit.Tx, device string, items []diff.Item) error {
	for _, item := range items {
		line := ledger.Entry{
			Actor: audit.Service, Action: "outside." + string(item.Kind), Device: device, Path: item.Path,
			Before: item.Old, After: item.New,
		}
		if err := tx.Record(line); err != nil {
			return err
		}
	}
	return nil
}

// silenced tells which silenced paths cover all of a difference; "" where one of
// its places is covered by none.
func silenced(tx *audit.Tx, device int64, items []diff.Item) (string, error) {
	list, err := tx.Silences()
	if err != nil || len(list) == 0 {
		return "", err
	}
	var by []string
	for _, item := range items {
		i := slices.IndexFunc(list, func(s store.Silence) bool {
			return (s.Device == 0 || s.Device == device) && search.Covers(s.Path, item.Path)
		})
		if i < 0 {
			return "", nil
		}
		if !slices.Contains(by, list[i].Path) {
			by = append(by, list[i].Path)
		}
	}
	return strings.Join(by, ", "), nil
}

// Beside keeps what somebody else changed on a device while a commit is on hold
// there: what the commit made is a revision of its change, though that is not
// decided, and what was read a second one, found outside. So it is on record, with
// its values, before it may go with what the device takes back, and it can be staged
// again.
func (h *History) Beside(
	ctx context.Context, s *fleet.Session, result, running *tree.Node, change int64, actor string,
) error {
	if tree.Same(result.WithoutDefaults(), running.WithoutDefaults()) {
		return nil
	}
	last, err := h.store.LastRevision(ctx, s.Device.ID)
	if err != nil || last.Digest == Digest(running) {
		return err
	}
	beside, err := h.besides(ctx, s.Device.ID, change)
	if err != nil {
		return err
	}
	if !beside {
		if _, err := h.keep(ctx, s, result, change, actor, true); err != nil {
			return err
		}
	}
	_, err = h.keep(ctx, s, running, 0, actor, true)
	return err
}

// besides reports whether the commit under way of a change has a revision on a device
// already: somebody was at work beside it.
func (h *History) besides(ctx context.Context, device, change int64) (bool, error) {
	commit, err := h.store.LastCommit(ctx, change)
	if err != nil {
		return false, err
	}
	revs, err := h.store.RevisionsOf(ctx, change)
	return slices.ContainsFunc(
		revs, func(r store.Revision) bool { return r.Device == device && r.At.After(commit.Started) },
	), err
}

// WentBack keeps what a device holds after what a commit made of it was taken back.
// That is what it held before, unless somebody was at work beside it: then it is a
// revision of the change, which took theirs back as well.
func (h *History) WentBack(
	ctx context.Context, s *fleet.Session, running *tree.Node, change int64, actor string,
) error {
	beside, err := h.besides(ctx, s.Device.ID, change)
	if err != nil {
		return err
	}
	if !beside {
		change = 0
	}
	_, err = h.keep(ctx, s, running, change, actor, true)
	return err
}

// KeptBeside decides what a change was to push back on a device, where what it made
// is a revision already.
func (h *History) KeptBeside(ctx context.Context, device, change int64) error {
	return h.store.Write(ctx, func(tx *store.Tx) error { return tx.PushedBack(change, device, h.log.Now()) })
}

// Listened reports how a device is listened to, for people.
func (h *History) Listened(d store.Device) string {
	tells, _ := netconf.Tells(d.Capabilities)
	since, on := h.fleet.Listening(d.Name)
	switch {
	case on:
		return "it tells of its events, and is listened to since " + since.UTC().Format(time.RFC3339)
	case tells:
		return "it tells of its events, and is not listened to now"
	}
	return "it does not tell of its events; it is read at times"
}

// Between compares two revisions of a device.
func (h *History) Between(ctx context.Context, s *schema.Schema, device, from, to int64) (*diff.Difference, error) {
	var sides [2]*tree.Node
	for i, n := range []int64{from, to} {
		rev, err := h.store.Revision(ctx, device, n)
		if err != nil {
			return nil, err
		}
		if sides[i], err = h.Tree(ctx, s, rev.Digest); err != nil {
			return nil, err
		}
	}
	return diff.Compare(sides[0], sides[1]), nil
}
