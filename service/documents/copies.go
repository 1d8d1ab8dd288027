package documents

import (
	"context"
	"slices"
	"time"

	"oakenlatch/service/access"
	"oakenlatch/service/archive"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// aWhile is how long a device's newest revision may be without a copy before
// that needs a decision.
const aWhile = 10 * time.Minute

// Archives tells the archives that are in use, in the order in which they are tried.
func (d *Documents) Archives(ctx context.Context, p access.Person) ([]wire.Archive, error) {
	list, err := d.Store.Archives(ctx)
	if err != nil {
		return nil, err
	}
	return d.theseArchives(ctx, p, list)
}

// Archive tells one, in use or retired.
func (d *Documents) Archive(ctx context.Context, p access.Person, name string) (wire.Archive, error) {
	at, err := d.Store.Archive(ctx, name)
	if err != nil {
		return wire.Archive{}, err
	}
	list, err := d.theseArchives(ctx, p, []store.Archive{at})
	if err != nil {
		return wire.Archive{}, err
	}
	return list[0], nil
}

func (d *Documents) theseArchives(
	ctx context.Context, p access.Person, list []store.Archive,
) ([]wire.Archive, error) {
	out := make([]wire.Archive, 0, len(list))
	if len(list) == 0 {
		return out, nil
	}
	counts, err := d.Store.CountCopies(ctx)
	if err != nil {
		return nil, err
	}
	devices, err := d.Store.Devices(ctx, p.Reach()) // some may be on the machine that copies go to
	if err != nil {
		return nil, err
	}
	for _, at := range list {
		doc := wire.Archive{
			Name: at.Name, Kind: at.Kind, Place: at.Place, Account: at.Account, Position: at.Position,
			Trusted:     at.HostKey != "" || at.Kind == "folder" || at.Kind == "git" && at.Auth == "",
			AfterChange: at.AfterChange, EverySeconds: int64(at.Every / time.Second), KeepLast: at.KeepLast,
			KeepDays: at.KeepDays, Copies: counts[at.ID].All, Damaged: counts[at.ID].Damaged, Copied: at.Copied,
			Trouble: at.Trouble, TroubleAt: at.TroubleAt, Caveat: archive.Caveat(at, devices),
		}
		last := at.Copied
		if last.Before(at.Added) {
			last = at.Added
		}
		doc.Stale = at.Every > 0 && d.Log.Now().Sub(last) > at.Every+at.Every/4+2*time.Minute
		out = append(out, doc)
	}
	return out, nil
}

// Standing tells how what is saved of each device stands that a person may see: changed, saved to startup, copied.
func (d *Documents) Standing(ctx context.Context, p access.Person) ([]wire.Standing, error) {
	devices, err := d.Store.Devices(ctx, p.Reach())
	if err != nil {
		return nil, err
	}
	revs, err := d.Store.LastRevisions(ctx)
	if err != nil {
		return nil, err
	}
	startups, err := d.Store.LastStartups(ctx)
	if err != nil {
		return nil, err
	}
	copies, err := d.Store.LastCopies(ctx)
	if err != nil {
		return nil, err
	}
	list, err := d.Store.Archives(ctx)
	if err != nil {
		return nil, err
	}
	archives := map[int64]string{}
	for _, at := range list {
		archives[at.ID] = at.Name
	}
	out := make([]wire.Standing, 0, len(devices))
	for _, dev := range devices {
		rev, k := revs[dev.ID], copies[dev.ID]
		s := wire.Standing{
			Device: dev.Name, Site: dev.Site, Revision: rev.Number, Changed: rev.At, Unsaved: dev.Unsaved,
			Saved: startups[dev.ID].At, Copied: k.At, Copy: k.Revision, Archive: archives[k.Archive],
			Behind: []string{},
		}
		if dev.Unsaved {
			s.Behind = append(s.Behind, "startup")
		}
		if rev.Number > 0 && k.Revision < rev.Number && len(archives) > 0 {
			s.Behind = append(s.Behind, "copy")
		}
		out = append(out, s)
	}
	return out, nil
}

// uncopied tells of archives that do not do their work, and what lies uncopied.
func (d *Documents) uncopied(
	ctx context.Context, p access.Person,
) (archives []wire.Archive, uncopied []wire.Standing, err error) {
	all, err := d.Archives(ctx, p)
	if err != nil || len(all) == 0 {
		return nil, nil, err // copies go nowhere, and nothing waits for one
	}
	for _, at := range all {
		if at.Trouble != "" || at.Stale || at.Damaged > 0 || !at.Trusted {
			archives = append(archives, at)
		}
	}
	list, err := d.Standing(ctx, p)
	for _, s := range list {
		if slices.Contains(s.Behind, "copy") && d.Log.Now().Sub(s.Changed) > aWhile {
			uncopied = append(uncopied, s)
		}
	}
	return archives, uncopied, err
}
