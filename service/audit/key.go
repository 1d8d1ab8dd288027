package audit

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"log/slog"

	"oakenlatch/core/ledger"
	"oakenlatch/core/search"
	"oakenlatch/service/store"
)

// ErrOtherKey is given where the key that would sign the record is not the one that the record
// names.
var ErrOtherKey = errors.New(
	"the key that is to sign the record is not the one that the record names last: one of the two was put there, or " +
		"the records and seal.key are of different times. Restore both from one backup; or, if you know why, go on " +
		"with: oaken-latchd accept-key",
)

// KeyEntries are the entries that name keys, oldest first.
func (l *Log) KeyEntries(ctx context.Context) ([]ledger.Entry, error) {
	q := store.LedgerQuery{Oldest: true}
	q.Terms = []search.Term{{Key: search.Kind, Values: []string{ledger.KeyAction}}}
	return l.store.Ledger(ctx, q)
}

// lastKey is the entry that names a key last; none where nothing does.
func (l *Log) lastKey(ctx context.Context) (last ledger.Entry, err error) {
	entries, err := l.KeyEntries(ctx)
	if len(entries) > 0 {
		last = entries[len(entries)-1]
	}
	return last, err
}

// UseKey says what signs checkpoints from now on: the key that the record names last, or the first.
// One that an earlier release named is entered in the form of today.
func (l *Log) UseKey(ctx context.Context, key ed25519.PrivateKey) error {
	last, err := l.lastKey(ctx)
	if err != nil {
		return err
	}
	signer := ledger.NewSigner(key, originOf(last))
	switch {
	case last.After == signer.Key():
	case last.After == "":
		err = l.enterKey(
			ctx, ledger.Entry{After: signer.Key(), Note: "checkpoints are signed with this key (Ed25519) from here on"},
		)
	case ledger.SameKey(last.After, signer.Key()):
		err = l.enterKey(
			ctx,
			ledger.Entry{
				Before: last.After, After: signer.Key(),
				Note: "checkpoints are signed with the same key, and of the tree of all entries (RFC 6962), " +
					"from here on",
			},
		)
	default:
		return ErrOtherKey
	}
	if err != nil {
		return err
	}
	l.setSigner(signer)
	return nil
}

// LookWith has a key count as the one that signs now, for who only looks; nothing is entered.
func (l *Log) LookWith(ctx context.Context, key ed25519.PrivateKey) error {
	last, err := l.lastKey(ctx)
	if err != nil {
		return err
	}
	l.setSigner(ledger.NewSigner(key, originOf(last)))
	return nil
}

// originOf is the name of the log that an entry's key signs for; "" where it has none yet.
func originOf(e ledger.Entry) string {
	if ledger.CheckKey(e.After) != nil {
		return ""
	}
	return ledger.Name(e.After)
}

func (l *Log) enterKey(ctx context.Context, e ledger.Entry) error {
	e.Actor, e.Action = Service, ledger.KeyAction
	err := l.Write(ctx, func(tx *Tx) error { return tx.Record(e) })
	if store.Sick(err) { // it starts all the same; the next start enters it
		slog.Error("the key of the checkpoints could not be entered", "error", err)
		err = nil
	}
	return err
}

func (l *Log) setSigner(s ledger.Signer) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.signer = &s
}

// signs gives what signs checkpoints.
func (l *Log) signs() (ledger.Signer, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.signer == nil {
		return ledger.Signer{}, ErrUnsigned
	}
	return *l.signer, nil
}

// Key is the key that signs checkpoints, as others write it; "" where nothing does.
func (l *Log) Key() string {
	s, err := l.signs()
	if err != nil {
		return ""
	}
	return s.Key()
}

// NextKey enters that another key signs from here on, which the one before signs in.
func (tx *Tx) NextKey(entries []ledger.Entry, before, after ed25519.PrivateKey) error {
	origin := ""
	if len(entries) > 0 {
		origin = originOf(entries[len(entries)-1])
	}
	old := ledger.NewSigner(before, origin)
	next := ledger.NewSigner(after, old.Origin())
	signatures, err := old.SignIn(next)
	if err != nil {
		return err
	}
	return tx.Record(
		ledger.Entry{
			Actor: Service, Action: ledger.KeyAction, Before: old.Key(), After: next.Key(),
			Note: "checkpoints are signed with this key (Ed25519) from here on; the one before signs it in, and " +
				"it agrees:\n" + signatures,
		},
	)
}

// AcceptKey enters that a key signs from here on that none signed in: somebody says so. It is a
// log of its own from there: witnesses of the one before do not know it.
func (tx *Tx) AcceptKey(entries []ledger.Entry, key ed25519.PrivateKey, why string) error {
	before := ""
	if len(entries) > 0 {
		before = entries[len(entries)-1].After
	}
	return tx.Record(
		ledger.Entry{
			Actor: Service, Action: ledger.KeyAction, Before: before, After: ledger.NewSigner(key, "").Key(),
			Note: fmt.Sprintf(
				"checkpoints are signed with this key (Ed25519) from here on; nothing but this word says that it "+
					"follows the one before: %s",
				why,
			),
		},
	)
}

// Keys are the keys that the record names, oldest first.
func (l *Log) Keys(ctx context.Context) ([]ledger.Keyed, error) {
	entries, err := l.KeyEntries(ctx)
	if err != nil {
		return nil, err
	}
	now := ""
	if s, err := l.signs(); err == nil {
		now = s.Key()
	}
	return ledger.Keys(entries, now), nil
}

// trusted gives the keys that the record names, and those of them whose words count.
func (l *Log) trusted(ctx context.Context) (named []ledger.Keyed, keys []string, err error) {
	named, err = l.Keys(ctx)
	for _, k := range named {
		if k.Trusted {
			keys = append(keys, k.Key)
		}
	}
	return named, keys, err
}

// Handovers are the notes by which keys signed others in, oldest first: what a witness that knows a
// former key is told.
func (l *Log) Handovers(ctx context.Context) (out [][]byte, err error) {
	entries, err := l.KeyEntries(ctx)
	for _, e := range entries {
		if text := ledger.Handover(e); text != nil {
			out = append(out, text)
		}
	}
	return out, err
}
