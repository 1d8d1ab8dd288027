package audit

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"log/slog"
	"time"

	"oakenlatch/core/ledger"
	"oakenlatch/core/search"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// keyAction is the entry that says which key signs from then on.
const keyAction = "audit.key"

// UseKey says what signs checkpoints from now on. A key that is new is entered
// in the ledger.
func (l *Log) UseKey(ctx context.Context, key ed25519.PrivateKey) error {
	public, _ := key.Public().(ed25519.PublicKey)
	text := ledger.KeyText(public)
	keys, err := l.Keys(ctx)
	if err != nil {
		return err
	}
	if !keys[text] {
		err = l.Write(ctx, func(tx *Tx) error {
			return tx.Record(ledger.Entry{Actor: Service, Action: keyAction, After: text, Note: "checkpoints are signed with this key (Ed25519) from here on"})
		})
		if errors.Is(err, store.ErrFull) { // it starts all the same; the next start enters it
			slog.Error("the key of the checkpoints could not be entered", "error", err)
			err = nil
		}
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.key = key
	return err
}

// publicKey is what checkpoints are signed with now, as they name it; "" where
// nothing signs.
func (l *Log) publicKey() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.key == nil {
		return ""
	}
	public, _ := l.key.Public().(ed25519.PublicKey)
	return ledger.KeyText(public)
}

// Keys are the public keys that ever signed checkpoints here.
func (l *Log) Keys(ctx context.Context) (map[string]bool, error) {
	out := map[string]bool{}
	q := store.LedgerQuery{}
	q.Terms = []search.Term{{Key: search.Kind, Values: []string{keyAction}}}
	list, err := l.store.Ledger(ctx, q)
	for _, e := range list {
		out[e.After] = true
	}
	return out, err
}

// checkpoints gives those that are kept, and what is wrong with the others.
func (l *Log) checkpoints(ctx context.Context) (whole []ledger.Checkpoint, wrong []error, err error) {
	list, err := l.store.Checkpoints(ctx)
	for _, text := range list {
		c, err := ledger.ParseCheckpoint([]byte(text))
		if err != nil {
			wrong = append(wrong, err)
			continue
		}
		whole = append(whole, c)
	}
	return whole, wrong, err
}

// errUnsigned is given where no key was set.
var errUnsigned = refusal.New(refusal.Conflict, "", "this service has no key that signs checkpoints")

// Checkpoint signs what the ledger is now, and keeps that. Where nothing was
// added since the last one it gives that.
func (l *Log) Checkpoint(ctx context.Context) (ledger.Checkpoint, error) {
	l.mu.Lock()
	key := l.key
	l.mu.Unlock()
	if key == nil {
		return ledger.Checkpoint{}, errUnsigned
	}
	last, err := l.store.Ledger(ctx, store.LedgerQuery{Limit: 1})
	if err != nil || len(last) == 0 {
		return ledger.Checkpoint{}, err
	}
	kept, _, err := l.checkpoints(ctx)
	if err != nil {
		return ledger.Checkpoint{}, err
	}
	for _, c := range kept {
		if c.Seq == last[0].Seq && c.Hash == last[0].Hash {
			return c, nil
		}
	}
	c := ledger.Sign(key, last[0], l.Now())
	body, err := json.Marshal(c)
	if err != nil {
		return c, err
	}
	return c, l.store.Write(ctx, func(tx *store.Tx) error { return tx.AddCheckpoint(c.Seq, c.At, string(body)) })
}

// How often the ledger is signed by itself, and made findable.
const (
	signEvery  = time.Hour
	indexEvery = 2 * time.Second
)

// Keep signs checkpoints and makes new entries findable, until ctx ends; the
// last of each then. trouble hears what goes wrong.
func (l *Log) Keep(ctx context.Context, trouble func(error)) {
	sign, index := time.NewTicker(signEvery), time.NewTicker(indexEvery)
	defer sign.Stop()
	defer index.Stop()
	added := l.Added()
	for {
		var err error
		select {
		case <-ctx.Done():
			if _, err := l.Checkpoint(context.WithoutCancel(ctx)); err != nil {
				trouble(err)
			}
			return
		case <-sign.C:
			_, err = l.Checkpoint(ctx)
			err = errors.Join(err, l.store.TidyWords(ctx))
		case <-index.C:
			select {
			case <-added:
				added = l.Added()
				err = l.store.IndexLedger(ctx)
			default:
			}
		}
		if err != nil && ctx.Err() == nil {
			trouble(err)
		}
	}
}
