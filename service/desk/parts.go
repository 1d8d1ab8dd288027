package desk

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"oakenlatch/core/advice"

	"github.com/hashicorp/golang-lru/v2/simplelru"

	"oakenlatch/core/codec"
	"oakenlatch/core/markup"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/service/access"
	"oakenlatch/service/order"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Work is a part ready to be looked at or committed. Former is what its base revision holds, and
// Mine that with the part's edits.
type Work struct {
	order.Work

	Schema *schema.Schema
	Base   store.Revision
	Edits  []store.Edit // in the order they were staged
	Steps  []*tree.Node // Former, and what each edit made of it
	Unfit  []Unfit      // edits that can no longer be carried out, and are left out of Mine

	fresh bool // the part is not in the records yet
}

// NewPart is a part that is not in the records yet, with nothing staged on its base.
func NewPart(dev store.Device, s *schema.Schema, base store.Revision, former *tree.Node) *Work {
	return &Work{
		Work: order.Work{Device: dev, Former: former, Mine: former}, Schema: s, Base: base, Steps: []*tree.Node{former},
		fresh: true,
	}
}

// Unfit is an edit that no longer fits, and why.
type Unfit struct {
	Edit store.Edit
	Why  string
}

// Idle lists the edits that set what was so already.
func (w *Work) Idle() []store.Edit {
	var out []store.Edit
	for i, e := range w.Edits {
		if tree.Same(w.Steps[i], w.Steps[i+1]) && !slices.ContainsFunc(
			w.Unfit, func(u Unfit) bool { return u.Edit.ID == e.ID },
		) {
			out = append(out, e)
		}
	}
	return out
}

// Tag names the part as it is: another edit, or another base, gives another.
func (w *Work) Tag() string { return tagOf(w.Base.Number, w.Edits) }

func tagOf(base int64, edits []store.Edit) string {
	h := sha256.New()
	_, _ = fmt.Fprintf(h, "%d", base)
	for _, e := range edits {
		_, _ = fmt.Fprintf(h, " %d/%d", e.ID, e.Times)
	}
	return fmt.Sprintf("%x", h.Sum(nil)[:8])
}

// unmoved refuses what was made for the part as it was before.
func (w *Work) unmoved(tag string) error {
	if tag == "" || tag == w.Tag() {
		return nil
	}
	return w.moved(w.Edits)
}

func (w *Work) moved(edits []store.Edit) error {
	last := "its base was moved"
	if n := len(edits); n > 0 {
		e := edits[n-1]
		last = fmt.Sprintf("the last edit is %d, %s, by %s at %s", e.ID, e.Op, e.Actor, e.At.Format(time.RFC3339))
	}
	return refusal.New(
		refusal.Moved, "nothing of yours was staged; look at the part as it is now and do it again",
		"%s: the part was edited since you saw it: %s", w.Device.Name, last,
	)
}

// fits refuses to build on edits that no longer fit.
func (w *Work) fits() error {
	if len(w.Unfit) == 0 {
		return nil
	}
	u := w.Unfit[0]
	return refusal.New(
		refusal.Conflict, "remove it",
		"%s: edit %d of change %d no longer fits: %s", w.Device.Name, u.Edit.ID, u.Edit.Change, u.Why,
	).Do(advice.TakeBack, u.Edit.Change, u.Edit.ID)
}

// work gives a change's part on a device. A part that is not there yet starts
// from what the device holds now.
func (d *Desk) work(ctx context.Context, reach store.Reach, c store.Change, device, actor string) (Work, error) {
	dev, err := d.Device(ctx, reach, device)
	if err != nil {
		return Work{}, err
	}
	parts, err := d.store.Parts(ctx, c.Number)
	if err != nil {
		return Work{}, err
	}
	for _, p := range parts {
		if p.Device == dev.ID {
			return d.part(ctx, p, dev)
		}
	}
	r, err := d.history.ToBuildOn(ctx, reach, device, actor)
	if err != nil {
		return Work{}, err
	}
	return *NewPart(r.Device, r.Schema, r.Revision, r.Running), nil
}

// Part gives a change's part on a device as it is staged so far; of one that is
// not there yet, what the device holds now.
func (d *Desk) Part(ctx context.Context, p access.Person, number int64, device string) (Work, error) {
	c, err := d.Get(ctx, p, number)
	if err != nil {
		return Work{}, err
	}
	return d.work(ctx, p.Reach(), c, device, p.Name)
}

// Device gives a device within reach by its name.
func (d *Desk) Device(ctx context.Context, reach store.Reach, name string) (store.Device, error) {
	dev, err := d.store.Device(ctx, reach, name)
	if errors.Is(err, store.ErrNotFound) {
		err = refusal.NoDevice(name)
	}
	return dev, err
}

