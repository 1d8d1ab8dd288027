package history

import (
	"context"
	"errors"
	"runtime"
	"sync"

	"github.com/hashicorp/golang-lru/v2/simplelru"

	"oakenlatch/core/blame"
	"oakenlatch/core/diff"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/service/store"
)

// Trail is what the revisions of a device did, line by line.
type Trail struct {
	*blame.Trail
	Schema    *schema.Schema
	Now       *tree.Node // of the newest revision
	Revisions map[int64]store.Revision
	First     store.Revision
	Last      store.Revision
}

// followed is a trail that goes on from where it was left.
type followed struct {
	mu sync.Mutex
	Trail
}

// openTrails is how many devices' trails are kept at hand.
const openTrails = 32

// trails remembers what revisions were found to have done.
type trails struct {
	mu   sync.Mutex
	list *simplelru.LRU[int64, *followed]
}

func newTrails() *trails {
	list, err := simplelru.NewLRU[int64, *followed](openTrails, nil)
	if err != nil {
		panic(err) // the size is a constant
	}
	return &trails{list: list}
}

func (t *trails) of(device int64) *followed {
	t.mu.Lock()
	defer t.mu.Unlock()
	f, ok := t.list.Get(device)
	if !ok {
		f = &followed{}
		t.list.Add(device, f)
	}
	return f
}

// Follow hands out what a device's revisions did, up to the newest. use must
// not keep the trail: it goes on with the next revision.
func (h *History) Follow(ctx context.Context, d store.Device, use func(*Trail) error) error {
	s, err := h.fleet.Schema(ctx, d)
	if err != nil {
		return err
	}
	f := h.trails.of(d.ID)
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.Schema != s { // it has other modules now, or this is the first time
		f.Trail = Trail{Trail: blame.New(), Schema: s, Revisions: map[int64]store.Revision{}}
	}
	stretches, err := h.stretches(ctx, d, f.Last.Number)
	if err != nil {
		return err
	}
	if err := h.compare(ctx, s, stretches); err != nil {
		return err
	}
	for _, x := range stretches {
		for i, rev := range x.list {
			switch {
			case i > 0:
				f.Add(rev.Number, x.moved[i-1])
			case f.Now == nil:
				f.First = rev
			default:
				f.Add(rev.Number, diff.Compare(f.Now, x.first))
			}
			f.Revisions[rev.Number] = rev
		}
		f.Now, f.Last = x.last, x.list[len(x.list)-1]
	}
	if f.Now == nil {
		return store.ErrNotFound
	}
	return use(&f.Trail)
}

// stretch is revisions that follow each other and stand in one run.
type stretch struct {
	list        []store.Revision
	first, last *tree.Node
	moved       []*diff.Difference // from each to the next
}

// stretches gives the revisions of a device behind a number, stretch by stretch.
func (h *History) stretches(ctx context.Context, d store.Device, after int64) ([]*stretch, error) {
	list, err := h.store.RevisionsAfter(ctx, d.ID, after)
	if err != nil {
		return nil, err
	}
	runs, err := h.store.RunsAfter(ctx, d.ID, after)
	if err != nil {
		return nil, err
	}
	list = list[:min(len(list), len(runs))] // one may have come between
	var out []*stretch
	for i, rev := range list {
		if i == 0 || runs[i] != runs[i-1] {
			out = append(out, &stretch{})
		}
		x := out[len(out)-1]
		x.list = append(x.list, rev)
	}
	return out, nil
}

// compare works out what each revision of the stretches did, several stretches
// at a time: each begins with a configuration that is kept whole.
func (h *History) compare(ctx context.Context, s *schema.Schema, stretches []*stretch) error {
	errs := make([]error, len(stretches))
	turns := make(chan struct{}, runtime.GOMAXPROCS(0))
	var wg sync.WaitGroup
	for i, x := range stretches {
		wg.Go(func() {
			turns <- struct{}{}
			defer func() { <-turns }()
			errs[i] = x.follow(ctx, &walk{h: h, schema: s})
		})
	}
	wg.Wait()
	return errors.Join(errs...)
}

func (x *stretch) follow(ctx context.Context, w *walk) error {
	for _, rev := range x.list {
		if err := ctx.Err(); err != nil {
			return err
		}
		now, err := w.to(ctx, rev.Digest)
		if err != nil {
			return err
		}
		if x.first == nil {
			x.first = now
		} else {
			x.moved = append(x.moved, diff.Compare(x.last, now))
		}
		x.last = now
	}
	return nil
}

// By gives the revision of a step of the trail; step 0 is the first.
func (t *Trail) By(step int64) store.Revision {
	if step == 0 {
		return t.First
	}
	return t.Revisions[step]
}
