package history

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"runtime"
	"sync"
	"sync/atomic"

	"github.com/hashicorp/golang-lru/v2/simplelru"

	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/markup"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
	"oakenlatch/service/store"
)

// How configurations are kept. A run is one of them whole, and after it the
// edits that make each next one, gathered in packs that are compressed
// together: what a device held for years takes little more than what changed.
const (
	packed    = 64   // configurations to a pack
	runLength = 1024 // configurations to a run, at most
	landing   = 8    // every so many of a run are kept at hand once they were made
	openRuns  = 32   // runs whose edits are kept at hand
)

// digestSize is the bytes of a digest.
const digestSize = len(tree.Digest{})

// kept is what a run is known to hold. It only ever grows.
type kept struct {
	schema *schema.Schema

	mu      sync.Mutex
	digests []string     // by place
	edits   []*tree.Edit // by place; nil at 0
	bytes   []int        // of the edits as text
}

// runs remembers the runs that were read lately.
type runs struct {
	mu   sync.Mutex
	list *simplelru.LRU[int64, *kept]
}

func newRuns() *runs {
	list, err := simplelru.NewLRU[int64, *kept](openRuns, nil)
	if err != nil {
		panic(err) // the size is a constant
	}
	return &runs{list: list}
}

func (r *runs) of(id int64, s *schema.Schema) *kept {
	r.mu.Lock()
	defer r.mu.Unlock()
	k, ok := r.list.Get(id)
	if !ok || k.schema != s {
		k = &kept{schema: s}
		r.list.Add(id, k)
	}
	return k
}

// step is one configuration of a pack: its digest, and what makes it of the one
// before.
type step struct {
	digest string
	edits  []byte
}

// frame writes a step as it stands in a pack: the digest's bytes, the length of
// the edits (a varint), the edits.
func (s step) frame(pack []byte) ([]byte, error) {
	d, err := hex.DecodeString(s.digest)
	if err != nil || len(d) != digestSize {
		return nil, fmt.Errorf("%q is no digest", s.digest)
	}
	pack = append(pack, d...)
	pack = binary.AppendUvarint(pack, uint64(len(s.edits)))
	return append(pack, s.edits...), nil
}

var errPack = errors.New("the records are damaged: a pack of configurations ends in the middle of one")

// steps reads a pack.
func steps(pack []byte) (out []step, err error) {
	for len(pack) > 0 {
		if len(pack) <= digestSize {
			return nil, errPack
		}
		s := step{digest: hex.EncodeToString(pack[:digestSize])}
		n, w := binary.Uvarint(pack[digestSize:])
		pack = pack[digestSize:]
		if w <= 0 || uint64(len(pack)-w) < n {
			return nil, errPack
		}
		s.edits, pack = pack[w:w+int(n)], pack[w+int(n):]
		out = append(out, s)
	}
	return out, nil
}

// Digest is how a configuration is named in the records.
func Digest(n *tree.Node) string {
	d := n.Digest()
	return hex.EncodeToString(d[:])
}

// body is how a configuration is kept whole: XML in a <config>.
func body(s *schema.Schema, n *tree.Node) []byte {
	return codec.XML(s, n, markup.Name{Space: netconf.BaseNS, Local: "config"})
}

// Tree gives a kept configuration by its digest, by a schema of one's own.
func (h *History) Tree(ctx context.Context, s *schema.Schema, digest string) (*tree.Node, error) {
	n, err := h.tree(ctx, h.store.Configs(ctx), s, digest)
	var d *Damaged
	if errors.As(err, &d) {
		if now := h.heal(ctx, d); now != nil {
			return now, nil
		}
	}
	return n, err
}

