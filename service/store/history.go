package store

import (
	"context"
	"time"
)

// Revision is a numbered configuration of a device.
type Revision struct {
	Device int64
	Number int64
	Digest string
	At     time.Time
	Source string // first, change, outside
	Change int64  // the change that made it, 0 if none
}

func scanRevision(r scanner) (Revision, error) {
	var v Revision
	var at string
	err := r.Scan(&v.Device, &v.Number, &v.Digest, &at, &v.Source, &v.Change)
	if err == nil {
		v.At, err = parseTime(at)
	}
	return v, err
}

const revisionColumns = "device, number, digest, at, source, coalesce(change, 0)"

// AddConfig keeps a configuration by its digest, once.
func (tx *Tx) AddConfig(digest string, body func() []byte) error {
	var there int
	if err := tx.row("SELECT count(*) FROM configs WHERE digest = ?", digest).Scan(&there); err != nil || there > 0 {
		return err
	}
	_, err := tx.exec("INSERT INTO configs (digest, body) VALUES (?, ?)", digest, tx.s.compress(body()))
	return err
}

// Config gives a configuration by its digest.
func (s *Store) Config(ctx context.Context, digest string) ([]byte, error) {
	return s.blob(s.row(ctx, "SELECT body FROM configs WHERE digest = ?", digest), "configuration "+digest)
}

// AddRevision gives a configuration the device's next number.
func (tx *Tx) AddRevision(r Revision) (Revision, error) {
	var change any
	if r.Change != 0 {
		change = r.Change
	}
	err := tx.row(`INSERT INTO revisions (device, number, digest, at, source, change)
		VALUES (?1, (SELECT coalesce(max(number), 0) + 1 FROM revisions WHERE device = ?1), ?2, ?3, ?4, ?5) RETURNING number`,
		r.Device, r.Digest, timeText(r.At), r.Source, change).Scan(&r.Number)
	return r, err
}

// LastRevision gives a device's newest revision, as this transaction sees it.
func (tx *Tx) LastRevision(device int64) (Revision, error) {
	return one(tx.row("SELECT "+revisionColumns+" FROM revisions WHERE device = ? ORDER BY number DESC LIMIT 1", device), scanRevision)
}

// LastRevision gives a device's newest revision.
func (s *Store) LastRevision(ctx context.Context, device int64) (Revision, error) {
	return one(s.row(ctx, "SELECT "+revisionColumns+" FROM revisions WHERE device = ? ORDER BY number DESC LIMIT 1", device), scanRevision)
}

// Revision gives a device's revision by number.
func (s *Store) Revision(ctx context.Context, device, number int64) (Revision, error) {
	return one(s.row(ctx, "SELECT "+revisionColumns+" FROM revisions WHERE device = ? AND number = ?", device, number), scanRevision)
}

// Revisions lists a device's revisions, newest first.
func (s *Store) Revisions(ctx context.Context, device int64) ([]Revision, error) {
	rows, err := s.rows(ctx, "SELECT "+revisionColumns+" FROM revisions WHERE device = ? ORDER BY number DESC", device)
	return many(rows, err, scanRevision)
}
