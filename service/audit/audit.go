// Package audit writes the ledger: every change of the records and the entry
// that tells of it are one transaction, so that neither is there without the
// other. Whoever follows the ledger is woken when something was added.
package audit

import (
	"context"
	"sync"
	"time"

	"oakenlatch/core/ledger"
	"oakenlatch/service/store"
)

// Service is the actor of what no person asked for.
const Service = "service"

// Log is the ledger.
type Log struct {
	store *store.Store
	now   func() time.Time

	mu   sync.Mutex
	wake chan struct{}
}

// New gives the ledger over a store.
func New(s *store.Store, now func() time.Time) *Log {
	return &Log{store: s, now: now, wake: make(chan struct{})}
}

// Now is the service's time, UTC.
func (l *Log) Now() time.Time { return l.now().UTC() }

// Tx is a transaction that can also record what it does.
type Tx struct {
	*store.Tx
	now      time.Time
	recorded bool
}

// Record adds an entry to the ledger; its time, place and hashes are set here.
func (tx *Tx) Record(e ledger.Entry) error {
	e.At = tx.now
	tx.recorded = true
	_, err := tx.AppendLedger(e)
	return err
}

// Write runs f in one transaction with the entries it records.
func (l *Log) Write(ctx context.Context, f func(*Tx) error) error {
	recorded := false
	err := l.store.Write(ctx, func(stx *store.Tx) error {
		tx := &Tx{Tx: stx, now: l.Now()}
		err := f(tx)
		recorded = tx.recorded
		return err
	})
	if err == nil && recorded {
		l.mu.Lock()
		close(l.wake)
		l.wake = make(chan struct{})
		l.mu.Unlock()
	}
	return err
}

// Added gives a channel that is closed when the next entry has been written.
func (l *Log) Added() <-chan struct{} {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.wake
}

// Entries lists ledger entries.
func (l *Log) Entries(ctx context.Context, q store.LedgerQuery) ([]ledger.Entry, error) {
	return l.store.Ledger(ctx, q)
}

// Verify checks the whole chain; it gives the number of entries that hold and
// a *ledger.BrokenError where one does not.
func (l *Log) Verify(ctx context.Context) (int, error) {
	const page = 5000
	var v ledger.Verifier
	n := 0
	for after := int64(0); ; {
		list, err := l.store.Ledger(ctx, store.LedgerQuery{After: after, Limit: page, Oldest: true})
		if err != nil {
			return n, err
		}
		for _, e := range list {
			if err := v.Next(e); err != nil {
				return n, err
			}
			n++
			after = e.Seq
		}
		if len(list) < page {
			return n, nil
		}
	}
}
