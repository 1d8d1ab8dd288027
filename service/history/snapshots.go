package history

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf8"

	"oakenlatch/core/advice"

	"golang.org/x/text/unicode/norm"

	"oakenlatch/core/ledger"
	"oakenlatch/netconf"
	"oakenlatch/service/audit"
	"oakenlatch/service/fleet"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// maxName is how many characters a snapshot's name has at most.
const maxName = 200

// atOnce is how many devices are read at a time.
const atOnce = 16

// SnapshotName checks a name: free text in any script, on one line. What looks
// the same is the same (NFC), and outer spaces mean nothing.
func SnapshotName(name string) (string, error) {
	if !utf8.ValidString(name) {
		return "", refusal.New(refusal.Invalid, "", "the name is not UTF-8")
	}
	name = norm.NFC.String(strings.TrimSpace(name))
	if n := utf8.RuneCountInString(name); n == 0 || n > maxName {
		return "", refusal.New(
			refusal.Invalid, "say in a few words what it is for",
			"a snapshot has a name of 1 to %d characters, not of %d", maxName, n,
		)
	}
	for _, r := range name {
		if unicode.IsControl(r) || r == '\u2028' || r == '\u2029' {
			return "", refusal.New(
				refusal.Invalid, "put what needs lines of its own into the note",
				"the name holds the control character %U", r,
			)
		}
	}
	return name, nil
}

func snapshotNote(note string) (string, error) {
	if note = strings.TrimSpace(note); len(note) > 4000 || !utf8.ValidString(note) {
		return "", refusal.New(refusal.Invalid, "", "a note has at most 4000 bytes of UTF-8")
	}
	return note, nil
}

// Taken is a snapshot with its devices.
type Taken struct {
	store.Snapshot
	Items []Item
}

// Item is one device of a snapshot.
type Item struct {
	store.SnapshotItem
	Device  store.Device
	Unclean []string
}

// Snapshot names the state that devices are in now. Each is read for it; one
// that cannot be read goes in as it was last known, and that is said.
func (h *History) Snapshot(ctx context.Context, actor, name, note string, devices []store.Device) (Taken, error) {
	name, err := SnapshotName(name)
	if err != nil {
		return Taken{}, err
	}
	if note, err = snapshotNote(note); err != nil {
		return Taken{}, err
	}
	if len(devices) == 0 {
		return Taken{}, refusal.New(refusal.Invalid, "name devices, a site, or all", "a snapshot of no device")
	}
	items := make([]store.SnapshotItem, len(devices))
	errs := make([]error, len(devices))
	turns := make(chan struct{}, atOnce)
	var wg sync.WaitGroup
	for i, d := range devices {
		wg.Go(func() {
			turns <- struct{}{}
			defer func() { <-turns }()
			items[i], errs[i] = h.item(ctx, actor, d)
		})
	}
	wg.Wait()
	if err := errors.Join(errs...); err != nil {
		return Taken{}, err
	}
	s := store.Snapshot{Name: name, Note: note, Actor: actor, At: h.log.Now()}
	err = h.log.Write(ctx, func(tx *audit.Tx) error {
		for i := range items {
			if err := staged(tx.Tx, &items[i]); err != nil {
				return err
			}
		}
		if s.Number, err = tx.AddSnapshot(s, items); err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: actor, Action: "snapshot.take", Path: snapshotPath(s.Number),
				Note: fmt.Sprintf("%s: %s", name, counted(len(items))),
			},
		)
	})
	if err != nil {
		return Taken{}, err
	}
	return h.TakenOf(ctx, store.Everything, s.Number)
}

func snapshotPath(number int64) string { return fmt.Sprintf("snapshot:%d", number) }

func counted(devices int) string {
	if devices == 1 {
		return "1 device"
	}
	return fmt.Sprintf("%d devices", devices)
}

