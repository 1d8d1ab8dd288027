package audit

import (
	"context"
	"fmt"
	"runtime"
	"sync"

	"oakenlatch/core/ledger"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Verify checks the whole chain, against the checkpoints that are kept and
// those that somebody kept elsewhere.
func (l *Log) Verify(ctx context.Context, elsewhere []ledger.Checkpoint) (*ledger.Verifier, error) {
	signed, wrong, err := l.checkpoints(ctx)
	if err != nil {
		return nil, err
	}
	keys, err := l.Keys(ctx)
	if err != nil {
		return nil, err
	}
	for _, c := range elsewhere {
		if err := c.Check(); err != nil {
			return nil, refusal.New(refusal.Invalid, "take the checkpoint as it was printed", "%v", err)
		}
		if !keys[c.Key] {
			return nil, refusal.New(refusal.Invalid, "it is of another service, or this one was given another key", "the checkpoint at entry %d is signed with key %s, which this service never signed with", c.Seq, c.Key)
		}
	}
	// Who can write to the database could enter a key of their own and sign with
	// that: only the key that this service signs with says something.
	own, others := signed[:0], 0
	for _, c := range signed {
		if c.Key == l.publicKey() {
			own = append(own, c)
		} else {
			others++
		}
	}
	v := ledger.NewVerifier(append(own, elsewhere...))
	if others > 0 {
		v.Notes = append(v.Notes, fmt.Sprintf("%d kept checkpoints are signed with another key than the one this service has now, and say nothing here", others))
	}
	for _, w := range wrong {
		v.Find(0, "among the kept checkpoints: %v", w)
	}
	err = l.hashed(ctx, func(e ledger.Entry, hash string) { v.NextHashed(e, hash) })
	if err == nil {
		v.End()
	}
	return v, err
}

// page is entries with what their hashes must be.
type page struct {
	entries []ledger.Entry
	hashes  []string
	done    chan struct{}
}

// hashed gives every entry with what its hash must be. Reading and hashing go
// on beside each other.
func (l *Log) hashed(ctx context.Context, use func(ledger.Entry, string)) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	pages := make(chan *page, runtime.GOMAXPROCS(0))
	var failed error
	var reading sync.WaitGroup
	reading.Go(func() {
		defer close(pages)
		const size = 2000
		for after := int64(0); ; {
			list, err := l.store.Ledger(ctx, store.LedgerQuery{After: after, Limit: size, Oldest: true})
			if err != nil || len(list) == 0 {
				failed = err
				return
			}
			after = list[len(list)-1].Seq
			p := &page{entries: list, hashes: make([]string, len(list)), done: make(chan struct{})}
			select {
			case pages <- p:
			case <-ctx.Done():
				failed = ctx.Err()
				return
			}
			go func() {
				defer close(p.done)
				for i, e := range p.entries {
					p.hashes[i] = ledger.Hash(e)
				}
			}()
		}
	})
	for p := range pages {
		<-p.done
		for i, e := range p.entries {
			use(e, p.hashes[i])
		}
	}
	reading.Wait()
	if failed != nil {
		return fmt.Errorf("reading the ledger: %w", failed)
	}
	return nil
}
