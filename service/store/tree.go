package store

import (
	"context"
	"time"

	"oakenlatch/core/ledger"
)

// TreeSize is how many entries the tree of the ledger has that is kept beside them.
func (s *Store) TreeSize(ctx context.Context) (int64, error) {
	return one(
		s.ask(
			ctx,
			"SELECT coalesce((SELECT n * 256 + length(hashes) / 32 FROM tree WHERE level = 0 ORDER BY n DESC "+
				"LIMIT 1), 0)",
		),
		func(r scanner) (n int64, err error) { err = r.Scan(&n); return n, err },
	)
}

// TreeTile gives hashes of that tree, as far as they are there.
func (s *Store) TreeTile(ctx context.Context, at ledger.Place) ([]byte, error) {
	list, err := many(
		s.ask(ctx, "SELECT hashes FROM tree WHERE level = ? AND n = ?", at.Level, at.N).unremembered(),
		func(r scanner) (b []byte, err error) { err = r.Scan(&b); return b, err },
	)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return list[0], nil
}

// SetTreeTile keeps hashes of that tree.
func (tx *Tx) SetTreeTile(at ledger.Place, hashes []byte) error {
	_, err := tx.exec("INSERT OR REPLACE INTO tree (level, n, hashes) VALUES (?, ?, ?)", at.Level, at.N, hashes)
	return err
}

// SignedTree is a checkpoint of the ledger as it was signed.
type SignedTree struct {
	Origin string
	Size   int64
	At     time.Time
	Note   string // with the signatures of who signed it
}

const signedTreeColumns = "origin, size, at, note"

func scanSignedTree(r scanner) (t SignedTree, err error) {
	var at string
	if err = r.Scan(&t.Origin, &t.Size, &at, &t.Note); err == nil {
		t.At, err = parseTime(at)
	}
	return t, err
}

// SignedTrees gives all checkpoints that are kept, oldest first.
func (s *Store) SignedTrees(ctx context.Context) ([]SignedTree, error) {
	return many(
		s.ask(ctx, "SELECT "+signedTreeColumns+" FROM signed_trees ORDER BY size, at").unremembered(), scanSignedTree,
	)
}

// LastSignedTree gives the newest checkpoint of a log; ErrNotFound where there is none.
func (s *Store) LastSignedTree(ctx context.Context, origin string) (SignedTree, error) {
	return one(
		s.ask(
			ctx, "SELECT "+signedTreeColumns+" FROM signed_trees WHERE origin = ? ORDER BY size DESC LIMIT 1", origin,
		),
		scanSignedTree,
	)
}

// SetSignedTree keeps a checkpoint, in place of one of the same size.
func (tx *Tx) SetSignedTree(t SignedTree) error {
	_, err := tx.exec(
		"INSERT OR REPLACE INTO signed_trees ("+signedTreeColumns+") VALUES (?, ?, ?, ?)", t.Origin, t.Size,
		timeText(t.At), t.Note,
	)
	return err
}

// AddSignatures adds signatures to a checkpoint that is kept.
func (tx *Tx) AddSignatures(origin string, size int64, lines string) error {
	have, err := one(
		tx.ask("SELECT "+signedTreeColumns+" FROM signed_trees WHERE origin = ? AND size = ?", origin, size),
		scanSignedTree,
	)
	if err != nil {
		return err
	}
	have.Note = string(ledger.AddSignatures([]byte(have.Note), lines))
	return tx.SetSignedTree(have)
}

// ThinSignedTrees forgets checkpoints that later ones make needless: of the hours before yesterday
// the last one stays, and of the days before two months ago.
func (tx *Tx) ThinSignedTrees(now time.Time) error {
	for _, every := range []struct {
		digits int // of the time
		age    time.Duration
	}{{len("2006-01-02T15"), 24 * time.Hour}, {len("2006-01-02"), 60 * 24 * time.Hour}} {
		_, err := tx.exec(`DELETE FROM signed_trees AS old WHERE at < ? AND EXISTS (SELECT 1 FROM signed_trees later
			WHERE later.origin = old.origin AND later.size > old.size AND substr(later.at, 1, ?) = substr(old.at, 1, ?))`,
			timeText(now.Add(-every.age)), every.digits, every.digits)
		if err != nil {
			return err
		}
	}
	return nil
}
