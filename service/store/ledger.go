package store

import (
	"context"
	"encoding/json"
	"errors"
	"iter"
	"log/slog"
	"slices"
	"strings"
	"time"

	"oakenlatch/core/ledger"
	"oakenlatch/core/search"
)

// ledgerEnd is the ledger's last entry, as a transaction knows it; of number 0
// it is to be looked up.
type ledgerEnd struct {
	seq  int64
	at   time.Time
	hash string
}

// lastEntry gives the ledger's last entry.
func (tx *Tx) lastEntry() (ledgerEnd, error) {
	if tx.end.seq > 0 {
		return tx.end, nil
	}
	last, err := one(tx.ask(
		"SELECT seq, at, hash FROM ledger ORDER BY seq DESC LIMIT 1",
	), func(r scanner) (l ledgerEnd, err error) {
		var at string
		if err = r.Scan(&l.seq, &at, &l.hash); err == nil {
			l.at, err = parseTime(at)
		}
		return l, err
	})
	if errors.Is(err, ErrNotFound) {
		err = nil
	}
	return last, err
}

// AppendLedger adds an entry behind the last one and gives it with its place.
// Where the clock was set back since then, that is kept too.
func (tx *Tx) AppendLedger(e ledger.Entry) (ledger.Entry, error) {
	last, err := tx.lastEntry()
	if err != nil {
		return e, err
	}
	e.Seq = last.seq + 1
	e = ledger.Seal(e, last.hash)
	if e.At.Before(last.at) {
		if _, err = tx.exec("INSERT INTO ledger_back (seq) VALUES (?)", e.Seq); err != nil {
			return e, err
		}
	}
	_, err = tx.exec(
		"INSERT INTO ledger ("+ledgerColumns+") VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", e.Seq,
		timeText(e.At), e.Actor, e.Action, e.Device, e.Change, e.Ticket, e.Path, e.Before, e.After, e.Note, e.Outcome,
		e.Way, e.Address, e.Session, e.Prev, e.Hash,
	)
	if err == nil {
		tx.end = ledgerEnd{e.Seq, e.At, e.Hash}
	}
	return e, err
}

const ledgerColumns = "seq, at, actor, action, device, change, ticket, path, before, after, note, outcome, way, " +
	"address, session, prev, hash"

func scanEntry(r scanner) (ledger.Entry, error) {
	var e ledger.Entry
	var at string
	err := r.Scan(
		&e.Seq, &at, &e.Actor, &e.Action, &e.Device, &e.Change, &e.Ticket, &e.Path, &e.Before, &e.After, &e.Note,
		&e.Outcome, &e.Way, &e.Address, &e.Session, &e.Prev, &e.Hash,
	)
	if err == nil {
		e.At, err = parseTime(at)
	}
	return e, err
}

// Ticket gives the ticket of a change as it is now; "" where there is none.
func (tx *Tx) Ticket(change int64) (string, error) {
	t, err := one(
		tx.ask("SELECT ticket FROM changes WHERE number = ?", change),
		func(r scanner) (t string, err error) { err = r.Scan(&t); return t, err },
	)
	if errors.Is(err, ErrNotFound) {
		err = nil
	}
	return t, err
}

// LedgerQuery selects entries; zero fields select all.
type LedgerQuery struct {
	search.Query
	After  int64 // only entries with a greater seq
	Before int64 // only entries with a smaller seq
	Limit  int
	Oldest bool // oldest first, otherwise newest first

	// Drafts are private: with Reader set, what others staged is left out until
	// their change has been committed.
	Reader string

	// Devices, where it is not nil, leaves out what is about others, or about none
	// and done by somebody else than Self.
	Devices []string
	Self    string
}

// Ledger lists entries.
func (s *Store) Ledger(ctx context.Context, q LedgerQuery) ([]ledger.Entry, error) {
	from, where, args := "ledger l", []string{"1"}, []any{}
	add := func(cond string, v ...any) {
		where = append(where, cond)
		args = append(args, v...)
	}
	seq := "l.seq"
	if len(q.Terms) > 0 {
		if err := s.IndexLedger(ctx); errors.Is(err, ErrFull) {
			slog.Error("what was entered last cannot be searched: there is no room for its words", "error", err)
		} else if err != nil {
			return nil, err
		}
		match, bounds, err := s.match(ctx, q.Terms)
		if err != nil {
			return nil, err
		}
		if match != "" {
			// The cross join keeps the order: words first, then the entries they name.
			from, seq = "ledger_words w CROSS JOIN ledger l ON l.seq = w.rowid", "w.rowid"
			add("ledger_words MATCH ?", match)
		}
		for _, b := range bounds {
			b.add(seq, add)
		}
	}
	if !q.Since.IsZero() || !q.Until.IsZero() {
		first, last, err := s.between(ctx, q.Since, q.Until)
		if err != nil {
			return nil, err
		}
		if first > last {
			return nil, nil
		}
		add(seq+" BETWEEN ? AND ?", first, last)
		if !q.Since.IsZero() {
			add("l.at >= ?", timeText(q.Since))
		}
		if !q.Until.IsZero() {
			add("l.at <= ?", timeText(q.Until))
		}
	}
	if q.After != 0 {
		add(seq+" > ?", q.After)
	}
	if q.Before != 0 {
		add(seq+" < ?", q.Before)
	}
	if q.Reader != "" {
		add("(l.action <> 'request.refused' OR l.actor = ?)", q.Reader)
		add(`(l.change = 0 OR l.action NOT GLOB 'edit.*' AND l.action NOT GLOB 'part.*' AND l.action NOT GLOB 'change.*' OR l.actor = ?
			OR l.change IN (SELECT number FROM changes WHERE state NOT IN ('draft', 'dropped') OR author = ?)
			OR l.change IN (SELECT change FROM coworkers WHERE account = ?))`, q.Reader, q.Reader, q.Reader)
	}
	if q.Devices != nil {
		names, err := json.Marshal(q.Devices)
		if err != nil {
			return nil, err
		}
		add("(l.device IN (SELECT value FROM json_each(?)) OR l.device = '' AND l.actor = ?)", string(names), q.Self)
	}
	order := "DESC"
	if q.Oldest {
		order = "ASC"
	}
	limit := ""
	if q.Limit > 0 {
		limit = " LIMIT ?"
		args = append(args, q.Limit)
	}
	return many(
		s.ask(
			ctx,
			"SELECT l."+strings.ReplaceAll(
				ledgerColumns, ", ", ", l.",
			)+" FROM "+from+" WHERE "+strings.Join(where, " AND ")+" ORDER BY "+seq+" "+order+limit,
			args...,
		).unremembered(),
		scanEntry,
	)
}

