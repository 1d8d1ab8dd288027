package access

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"oakenlatch/core/ledger"
	"oakenlatch/service/audit"
	"oakenlatch/service/store"
)

// Sessions that could not be put on record, because the disk is full or ill: whoever has
// to decide about a hold gets in all the same. They last while the service runs, and are
// put on record as soon as that works.

// mostLent bounds them.
const mostLent = 64

type lent struct {
	mu   sync.Mutex
	list map[string]lentSession // by the hash of the token
}

type lentSession struct {
	token store.Token
	entry ledger.Entry // of its sign-in
}

func (l *lent) add(t store.Token, e ledger.Entry) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.list == nil {
		l.list = map[string]lentSession{}
	}
	for hash, s := range l.list {
		if !s.token.Expires.After(t.Created) {
			delete(l.list, hash)
		}
	}
	if len(l.list) >= mostLent {
		return false
	}
	l.list[t.Hash] = lentSession{t, e}
	return true
}

func (l *lent) find(hash string) (lentSession, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	s, ok := l.list[hash]
	return s, ok
}

func (l *lent) drop(hash string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.list, hash)
}

// prove notes of one that its person showed a second factor; false where it is none of these.
func (l *lent) prove(hash string, at time.Time) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	s, ok := l.list[hash]
	if ok {
		s.token.Proven = at
		l.list[hash] = s
	}
	return ok
}

// dropOf ends those of an account.
func (l *lent) dropOf(account string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for hash, s := range l.list {
		if s.token.Account == account {
			delete(l.list, hash)
		}
	}
}

// tokenAccount gives what a token stands for, one that is not on record too.
func (a *Accounts) tokenAccount(ctx context.Context, hash string) (store.Token, store.Account, error) {
	t, acc, err := a.store.TokenAccount(ctx, hash)
	s, ok := a.lent.find(hash)
	if !ok || !errors.Is(err, store.ErrNotFound) && !store.Sick(err) {
		return t, acc, err
	}
	if acc, err = a.store.Account(ctx, s.token.Account); err != nil {
		return t, acc, err
	}
	if werr := a.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.AddToken(s.token); err != nil {
			return err
		}
		return tx.Record(s.entry)
	}); werr == nil {
		a.lent.drop(hash)
		slog.Info("a session that could not be put on record is now", "account", acc.Name)
	}
	return s.token, acc, nil
}

// mostReadAhead bounds ReadAhead.
const mostReadAhead = 100

// ReadAhead reads the accounts as signing in does, and gives who they are.
func (a *Accounts) ReadAhead(ctx context.Context) ([]Person, error) {
	list, err := a.store.Accounts(ctx)
	if err != nil {
		return nil, err
	}
	var out []Person
	for _, acc := range list {
		if !acc.Closed.IsZero() || len(out) >= mostReadAhead {
			continue
		}
		acc, err := a.store.Account(ctx, acc.Name)
		if err == nil {
			_, err = a.store.Tokens(ctx, acc.Name)
		}
		if err == nil {
			_, _, err = a.Factors(ctx, acc.Name)
		}
		if err != nil {
			return nil, err
		}
		p, err := person(acc, store.Token{})
		if err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	return out, nil
}