// item reads one device for a snapshot.
func (h *History) item(ctx context.Context, actor string, d store.Device) (store.SnapshotItem, error) {
	var unclean []string
	r, err := h.Read(ctx, store.Everything, d.Name, actor)
	var trouble *fleet.Error
	if errors.As(err, &trouble) {
		unclean = append(unclean, "it could not be read: this is what was known of it last")
		r, err = h.Known(ctx, store.Everything, d.Name)
		if err == nil {
			unclean[0] += ", of " + r.Revision.At.Format(timeForm)
		}
	}
	if err != nil {
		return store.SnapshotItem{}, fmt.Errorf("%s: %w", d.Name, err)
	}
	item := store.SnapshotItem{Device: d.ID, Digest: Digest(r.Running), Revision: r.Revision.Number, At: h.log.Now()}
	if trouble != nil {
		item.Digest, item.At = r.Revision.Digest, r.Revision.At
	}
	if r.Trial {
		item.Revision = 0
	}
	if n := h.Holder(d.ID); n != 0 {
		unclean = append(unclean, fmt.Sprintf("the commit of change %d is under way on it", n))
	}
	now, err := h.store.DeviceByID(ctx, store.Everything, d.ID)
	if err != nil {
		return item, err
	}
	if now.Unsaved {
		unclean = append(unclean, "its startup does not hold what runs")
	}
	if slices.Contains(now.Capabilities, string(netconf.CapStartup)) {
		last, err := h.store.LastStartup(ctx, d.ID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return item, err
		}
		item.Startup = last.Digest
	}
	item.Unclean = strings.Join(unclean, "\n")
	return item, nil
}

const timeForm = "2006-01-02 15:04:05 UTC"

// staged adds what is staged on a device to what is not clean about it.
func staged(tx *store.Tx, item *store.SnapshotItem) error {
	n, err := tx.DraftsOn(item.Device)
	if err != nil || n == 0 {
		return err
	}
	text := "1 change is staged on it"
	if n > 1 {
		text = fmt.Sprintf("%d changes are staged on it", n)
	}
	item.Unclean = strings.TrimPrefix(item.Unclean+"\n"+text, "\n")
	return nil
}

// BeforeCommit takes the snapshot of what a change is about to be committed
// onto, by itself; digests are the bases, by device.
func (h *History) BeforeCommit(tx *audit.Tx, c store.Change, actor string, digests map[int64]string) error {
	var items []store.SnapshotItem
	for device, digest := range digests {
		d, err := tx.DeviceByID(device)
		if err != nil {
			return err
		}
		item := store.SnapshotItem{Device: device, Digest: digest, At: h.log.Now()}
		rev, err := tx.RevisionOfDigest(device, digest)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		item.Revision = rev.Number
		startup, err := tx.LastStartup(device)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		item.Startup = startup.Digest
		if d.Unsaved {
			item.Unclean = "its startup does not hold what runs"
		}
		items = append(items, item)
	}
	slices.SortFunc(items, func(a, b store.SnapshotItem) int { return int(a.Device - b.Device) })
	name := []rune(fmt.Sprintf("Before change %d: %s", c.Number, c.Title))
	s := store.Snapshot{Name: string(name[:min(len(name), maxName)]), Actor: actor, At: h.log.Now(), Change: c.Number}
	number, err := tx.AddSnapshot(s, items)
	if err != nil {
		return err
	}
	return tx.Record(
		ledger.Entry{
			Actor: audit.Service, Action: "snapshot.take", Change: c.Number, Path: snapshotPath(number), Note: s.Name,
		},
	)
}

