// Package audit writes the ledger: every change of the records and the entry
// that tells of it are one transaction, so that neither is there without the
// other. Whoever follows the ledger is woken when something was added.
package audit

import (
	"context"
	"crypto/rand"
	"iter"
	"sync"
	"sync/atomic"
	"time"

	"oakenlatch/core/agree"
	"oakenlatch/core/ledger"
	"oakenlatch/core/redact"
	"oakenlatch/service/store"
)

// Service is the actor of what no person asked for.
const Service = "service"

// Log is the ledger.
type Log struct {
	// Redactor hides the secret values of configurations: in the ledger for everybody,
	// elsewhere for those who may not see them.
	Redactor *redact.Redactor

	beside    string
	witnesses []string
	store     *store.Store
	now       func() time.Time

	growing sync.Mutex // the tree, and the words of it

	mu     sync.Mutex
	wake   chan struct{}
	signer *ledger.Signer // signs checkpoints; nil signs none
}

// Options are how a ledger is kept.
type Options struct {
	Now       func() time.Time // time.Now if nil
	Redactor  *redact.Redactor // hides secrets; one with a key of its own if nil
	Beside    string           // the folder that the newest checkpoint is put into, too; "" puts it nowhere
	Witnesses []string         // the keys of those outside whose signatures count
}

// New gives the ledger over a store.
func New(s *store.Store, opt Options) *Log {
	if opt.Now == nil {
		opt.Now = time.Now
	}
	if opt.Redactor == nil {
		opt.Redactor = redact.New([]byte(rand.Text()))
	}
	return &Log{
		Redactor: opt.Redactor, beside: opt.Beside, witnesses: opt.Witnesses, store: s, now: opt.Now,
		wake: make(chan struct{}),
	}
}

// Now is the service's time, UTC.
func (l *Log) Now() time.Time { return l.now().UTC() }

// Origin is how a person came in.
type Origin struct {
	Kind    string // console, token or sign-in
	Address string
	Session string // the first digits of the token's digest
}

type originKey struct{}

// By gives a context in which what a person does is recorded with the way they
// came in.
func By(ctx context.Context, w Origin) context.Context { return context.WithValue(ctx, originKey{}, w) }

// Tx is a transaction that can also record what it does.
type Tx struct {
	*store.Tx
	now      time.Time
	way      Origin
	recorded bool
}

// Record adds an entry to the ledger; its time, place and hashes are set here,
// and so are the ticket of its change and the way its person came in. Who works on a change by it is
// kept as one who did.
func (tx *Tx) Record(e ledger.Entry) (err error) {
	e.At = tx.now
	if e.Actor != Service || e.Outcome == ledger.Refused {
		e.Way, e.Address, e.Session = tx.way.Kind, tx.way.Address, tx.way.Session
	}
	if e.Change != 0 && e.Ticket == "" {
		if e.Ticket, err = tx.Ticket(e.Change); err != nil {
			return err
		}
	}
	if e.Change != 0 && e.Actor != Service && e.Outcome != ledger.Refused && agree.Works(e.Action) {
		if err := tx.AddWorker(e.Change, e.Actor); err != nil {
			return err
		}
	}
	tx.recorded = true
	_, err = tx.AppendLedger(e)
	return err
}

// Write runs f in one transaction with the entries it records.
func (l *Log) Write(ctx context.Context, f func(*Tx) error) error {
	return l.write(ctx, f, func(g func(*store.Tx) error) error { return l.store.Write(ctx, g) })
}

// WriteSure is Write, however long the disk does not answer: what it returns is how it is.
func (l *Log) WriteSure(ctx context.Context, f func(*Tx) error) error {
	return l.write(ctx, f, l.store.WriteSure)
}

func (l *Log) write(ctx context.Context, f func(*Tx) error, into func(func(*store.Tx) error) error) error {
	var recorded atomic.Bool
	way, _ := ctx.Value(originKey{}).(Origin)
	err := into(func(stx *store.Tx) error {
		tx := &Tx{Tx: stx, now: l.Now(), way: way}
		err := f(tx)
		recorded.Store(tx.recorded)
		return err
	})
	if err == nil && recorded.Load() {
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

// Each gives ledger entries one by one, however many there are.
func (l *Log) Each(ctx context.Context, q store.LedgerQuery) iter.Seq2[ledger.Entry, error] {
	return l.store.EachEntry(ctx, q)
}

// Entries lists ledger entries.
func (l *Log) Entries(ctx context.Context, q store.LedgerQuery) ([]ledger.Entry, error) {
	return l.store.Ledger(ctx, q)
}
