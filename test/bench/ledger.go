package main

import (
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"oakenlatch/core/ledger"
	"oakenlatch/core/search"
	"oakenlatch/service/access"
	"oakenlatch/service/api"
	"oakenlatch/service/audit"
	"oakenlatch/service/store"
	"oakenlatch/test/servicetest"
)

// What the ledger is measured on.
const entries = 1_000_000

// made is an entry as a busy service writes them.
func made(rnd *rand.Rand, i int) ledger.Entry {
	kinds := []string{
		"edit.put", "edit.load", "edit.drop", "commit.prepared", "commit.applied", "commit.confirmed", "config.changed",
		"config.added", "device.seen", "change.holding", "change.confirmed", "login", "revision.change",
		"startup.saved",
	}
	e := ledger.Entry{
		Actor: fmt.Sprintf("person%02d", rnd.IntN(40)), Action: kinds[rnd.IntN(len(kinds))],
		Device: fmt.Sprintf("device-%04d", rnd.IntN(2000)), Change: int64(1 + i/40),
		Ticket: fmt.Sprintf("TF-%d", i/400),
		Path:   fmt.Sprintf("/ietf-interfaces:interfaces/interface=port%d/description", rnd.IntN(48)),
		Before: words(rnd, 20), After: words(rnd, 24), Note: words(rnd, 30), Way: "console",
		Address: fmt.Sprintf("198.51.100.%d", rnd.IntN(256)), Session: "0123456789ab",
	}
	if rnd.IntN(200) == 0 {
		e.Outcome = ledger.Refused
	}
	return e
}

// ledger measures the record of who did what.
func (b *bench) ledger() error {
	dir := filepath.Join(b.dir, "ledger")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	s, err := store.Open(dir)
	if err != nil {
		return err
	}
	defer func() { _ = s.Close() }()
	now := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	var mu sync.Mutex
	step := 20 * time.Second
	log := audit.New(
		s, audit.Options{Now: func() time.Time { mu.Lock(); defer mu.Unlock(); now = now.Add(step); return now }},
	)
	plain, err := openPlain(filepath.Join(b.dir, "plain.db"))
	if err != nil {
		return err
	}
	defer func() { _ = plain.Close() }()
	if err := b.appending(s, log, plain); err != nil {
		return err
	}
	fmt.Printf("writing %d entries\n", entries)
	step = 30 * time.Minute // twice for two hundred of them: half a year and more
	if err := fill(log, plain); err != nil {
		return err
	}
	begun := time.Now()
	if err := s.IndexLedger(context.Background()); err != nil {
		return err
	}
	indexed := time.Now()
	if err := s.TidyWords(context.Background()); err != nil { // as is done every hour
		return err
	}
	fmt.Printf(
		"making them findable took %s, tidying that %s\n", indexed.Sub(begun).Round(time.Second),
		time.Since(indexed).Round(time.Second/10),
	)
	if err := b.finding(s, plain); err != nil {
		return err
	}
	if err := b.verifying(log, plain); err != nil {
		return err
	}
	if err := b.proving(s, log, plain); err != nil {
		return err
	}
	return b.exporting(dir, s, log, plain)
}

