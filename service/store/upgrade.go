package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/pressly/goose/v3"
)

// ErrDamaged is given where the database cannot be read as one, ErrFull where the
// disk has no room for what was to be kept, and ErrLocked where something else has
// the database for itself.
var (
	ErrDamaged = errors.New(
		"the database is damaged: stop the service, do not delete the file, and restore the newest backup " +
			"into another folder " +
			"(oaken-latchd restore FILE --data DIR; docs/runbook.md)",
	)
	ErrFull   = errors.New("the disk of the records is full: nothing of this was stored; make room and try again")
	ErrLocked = errors.New(
		"something else has the database open: another oaken-latchd, or whatever reads or copies it; end that (only " +
			"oaken-latchd backup and doctor may read beside the service)",
	)
)

// explain says of an error of the database what it means.
func explain(err error) error {
	if err == nil {
		return nil
	}
	if Sick(err) {
		return err // it is told already
	}
	for part, is := range map[string]error{
		"malformed": ErrDamaged, "file is not a database": ErrDamaged, "disk is full": ErrFull,
		"no space left": ErrFull, "database is locked": ErrLocked, "disk I/O error": ErrSick,
		"readonly database": ErrSick, "unable to open database": ErrSick, "input/output error": ErrSick,
		"read-only file system": ErrSick,
	} {
		if strings.Contains(err.Error(), part) {
			return fmt.Errorf("%w (%w)", is, err)
		}
	}
	return err
}

func explained(file string, err error) error {
	return fmt.Errorf("database %s: %w", file, explain(err))
}

// keptOpen is how many connections wait to be used again: one that is opened anew
// reads the schema and prepares its statements anew.
const keptOpen = 16

// connect opens a database file. Every transaction is on disk when it returns. The file is
// this process's alone ("unix-excl"): its index of what is written stands in memory, for one that is
// mapped from the disk has the whole process wait with the disk. See [CopyTo] for who else wants to read.
func connect(file string) (*sql.DB, error) {
	// As a URI, in which a folder's # or ? would mean something else.
	name := url.URL{Scheme: "file", Path: file}
	db, err := sql.Open(
		"sqlite",
		name.String()+"?_txlock=immediate&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=foreign_keys(1)&_pragma=busy_timeout(15000)&vfs=unix-excl",
	)
	if err == nil {
		db.SetMaxIdleConns(keptOpen)
	}
	return db, err
}

func provider(db *sql.DB) (*goose.Provider, error) {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	return goose.NewProvider(goose.DialectSQLite3, db, sub)
}

func migrate(db *sql.DB) error {
	p, err := provider(db)
	if err == nil {
		_, err = p.Up(context.Background())
	}
	return err
}

// releases tells which release the records are of, 0 where they were broken off when they
// were made and nothing is in them, and which this program is of.
func releases(ctx context.Context, db *sql.DB) (has, newest int64, err error) {
	p, err := provider(db)
	if err != nil {
		return 0, 0, err
	}
	list := p.ListSources()
	newest = list[len(list)-1].Version
	err = db.QueryRowContext(
		ctx, "SELECT coalesce(max(version_id), 0) FROM goose_db_version WHERE is_applied",
	).Scan(&has)
	if err != nil && strings.Contains(err.Error(), "no such table") {
		err = nil
	}
	return has, newest, err
}

// upgrade brings the records of an older release up to date: on a copy, which is
// looked at, and then takes their place. What was there before stays beside it. Where
// it is broken off, the records are as they were, or as they are to be.
func upgrade(file string) error {
	if _, err := os.Stat(file); errors.Is(err, os.ErrNotExist) {
		return nil
	}
	ctx := context.Background()
	db, err := connect(file)
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	has, newest, err := releases(ctx, db)
	if err != nil {
		return err
	}
	if has > newest {
		return fmt.Errorf("the records are of a newer release (%d) than this program (%d): start that one", has, newest)
	}
	if has == newest || has == 0 {
		return nil
	}
	next := file + ".upgrade"
	if err := remove(next); err != nil {
		return err
	}
	if _, err := db.ExecContext(ctx, "VACUUM INTO ?", next); err != nil {
		return fmt.Errorf("copying the records to upgrade them: %w", err)
	}
	if err := upgraded(ctx, next); err != nil {
		return errors.Join(
			fmt.Errorf(
				"the copy of the records could not be brought up to date, and they were left as they are: %w", err,
			),
			remove(next),
		)
	}
	// Nothing of the old file is left in its journal: a journal belongs to what has
	// its file's name.
	if _, err := db.ExecContext(ctx, "PRAGMA wal_checkpoint(TRUNCATE)"); err != nil {
		return err
	}
	if err := db.Close(); err != nil {
		return err
	}
	keep := fmt.Sprintf("%s.release-%d", file, has)
	if err := remove(keep); err != nil {
		return err
	}
	if err := os.Link(file, keep); err != nil {
		return err
	}
	if err := os.Rename(next, file); err != nil {
		return err
	}
	dir, err := os.Open(filepath.Dir(file))
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}

// upgraded brings a copy up to date and looks at it.
func upgraded(ctx context.Context, file string) error {
	db, err := connect(file)
	if err != nil {
		return err
	}
	err = migrate(db)
	if err == nil {
		err = (&Store{db: db}).Sound(ctx)
	}
	if err == nil {
		_, err = db.ExecContext(ctx, "PRAGMA wal_checkpoint(TRUNCATE)")
	}
	return errors.Join(err, db.Close())
}

func remove(file string) error {
	for _, name := range []string{file, file + "-wal", file + "-shm"} {
		if err := os.Remove(name); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	return nil
}
