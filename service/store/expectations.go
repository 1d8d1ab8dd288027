package store

import (
	"context"
	"time"
)

// Expectation is what traffic a change is meant to permit or deny.
type Expectation struct {
	ID     int64
	Change int64
	Line   string
	// DEVICE, DEVICE/FILTER or DEVICE/INTERFACE DIRECTION, several with commas; "" is every place it touches
	Place string
	Actor string
	At    time.Time
}

// AddExpectation keeps one and gives it with its number.
func (tx *Tx) AddExpectation(e Expectation) (Expectation, error) {
	res, err := tx.exec(
		"INSERT INTO expectations (change, line, place, actor, at) VALUES (?, ?, ?, ?, ?)", e.Change, e.Line, e.Place,
		e.Actor, timeText(e.At),
	)
	if err == nil {
		e.ID, err = res.LastInsertId()
	}
	return e, err
}

// DropExpectation takes one back.
func (tx *Tx) DropExpectation(change, id int64) error {
	return affected(tx.exec("DELETE FROM expectations WHERE change = ? AND id = ?", change, id))
}

// Expectations lists those of a change, in the order in which they were stated.
func (s *Store) Expectations(ctx context.Context, change int64) ([]Expectation, error) {
	return many(s.ask(
		ctx, "SELECT id, change, line, place, actor, at FROM expectations WHERE change = ? ORDER BY id", change,
	), func(r scanner) (e Expectation, err error) {
		var at string
		if err = r.Scan(&e.ID, &e.Change, &e.Line, &e.Place, &e.Actor, &at); err == nil {
			e.At, err = parseTime(at)
		}
		return e, err
	})
}

// AcceptedEffect is a side effect that a person accepted, as it was then.
type AcceptedEffect struct {
	Change         int64
	Device, Filter string // or INTERFACE DIRECTION
	Digest         string // of the packets
	Actor          string
	At             time.Time
}

// AcceptEffect keeps that one was accepted.
func (tx *Tx) AcceptEffect(a AcceptedEffect) error {
	_, err := tx.exec(
		"INSERT OR REPLACE INTO accepted_effects (change, device, filter, digest, actor, at) VALUES (?, ?, ?, ?, ?, ?)",
		a.Change, a.Device, a.Filter, a.Digest, a.Actor, timeText(a.At),
	)
	return err
}

// AcceptedEffects lists those of a change.
func (s *Store) AcceptedEffects(ctx context.Context, change int64) ([]AcceptedEffect, error) {
	return many(s.ask(
		ctx,
		"SELECT change, device, filter, digest, actor, at FROM accepted_effects WHERE change = ? ORDER BY "+
			"device, filter",
		change,
	), func(r scanner) (a AcceptedEffect, err error) {
		var at string
		if err = r.Scan(&a.Change, &a.Device, &a.Filter, &a.Digest, &a.Actor, &at); err == nil {
			a.At, err = parseTime(at)
		}
		return a, err
	})
}
