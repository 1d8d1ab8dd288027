// Package store keeps the records in SQLite. It is the only package that knows
// SQL.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"github.com/klauspost/compress/zstd"
	_ "modernc.org/sqlite" // the driver "sqlite"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound is given where a record is not there.
var ErrNotFound = errors.New("not found")

// ErrExists is given where a record of that name is there already.
var ErrExists = errors.New("exists already")

// Store is the database. Its methods may be used from many goroutines.
type Store struct {
	db *sql.DB
	*packer
	writer
	health health
	memory memory
	frozen error  // why it can be read alone; nil where it can be written
	copied string // the folder that a copy was made in to read it at all

	asked atomic.Int64 // questions since it was opened

	statements sync.Map // text -> *sql.Stmt: making one out of its text takes longer than running it
}

// Open opens the database in a folder, making and migrating it as needed.
// Every transaction is on disk when it returns.
func Open(dir string) (*Store, error) {
	file, err := filepath.Abs(filepath.Join(dir, File))
	if err != nil {
		return nil, err
	}
	if err := upgrade(file); err != nil {
		return nil, explained(file, err)
	}
	db, err := connect(file)
	if err != nil {
		return nil, err
	}
	if err := migrate(db); err != nil {
		return nil, errors.Join(explained(file, err), db.Close())
	}
	// what an earlier release or somebody else made may be open to others
	for _, name := range []string{file, file + "-wal"} {
		if err := os.Chmod(name, 0o600); err != nil && !errors.Is(err, os.ErrNotExist) {
			return nil, errors.Join(err, db.Close())
		}
	}
	return ready(&Store{db: db})
}

// OpenFrozen opens the database of a folder that cannot be written, by a copy of it:
// what is under way is taken up from it, and nothing is put on record.
func OpenFrozen(dir string, why error) (*Store, error) {
	copied, err := copyOut(dir)
	if err != nil {
		return nil, explained(filepath.Join(dir, File), errors.Join(why, err))
	}
	db, err := connect(filepath.Join(copied, File))
	if err == nil {
		var has, newest int64
		if has, newest, err = releases(context.Background(), db); err == nil && has != newest {
			err = fmt.Errorf(
				"the records are of another release (%d) than this program (%d), and cannot be brought to it", has,
				newest,
			)
		}
		if err != nil {
			err = errors.Join(explained(filepath.Join(dir, File), err), db.Close())
		}
	}
	if err != nil {
		return nil, errors.Join(err, os.RemoveAll(copied))
	}
	return ready(&Store{db: db, copied: copied, frozen: explainedOnce(why)})
}

// explainedOnce is an error of the disk, told once.
func explainedOnce(why error) error {
	if errors.Is(why, ErrSick) {
		return why
	}
	return fmt.Errorf("%w (%w)", ErrSick, why)
}

func ready(s *Store) (*Store, error) {
	var err error
	if s.packer, err = packing(); err != nil {
		return nil, errors.Join(err, s.db.Close())
	}
	s.start()
	return s, nil
}

