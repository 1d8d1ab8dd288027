package store

import (
	"context"
	"time"
)

// Settled is what a person said of a device whose commit was under way when the backup was
// taken that the records come from.
type Settled struct {
	Device   int64
	Standing string // kept, reverted, or left
	Note     string
	Actor    string
	At       time.Time
}

func scanSettled(r scanner) (v Settled, err error) {
	var at string
	if err = r.Scan(&v.Device, &v.Standing, &v.Note, &v.Actor, &at); err == nil {
		v.At, err = parseTime(at)
	}
	return v, err
}

const settledOf = "SELECT device, standing, note, actor, at FROM settled WHERE commit_id = ? ORDER BY device"

// SettledOf lists what was said of the devices of a commit.
func (s *Store) SettledOf(ctx context.Context, commit int64) ([]Settled, error) {
	return many(s.ask(ctx, settledOf, commit), scanSettled)
}

// SettledOf lists what was said of the devices of a commit, as this transaction sees it.
func (tx *Tx) SettledOf(commit int64) ([]Settled, error) {
	return many(tx.ask(settledOf, commit), scanSettled)
}

// Settle keeps what a person says of a device; ErrExists where that was said already.
func (tx *Tx) Settle(commit int64, v Settled) error {
	return inserted(tx.exec(
		"INSERT INTO settled (commit_id, device, standing, note, actor, at) VALUES (?, ?, ?, ?, ?, ?) ON "+
			"CONFLICT DO NOTHING",
		commit, v.Device, v.Standing, v.Note, v.Actor, timeText(v.At),
	))
}
