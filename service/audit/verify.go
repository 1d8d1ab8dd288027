package audit

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/mod/sumdb/tlog"

	"oakenlatch/core/ledger"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Verify checks the whole ledger, against the checkpoints that are kept, with who cosigned them,
// and against texts of checkpoints that somebody kept elsewhere. It is known to be so up to the
// newest that somebody outside vouches for; that is what [ledger.Verifier.Outside] gives.
func (l *Log) Verify(ctx context.Context, elsewhere []string) (*ledger.Verifier, error) {
	named, keys, err := l.trusted(ctx)
	if err != nil {
		return nil, err
	}
	words, notes, wrong, err := l.words(ctx, named, keys)
	if err != nil {
		return nil, err
	}
	for _, text := range elsewhere {
		w, err := l.wordOf(text, named, keys)
		if err != nil {
			return nil, err
		}
		w.Whose = append(w.Whose, "who stored the checkpoint")
		words = append(words, w)
	}
	v := ledger.NewVerifier(words)
	v.Notes = notes
	for _, w := range wrong {
		v.Find(0, "among the kept checkpoints: %v", w)
	}
	err = l.summed(ctx, 0, 0, func(e ledger.Entry, is ledger.Sums) error {
		v.NextSummed(e, is)
		return nil
	})
	if err != nil {
		return v, err
	}
	v.End()
	if len(named) > 0 {
		if signer, err := l.signs(); err == nil && !ledger.SameKey(named[len(named)-1].Key, signer.Key()) {
			v.Find(named[len(named)-1].Seq, "it names another key than the one that signs the record: it was put there")
		}
	}
	return v, l.treeHolds(ctx, v)
}

// treeHolds looks whether the tree that is kept beside the entries is theirs.
func (l *Log) treeHolds(ctx context.Context, v *ledger.Verifier) error {
	size, err := l.store.TreeSize(ctx)
	if err != nil || size == 0 || v.Wrong > 0 {
		return err
	}
	switch root, err := tlog.TreeHash(size, l.tiles(ctx)); {
	case err != nil:
		v.Find(0, "the tree that is kept of the entries cannot be read: %v", err)
	case size > v.Entries:
		v.Find(size, "it is missing at the end: the tree that is kept beside the entries has %d of them", size)
	case size == v.Entries && root != v.Root():
		v.Find(0, "the tree that is kept beside the entries is not theirs: one of the two was altered")
	}
	return nil
}

// words gives what was signed of the ledger, as far as it is kept here.
func (l *Log) words(
	ctx context.Context, named []ledger.Keyed, keys []string,
) (words []ledger.Word, notes []string, wrong []error, err error) {
	others := 0
	trees, err := l.store.SignedTrees(ctx)
	if err != nil {
		return nil, nil, nil, err
	}
	beside := l.besideNote()
	text, _, _ := strings.Cut(beside, "\n\n")
	if beside != "" && !slices.ContainsFunc(
		trees, func(t store.SignedTree) bool { return strings.HasPrefix(t.Note, text+"\n\n") },
	) {
		trees = append(trees, store.SignedTree{Note: beside})
	}
	for _, t := range trees {
		c, err := ledger.OpenCheckpoint([]byte(t.Note), keys, l.witnesses)
		switch {
		case errors.Is(err, ledger.ErrUnknownKey):
			others++
		case err != nil:
			wrong = append(wrong, err)
		default:
			words = append(words, ledger.WordOf(c, t.At))
		}
	}
	former, err := l.store.Checkpoints(ctx)
	for _, text := range former {
		c, err := ledger.ParseChained([]byte(text))
		switch {
		case err != nil:
			wrong = append(wrong, err)
		case leads(named, c.Key):
			words = append(words, ledger.WordOfChained(c))
		default:
			others++
		}
	}
	// Who can write to the database could enter a key of their own and sign with that: only the
	// key that this service signs with, and what leads to it, says something.
	if others > 0 {
		notes = append(
			notes,
			fmt.Sprintf(
				"%d kept checkpoints are signed with keys that do not lead to the one this service has now, and say "+
					"nothing here",
				others,
			),
		)
	}
	return words, notes, wrong, err
}

func leads(named []ledger.Keyed, key string) bool {
	for _, k := range named {
		if k.Trusted && ledger.SameKey(k.Key, key) {
			return true
		}
	}
	return false
}

// wordOf reads a checkpoint that somebody kept elsewhere.
func (l *Log) wordOf(text string, named []ledger.Keyed, keys []string) (ledger.Word, error) {
	const next = "take the checkpoint as it was printed"
	if strings.HasPrefix(strings.TrimSpace(text), "{") { // of an earlier release
		c, err := ledger.ParseChained([]byte(text))
		if err != nil {
			return ledger.Word{}, refusal.New(refusal.Invalid, next, "%v", err)
		}
		for _, k := range named { // the person vouches for it, though no key leads on from it
			if ledger.SameKey(k.Key, c.Key) {
				return ledger.WordOfChained(c), nil
			}
		}
		return ledger.Word{}, refusal.New(
			refusal.Invalid, "it is of another service, or this one was given another key",
			"the checkpoint at entry %d is signed with key %s, which this service never signed with", c.Seq, c.Key,
		)
	}
	for _, k := range named {
		keys = append(keys, k.Key)
	}
	c, err := ledger.OpenCheckpoint([]byte(text), keys, l.witnesses)
	if errors.Is(err, ledger.ErrUnknownKey) {
		return ledger.Word{}, refusal.New(
			refusal.Invalid, "it is of another service, or this one was given another key",
			"the checkpoint is signed with a key that this service never signed with",
		)
	}
	if err != nil {
		return ledger.Word{}, refusal.New(refusal.Invalid, next, "%v", err)
	}
	return ledger.WordOf(c, time.Time{}), nil
}

// page is entries with what their content comes to.
type page struct {
	entries []ledger.Entry
	sums    []ledger.Sums
	done    chan struct{}
}

// summed gives every entry behind a place with what its content comes to, at most so many; 0 is
// all. Reading and hashing go on beside each other.
func (l *Log) summed(ctx context.Context, after, most int64, use func(ledger.Entry, ledger.Sums) error) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	pages := make(chan *page, runtime.GOMAXPROCS(0))
	var failed error
	var reading sync.WaitGroup
	reading.Go(func() {
		defer close(pages)
		size := int64(2000)
		for left := most; most == 0 || left > 0; left -= size {
			if most > 0 {
				size = min(size, left)
			}
			list, err := l.store.Ledger(ctx, store.LedgerQuery{After: after, Limit: int(size), Oldest: true})
			if err != nil || len(list) == 0 {
				failed = err
				return
			}
			after = list[len(list)-1].Seq
			p := &page{entries: list, sums: make([]ledger.Sums, len(list)), done: make(chan struct{})}
			select {
			case pages <- p:
			case <-ctx.Done():
				failed = ctx.Err()
				return
			}
			go func() {
				defer close(p.done)
				for i, e := range p.entries {
					p.sums[i] = ledger.Sum(e)
				}
			}()
		}
	})
	var wrong error
	for p := range pages {
		<-p.done
		for i, e := range p.entries {
			if wrong == nil {
				if wrong = use(e, p.sums[i]); wrong != nil {
					stop()
				}
			}
		}
	}
	reading.Wait()
	if wrong != nil {
		return wrong
	}
	if failed != nil {
		return fmt.Errorf("reading the ledger: %w", failed)
	}
	return nil
}
