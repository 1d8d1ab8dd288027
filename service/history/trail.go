package history

import (
	"context"
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
	list, err := h.store.RevisionsAfter(ctx, d.ID, f.Last.Number)
	if err != nil {
		return err
	}
	w := walk{h: h, schema: s}
	for _, rev := range list {
		if err := ctx.Err(); err != nil {
			return err
		}
		now, err := w.to(ctx, rev.Digest)
		if err != nil {
			return err
		}
		if f.Now == nil {
			f.First = rev
		} else {
			f.Add(rev.Number, diff.Compare(f.Now, now))
		}
		f.Now, f.Last, f.Revisions[rev.Number] = now, rev, rev
	}
	if f.Now == nil {
		return store.ErrNotFound
	}
	return use(&f.Trail)
}

// By gives the revision of a step of the trail; step 0 is the first.
func (t *Trail) By(step int64) store.Revision {
	if step == 0 {
		return t.First
	}
	return t.Revisions[step]
}
