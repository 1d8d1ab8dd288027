// Package notify tells others of what the ledger records: by syslog, webhook and
// mail. What each receiver is told of is a line to search by. A receiver has a
// place in the ledger: what it did not take is told again, however long it was
// away and however often the service was restarted; it may be told twice, and
// is never told too little.
package notify

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"oakenlatch/core/advice"
	"oakenlatch/core/clip"
	"oakenlatch/core/ledger"
	"oakenlatch/core/search"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Kinds of receivers.
const (
	Syslog  = "syslog"
	Webhook = "webhook"
	Mail    = "mail"
)

// Settings are a receiver's, by its kind.
type Settings struct {
	Authority string   `json:"authority,omitempty"` // PEM: who vouches for its certificate; "": whom the system trusts
	From      string   `json:"from,omitempty"`      // of mail
	To        []string `json:"to,omitempty"`        // of mail
	Account   string   `json:"account,omitempty"`   // of mail
	Gather    int64    `json:"gather,omitempty"`    // of mail: seconds that entries are gathered for
}

// channel takes entries to a receiver.
type channel interface {
	// send gives how many of them were taken, from the first on, and why not all.
	send(ctx context.Context, list []ledger.Entry) (taken int, err error)
	// most is how many it takes at once.
	most() int
	close()
}

// Timing is how long is waited.
type Timing struct {
	Gather     time.Duration // from an entry until it is told: more may follow
	FirstRetry time.Duration
	LastRetry  time.Duration
	Patience   time.Duration // with one sending
}

// DefaultTiming is the tempo of a service.
var DefaultTiming = Timing{
	Gather: 300 * time.Millisecond, FirstRetry: 2 * time.Second, LastRetry: 5 * time.Minute, Patience: 30 * time.Second,
}

// Notifier tells receivers.
type Notifier struct {
	Timing Timing

	store  *store.Store
	log    *audit.Log
	sealer *access.Sealer
	logger *slog.Logger

	mu      sync.Mutex
	ctx     context.Context
	running map[int64]context.CancelFunc
	wg      sync.WaitGroup
}

// New gives a teller over the records.
func New(s *store.Store, log *audit.Log, sealer *access.Sealer, logger *slog.Logger) *Notifier {
	return &Notifier{
		Timing: DefaultTiming, store: s, log: log, sealer: sealer, logger: logger,
		running: map[int64]context.CancelFunc{},
	}
}

// Run begins to tell, until the context ends; Stop waits for that.
func (t *Notifier) Run(ctx context.Context) error {
	t.mu.Lock()
	t.ctx = ctx
	t.mu.Unlock()
	list, err := t.store.Receivers(ctx)
	for _, r := range list {
		t.begin(r)
	}
	return err
}

// Stop waits until nothing is told any more, after the context has ended.
func (t *Notifier) Stop() { t.wg.Wait() }

func (t *Notifier) begin(r store.Receiver) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.ctx == nil || t.ctx.Err() != nil {
		return
	}
	if stop := t.running[r.ID]; stop != nil {
		stop()
	}
	ctx, stop := context.WithCancel(t.ctx)
	t.running[r.ID] = stop
	t.wg.Go(func() { t.keep(ctx, r) })
}

func (t *Notifier) end(id int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if stop := t.running[id]; stop != nil {
		stop()
		delete(t.running, id)
	}
}

// keep tells a receiver of what comes, until it is to be told no more.
func (t *Notifier) keep(ctx context.Context, r store.Receiver) {
	retry := t.Timing.FirstRetry
	w, err := t.open(r)
	if err == nil {
		defer w.close()
	}
	for ctx.Err() == nil {
		added := t.log.Added() // before the look, so that nothing is missed
		more := false
		if w != nil {
			more, err = t.next(ctx, w, &r)
		}
		var wait <-chan time.Time
		switch {
		case err != nil:
			t.note(ctx, &r, err)
			wait = time.After(retry)
			retry = min(2*retry, t.Timing.LastRetry)
			added = nil
		case more:
			retry = t.Timing.FirstRetry
			continue
		default:
			retry = t.Timing.FirstRetry
		}
		select {
		case <-ctx.Done():
			return
		case <-wait:
		case <-added:
			if !pause(ctx, t.gather(r)) {
				return
			}
		}
		if w == nil {
			if w, err = t.open(r); err == nil {
				defer w.close()
			}
		}
	}
}

// gather is how long is waited from an entry on.
func (t *Notifier) gather(r store.Receiver) time.Duration {
	var s Settings
	if json.Unmarshal([]byte(r.Settings), &s) == nil && s.Gather > 0 {
		return time.Duration(s.Gather) * time.Second
	}
	return t.Timing.Gather
}

