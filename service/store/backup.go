package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"oakenlatch/core/ledger"
	"oakenlatch/core/lifecycle"
)

// File is the name of the database in its folder.
const File = "oaken-latch.db"

// CopyTo writes a copy of a folder's database as it is, where no service uses it;
// ErrLocked where one does, which then has to copy it itself ([Store.CopyInto]).
func CopyTo(ctx context.Context, dir, file string) error {
	from, err := filepath.Abs(filepath.Join(dir, File))
	if err == nil {
		_, err = os.Stat(from)
	}
	if err != nil {
		return err
	}
	name := url.URL{Scheme: "file", Path: from}
	db, err := sql.Open("sqlite", name.String()+"?mode=rw&_pragma=busy_timeout(1000)&vfs=unix-excl")
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	return copyInto(ctx, db, from, file)
}

// CopyInto writes a copy of the records as they are at one moment into a file that is not
// there yet, also where their own folder is gone.
func (s *Store) CopyInto(ctx context.Context, file string) error {
	return copyInto(ctx, s.db, File, file)
}

func copyInto(ctx context.Context, db *sql.DB, from, to string) error {
	if _, err := db.ExecContext(ctx, "VACUUM INTO ?", to); err != nil {
		return fmt.Errorf("copying %s: %w", from, explain(err))
	}
	return nil
}

// Sound checks that the database as a file is whole, and that every record
// refers to one there is.
func (s *Store) Sound(ctx context.Context) error {
	var said string
	if err := s.row(ctx, "PRAGMA integrity_check(1)").Scan(&said); err != nil {
		return err
	}
	if said != "ok" {
		return errors.New("the database is damaged: " + said)
	}
	rows, err := s.db.QueryContext(ctx, "PRAGMA foreign_key_check")
	if err != nil {
		return err
	}
	defer func() { _ = rows.Close() }()
	if rows.Next() {
		return errors.New("the database is damaged: a record refers to one that is not there")
	}
	return rows.Err()
}

// Release is the number of the newest migration.
func (s *Store) Release(ctx context.Context) (n int64, err error) {
	err = s.row(ctx, "SELECT max(version_id) FROM goose_db_version WHERE is_applied").Scan(&n)
	return n, err
}

// Settle ends what was under way in a database that was taken out of a backup:
// how a commit ended is not known, and what was on the schedule may have been
// taken off since.
func (s *Store) Settle(ctx context.Context, at time.Time, record func(tx *Tx, e ledger.Entry) error) error {
	open, err := s.OpenCommits(ctx)
	if err != nil {
		return err
	}
	waiting, err := s.Waiting(ctx)
	if err != nil {
		return err
	}
	const restored = "the service was restored from a backup that was taken while this was under way: how it ended " +
		"is told by its devices, not by this record"
	return s.Write(ctx, func(tx *Tx) error {
		for _, c := range open {
			// It ends in the records, so that nothing is done to its devices by itself; what they hold is
			// for a person to see, and to settle.
			if _, err := tx.exec("UPDATE commits SET ended_at = ? WHERE id = ?", timeText(at), c.ID); err != nil {
				return err
			}
			if err := tx.SetState(
				c.Change, lifecycle.Unsettled,
				restored+"; look at them and settle the change", at,
			); err != nil {
				return err
			}
			if err := record(tx, ledger.Entry{Action: "commit.unknown", Change: c.Change, Note: restored}); err != nil {
				return err
			}
		}
		for _, v := range waiting {
			note := "the service was restored from a backup: put it there again if it is still meant"
			if err := tx.EndScheduled(v.ID, lifecycle.Stopped, note, at); err != nil {
				return err
			}
			if v.Kind == lifecycle.ScheduledCommit {
				if err := tx.SetState(v.Change, lifecycle.Draft, "", at); err != nil {
					return err
				}
			}
			if err := record(tx, ledger.Entry{Action: "schedule.stopped", Change: v.Change, Note: note}); err != nil {
				return err
			}
		}
		return record(
			tx,
			ledger.Entry{
				Action: "service.restored",
				Note:   fmt.Sprintf("%d commits were under way, %d things on the schedule", len(open), len(waiting)),
			},
		)
	})
}
