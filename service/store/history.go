package store

import (
	"context"
	"time"

	"oakenlatch/core/lifecycle"
)

// Revision is a numbered configuration of a device.
type Revision struct {
	Device int64
	Number int64
	Digest string
	At     time.Time
	Source lifecycle.Cause
	Change int64  // the change that made it, 0 if none
	Actor  string // who made it so, "" where that is not known
	Note   string // what an archive told of it
}

func scanRevision(r scanner) (Revision, error) {
	var v Revision
	var at string
	err := r.Scan(&v.Device, &v.Number, &v.Digest, &at, &v.Source, &v.Change, &v.Actor, &v.Note)
	if err == nil {
		v.At, err = parseTime(at)
	}
	return v, err
}

// A cause that the column source does not allow stands in its own.
const revisionColumns = "device, number, digest, at, iif(cause <> '', cause, source), coalesce(change, 0), actor, note"

// AddRevision gives a configuration the device's next number.
func (tx *Tx) AddRevision(r Revision) (Revision, error) {
	change := orNull(r.Change)
	source, cause := r.Source, lifecycle.Cause("")
	if source == lifecycle.ByReplaced || source == lifecycle.ByRebuilt {
		source, cause = lifecycle.ByOutside, r.Source
	}
	err := tx.row(`INSERT INTO revisions (device, number, digest, at, source, cause, change, actor, note)
		VALUES (?1, (SELECT coalesce(max(number), 0) + 1 FROM revisions WHERE device = ?1), ?2, ?3, ?4, ?5, ?6, ?7, ?8) RETURNING number`,
		r.Device, r.Digest, timeText(r.At), source, cause, change, r.Actor, r.Note).Scan(&r.Number)
	return r, err
}

// RebuildRevision keeps a revision under the number that an archive has it
// under.
func (tx *Tx) RebuildRevision(r Revision) error {
	_, err := tx.exec(
		"INSERT INTO revisions (device, number, digest, at, source, cause, actor, note) VALUES (?, ?, ?, ?, "+
			"'outside', 'rebuilt', ?, ?)",
		r.Device, r.Number, r.Digest, timeText(r.At), r.Actor, r.Note,
	)
	return err
}

// LastRevision gives a device's newest revision, as this transaction sees it.
func (tx *Tx) LastRevision(device int64) (Revision, error) {
	return one(
		tx.ask("SELECT "+revisionColumns+" FROM revisions WHERE device = ? ORDER BY number DESC LIMIT 1", device),
		scanRevision,
	)
}

// LastRevision gives a device's newest revision.
func (s *Store) LastRevision(ctx context.Context, device int64) (Revision, error) {
	return one(
		s.ask(ctx, "SELECT "+revisionColumns+" FROM revisions WHERE device = ? ORDER BY number DESC LIMIT 1", device),
		scanRevision,
	)
}

// Revision gives a device's revision by number.
func (s *Store) Revision(ctx context.Context, device, number int64) (Revision, error) {
	return one(
		s.ask(ctx, "SELECT "+revisionColumns+" FROM revisions WHERE device = ? AND number = ?", device, number),
		scanRevision,
	)
}

// RevisionNumbered gives a device's revision by number, as this transaction sees
// it.
func (tx *Tx) RevisionNumbered(device, number int64) (Revision, error) {
	return one(
		tx.ask("SELECT "+revisionColumns+" FROM revisions WHERE device = ? AND number = ?", device, number),
		scanRevision,
	)
}

// Revisions lists a device's revisions, newest first.
func (s *Store) Revisions(ctx context.Context, device int64) ([]Revision, error) {
	return many(
		s.ask(ctx, "SELECT "+revisionColumns+" FROM revisions WHERE device = ? ORDER BY number DESC", device),
		scanRevision,
	)
}

