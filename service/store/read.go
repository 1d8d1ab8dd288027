package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"
)

// scanner is a row of either kind.
type scanner interface{ Scan(...any) error }

// question is what is asked of the records: a query that was not run yet.
type question struct {
	s    *Store
	tx   *Tx // where a transaction asks
	ctx  context.Context
	text string
	args []any
	keep bool // its answer is remembered
}

func (s *Store) ask(ctx context.Context, text string, args ...any) question {
	return question{s: s, ctx: ctx, text: text, args: args, keep: true}
}

func (tx *Tx) ask(text string, args ...any) question {
	return question{s: tx.s, tx: tx, text: text, args: args}
}

// Asked is how many questions the records were asked since they were opened.
func (s *Store) Asked() int64 { return s.asked.Load() }

// unremembered is the same question where its answers are large.
func (q question) unremembered() question {
	q.keep = false
	return q
}

// one gives the row that is asked for; ErrNotFound where there is none.
func one[T any](q question, scan func(scanner) (T, error)) (T, error) {
	return answer(q, func() (T, error) {
		var row *sql.Row
		if q.tx != nil {
			row = q.tx.row(q.text, q.args...)
		} else {
			row = q.s.row(q.ctx, q.text, q.args...)
		}
		v, err := scan(row)
		if errors.Is(err, sql.ErrNoRows) {
			err = ErrNotFound
		}
		return v, err
	}, func(v T) T { return v }, func(T) int { return 1 })
}

// many gives all rows that are asked for.
func many[T any](q question, scan func(scanner) (T, error)) ([]T, error) {
	return answer(q, func() ([]T, error) {
		var rows *sql.Rows
		var err error
		if q.tx != nil {
			rows, err = q.tx.rows(q.text, q.args...)
		} else {
			rows, err = q.s.rows(q.ctx, q.text, q.args...)
		}
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
	}, slices.Clone[[]T], func(list []T) int { return 1 + len(list) })
}

// graceToRead is how long a read may take once the disk is known to be late: most need none.
const graceToRead = time.Second

// answer reads, and remembers what came of it: where the disk cannot be read any more,
// or does not answer, what was read last is given. Who has to decide about a hold gets in
// by that, sees it, and the devices can be reached. [Store.Check] says that it is so.
func answer[T any](q question, read func() (T, error), own func(T) T, weight func(T) int) (T, error) {
	q.s.asked.Add(1)
	if q.tx != nil {
		return read()
	}
	type result struct {
		v   T
		err error
	}
	since := q.s.memory.since()
	done := make(chan result, 1)
	go func() {
		v, err := read()
		done <- result{v, err}
	}()
	var r result
	select {
	case r = <-done:
	case <-q.s.Late(): // the disk may not be needed for it
		var last any
		var known bool
		if q.keep {
			last, known = q.s.memory.get(q.key())
		}
		grace, hung := time.After(graceToRead), q.s.Hung()
		if !known {
			grace = nil
		}
		select {
		case r = <-done:
		case <-grace:
			q.s.health.unread(ErrSlow)
			return own(last.(T)), nil
		case <-hung:
			select {
			case r = <-done:
			case <-time.After(graceToRead):
				r.err = ErrSlow
			}
		}
	}
	if r.err == nil {
		if q.keep {
			q.s.memory.put(q.key(), own(r.v), weight(r.v), since)
		}
		return r.v, nil
	}
	err := explain(r.err)
	if !Sick(err) {
		return r.v, r.err
	}
	// What is damaged is said to be: only where the disk itself fails is something else given.
	if err = q.s.ill(err); !errors.Is(err, ErrSick) && !errors.Is(err, ErrSlow) {
		return r.v, err
	}
	q.s.health.unread(err)
	if v, ok := q.s.memory.get(q.key()); ok && q.keep {
		return own(v.(T)), nil
	}
	return r.v, err
}

func (q question) key() string { return q.text + fmt.Sprintf(" %q", q.args) }

// memory is what was read last, by question. It is for a disk that cannot be read any
// more, and for nothing else.
type memory struct {
	mu      sync.Mutex
	known   map[string]remembered
	rows    int           // in all
	changed int64         // how often what it holds was forgotten
	wake    chan struct{} // closed when that happens next
}

type remembered struct {
	answer any
	rows   int
}

// What bounds it: questions, and rows of their answers.
const (
	mostKnown     = 4096
	mostKnownRows = 100_000
)

// since is what put is to be told, from before the reading.
func (m *memory) since() int64 {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.changed
}

func (m *memory) put(key string, v any, rows int, since int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if since != m.changed || rows > mostKnownRows/2 {
		return // it may be of before what made all be forgotten
	}
	if m.known == nil {
		m.known = map[string]remembered{}
	}
	m.rows += rows - m.known[key].rows
	m.known[key] = remembered{v, rows}
	for old, r := range m.known { // any: Go begins somewhere else each time
		if len(m.known) <= mostKnown && m.rows <= mostKnownRows {
			break
		}
		if old != key {
			delete(m.known, old)
			m.rows -= r.rows
		}
	}
}

func (m *memory) get(key string) (any, bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	r, ok := m.known[key]
	return r.answer, ok
}

// forget forgets all: somebody may do less than before, or nothing any more.
func (m *memory) forget() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.known, m.rows = nil, 0
	m.changed++
	if m.wake != nil {
		close(m.wake)
		m.wake = nil
	}
}

// Fewer gives a channel that is closed when somebody may do less than before, or nothing any
// more: a session or token has ended, an account was closed or may do other things.
func (s *Store) Fewer() <-chan struct{} {
	s.memory.mu.Lock()
	defer s.memory.mu.Unlock()
	if s.memory.wake == nil {
		s.memory.wake = make(chan struct{})
	}
	return s.memory.wake
}