// Configuration gives a kept configuration with the schema it was read by.
func (h *History) Configuration(
	ctx context.Context, digest string, otherwise *schema.Schema,
) (*schema.Schema, *tree.Node, error) {
	rec := h.store.Configs(ctx)
	p, err := rec.Place(digest)
	if err != nil {
		return nil, nil, fmt.Errorf("configuration %s: %w", digest, err)
	}
	s := otherwise
	if p.Run != 0 {
		run, err := rec.Run(p.Run)
		if err != nil {
			return nil, nil, err
		}
		if s, err = h.fleet.SchemaOf(ctx, run.Modules); err != nil {
			return nil, nil, err
		}
	}
	n, err := h.tree(ctx, rec, s, digest)
	return s, n, err
}

// ModulesOf gives the module set that a kept configuration is read by.
func (h *History) ModulesOf(ctx context.Context, digest string, d store.Device) (string, error) {
	rec := h.store.Configs(ctx)
	p, err := rec.Place(digest)
	if err != nil || p.Run == 0 {
		return d.ModuleSet, err
	}
	run, err := rec.Run(p.Run)
	return run.Modules, err
}

func (h *History) tree(ctx context.Context, rec store.Configs, s *schema.Schema, digest string) (*tree.Node, error) {
	n, err := h.undamaged(ctx, rec, s, digest)
	return n, h.hurt(ctx, digest, err)
}

func (h *History) undamaged(
	ctx context.Context, rec store.Configs, s *schema.Schema, digest string,
) (*tree.Node, error) {
	// A kept configuration is named by its content.
	return h.fleet.Recent.Tree(s, digest, func() (*tree.Node, int, error) {
		p, err := rec.Place(digest)
		if err != nil {
			return nil, 0, fmt.Errorf("configuration %s: %w", digest, err)
		}
		if p.Run == 0 {
			n, err := codec.Decoder{Schema: s}.ParseTree(p.Body)
			return n, len(p.Body), err
		}
		run, err := rec.Run(p.Run)
		if err != nil {
			return nil, 0, err
		}
		own, err := h.fleet.SchemaOf(ctx, run.Modules)
		if err != nil {
			return nil, 0, err
		}
		n, size, err := h.at(rec, run, own, p.Place, digest)
		if err != nil || own == s {
			return n, size, err
		}
		// The device has other modules now.
		text := body(own, n)
		n, err = codec.Decoder{Schema: s}.ParseTree(text)
		return n, len(text), err
	})
}

// at gives the configuration at a place of a run, where one of that digest
// stands, and about what it takes to keep it at hand.
func (h *History) at(
	rec store.Configs, run store.Run, s *schema.Schema, place int, digest string,
) (*tree.Node, int, error) {
	k := h.runs.of(run.ID, s)
	k.mu.Lock()
	defer k.mu.Unlock()
	// What is remembered may be of a transaction that came to nothing.
	if k.grow(rec, run, place) != nil || k.digests[0] != run.First || k.digests[place] != digest {
		k.digests = nil
		if err := k.grow(rec, run, place); err != nil {
			return nil, 0, err
		}
		if k.digests[place] != digest {
			return nil, 0, fmt.Errorf(
				"the records are damaged: place %d of a run is not configuration %s", place, digest,
			)
		}
	}
	from, n := place, (*tree.Node)(nil)
	for ; from >= 0; from-- {
		if n = h.fleet.Recent.Has(s, k.digests[from]); n != nil {
			break
		}
	}
	if n == nil {
		whole, err := rec.Pack(run.ID, 0)
		if err != nil {
			return nil, 0, err
		}
		if n, err = (codec.Decoder{Schema: s}).ParseTree(whole); err != nil {
			return nil, 0, err
		}
		from = 0
		h.fleet.Recent.Keep(s, k.digests[0], n, run.Whole)
	}
	// What edits add is little: all else is shared with the one before.
	size := 0
	for i := from + 1; i <= place; i++ {
		next, err := tree.Apply(n, k.edits[i], tree.None)
		if err != nil {
			return nil, 0, fmt.Errorf("the records are damaged: configuration %s cannot be made: %w", k.digests[i], err)
		}
		n, size = next, size+weight*k.bytes[i]
		if i%landing == 0 && i < place {
			h.fleet.Recent.Keep(s, k.digests[i], n, size)
			size = 0
		}
	}
	return n, max(size, weight), nil
}

