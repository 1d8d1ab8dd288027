package audit

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/mod/sumdb/tlog"

	"oakenlatch/core/ledger"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// CheckpointFile is the newest checkpoint, beside the database: who alters that alone is found out,
// though they take the checkpoints out that stand in it. It may be read by others, and copied.
const CheckpointFile = "record-checkpoint"

// ErrUnsigned is given where no key was set.
var ErrUnsigned = refusal.New(refusal.Conflict, "", "this service has no key that signs checkpoints")

// ErrRewritten is given where the ledger is not what was signed: nothing more is signed then.
var ErrRewritten = errors.New(
	"the record is not what was signed of it before, so that it is not signed again; verify it",
)

// tiles reads the tree that is kept of the ledger.
func (l *Log) tiles(ctx context.Context) ledger.Tiles {
	return func(at ledger.Place) ([]byte, error) { return l.store.TreeTile(ctx, at) }
}

// growAtOnce is how many leaves are put behind the tree in one transaction.
const growAtOnce = 50_000

// grow brings the tree up to the entries that are there, and gives how many those are. The caller
// holds l.growing.
func (l *Log) grow(ctx context.Context) (int64, error) {
	size, err := l.store.TreeSize(ctx)
	if err != nil {
		return 0, err
	}
	if have, err := l.store.LedgerLength(ctx); err != nil {
		return 0, err
	} else if have < size {
		return 0, fmt.Errorf("there are %d entries, and there were %d: %w", have, size, ErrRewritten)
	}
	for {
		from := size
		var leaves []tlog.Hash
		err := l.summed(ctx, size, growAtOnce, func(e ledger.Entry, is ledger.Sums) error {
			if size++; e.Seq != size || e.Hash != is.Hash {
				return fmt.Errorf("entry %d was altered, or is missing: %w", size, ErrRewritten)
			}
			leaves = append(leaves, is.Leaf)
			return nil
		})
		if err != nil || len(leaves) == 0 {
			return from, err
		}
		grown, err := ledger.Grow(from, leaves, l.tiles(ctx))
		if err != nil {
			return from, err
		}
		err = l.store.Write(ctx, func(tx *store.Tx) error {
			for at, hashes := range grown {
				if err := tx.SetTreeTile(at, hashes); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return from, err
		}
	}
}

// Checkpoint signs what the ledger is now, and keeps that. Where nothing was added since the last
// one it gives that. What is not what was signed before is not signed.
func (l *Log) Checkpoint(ctx context.Context) (store.SignedTree, error) {
	var out store.SignedTree
	signer, err := l.signs()
	if err != nil {
		return out, err
	}
	// One at a time, from counting on: who signs fewer entries than another just did would take that
	// for a record that was cut off.
	l.growing.Lock()
	defer l.growing.Unlock()
	size, err := l.grow(ctx)
	if err != nil || size == 0 {
		return out, err
	}
	root, err := tlog.TreeHash(size, l.tiles(ctx))
	if err != nil {
		return out, err
	}
	last, err := l.store.LastSignedTree(ctx, signer.Origin())
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return out, err
	}
	_, keys, err := l.trusted(ctx)
	if err != nil {
		return out, err
	}
	before := map[string]string{"the last checkpoint": last.Note, "the checkpoint beside the database": l.besideNote()}
	for what, note := range before {
		if note == "" {
			continue
		}
		was, err := ledger.OpenCheckpoint([]byte(note), keys, nil)
		if err != nil {
			continue // of a key that does not lead to this one; verify says so
		}
		if was.Size > size {
			return out, fmt.Errorf("%s is of %d entries, and there are %d: %w", what, was.Size, size, ErrRewritten)
		}
		if then, err := tlog.TreeHash(was.Size, l.tiles(ctx)); err != nil {
			return out, err
		} else if then != was.Root {
			return out, fmt.Errorf("of %s (%d entries): %w", what, was.Size, ErrRewritten)
		}
		if was.Size == size && last.Size == size && note == last.Note {
			return last, l.setBeside(note)
		}
	}
	text, err := signer.Sign(size, root)
	if err != nil {
		return out, err
	}
	out = store.SignedTree{Origin: signer.Origin(), Size: size, At: l.Now(), Note: string(text)}
	if err := l.store.Write(ctx, func(tx *store.Tx) error { return tx.SetSignedTree(out) }); err != nil {
		return out, err
	}
	return out, l.setBeside(out.Note)
}

// besideNote is the checkpoint that stands beside the database; "" where there is none.
func (l *Log) besideNote() string {
	if l.beside == "" {
		return ""
	}
	text, err := os.ReadFile(filepath.Join(l.beside, CheckpointFile))
	if err != nil {
		return ""
	}
	return string(text)
}

// setBeside puts a checkpoint beside the database.
func (l *Log) setBeside(note string) error {
	if l.beside == "" || l.besideNote() == note {
		return nil
	}
	name := filepath.Join(l.beside, CheckpointFile)
	f, err := os.CreateTemp(l.beside, CheckpointFile+"-")
	if err != nil {
		return err
	}
	_, err = f.WriteString(note)
	err = errors.Join(err, f.Sync(), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), name)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return nil
}

