package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
)

// Tx is a transaction. All writing is done in one.
type Tx struct {
	tx *sql.Tx
	s  *Store
	*shared
}

// shared is what all pieces of work of a transaction have in common.
type shared struct {
	end        ledgerEnd
	forgets    bool                 // what was read last is not to be given any more
	statements map[string]*sql.Stmt // by text, as this transaction runs them
}

// writer does the writing of all in one place. What waits while a transaction
// is on its way to the disk goes into the next one together: each piece of work
// keeps all or nothing of its own, and the disk is waited for once.
type writer struct {
	work chan piece
	quit chan struct{}
	once sync.Once
	done sync.WaitGroup

	moves atomic.Int64 // how often something got on
}

// piece is a piece of work: its author does it when it is its turn.
type piece struct {
	turn   chan *Tx
	result chan error // of the work
	done   chan error // of the transaction it was part of
}

// together is how many pieces of work one transaction holds at most.
const together = 256

var errClosed = errors.New("the database is closed")

func (s *Store) start() {
	s.work, s.quit = make(chan piece), make(chan struct{})
	s.done.Go(func() {
		for {
			select {
			case p := <-s.work:
				s.transact(p)
			case <-s.quit:
				return
			}
		}
	})
}

func (s *Store) stop() {
	s.once.Do(func() { close(s.quit) })
	done := make(chan struct{})
	go func() {
		defer close(done)
		s.done.Wait()
	}()
	select {
	case <-done:
	case <-s.Hung():
	}
}

// Write runs f in a transaction: all of it is kept and on disk when Write
// returns nil, or nothing is; where the disk does not answer it returns ErrSlow, and which of the
// two it is shows later. Whether whoever asked has gone does not matter. f must not call Write.
func (s *Store) Write(_ context.Context, f func(*Tx) error) error { return s.write(f, s.Hung()) }

// WriteSure is Write, however long the disk does not answer.
func (s *Store) WriteSure(f func(*Tx) error) error { return s.write(f, nil) }

func (s *Store) write(f func(*Tx) error, hung <-chan struct{}) error {
	if s.frozen != nil {
		return s.frozen
	}
	p := piece{make(chan *Tx, 1), make(chan error, 1), make(chan error, 1)}
	select {
	case s.work <- p:
	case <-hung:
		return ErrSlow
	case <-s.quit:
		return errClosed
	}
	select {
	case tx := <-p.turn:
		p.work(tx, f)
	case err := <-p.done:
		return err
	case <-hung:
		go p.giveBack()
		return ErrSlow
	}
	select {
	case err := <-p.done:
		return err
	case <-hung:
		return ErrSlow
	}
}

// giveBack lets a turn pass that comes too late.
func (p piece) giveBack() {
	select {
	case <-p.turn:
		p.result <- ErrSlow
	case err := <-p.done:
		_ = err // whoever asked has gone
	}
}

// work does a piece of work. However it ends, the writer hears of it.
func (p piece) work(tx *Tx, f func(*Tx) error) {
	err := errors.New("a write was not finished")
	defer func() { p.result <- err }()
	err = explain(f(tx))
}

// transact runs a piece of work, and what waits behind it, in one transaction.
func (s *Store) transact(first piece) {
	tx, err := s.db.Begin()
	s.moves.Add(1)
	if err != nil {
		first.done <- fmt.Errorf("database: %w", s.ill(err))
		return
	}
	common := &shared{statements: map[string]*sql.Stmt{}}
	var kept []piece
	for p, more := first, true; more; p, more = s.next(len(kept)) {
		err, broken := s.runSeparately(&Tx{tx, s, common}, p, len(kept) > 0)
		if err == nil {
			kept = append(kept, p)
			continue
		}
		common.end = ledgerEnd{} // it may be of what was taken back
		p.done <- s.ill(err)
		if broken { // the transaction itself is lost: nothing of it is kept
			s.answered(kept, fmt.Errorf("database: %w", errors.Join(err, tx.Rollback())))
			return
		}
		if len(kept) == 0 { // nothing is in it: it ends with what failed
			_ = tx.Rollback()
			return
		}
	}
	err = tx.Commit()
	s.moves.Add(1)
	if err != nil {
		_ = tx.Rollback() // it says that there is none any more, mostly
		err = fmt.Errorf("database: %w", s.ill(err))
	}
	if common.forgets {
		s.memory.forget()
	}
	s.answered(kept, err)
}

func (s *Store) answered(list []piece, err error) {
	for _, p := range list {
		p.done <- err
	}
}

// next gives a piece of work that waits already.
func (s *Store) next(have int) (piece, bool) {
	if have >= together {
		return piece{}, false
	}
	select {
	case p := <-s.work:
		return p, true
	default:
		return piece{}, false
	}
}

// runSeparately runs a piece of work; where others are in the transaction already, so
// that it can be taken back by itself.
func (s *Store) runSeparately(tx *Tx, p piece, others bool) (err error, broken bool) {
	if !others {
		p.turn <- tx
		return <-p.result, false
	}
	if _, err := tx.exec("SAVEPOINT piece"); err != nil {
		return err, true
	}
	p.turn <- tx
	if err := <-p.result; err != nil {
		if _, rerr := tx.exec("ROLLBACK TO piece"); rerr != nil {
			return errors.Join(err, rerr), true
		}
		_, rerr := tx.exec("RELEASE piece")
		return err, rerr != nil
	}
	_, err = tx.exec("RELEASE piece")
	return err, err != nil
}