// weight is about how much larger what an edit makes anew is than its text.
const weight = 32

var errStale = errors.New("what was remembered of a run is not what is kept")

// grow reads a run's packs up to a place. What was read last may have grown
// since.
func (k *kept) grow(rec store.Configs, run store.Run, place int) error {
	if len(k.digests) == 0 {
		k.digests, k.edits, k.bytes = []string{run.First}, []*tree.Edit{nil}, []int{0}
	}
	for len(k.digests) <= place {
		before := len(k.digests)
		number := (before-1)/packed + 1
		text, err := rec.Pack(run.ID, number)
		if err != nil {
			return err
		}
		list, err := steps(text)
		if err != nil {
			return err
		}
		known := len(k.digests) - (number-1)*packed - 1
		for i, s := range list[:min(known, len(list))] {
			if k.digests[(number-1)*packed+1+i] != s.digest {
				return errStale
			}
		}
		fresh := list[min(known, len(list)):]
		edits, err := k.read(fresh)
		if err != nil {
			return err
		}
		for i, s := range fresh {
			k.digests, k.edits = append(k.digests, s.digest), append(k.edits, edits[i])
			k.bytes = append(k.bytes, len(s.edits))
		}
		if len(k.digests) == before {
			return fmt.Errorf("the records are damaged: a run ends before place %d", place)
		}
	}
	return nil
}

// read reads the edits of steps, on all processors.
func (k *kept) read(list []step) ([]*tree.Edit, error) {
	edits, errs := make([]*tree.Edit, len(list)), make([]error, len(list))
	var next atomic.Int64
	var wg sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), len(list)) {
		wg.Go(func() {
			for i := next.Add(1) - 1; i < int64(len(list)); i = next.Add(1) - 1 {
				if edits[i], errs[i] = readEdits(k.schema, list[i].edits); errs[i] != nil {
					errs[i] = fmt.Errorf(
						"the records are damaged: the edits of configuration %s: %w", list[i].digest, errs[i],
					)
				}
			}
		})
	}
	wg.Wait()
	return edits, errors.Join(errs...)
}

// readEdits reads edits: packed, or as XML, which earlier releases wrote.
func readEdits(s *schema.Schema, text []byte) (*tree.Edit, error) {
	if codec.IsPacked(text) {
		return codec.UnpackEdit(s, text)
	}
	limits := markup.Limits{Bytes: 4 * markup.DefaultBytes}
	el, err := markup.Parse(text, limits)
	if err != nil {
		return nil, err
	}
	return codec.Decoder{Schema: s, Strict: false, Limits: limits}.Edit(el)
}

// Add keeps a configuration of a device by its digest, once: as what makes it
// of the one kept before where that is less. modules is the set s was compiled
// from.
func (h *History) Add(tx *store.Tx, device int64, modules string, s *schema.Schema, n *tree.Node) (string, error) {
	digest := Digest(n)
	rec := tx.Configs()
	_, err := rec.Place(digest)
	if err == nil && h.isDamaged(digest) {
		if err = tx.MendConfig(digest, body(s, n)); err == nil {
			h.mended(digest)
		}
	}
	if !errors.Is(err, store.ErrNotFound) {
		return digest, err
	}
	run, err := rec.LastRun(device)
	if err == nil && run.Modules == modules && run.Length < runLength && run.Edits < 8*run.Whole {
		done, err := h.append(tx, rec, run, s, n, digest)
		if err != nil || done {
			return digest, err
		}
	} else if err != nil && !errors.Is(err, store.ErrNotFound) {
		return digest, err
	}
	text := body(s, n)
	if _, err = tx.AddRun(device, modules, digest, text); err == nil {
		h.fleet.Recent.Keep(s, digest, n, len(text))
	}
	return digest, err
}