// proving measures a proof of one entry among all, read, made and checked. The yardstick reads as
// many rows by their number as a proof has hashes.
func (b *bench) proving(s *store.Store, log *audit.Log, plain *sql.DB) error {
	ctx := context.Background()
	if err := log.UseKey(ctx, ed25519.NewKeyFromSeed(make([]byte, ed25519.SeedSize))); err != nil {
		return err
	}
	begun := time.Now()
	signed, err := log.Checkpoint(ctx)
	if err != nil {
		return err
	}
	fmt.Printf("the tree of %d entries took %s\n", signed.Size, time.Since(begun).Round(time.Second/10))
	rnd := rand.New(rand.NewPCG(2026, 14))
	var errs []error
	const n = 400
	var took []time.Duration
	whole, bare := paired(2, func() {
		took = took[:0]
		for range n {
			start := time.Now()
			at := rnd.Int64N(signed.Size)
			list, err := s.Ledger(ctx, store.LedgerQuery{After: at, Before: at + 2})
			if err == nil {
				var text []byte
				if text, err = log.Prove(ctx, list[0], signed); err == nil {
					_, err = ledger.CheckProof(text)
				}
			}
			errs = append(errs, err)
			took = append(took, time.Since(start))
		}
	}, func() {
		for range n {
			for range 20 {
				var hash string
				errs = append(
					errs, plain.QueryRow("SELECT hash FROM plain WHERE seq = ?", 1+rnd.Int64N(entries)).Scan(&hash),
				)
			}
		}
	})
	b.figure("ledger-prove", whole/n, bare/n, 3)
	fmt.Printf("the slowest proof in a hundred took %s\n", percentile(took, 99).Round(time.Microsecond))
	return errors.Join(errs...)
}

// openPlain opens a database as SQLite gives it: one table, and an index.
func openPlain(file string) (*sql.DB, error) {
	db, err := sql.Open("sqlite", "file:"+file+"?_txlock=immediate&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)")
	if err != nil {
		return nil, err
	}
	_, err = db.Exec(`CREATE TABLE plain (seq INTEGER PRIMARY KEY, at TEXT, actor TEXT, action TEXT, device TEXT, change INTEGER, ticket TEXT, path TEXT, before TEXT, after TEXT, note TEXT, outcome TEXT, way TEXT, address TEXT, session TEXT, prev TEXT, hash TEXT) STRICT;
		CREATE INDEX plain_actor ON plain (actor, at)`)
	return db, err
}

const plainInsert = "INSERT INTO plain (at, actor, action, device, change, ticket, path, before, after, note, " +
	"outcome, way, address, session, prev, hash) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)"

func plainRow(e ledger.Entry) []any {
	const digest = "0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef"
	return []any{
		e.At.UTC().Format("2006-01-02T15:04:05.000Z"), e.Actor, e.Action, e.Device, e.Change, e.Ticket, e.Path,
		e.Before, e.After, e.Note, e.Outcome, e.Way, e.Address, e.Session, digest, digest,
	}
}

// appending measures one entry durably at a time, and many at once.
func (b *bench) appending(s *store.Store, log *audit.Log, plain *sql.DB) error {
	const n, rounds, crowd = 4096, 4, 256
	rnd := rand.New(rand.NewPCG(2026, 12))
	insert, err := plain.Prepare(plainInsert)
	if err != nil {
		return err
	}
	defer func() { _ = insert.Close() }()
	var errs []error
	one := func(e ledger.Entry) {
		if err := log.Write(context.Background(), func(tx *audit.Tx) error { return tx.Record(e) }); err != nil {
			errs = append(errs, err)
		}
	}
	batch := make([]ledger.Entry, n)
	for i := range batch {
		batch[i] = made(rnd, i)
	}
	took, bare := paired(rounds, func() {
		for _, e := range batch {
			one(e)
		}
	}, func() {
		for _, e := range batch {
			if _, err := insert.Exec(plainRow(e)...); err != nil {
				errs = append(errs, err)
			}
		}
	})
	b.figure("ledger-append", took/n, bare/n, 1/0.6)
	load := best(rounds, func() {
		var wg sync.WaitGroup
		var mu sync.Mutex
		for w := range crowd {
			wg.Go(func() {
				for i := w; i < n; i += crowd {
					if err := log.Write(
						context.Background(), func(tx *audit.Tx) error { return tx.Record(batch[i]) },
					); err != nil {
						mu.Lock()
						errs = append(errs, err)
						mu.Unlock()
					}
				}
			})
		}
		wg.Wait()
	})
	b.figure("ledger-append-together", load/n, bare/n, 1.0/3)
	return errors.Join(errs...)
}