// RevisionsAfter lists a device's revisions behind a number, oldest first.
func (s *Store) RevisionsAfter(ctx context.Context, device, number int64) ([]Revision, error) {
	return many(
		s.ask(
			ctx, "SELECT "+revisionColumns+" FROM revisions WHERE device = ? AND number > ? ORDER BY number", device,
			number,
		),
		scanRevision,
	)
}

// RunsAfter tells for a device's revisions behind a number, oldest first, in which
// run the configuration of each stands; 0 where it stands in none.
func (s *Store) RunsAfter(ctx context.Context, device, number int64) ([]int64, error) {
	return many(s.ask(
		ctx,
		"SELECT coalesce(c.run, 0) FROM revisions r JOIN configs c ON c.digest = r.digest WHERE r.device = ? AND "+
			"r.number > ? ORDER BY r.number",
		device, number,
	), func(r scanner) (run int64, err error) {
		err = r.Scan(&run)
		return run, err
	})
}

// LastRevisionAt gives a device's newest revision at a time.
func (s *Store) LastRevisionAt(ctx context.Context, device int64, at time.Time) (Revision, error) {
	return one(
		s.ask(
			ctx, "SELECT "+revisionColumns+" FROM revisions WHERE device = ? AND at <= ? ORDER BY number DESC LIMIT 1",
			device, timeText(at),
		),
		scanRevision,
	)
}

// RevisionsOf lists the revisions that a change made, on all devices.
func (s *Store) RevisionsOf(ctx context.Context, change int64) ([]Revision, error) {
	return many(
		s.ask(ctx, "SELECT "+revisionColumns+" FROM revisions WHERE change = ? ORDER BY device, number", change),
		scanRevision,
	)
}

// RevisionOfDigest gives a device's newest revision of a configuration.
func (tx *Tx) RevisionOfDigest(device int64, digest string) (Revision, error) {
	return one(
		tx.ask(
			"SELECT "+revisionColumns+" FROM revisions WHERE device = ? AND digest = ? ORDER BY number DESC LIMIT 1",
			device, digest,
		),
		scanRevision,
	)
}

// Startup has revisions of its own: Source is first, saved (by us) or outside.
const startupColumns = "device, number, digest, at, source, coalesce(change, 0), actor, ''"

// AddStartup gives a configuration the next number of a device's startup.
func (tx *Tx) AddStartup(r Revision) (Revision, error) {
	err := tx.row(`INSERT INTO startup_revisions (device, number, digest, at, source, change, actor)
		VALUES (?1, (SELECT coalesce(max(number), 0) + 1 FROM startup_revisions WHERE device = ?1), ?2, ?3, ?4, ?5, ?6) RETURNING number`,
		r.Device, r.Digest, timeText(r.At), r.Source, orNull(r.Change), r.Actor).Scan(&r.Number)
	return r, err
}

// LastStartup gives a device's newest startup, as this transaction sees it.
func (tx *Tx) LastStartup(device int64) (Revision, error) {
	return one(
		tx.ask(
			"SELECT "+startupColumns+" FROM startup_revisions WHERE device = ? ORDER BY number DESC LIMIT 1", device,
		),
		scanRevision,
	)
}

// LastStartup gives a device's newest startup.
func (s *Store) LastStartup(ctx context.Context, device int64) (Revision, error) {
	return one(
		s.ask(
			ctx, "SELECT "+startupColumns+" FROM startup_revisions WHERE device = ? ORDER BY number DESC LIMIT 1",
			device,
		),
		scanRevision,
	)
}

// Startup gives a device's startup by number.
func (s *Store) Startup(ctx context.Context, device, number int64) (Revision, error) {
	return one(
		s.ask(ctx, "SELECT "+startupColumns+" FROM startup_revisions WHERE device = ? AND number = ?", device, number),
		scanRevision,
	)
}

// Startups lists a device's startups, newest first.
func (s *Store) Startups(ctx context.Context, device int64) ([]Revision, error) {
	return many(
		s.ask(ctx, "SELECT "+startupColumns+" FROM startup_revisions WHERE device = ? ORDER BY number DESC", device),
		scanRevision,
	)
}