func pause(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

// next tells what is to be told next; more says that there may be more of it.
func (t *Notifier) next(ctx context.Context, w channel, r *store.Receiver) (more bool, err error) {
	last, err := t.store.LastEntry(ctx)
	if err != nil || last <= r.Position {
		return false, err
	}
	q := store.LedgerQuery{After: r.Position, Oldest: true, Limit: w.most()}
	if q.Query, err = search.Parse(r.Line, t.log.Now()); err != nil {
		return false, fmt.Errorf("its line cannot be read: %w", err)
	}
	q.Since, q.Until = time.Time{}, time.Time{} // it is told of what comes
	list, err := t.log.Entries(ctx, q)
	if err != nil {
		return false, err
	}
	more = len(list) == q.Limit
	if n := len(list); n > 0 && (more || list[n-1].Seq > last) {
		last = list[n-1].Seq
	}
	if len(list) == 0 && last-r.Position < 1000 && r.Trouble == "" {
		r.Position = last // nothing for it; that is put on disk when there is more to say
		return false, nil
	}
	if len(list) > 0 {
		sctx, cancel := context.WithTimeout(ctx, t.Timing.Patience)
		taken, err := w.send(sctx, list)
		cancel()
		if err != nil && taken == 0 {
			return false, err
		}
		if err != nil { // the rest is tried again at once
			list, last, more = list[:taken], list[taken-1].Seq, true
		}
	}
	back := r.Trouble
	err = t.log.Write(context.WithoutCancel(ctx), func(tx *audit.Tx) error {
		if err := tx.Told(r.ID, last, int64(len(list)), t.log.Now()); err != nil {
			return err
		}
		if back == "" {
			return nil
		}
		return tx.Record(
			ledger.Entry{
				Actor: audit.Service, Action: "tell.again",
				Note: fmt.Sprintf(
					"%s takes what it is told again, since %s it did not; nothing was left out", r.Name,
					r.TroubleAt.UTC().Format(time.RFC3339),
				),
			},
		)
	})
	if err == nil {
		r.Position, r.Trouble = last, ""
	}
	return more, err
}

// note records that a receiver did not take what it was told: once, until it
// takes it again.
func (t *Notifier) note(ctx context.Context, r *store.Receiver, cause error) {
	if ctx.Err() != nil {
		return
	}
	text := brief(cause)
	first := r.Trouble == ""
	if !first && r.Trouble == text {
		return
	}
	if first {
		r.TroubleAt = t.log.Now()
	}
	r.Trouble = text
	err := t.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.NotTold(r.ID, text, t.log.Now()); err != nil || !first {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: audit.Service, Action: "tell.failed", Outcome: ledger.Failed,
				Note: fmt.Sprintf(
					"%s (%s %s) does not take what it is told: %s; it is tried again, and nothing is left out", r.Name,
					r.Kind, r.Place, text,
				),
			},
		)
	})
	t.logger.Warn(
		"a receiver does not take what it is told", "receiver", r.Name, "place", r.Place, "error", text, "noted",
		err == nil,
	)
}

// brief keeps an error to what a person reads.
func brief(err error) string {
	text := err.Error()
	if errors.Is(err, context.DeadlineExceeded) {
		text = "it does not answer"
	}
	return clip.To(text, 300)
}

// sentence tells an entry in words.
func sentence(e ledger.Entry) string {
	parts := []string{e.Actor + ": " + e.Action}
	if e.Outcome != ledger.Done {
		parts[0] += " (" + e.Outcome.String() + ")"
	}
	if e.Device != "" {
		parts = append(parts, "on "+e.Device)
	}
	if e.Change != 0 {
		text := fmt.Sprintf("change %d", e.Change)
		if e.Ticket != "" {
			text += " " + e.Ticket
		}
		parts = append(parts, text)
	}
	if e.Path != "" {
		parts = append(parts, e.Path)
	}
	if e.Before != "" || e.After != "" {
		parts = append(parts, clip.To(e.Before, mostValue)+" → "+clip.To(e.After, mostValue))
	}
	if e.Note != "" {
		parts = append(parts, e.Note)
	}
	return strings.Join(parts, ", ")
}

// mostValue is how much of a value belongs in a message, in characters: all of it is in the ledger.
const mostValue = 400

// Find gives a receiver by its name.
func (t *Notifier) Find(ctx context.Context, name string) (store.Receiver, error) {
	r, err := t.store.Receiver(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		err = refusal.New(refusal.NotFound, "list them", "there is no receiver %q", name).Do(advice.ListReceivers)
	}
	return r, err
}
