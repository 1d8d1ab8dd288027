package store

import (
	"context"
	"errors"
	"time"

	"oakenlatch/core/lifecycle"
)

// Scheduled is something to be done at a time.
type Scheduled struct {
	ID       int64
	Kind     lifecycle.ScheduledKind
	Change   int64 // of a commit
	Device   int64 // of a restart
	At       time.Time
	Zone     string // the person's, as an IANA name or an offset
	Lateness time.Duration
	Orders   string // of a commit, JSON
	Actor    string
	Made     time.Time
	State    lifecycle.ScheduledState
	Note     string
	Ended    time.Time
}

const scheduleColumns = "id, kind, coalesce(change, 0), coalesce(device, 0), at, zone, lateness, orders, actor, " +
	"made_at, state, note, ended_at"

func scanScheduled(r scanner) (Scheduled, error) {
	var v Scheduled
	var at, made, ended string
	var lateness int64
	if err := r.Scan(
		&v.ID, &v.Kind, &v.Change, &v.Device, &at, &v.Zone, &lateness, &v.Orders, &v.Actor, &made, &v.State, &v.Note,
		&ended,
	); err != nil {
		return v, err
	}
	v.Lateness = time.Duration(lateness) * time.Second
	var errs [3]error
	v.At, errs[0] = parseTime(at)
	v.Made, errs[1] = parseTime(made)
	v.Ended, errs[2] = parseTime(ended)
	return v, errors.Join(errs[:]...)
}

func orNull(id int64) any {
	if id == 0 {
		return nil
	}
	return id
}

// AddScheduled puts something on the schedule.
func (tx *Tx) AddScheduled(v Scheduled) (Scheduled, error) {
	v.State = lifecycle.Waiting
	err := tx.row(`INSERT INTO schedule (kind, change, device, at, zone, lateness, orders, actor, made_at, state)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, 'waiting') RETURNING id`,
		v.Kind, orNull(v.Change), orNull(v.Device), timeText(v.At), v.Zone, int64(v.Lateness/time.Second), v.Orders,
		v.Actor, timeText(v.Made)).Scan(&v.ID)
	return v, err
}

// EndScheduled takes something off the schedule that waits there;
// ErrNotFound where it does not.
func (tx *Tx) EndScheduled(id int64, state lifecycle.ScheduledState, note string, at time.Time) error {
	return affected(
		tx.exec(
			"UPDATE schedule SET state = ?, note = ?, ended_at = ? WHERE id = ? AND state = 'waiting'", state, note,
			timeText(at), id,
		),
	)
}

// Waiting lists what waits on the schedule, earliest first.
func (s *Store) Waiting(ctx context.Context) ([]Scheduled, error) {
	return many(
		s.ask(ctx, "SELECT "+scheduleColumns+" FROM schedule WHERE state = 'waiting' ORDER BY at, id"), scanScheduled,
	)
}

// Schedule lists what is on the schedule and, newest first, what was.
func (s *Store) Schedule(ctx context.Context, limit int) ([]Scheduled, error) {
	return many(
		s.ask(
			ctx,
			"SELECT "+scheduleColumns+" FROM schedule ORDER BY state <> 'waiting', CASE state WHEN 'waiting' THEN at "+
				"END, ended_at DESC, id DESC LIMIT ?",
			limit,
		),
		scanScheduled,
	)
}

// Scheduled gives something that is or was on the schedule.
func (s *Store) Scheduled(ctx context.Context, id int64) (Scheduled, error) {
	return one(s.ask(ctx, "SELECT "+scheduleColumns+" FROM schedule WHERE id = ?", id), scanScheduled)
}