// FindSnapshot gives the snapshot that a person means: its number, or a name
// that only one has that is not retired.
func (h *History) FindSnapshot(ctx context.Context, ref string) (store.Snapshot, error) {
	ref = strings.TrimSpace(ref)
	list, err := h.store.SnapshotsNamed(ctx, norm.NFC.String(ref))
	if err != nil {
		return store.Snapshot{}, err
	}
	switch len(list) {
	case 1:
		return list[0], nil
	case 0:
	default:
		var have []string
		for _, s := range list {
			have = append(have, fmt.Sprintf("%d (%s, by %s)", s.Number, s.At.Format(timeForm), s.Actor))
		}
		return store.Snapshot{}, refusal.New(
			refusal.Conflict, "say which by its number", "%d snapshots are called %q: %s", len(list), ref,
			strings.Join(have, ", "),
		)
	}
	if n, err := strconv.ParseInt(ref, 10, 64); err == nil {
		s, err := h.store.Snapshot(ctx, n)
		if !errors.Is(err, store.ErrNotFound) {
			return s, err
		}
	}
	return store.Snapshot{}, refusal.New(
		refusal.NotFound, "list them", "there is no snapshot %q", ref,
	).Do(advice.ListSnapshots)
}

// TakenOf gives a snapshot with those of its devices that are within reach.
func (h *History) TakenOf(ctx context.Context, reach store.Reach, number int64) (t Taken, err error) {
	if t.Snapshot, err = h.store.Snapshot(ctx, number); err != nil {
		return t, err
	}
	items, err := h.store.SnapshotItems(ctx, number)
	if err != nil {
		return t, err
	}
	for _, i := range items {
		d, err := h.store.DeviceByID(ctx, reach, i.Device)
		if store.OutOfReach(err) {
			continue // not the person's to see
		}
		if err != nil {
			return t, err
		}
		t.Items = append(t.Items, Item{i, d, strings.FieldsFunc(i.Unclean, func(r rune) bool { return r == '\n' })})
	}
	slices.SortFunc(t.Items, func(a, b Item) int { return strings.Compare(a.Device.Name, b.Device.Name) })
	return t, nil
}

// Relabel is what a person wants otherwise about a snapshot; nil leaves it.
type Relabel struct {
	Name, Note *string
	Protected  *bool
	Retired    *bool
}

// Relabel gives a snapshot another name, note or standing. Retiring it takes it
// out of the lists; what it named stays.
func (h *History) Relabel(
	ctx context.Context, reach store.Reach, actor string, number int64, r Relabel,
) (Taken, error) {
	s, err := h.store.Snapshot(ctx, number)
	if err != nil {
		return Taken{}, err
	}
	was := s
	if r.Name != nil {
		if s.Name, err = SnapshotName(*r.Name); err != nil {
			return Taken{}, err
		}
	}
	if r.Note != nil {
		if s.Note, err = snapshotNote(*r.Note); err != nil {
			return Taken{}, err
		}
	}
	if r.Protected != nil {
		s.Protected = *r.Protected
	}
	if r.Retired != nil {
		if s.Retired, s.RetiredBy = h.log.Now(), actor; !*r.Retired {
			s.Retired, s.RetiredBy = time.Time{}, ""
		}
		if *r.Retired && s.Protected {
			return Taken{}, refusal.New(
				refusal.Conflict, "take the protection off first",
				"snapshot %d, %q, is protected", number, was.Name,
			).Do(advice.UnprotectSnapshot, number)
		}
	}
	err = h.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.EditSnapshot(s); err != nil {
			return err
		}
		for _, e := range []struct {
			did         bool
			action      string
			before, now string
		}{
			{was.Name != s.Name, "rename", was.Name, s.Name}, {was.Note != s.Note, "note", was.Note, s.Note},
			{
				was.Protected != s.Protected, "protect", strconv.FormatBool(was.Protected),
				strconv.FormatBool(s.Protected),
			},
			{
				r.Retired != nil, "retire", strconv.FormatBool(!was.Retired.IsZero()),
				strconv.FormatBool(!s.Retired.IsZero()),
			},
		} {
			if !e.did {
				continue
			}
			if err := tx.Record(
				ledger.Entry{
					Actor: actor, Action: "snapshot." + e.action, Path: snapshotPath(number), Before: e.before,
					After: e.now, Note: was.Name,
				},
			); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return Taken{}, err
	}
	return h.TakenOf(ctx, reach, number)
}