// ledgerPage is how many entries are in memory at a time where many are read.
const ledgerPage = 2000

// EachEntry gives entries one by one, however many there are. It ends early
// with an error, given as the second value.
func (s *Store) EachEntry(ctx context.Context, q LedgerQuery) iter.Seq2[ledger.Entry, error] {
	return func(yield func(ledger.Entry, error) bool) {
		left := q.Limit
		for {
			page := q
			page.Limit = ledgerPage
			if q.Limit > 0 {
				page.Limit = min(page.Limit, left)
			}
			list, err := s.Ledger(ctx, page)
			if err != nil {
				yield(ledger.Entry{}, err)
				return
			}
			for _, e := range list {
				if !yield(e, nil) {
					return
				}
			}
			left -= len(list)
			if len(list) < page.Limit || q.Limit > 0 && left == 0 {
				return
			}
			if last := list[len(list)-1].Seq; q.Oldest {
				q.After = last
			} else {
				q.Before = last
			}
		}
	}
}

// LedgerLength is the number of the newest entry.
func (s *Store) LedgerLength(ctx context.Context) (int64, error) {
	return one(
		s.ask(ctx, "SELECT coalesce(max(seq), 0) FROM ledger"),
		func(r scanner) (n int64, err error) { err = r.Scan(&n); return n, err },
	)
}

// between gives the entries between which those of a time are. Times grow from
// one entry to the next but where the clock was set back: between two such places
// they are found by halving.
func (s *Store) between(ctx context.Context, since, until time.Time) (first, last int64, err error) {
	starts, err := many(
		s.ask(ctx, "SELECT seq FROM ledger_back ORDER BY seq"),
		func(r scanner) (n int64, err error) { err = r.Scan(&n); return n, err },
	)
	if err != nil {
		return 0, 0, err
	}
	ends, err := one(
		s.ask(ctx, "SELECT coalesce((SELECT min(seq) FROM ledger), 1), coalesce((SELECT max(seq) FROM ledger), 0)"),
		func(r scanner) (e [2]int64, err error) { err = r.Scan(&e[0], &e[1]); return e, err },
	)
	if err != nil {
		return 0, 0, err
	}
	starts = slices.Insert(starts, 0, ends[0])
	first, last = ends[1]+1, ends[0]-1
	for i, from := range starts {
		to := ends[1]
		if i+1 < len(starts) {
			to = starts[i+1] - 1
		}
		low, high := from, to
		if !since.IsZero() {
			if low, err = s.firstAt(ctx, from, to, timeText(since), true); err != nil {
				return 0, 0, err
			}
		}
		if !until.IsZero() {
			if high, err = s.firstAt(ctx, from, to, timeText(until), false); err != nil {
				return 0, 0, err
			}
			high--
		}
		if low <= high {
			first, last = min(first, low), max(last, high)
		}
	}
	return first, last, nil
}

// firstAt gives the first entry of from to to that is at a time or later, or
// only later; to+1 where there is none.
func (s *Store) firstAt(ctx context.Context, from, to int64, at string, same bool) (int64, error) {
	low, high := from, to+1
	for low < high {
		mid := low + (high-low)/2
		// One that is missing, which it never is unless somebody took it out, is
		// as the next one.
		is, err := one(
			s.ask(ctx, "SELECT at FROM ledger WHERE seq >= ? ORDER BY seq LIMIT 1", mid),
			func(r scanner) (t string, err error) { err = r.Scan(&t); return t, err },
		)
		if err != nil {
			return 0, err
		}
		if is > at || same && is == at {
			high = mid
		} else {
			low = mid + 1
		}
	}
	return low, nil
}

// Checkpoints gives the checkpoints that releases before the tree signed, oldest first.
func (s *Store) Checkpoints(ctx context.Context) ([]string, error) {
	return many(
		s.ask(ctx, "SELECT body FROM checkpoints ORDER BY seq"),
		func(r scanner) (t string, err error) { err = r.Scan(&t); return t, err },
	)
}