// copyOut copies a folder's database to where there is room for it, as it is: the folder
// cannot be written, so that nobody changes it meanwhile.
func copyOut(dir string) (string, error) {
	var errs []error
	for _, place := range []string{os.TempDir(), "/dev/shm"} {
		to, err := os.MkdirTemp(place, "oaken-latch-frozen-")
		if err != nil {
			errs = append(errs, err)
			continue
		}
		for _, name := range []string{File, File + "-wal"} {
			if cerr := copyFile(
				filepath.Join(dir, name), filepath.Join(to, name),
			); name == File || !errors.Is(cerr, os.ErrNotExist) {
				err = errors.Join(err, cerr)
			}
		}
		if err == nil {
			return to, nil
		}
		errs = append(errs, err, os.RemoveAll(to))
	}
	return "", errors.Join(errs...)
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer func() { _ = in.Close() }()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

// Close closes the database.
func (s *Store) Close() error {
	s.stop()
	select {
	case <-s.Hung():
		return ErrSlow // closing waits for the disk, too
	default:
	}
	err := s.db.Close()
	if s.copied != "" {
		err = errors.Join(err, os.RemoveAll(s.copied))
	}
	return err
}

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error {
	_, err := s.db.ExecContext(ctx, "SELECT 1")
	return err
}

// statement gives a prepared statement, nil where its text cannot be prepared;
// what runs the text itself then tells why.
func (s *Store) statement(text string) *sql.Stmt {
	if have, ok := s.statements.Load(text); ok {
		return have.(*sql.Stmt)
	}
	made, err := s.db.Prepare(text)
	if err != nil {
		return nil
	}
	if have, there := s.statements.LoadOrStore(text, made); there {
		_ = made.Close()
		return have.(*sql.Stmt)
	}
	return made
}

func (s *Store) rows(ctx context.Context, text string, args ...any) (*sql.Rows, error) {
	if st := s.statement(text); st != nil {
		return st.QueryContext(ctx, args...)
	}
	return s.db.QueryContext(ctx, text, args...)
}

func (s *Store) row(ctx context.Context, text string, args ...any) *sql.Row {
	if st := s.statement(text); st != nil {
		return st.QueryRowContext(ctx, args...)
	}
	return s.db.QueryRowContext(ctx, text, args...)
}

// statement gives a prepared statement as the transaction runs it, nil where its
// text cannot be prepared.
func (tx *Tx) statement(text string) *sql.Stmt {
	if have := tx.statements[text]; have != nil {
		return have
	}
	st := tx.s.statement(text)
	if st != nil {
		st = tx.tx.Stmt(st)
		tx.statements[text] = st
	}
	return st
}

func (tx *Tx) exec(text string, args ...any) (sql.Result, error) {
	defer tx.s.moves.Add(1)
	if st := tx.statement(text); st != nil {
		return st.Exec(args...)
	}
	return tx.tx.Exec(text, args...)
}

func (tx *Tx) row(text string, args ...any) *sql.Row {
	defer tx.s.moves.Add(1)
	if st := tx.statement(text); st != nil {
		return st.QueryRow(args...)
	}
	return tx.tx.QueryRow(text, args...)
}

func (tx *Tx) rows(text string, args ...any) (*sql.Rows, error) {
	defer tx.s.moves.Add(1)
	if st := tx.statement(text); st != nil {
		return st.Query(args...)
	}
	return tx.tx.Query(text, args...)
}

// stamp is how times are kept: UTC, with milliseconds, sortable.
const stamp = "2006-01-02T15:04:05.000Z"

func timeText(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(stamp)
}

func parseTime(s string) (time.Time, error) {
	if s == "" {
		return time.Time{}, nil
	}
	return time.Parse(stamp, s)
}

// packer packs what is kept. One is enough for a process: its tables are some 45 MB.
type packer struct {
	enc   *zstd.Encoder
	tight *zstd.Encoder // slower and smaller: for what is kept for good
	dec   *zstd.Decoder
}

var packing = sync.OnceValues(func() (*packer, error) {
	enc, err := zstd.NewWriter(nil)
	if err != nil {
		return nil, err
	}
	// There is one writer: another encoder beside it would only take memory.
	tight, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedBestCompression), zstd.WithEncoderConcurrency(1))
	if err != nil {
		return nil, err
	}
	dec, err := zstd.NewReader(nil, zstd.WithDecoderMaxMemory(1<<30))
	return &packer{enc, tight, dec}, err
})

func (p *packer) compress(b []byte) []byte { return p.enc.EncodeAll(b, nil) }

func (p *packer) dense(b []byte) []byte { return p.tight.EncodeAll(b, nil) }

func (p *packer) expand(b []byte) ([]byte, error) { return p.dec.DecodeAll(b, nil) }

// affected turns a write that touched no row into ErrNotFound.
func affected(res sql.Result, err error) error {
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return errors.Join(ErrNotFound, err)
	}
	return nil
}
