package store

import (
	"context"
	"errors"
	"time"

	"oakenlatch/core/lifecycle"
)

// Snapshot is a name for the state of devices at one moment.
type Snapshot struct {
	Number    int64
	Name      string
	Note      string
	Actor     string
	At        time.Time
	Change    int64 // before whose commit it was taken by itself, 0 for one a person took
	Protected bool
	Retired   time.Time
	RetiredBy string

	Devices int // how many it holds; where a list of snapshots was asked for
}

// SnapshotItem is one device in a snapshot.
type SnapshotItem struct {
	Snapshot, Device int64
	Digest           string
	Revision         int64  // 0 where it was a commit's trial
	Startup          string // digest, "" where the device has none
	At               time.Time
	Unclean          string // why the moment was not clean, a line each
}

const snapshotColumns = "number, name, note, actor, at, coalesce(change, 0), protected, retired_at, retired_by, " +
	"(SELECT count(*) FROM snapshot_items WHERE snapshot = number)"

func scanSnapshot(r scanner) (s Snapshot, err error) {
	var at, retired string
	if err = r.Scan(
		&s.Number, &s.Name, &s.Note, &s.Actor, &at, &s.Change, &s.Protected, &retired, &s.RetiredBy, &s.Devices,
	); err != nil {
		return s, err
	}
	var rerr error
	s.At, err = parseTime(at)
	s.Retired, rerr = parseTime(retired)
	return s, errors.Join(err, rerr)
}

// AddSnapshot keeps a snapshot with its devices and gives its number.
func (tx *Tx) AddSnapshot(s Snapshot, items []SnapshotItem) (int64, error) {
	err := tx.row("INSERT INTO snapshots (name, note, actor, at, change) VALUES (?, ?, ?, ?, ?) RETURNING number",
		s.Name, s.Note, s.Actor, timeText(s.At), orNull(s.Change)).Scan(&s.Number)
	if err != nil {
		return 0, err
	}
	for _, i := range items {
		var startup any
		if i.Startup != "" {
			startup = i.Startup
		}
		if _, err := tx.exec(
			"INSERT INTO snapshot_items (snapshot, device, digest, revision, startup, at, unclean) VALUES (?, ?, ?, "+
				"?, ?, ?, ?)",
			s.Number, i.Device, i.Digest, i.Revision, startup, timeText(i.At), i.Unclean,
		); err != nil {
			return 0, err
		}
	}
	return s.Number, nil
}

// EditSnapshot keeps another name, note and protection, and whether it is
// retired.
func (tx *Tx) EditSnapshot(s Snapshot) error {
	return affected(tx.exec(
		"UPDATE snapshots SET name = ?, note = ?, protected = ?, retired_at = ?, retired_by = ? WHERE number = ?",
		s.Name, s.Note, s.Protected, timeText(s.Retired), s.RetiredBy, s.Number,
	))
}

// Snapshot gives a snapshot by its number.
func (s *Store) Snapshot(ctx context.Context, number int64) (Snapshot, error) {
	return one(s.ask(ctx, "SELECT "+snapshotColumns+" FROM snapshots WHERE number = ?", number), scanSnapshot)
}

// Snapshots lists snapshots, newest first; those of one device where device is
// not 0.
func (s *Store) Snapshots(ctx context.Context, device int64) ([]Snapshot, error) {
	return many(s.ask(ctx, "SELECT "+snapshotColumns+` FROM snapshots
		WHERE ?1 = 0 OR number IN (SELECT snapshot FROM snapshot_items WHERE device = ?1) ORDER BY at DESC, number DESC`,
		device),
		scanSnapshot)
}

// SnapshotsNamed lists the snapshots of a name that are not retired, newest
// first.
func (s *Store) SnapshotsNamed(ctx context.Context, name string) ([]Snapshot, error) {
	return many(
		s.ask(
			ctx,
			"SELECT "+snapshotColumns+" FROM snapshots WHERE name = ? AND retired_at = '' ORDER BY at DESC, "+
				"number DESC",
			name,
		),
		scanSnapshot,
	)
}

// SnapshotBefore gives the snapshot that was taken before a change's commit,
// the newest where there were several.
func (s *Store) SnapshotBefore(ctx context.Context, change int64) (Snapshot, error) {
	return one(
		s.ask(ctx, "SELECT "+snapshotColumns+" FROM snapshots WHERE change = ? ORDER BY number DESC LIMIT 1", change),
		scanSnapshot,
	)
}

// SnapshotItems lists the devices of a snapshot.
func (s *Store) SnapshotItems(ctx context.Context, number int64) ([]SnapshotItem, error) {
	return many(s.ask(
		ctx,
		"SELECT snapshot, device, digest, revision, coalesce(startup, ''), at, unclean FROM snapshot_items WHERE "+
			"snapshot = ? ORDER BY device",
		number,
	), func(r scanner) (i SnapshotItem, err error) {
		var at string
		if err = r.Scan(&i.Snapshot, &i.Device, &i.Digest, &i.Revision, &i.Startup, &at, &i.Unclean); err == nil {
			i.At, err = parseTime(at)
		}
		return i, err
	})
}

// DraftsOn counts the changes with work on a device that are on no device yet.
func (tx *Tx) DraftsOn(device int64) (n int, err error) {
	err = tx.row(
		"SELECT count(*) FROM parts JOIN changes ON number = change WHERE device = ? AND state IN ('draft', "+
			"'scheduled')",
		device,
	).Scan(&n)
	return n, err
}

// CommitOf is a commit as a list of them has it.
type CommitOf struct {
	Change         int64
	Title, Ticket  string
	Author, Actor  string
	State          lifecycle.State // of the change, where this is its newest commit
	Reason         string
	Newest         bool
	Started, Ended time.Time
}

// CommitsOn lists the commits that a device took part in, newest first.
func (s *Store) CommitsOn(ctx context.Context, device int64) ([]CommitOf, error) {
	return many(s.ask(ctx, `SELECT c.change, h.title, h.ticket, h.author, c.actor, h.state, h.reason,
			c.id = (SELECT max(id) FROM commits WHERE change = c.change), c.started_at, c.ended_at
		FROM commits c JOIN commit_parts p ON p.commit_id = c.id JOIN changes h ON h.number = c.change
		WHERE p.device = ? ORDER BY c.id DESC`, device), func(r scanner) (c CommitOf, err error) {
		var started, ended string
		if err = r.Scan(
			&c.Change, &c.Title, &c.Ticket, &c.Author, &c.Actor, &c.State, &c.Reason, &c.Newest, &started, &ended,
		); err != nil {
			return c, err
		}
		var eerr error
		c.Started, err = parseTime(started)
		c.Ended, eerr = parseTime(ended)
		return c, errors.Join(err, eerr)
	})
}
