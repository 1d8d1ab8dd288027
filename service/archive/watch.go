package archive

import (
	"context"
	"time"

	"oakenlatch/service/audit"
	"oakenlatch/service/store"
)

// Run copies what has no copy yet after each change, and on the archives'
// intervals, until the context ends.
func (a *Archives) Run(ctx context.Context) {
	a.wg.Go(func() {
		for {
			woken := a.log.Added()
			wait := a.round(ctx)
			select {
			case <-ctx.Done():
				return
			case <-time.After(wait):
			case <-woken:
				select { // what belongs together comes together
				case <-ctx.Done():
					return
				case <-time.After(a.opt.Pause):
				}
			}
		}
	})
}

// Stop waits until what Run began has ended.
func (a *Archives) Stop() { a.wg.Wait() }

// idle is how long it waits where nothing is due.
const idle = time.Minute

// round copies what is due now, and tells when to look again.
func (a *Archives) round(ctx context.Context) time.Duration {
	list, err := a.store.Archives(ctx)
	if err != nil || len(list) == 0 {
		return idle
	}
	devices, err := a.store.Devices(ctx, store.Everything)
	if err != nil {
		return idle
	}
	for _, at := range list {
		if at.Every > 0 && a.log.Now().Sub(at.Copied) >= at.Every && a.log.Now().Sub(at.TroubleAt) >= a.opt.Retry {
			_, _ = a.Copy(ctx, audit.Service, "interval", at.Name, devices, nil) // it is on record how it went
		}
	}
	behind, err := a.Behind(ctx, devices)
	if err != nil || len(behind) == 0 {
		return min(idle, shortest(list))
	}
	tried := false
	for _, at := range list {
		tried = tried || at.AfterChange && a.log.Now().Sub(at.TroubleAt) >= a.opt.Retry
	}
	if tried {
		_, _ = a.Copy(ctx, audit.Service, "change", "", behind, nil)
	}
	return min(idle, a.opt.Retry)
}

func shortest(list []store.Archive) time.Duration {
	out := idle
	for _, at := range list {
		if at.Every > 0 {
			out = min(out, at.Every)
		}
	}
	return out
}

// Behind gives the devices whose newest revision has no copy.
func (a *Archives) Behind(ctx context.Context, devices []store.Device) (out []store.Device, err error) {
	last, err := a.store.LastCopies(ctx)
	if err != nil {
		return nil, err
	}
	revs, err := a.store.LastRevisions(ctx)
	for _, d := range devices {
		if rev, ok := revs[d.ID]; ok && last[d.ID].Revision < rev.Number {
			out = append(out, d)
		}
	}
	return out, err
}