// ForgetBeside takes the checkpoint beside the database away: somebody said that the records go on
// from another state.
func ForgetBeside(dir string) error {
	if err := os.Remove(filepath.Join(dir, CheckpointFile)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

// Prove gives a file that shows outsiders that an entry is in the record that a checkpoint is of.
func (l *Log) Prove(ctx context.Context, e ledger.Entry, c store.SignedTree) ([]byte, error) {
	return ledger.Prove(e, c.Size, []byte(c.Note), l.tiles(ctx))
}

// Extends gives a text that shows that a checkpoint goes on from a number of entries.
func (l *Log) Extends(ctx context.Context, old int64, c store.SignedTree) ([]byte, error) {
	return ledger.ProveExtends(old, c.Size, []byte(c.Note), l.tiles(ctx))
}

// Newest is the newest checkpoint; ErrNotFound where none was signed.
func (l *Log) Newest(ctx context.Context) (store.SignedTree, error) {
	signer, err := l.signs()
	if err != nil {
		return store.SignedTree{}, err
	}
	return l.store.LastSignedTree(ctx, signer.Origin())
}

// Cosigned keeps the signatures of a witness on a checkpoint.
func (l *Log) Cosigned(ctx context.Context, c store.SignedTree, lines string) (store.SignedTree, error) {
	c.Note = string(ledger.AddSignatures([]byte(c.Note), lines))
	return c, l.store.Write(ctx, func(tx *store.Tx) error { return tx.AddSignatures(c.Origin, c.Size, lines) })
}

// How often the ledger is signed by itself, told of, and made findable.
const (
	signEvery  = 30 * time.Second // where something was added
	tellEvery  = time.Hour        // likewise
	indexEvery = 2 * time.Second
)

// checkpointAction is the entry that tells receivers of a checkpoint.
const checkpointAction = "audit.checkpoint"

// Tell enters the newest checkpoint, so that it is in the hands of whoever is told of entries.
func (l *Log) Tell(ctx context.Context) error {
	c, err := l.Checkpoint(ctx)
	if err != nil || c.Size == 0 {
		return err
	}
	last, err := l.store.Ledger(ctx, store.LedgerQuery{Limit: 1})
	if err != nil || len(last) == 0 || last[0].Action == checkpointAction {
		return err // nothing but that was added
	}
	return l.Write(ctx, func(tx *Tx) error {
		return tx.Record(
			ledger.Entry{
				Actor: Service, Action: checkpointAction, After: strings.TrimSpace(c.Note),
				Note: "kept elsewhere, it shows later whether anything before it was altered",
			},
		)
	})
}

// Keep signs checkpoints and makes new entries findable, until ctx ends; the
// last of each then. trouble hears what goes wrong, signed of each checkpoint.
func (l *Log) Keep(ctx context.Context, signed func(store.SignedTree), trouble func(error)) {
	sign, tell, index := time.NewTicker(signEvery), time.NewTicker(tellEvery), time.NewTicker(indexEvery)
	defer sign.Stop()
	defer tell.Stop()
	defer index.Stop()
	added, unsigned := l.Added(), l.Added()
	now := make(chan struct{}, 1)
	now <- struct{}{} // what the last time left
	checkpoint := func(ctx context.Context) error {
		unsigned = l.Added()
		c, err := l.Checkpoint(ctx)
		if err == nil && c.Size > 0 && signed != nil {
			signed(c)
		}
		return err
	}
	for {
		var err error
		select {
		case <-ctx.Done():
			if err := checkpoint(context.WithoutCancel(ctx)); err != nil && !errors.Is(err, ErrUnsigned) {
				trouble(err)
			}
			return
		case <-now:
			err = checkpoint(ctx)
		case <-sign.C:
			select {
			case <-unsigned:
				err = checkpoint(ctx)
			default:
			}
		case <-tell.C:
			err = errors.Join(
				l.Tell(ctx), l.store.TidyWords(ctx),
				l.store.Write(ctx, func(tx *store.Tx) error { return tx.ThinSignedTrees(l.Now()) }),
			)
		case <-index.C:
			select {
			case <-added:
				added = l.Added()
				err = l.store.IndexLedger(ctx)
			default:
			}
		}
		if err != nil && ctx.Err() == nil && !errors.Is(err, ErrUnsigned) {
			trouble(err)
		}
	}
}
