package store

import (
	"context"
	"errors"
	"strings"

	"oakenlatch/core/ledger"
)

// AppendLedger adds an entry behind the last one and gives it with its place.
func (tx *Tx) AppendLedger(e ledger.Entry) (ledger.Entry, error) {
	last, err := one(tx.row("SELECT "+ledgerColumns+" FROM ledger ORDER BY seq DESC LIMIT 1"), scanEntry)
	if err != nil && !errors.Is(err, ErrNotFound) {
		return e, err
	}
	e.Seq = last.Seq + 1
	e = ledger.Seal(e, last.Hash)
	_, err = tx.exec("INSERT INTO ledger ("+ledgerColumns+") VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
		e.Seq, timeText(e.At), e.Actor, e.Action, e.Device, e.Change, e.Path, e.Before, e.After, e.Note, e.Prev, e.Hash)
	return e, err
}

const ledgerColumns = "seq, at, actor, action, device, change, path, before, after, note, prev, hash"

func scanEntry(r scanner) (ledger.Entry, error) {
	var e ledger.Entry
	var at string
	err := r.Scan(&e.Seq, &at, &e.Actor, &e.Action, &e.Device, &e.Change, &e.Path, &e.Before, &e.After, &e.Note, &e.Prev, &e.Hash)
	if err == nil {
		e.At, err = parseTime(at)
	}
	return e, err
}

// LedgerQuery selects entries; zero fields select all.
type LedgerQuery struct {
	Device string
	Change int64
	Actor  string
	After  int64 // only entries with a greater seq
	Before int64 // only entries with a smaller seq
	Limit  int
	Oldest bool // oldest first, otherwise newest first

	// Drafts are private: with Reader set, what others staged is left out until
	// their change has been committed.
	Reader string
}

// Ledger lists entries.
func (s *Store) Ledger(ctx context.Context, q LedgerQuery) ([]ledger.Entry, error) {
	where := []string{"1"}
	var args []any
	add := func(cond string, v ...any) {
		where = append(where, cond)
		args = append(args, v...)
	}
	if q.Device != "" {
		add("device = ?", q.Device)
	}
	if q.Change != 0 {
		add("change = ?", q.Change)
	}
	if q.Actor != "" {
		add("actor = ?", q.Actor)
	}
	if q.After != 0 {
		add("seq > ?", q.After)
	}
	if q.Before != 0 {
		add("seq < ?", q.Before)
	}
	if q.Reader != "" {
		add(`(change = 0 OR action NOT GLOB 'edit.*' AND action NOT GLOB 'part.*' AND action NOT GLOB 'change.*' OR actor = ?
			OR change IN (SELECT number FROM changes WHERE state NOT IN ('draft', 'dropped') OR author = ?)
			OR change IN (SELECT change FROM company WHERE account = ?))`, q.Reader, q.Reader, q.Reader)
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
	rows, err := s.rows(ctx, "SELECT "+ledgerColumns+" FROM ledger WHERE "+strings.Join(where, " AND ")+" ORDER BY seq "+order+limit, args...)
	return many(rows, err, scanEntry)
}
