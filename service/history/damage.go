package history

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"oakenlatch/core/advice"
	"oakenlatch/core/ledger"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
	"oakenlatch/service/audit"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Damaged says that a kept configuration cannot be read any more, or is another than it was
// kept as.
type Damaged struct {
	Digest string
	Uses   []string // what points at it: "northmole-harbour revision 7"
	Copies []int64  // in archives, of a revision that is it
	Err    error
}

func (e *Damaged) Error() string {
	text := "a stored configuration is damaged"
	if len(e.Uses) > 0 {
		text = "the stored configuration of " + strings.Join(e.Uses, ", ") + " is damaged"
	}
	return fmt.Sprintf("%s (%v)", text, e.Err)
}

func (e *Damaged) Unwrap() error { return e.Err }

// Next says what to do.
func (e *Damaged) Next() advice.Steps {
	if len(e.Copies) > 0 {
		return advice.Words(fmt.Sprintf(
			"a copy in an archive holds it: put it in its place, or read it as archive:%d", e.Copies[0],
		)).Do(advice.MendFromCopy, e.Copies[0])
	}
	return advice.Words(
		"no archive holds it; a backup from before may: oaken-latchd restore FILE --data OTHER. All else is there",
	)
}

// damage is what was found to be damaged, by digest.
type damage struct {
	mu    sync.Mutex
	found map[string]*Damaged
	asked map[string]time.Time // when its device was asked for it
}

// Damage lists what was found to be damaged since the start.
func (h *History) Damage() []*Damaged {
	h.damage.mu.Lock()
	defer h.damage.mu.Unlock()
	var out []*Damaged
	for _, d := range h.damage.found {
		out = append(out, d)
	}
	slices.SortFunc(out, func(a, b *Damaged) int { return strings.Compare(a.Digest, b.Digest) })
	return out
}

func (h *History) isDamaged(digest string) bool {
	h.damage.mu.Lock()
	defer h.damage.mu.Unlock()
	return h.damage.found[digest] != nil
}

func (h *History) mended(digest string) {
	h.damage.mu.Lock()
	defer h.damage.mu.Unlock()
	delete(h.damage.found, digest)
}

// hurt makes what it means of an error of reading a kept configuration, and says it in the log, once.
func (h *History) hurt(ctx context.Context, digest string, err error) error {
	if err == nil || ctx.Err() != nil || errors.Is(err, store.ErrSick) || errors.Is(err, store.ErrSlow) ||
		errors.Is(err, store.ErrNotFound) && !h.used(ctx, digest) {
		return err
	}
	h.damage.mu.Lock()
	known := h.damage.found[digest]
	h.damage.mu.Unlock()
	if known != nil {
		return known
	}
	d := &Damaged{Digest: digest, Err: err}
	uses, uerr := h.store.UsesOf(ctx, digest)
	for _, u := range uses {
		d.Uses = append(d.Uses, u.String())
		if u.Kind != "revision" {
			continue
		}
		copies, cerr := h.store.Copies(ctx, 0, u.DeviceID)
		for _, c := range copies {
			if c.Revision == u.Number && c.Trouble == "" {
				d.Copies = append(d.Copies, c.ID)
			}
		}
		uerr = errors.Join(uerr, cerr)
	}
	slog.Error(
		"the records are damaged", "what", strings.Join(d.Uses, ", "), "configuration", digest, "error",
		errors.Join(err, uerr), "next", d.Next(),
	)
	h.damage.mu.Lock()
	defer h.damage.mu.Unlock()
	if h.damage.found == nil {
		h.damage.found = map[string]*Damaged{}
	}
	h.damage.found[digest] = d
	return d
}

// healEvery is how often a device is asked for what is damaged in the records.
const healEvery = time.Minute

// heal asks a device for its configuration where that is the very one which is damaged; nil
// where it is not, or cannot be asked.
func (h *History) heal(ctx context.Context, d *Damaged) *tree.Node {
	h.damage.mu.Lock()
	recent := time.Since(h.damage.asked[d.Digest]) < healEvery
	if h.damage.asked == nil {
		h.damage.asked = map[string]time.Time{}
	}
	h.damage.asked[d.Digest] = time.Now()
	h.damage.mu.Unlock()
	if recent {
		return nil
	}
	uses, err := h.store.UsesOf(ctx, d.Digest)
	for _, u := range uses {
		last, lerr := h.store.LastRevision(ctx, u.DeviceID)
		if err != nil || lerr != nil || last.Digest != d.Digest {
			continue
		}
		n := func() *tree.Node {
			dctx, cancel := context.WithTimeout(ctx, 30*time.Second)
			defer cancel()
			session, err := h.fleet.Dial(dctx, store.Everything, u.Device)
			if err != nil {
				return nil
			}
			defer session.Abort()
			n, err := session.Read(dctx, netconf.Running)
			if err != nil || Digest(n) != d.Digest {
				return nil
			}
			dev, err := h.store.DeviceByID(ctx, store.Everything, u.DeviceID)
			if err == nil {
				err = h.Mend(ctx, audit.Service, dev, last, n, "the device itself, which holds it")
			}
			if err != nil {
				slog.Error("what is damaged could not be repaired from its device", "device", u.Device, "error", err)
			}
			return n
		}()
		if n != nil {
			return n
		}
	}
	return nil
}

// used reports whether something in the records points at a configuration.
func (h *History) used(ctx context.Context, digest string) bool {
	uses, err := h.store.UsesOf(ctx, digest)
	return err == nil && len(uses) > 0
}

// Examine reads every kept configuration and compares it with its digest. It goes on
// whatever it finds; progress, where it is not nil, is told how far it is.
func (h *History) Examine(
	ctx context.Context, progress func(done, total int),
) (whole int, found []*Damaged, err error) {
	list, err := h.store.ConfigDigests(ctx)
	if err != nil {
		return 0, nil, err
	}
	for i, digest := range list {
		if progress != nil && i%100 == 0 {
			progress(i, len(list))
		}
		_, n, err := h.Configuration(ctx, digest, nil)
		if ctx.Err() != nil {
			return whole, found, ctx.Err()
		}
		if err == nil && n != nil && Digest(n) != digest {
			err = h.hurt(ctx, digest, fmt.Errorf("it is configuration %s", Digest(n)))
		}
		var d *Damaged
		switch {
		case errors.As(err, &d):
			found = append(found, d)
		case err != nil:
			return whole, found, err
		default:
			whole++
		}
	}
	if progress != nil {
		progress(len(list), len(list))
	}
	return whole, found, nil
}

// Mend puts a configuration in the place of a damaged one, if it is the very same.
func (h *History) Mend(
	ctx context.Context, by string, d store.Device, rev store.Revision, n *tree.Node, from string,
) error {
	if got := Digest(n); got != rev.Digest {
		return refusal.New(
			refusal.Conflict, "", "%s is configuration %.12s, and revision %d of %s is %.12s: nothing was repaired",
			from,
			got, rev.Number, d.Name, rev.Digest,
		)
	}
	s, err := h.fleet.Schema(ctx, d)
	if err != nil {
		return err
	}
	err = h.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.MendConfig(rev.Digest, body(s, n)); err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: by, Action: "revision.mend", Device: d.Name, Path: fmt.Sprintf("revision:%d", rev.Number),
				Note: "its stored configuration was damaged; put in its place from " + from,
			},
		)
	})
	if err == nil {
		h.mended(rev.Digest)
	}
	return err
}