// fill brings both up to as many entries as are to be measured.
func fill(log *audit.Log, plain *sql.DB) error {
	rnd := rand.New(rand.NewPCG(2026, 13))
	const together = 200 // that share a time
	for at := 0; at < entries; at += together {
		batch := make([]ledger.Entry, together)
		for i := range batch {
			batch[i] = made(rnd, at+i)
		}
		err := log.Write(context.Background(), func(tx *audit.Tx) error {
			for i := range batch {
				if err := tx.Record(batch[i]); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
		now := log.Now()
		tx, err := plain.Begin()
		if err != nil {
			return err
		}
		insert, err := tx.Prepare(plainInsert)
		if err != nil {
			return err
		}
		for _, e := range batch {
			e.At = now
			if _, err := insert.Exec(plainRow(e)...); err != nil {
				return err
			}
		}
		if err := tx.Commit(); err != nil {
			return err
		}
	}
	return nil
}

// finding measures the newest 50 that a line finds, whatever the line, against
// a query that an index answers by itself.
func (b *bench) finding(s *store.Store, plain *sql.DB) error {
	rnd := rand.New(rand.NewPCG(2026, 14))
	lines := []func() string{
		func() string { return fmt.Sprintf("who:person%02d", rnd.IntN(40)) },
		func() string { return fmt.Sprintf("device:device-%04d", rnd.IntN(2000)) },
		func() string { return fmt.Sprintf("path:/interfaces/interface=port%d", rnd.IntN(48)) },
		func() string { return fmt.Sprintf("change:%d", 1+rnd.IntN(entries/40)) },
		func() string { return "kind:edit outcome:refused" },
		func() string {
			month := 2 + rnd.IntN(5)
			return fmt.Sprintf(
				"who:person%02d kind:commit since:2026-0%d-01 until:2026-0%d-20", rnd.IntN(40), month, month+1,
			)
		},
		func() string { return words(rnd, 1) },
		func() string { return strings.Fields(words(rnd, 9))[0] + " who:person07" },
		func() string { return fmt.Sprintf("-who:person%02d since:30d", rnd.IntN(40)) },
	}
	ctx := context.Background()
	now := time.Date(2026, 8, 20, 0, 0, 0, 0, time.UTC)
	var took []time.Duration
	perLine := make([]time.Duration, len(lines))
	for i := range 450 {
		q, err := search.Parse(lines[i%len(lines)](), now)
		if err != nil {
			return err
		}
		start := time.Now()
		if _, err := s.Ledger(ctx, store.LedgerQuery{Query: q, Limit: 50}); err != nil {
			return err
		}
		d := time.Since(start)
		took = append(took, d)
		perLine[i%len(lines)] = max(perLine[i%len(lines)], d)
	}
	query, err := plain.Prepare("SELECT * FROM plain WHERE actor = ? AND at BETWEEN ? AND ? ORDER BY at DESC LIMIT 50")
	if err != nil {
		return err
	}
	defer func() { _ = query.Close() }()
	var bare []time.Duration
	cells := make([]any, 17)
	for i := range cells {
		cells[i] = new(any)
	}
	for range 450 {
		start := time.Now()
		rows, err := query.Query(
			fmt.Sprintf("person%02d", rnd.IntN(40)), "2026-02-01", fmt.Sprintf("2026-0%d-20", 3+rnd.IntN(5)),
		)
		if err != nil {
			return err
		}
		for rows.Next() {
			if err := rows.Scan(cells...); err != nil {
				return err
			}
		}
		if err := rows.Err(); err != nil {
			return err
		}
		bare = append(bare, time.Since(start))
	}
	fmt.Printf("slowest by kind of line: %v\n", perLine)
	b.figure("ledger-find-p99", percentile(took, 99), percentile(bare, 99), 5)
	return nil
}

func percentile(list []time.Duration, p int) time.Duration {
	slices.Sort(list)
	return list[min(len(list)*p/100, len(list)-1)]
}

// scan reads every row of the plain table, hashing it.
func scan(plain *sql.DB, use func([]any)) error {
	rows, err := plain.Query("SELECT * FROM plain ORDER BY seq")
	if err != nil {
		return err
	}
	defer func() { _ = rows.Close() }()
	cells := make([]any, 17)
	for i := range cells {
		cells[i] = new(sql.RawBytes)
	}
	for rows.Next() {
		if err := rows.Scan(cells...); err != nil {
			return err
		}
		use(cells)
	}
	return rows.Err()
}

func (b *bench) verifying(log *audit.Log, plain *sql.DB) error {
	var errs []error
	took, bare := paired(2, func() {
		v, err := log.Verify(context.Background(), nil)
		if err == nil && v.Wrong > 0 {
			err = fmt.Errorf("the bench's own ledger is found wrong: %v", v.Findings[0])
		}
		errs = append(errs, err)
	}, func() {
		var row []byte
		var sum [32]byte
		errs = append(errs, scan(plain, func(cells []any) {
			row = row[:0]
			for _, c := range cells {
				row = append(row, *c.(*sql.RawBytes)...)
				row = append(row, 0)
			}
			sum = sha256.Sum256(append(row, sum[:]...))
		}))
	})
	b.figure("ledger-verify", took, bare, 2)
	return errors.Join(errs...)
}

// sink counts what is written, and remembers the most memory that was in use.
type sink struct {
	discarded
	out   io.Writer
	every int
	most  uint64
}

func (s *sink) Write(p []byte) (int, error) {
	if s.every++; s.every%2000 == 0 {
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		s.most = max(s.most, m.HeapInuse)
	}
	return s.out.Write(p)
}

// exporting measures the CSV of everything, written to a file, against reading
// the same rows and writing them to a file with commas between.
func (b *bench) exporting(dir string, s *store.Store, log *audit.Log, plain *sql.DB) error {
	accounts, err := access.NewAccounts(s, log, access.Options{})
	if err != nil {
		return err
	}
	if err := accounts.Add(
		context.Background(), "bench", "bench", "the bench's own password", servicetest.Admin,
	); err != nil {
		return err
	}
	token, _, _, err := accounts.Login(
		context.Background(), "bench", "the bench's own password", "127.0.0.1", access.Site{},
	)
	if err != nil {
		return err
	}
	h := (&api.API{
		Store: s, Log: log, Accounts: accounts, Logger: slog.New(slog.DiscardHandler), Stopping: context.Background(),
	}).Handler()
	export := func(line string) (uint64, error) {
		f, err := os.Create(filepath.Join(dir, "export.csv"))
		if err != nil {
			return 0, err
		}
		defer func() { _ = f.Close() }()
		runtime.GC()
		req := httptest.NewRequest("GET", "/api/v1/audit/export?q="+line, nil)
		req.Header.Set("Authorization", "Bearer "+token)
		w := &sink{discarded: discarded{header: http.Header{}}, out: f}
		h.ServeHTTP(w, req)
		if w.status != 0 && w.status != http.StatusOK {
			return 0, fmt.Errorf("the export answers %d", w.status)
		}
		return w.most, f.Sync()
	}
	var errs []error
	var whole uint64
	took, bare := paired(2, func() {
		most, err := export("")
		whole = most
		errs = append(errs, err)
	}, func() {
		f, err := os.Create(filepath.Join(dir, "plain.csv"))
		if err != nil {
			errs = append(errs, err)
			return
		}
		defer func() { _ = f.Close() }()
		var row []byte
		errs = append(errs, scan(plain, func(cells []any) {
			for _, c := range cells {
				row = append(row, *c.(*sql.RawBytes)...)
				row = append(row, ',')
			}
			if row = append(row, '\n'); len(row) > 1<<16 {
				_, err := f.Write(row)
				if row = row[:0]; err != nil {
					errs = append(errs, err)
				}
			}
		}), f.Sync())
	})
	b.figure("ledger-csv", took, bare, 2)
	tenth, err := export("entry:1.." + fmt.Sprint(entries/10))
	if err != nil {
		return err
	}
	b.ratio("ledger-csv-memory", float64(whole)/float64(tenth), 1.5)
	return errors.Join(errs...)
}
