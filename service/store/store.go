// Package store keeps the records in SQLite. It is the only package that knows
// SQL.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"path/filepath"
	"sync"
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
	spare spare

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
	s := &Store{db: db}
	if s.packer, err = packing(); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	s.start()
	return s, nil
}

// Close closes the database.
func (s *Store) Close() error {
	s.stop()
	return s.db.Close()
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
	if st := tx.statement(text); st != nil {
		return st.Exec(args...)
	}
	return tx.tx.Exec(text, args...)
}

func (tx *Tx) row(text string, args ...any) *sql.Row {
	if st := tx.statement(text); st != nil {
		return st.QueryRow(args...)
	}
	return tx.tx.QueryRow(text, args...)
}

func (tx *Tx) rows(text string, args ...any) (*sql.Rows, error) {
	if st := tx.statement(text); st != nil {
		return st.Query(args...)
	}
	return tx.tx.Query(text, args...)
}

// scanner is a row of either kind.
type scanner interface{ Scan(...any) error }

func one[T any](row *sql.Row, scan func(scanner) (T, error)) (T, error) {
	v, err := scan(row)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNotFound
	}
	return v, err
}

func many[T any](rows *sql.Rows, err error, scan func(scanner) (T, error)) ([]T, error) {
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	var out []T
	for rows.Next() {
		v, err := scan(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, rows.Err()
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