// part gives a recorded part with its edits applied.
func (d *Desk) part(ctx context.Context, p store.Part, dev store.Device) (Work, error) {
	w := Work{Work: order.Work{Device: dev, MovesTo: p.MovesTo, MovesSeenAs: p.MovesSeenAs}}
	s, err := d.history.Known(ctx, store.Everything, dev.Name)
	if err != nil {
		return w, err
	}
	w.Schema = s.Schema
	if w.Base, err = d.store.Revision(ctx, p.Device, p.Base); err != nil {
		return w, err
	}
	if w.Former, err = d.history.Tree(ctx, w.Schema, w.Base.Digest); err != nil {
		return w, err
	}
	all, err := d.store.Edits(ctx, p.Change)
	if err != nil {
		return w, err
	}
	for _, e := range all {
		if e.Device == p.Device {
			w.Edits = append(w.Edits, e)
		}
	}
	return w, d.apply(ctx, &w)
}

// apply carries out a part's edits, or remembers what they made.
func (d *Desk) apply(ctx context.Context, w *Work) error {
	key := partKey{w.Schema, w.Base.Digest, w.Tag()}
	if have, ok := d.cache.get(key); ok {
		w.Steps, w.Unfit = have.steps, have.unfit
		w.Mine = w.Steps[len(w.Steps)-1]
		return nil
	}
	w.Mine, w.Steps = w.Former, []*tree.Node{w.Former}
	for _, e := range w.Edits {
		next, err := d.perform(ctx, w.Schema, w.Mine, e)
		var broken *brokenStore
		if errors.As(err, &broken) {
			return broken.err
		}
		if err != nil {
			w.Unfit = append(w.Unfit, Unfit{e, err.Error()})
			next = w.Mine
		}
		w.Mine = next
		w.Steps = append(w.Steps, next)
	}
	d.cache.put(key, result{w.Steps, w.Unfit})
	return nil
}

// brokenStore is an error of the records, not of an edit.
type brokenStore struct{ err error }

func (e *brokenStore) Error() string { return e.err.Error() }

// perform carries out one staged edit, which may be a load.
func (d *Desk) perform(ctx context.Context, s *schema.Schema, base *tree.Node, e store.Edit) (*tree.Node, error) {
	switch {
	case e.Mode == Exact:
		return d.exact(ctx, s, base, e)
	case e.Op != "load":
		return perform(s, base, e, nil)
	}
	body, err := d.body(ctx, s, e)
	if err != nil {
		return nil, err
	}
	return perform(s, base, e, body)
}

// body reads a load's edits.
func (d *Desk) body(ctx context.Context, s *schema.Schema, e store.Edit) (*tree.Edit, error) {
	text, err := d.store.EditBody(ctx, e.ID)
	if err != nil {
		return nil, &brokenStore{err}
	}
	el, err := markup.Parse(text, bodyLimits)
	if err != nil {
		return nil, err
	}
	return codec.Decoder{Schema: s, Strict: true, Limits: bodyLimits}.Edit(el)
}

// bodyLimits are those of what is kept of a load, which is larger than what it
// was read from.
var bodyLimits = markup.Limits{Bytes: 4 * markup.DefaultBytes}

// Parts gives all parts of a change with their edits applied; ErrNotFound where one is on a device
// out of reach.
func (d *Desk) Parts(ctx context.Context, reach store.Reach, number int64) ([]Work, error) {
	parts, err := d.store.Parts(ctx, number)
	if err != nil {
		return nil, err
	}
	var out []Work
	for _, p := range parts {
		dev, err := d.store.DeviceByID(ctx, reach, p.Device)
		if err != nil {
			return nil, err
		}
		w, err := d.part(ctx, p, dev)
		if err != nil {
			return nil, err
		}
		out = append(out, w)
	}
	return out, nil
}

// by gives what one person's edits alone make of the base; those that build on
// somebody else's are left out.
func (d *Desk) by(ctx context.Context, w Work, actor string) (*tree.Node, error) {
	mine := w.Former
	for _, e := range w.Edits {
		if e.Actor != actor {
			continue
		}
		next, err := d.perform(ctx, w.Schema, mine, e)
		var broken *brokenStore
		if errors.As(err, &broken) {
			return nil, broken.err
		}
		if err == nil {
			mine = next
		}
	}
	return mine, nil
}

// partCache remembers what parts came to: they are asked for again and again.
type partCache struct {
	mu   sync.Mutex
	list *simplelru.LRU[partKey, result]
}

type partKey struct {
	schema    *schema.Schema
	base, tag string
}

type result struct {
	steps []*tree.Node
	unfit []Unfit
}

func newPartCache() *partCache {
	list, err := simplelru.NewLRU[partKey, result](128, nil)
	if err != nil {
		panic(err) // the size is a constant
	}
	return &partCache{list: list}
}

func (m *partCache) get(k partKey) (result, bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.list.Get(k)
}

func (m *partCache) put(k partKey, r result) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.list.Add(k, r)
}