// append adds a configuration to a run, unless it is better kept whole.
func (h *History) append(
	tx *store.Tx, rec store.Configs, run store.Run, s *schema.Schema, n *tree.Node, digest string,
) (bool, error) {
	last, _, err := h.at(rec, run, s, run.Length-1, run.Last)
	if err != nil {
		return false, nil // it is damaged: begin anew rather than lose this one too
	}
	text := codec.PackEdit(diff.Compare(last, n).Edits())
	if len(text) > run.Whole/5+256 { // packed, a whole one takes about a third of its XML
		return false, nil
	}
	// Nothing is kept that does not come out as it went in.
	e, err := readEdits(s, text)
	if err != nil {
		return false, nil
	}
	if made, err := tree.Apply(last, e, tree.None); err != nil || made.Digest() != n.Digest() {
		return false, nil
	}
	number := (run.Length-1)/packed + 1
	var pack []byte
	if (run.Length-1)%packed != 0 {
		if pack, err = rec.Pack(run.ID, number); err != nil {
			return false, err
		}
	}
	if pack, err = (step{digest, text}).frame(pack); err != nil {
		return false, err
	}
	if err := tx.AddToRun(run, digest, number, pack, run.Length%packed == 0, len(text)); err != nil {
		return false, err
	}
	h.fleet.Recent.Keep(s, digest, n, weight*len(text))
	return true, nil
}

// walk goes along a device's configurations in their order: the next of a run
// is made of the one before without looking anything up. What a device goes
// back to, it mostly had a moment ago.
type walk struct {
	h      *History
	schema *schema.Schema
	run    *kept
	place  int        // how far the run was gone along
	at     *tree.Node // what stands there
	recent [16]visited
	next   int // the place in recent that is taken next
}

type visited struct {
	digest string
	node   *tree.Node
}

// to gives the configuration of a digest.
func (w *walk) to(ctx context.Context, digest string) (*tree.Node, error) {
	for _, v := range w.recent {
		if v.digest == digest {
			return v.node, nil
		}
	}
	n := w.onward(digest)
	if n == nil {
		var err error
		if n, err = w.jump(ctx, digest); err != nil {
			return nil, err
		}
	}
	w.recent[w.next] = visited{digest, n}
	w.next = (w.next + 1) % len(w.recent)
	return n, nil
}

// jump looks a configuration up, and goes on from there if it is ahead.
func (w *walk) jump(ctx context.Context, digest string) (*tree.Node, error) {
	n, err := w.h.Tree(ctx, w.schema, digest)
	if err != nil {
		return nil, err
	}
	rec := w.h.store.Configs(ctx)
	p, err := rec.Place(digest)
	if err != nil || p.Run == 0 {
		return n, err
	}
	run, err := rec.Run(p.Run)
	if err != nil {
		return nil, err
	}
	if s, err := w.h.fleet.SchemaOf(ctx, run.Modules); err != nil || s != w.schema {
		return n, err
	}
	k := w.h.runs.of(run.ID, w.schema)
	if k == w.run && p.Place < w.place {
		return n, nil
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.grow(rec, run, run.Length-1) == nil && k.digests[0] == run.First && k.digests[run.Length-1] == run.Last {
		w.run, w.place, w.at = k, p.Place, n
	}
	return n, nil
}

// onward gives the configuration after the furthest, nil if it is not that of
// the digest.
func (w *walk) onward(digest string) *tree.Node {
	if w.run == nil {
		return nil
	}
	w.run.mu.Lock()
	defer w.run.mu.Unlock()
	if w.place+1 >= len(w.run.digests) || w.run.digests[w.place+1] != digest {
		return nil
	}
	n, err := tree.Apply(w.at, w.run.edits[w.place+1], tree.None)
	if err != nil {
		return nil
	}
	w.place, w.at = w.place+1, n
	return n
}
