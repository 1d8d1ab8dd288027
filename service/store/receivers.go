package store

import (
	"context"
	"errors"
	"time"
)

// Receiver is told of entries of the ledger.
type Receiver struct {
	ID        int64
	Name      string
	Kind      string // syslog, webhook or mail
	Place     string // a URL
	Line      string // what is told
	Settings  string // JSON
	Secret    []byte // sealed
	Position  int64  // the last entry that was told, or need not be
	Added     time.Time
	AddedBy   string
	Retired   time.Time
	Last      time.Time // the last that was taken
	Told      int64     // entries, in all
	Trouble   string
	TroubleAt time.Time
}

const receiverColumns = "id, name, kind, place, line, settings, secret, position, added_at, added_by, retired_at, " +
	"told_at, told, trouble, trouble_at"

func scanReceiver(r scanner) (v Receiver, err error) {
	var added, retired, last, trouble string
	err = r.Scan(
		&v.ID, &v.Name, &v.Kind, &v.Place, &v.Line, &v.Settings, &v.Secret, &v.Position, &added, &v.AddedBy, &retired,
		&last, &v.Told, &v.Trouble, &trouble,
	)
	if err != nil {
		return v, err
	}
	var errs [4]error
	v.Added, errs[0] = parseTime(added)
	v.Retired, errs[1] = parseTime(retired)
	v.Last, errs[2] = parseTime(last)
	v.TroubleAt, errs[3] = parseTime(trouble)
	return v, errors.Join(errs[:]...)
}

// Receivers lists those that are in use.
func (s *Store) Receivers(ctx context.Context) ([]Receiver, error) {
	return many(s.ask(ctx, "SELECT "+receiverColumns+" FROM receivers WHERE retired_at = '' ORDER BY id"), scanReceiver)
}

// Receiver gives one that is in use by its name.
func (s *Store) Receiver(ctx context.Context, name string) (Receiver, error) {
	return one(
		s.ask(ctx, "SELECT "+receiverColumns+" FROM receivers WHERE name = ? AND retired_at = ''", name), scanReceiver,
	)
}

// AddReceiver keeps a receiver, which is told of what comes from now on;
// ErrExists where the name is taken.
func (tx *Tx) AddReceiver(v Receiver) error {
	return inserted(tx.exec(`INSERT INTO receivers (name, kind, place, line, settings, secret, position, added_at, added_by)
		VALUES (?, ?, ?, ?, ?, ?, (SELECT coalesce(max(seq), 0) FROM ledger), ?, ?) ON CONFLICT DO NOTHING`,
		v.Name, v.Kind, v.Place, v.Line, v.Settings, v.Secret, timeText(v.Added), v.AddedBy))
}

// SetReceiver changes what a receiver is told of.
func (tx *Tx) SetReceiver(id int64, line string) error {
	return affected(tx.exec("UPDATE receivers SET line = ? WHERE id = ?", line, id))
}

// RetireReceiver tells a receiver nothing any more. Its name is free again.
func (tx *Tx) RetireReceiver(id int64, at time.Time) error {
	return affected(
		tx.exec(
			"UPDATE receivers SET retired_at = ?, name = name || ' (retired ' || id || ')', secret = NULL WHERE id = ?",
			timeText(at), id,
		),
	)
}

// Told notes that a receiver took entries up to a place, n of them.
func (tx *Tx) Told(id, position, n int64, at time.Time) error {
	return affected(
		tx.exec(
			"UPDATE receivers SET position = ?, told = told + ?, told_at = iif(? > 0, ?, told_at), trouble = '', "+
				"trouble_at = '' WHERE id = ?",
			position, n, n, timeText(at), id,
		),
	)
}

// NotTold notes that a receiver took nothing, and since when that is so.
func (tx *Tx) NotTold(id int64, trouble string, at time.Time) error {
	return affected(
		tx.exec(
			"UPDATE receivers SET trouble = ?, trouble_at = iif(trouble_at = '', ?, trouble_at) WHERE id = ?", trouble,
			timeText(at), id,
		),
	)
}

// LastEntry gives the number of the ledger's last entry, 0 where it is empty.
func (s *Store) LastEntry(ctx context.Context) (int64, error) {
	return one(
		s.ask(ctx, "SELECT coalesce(max(seq), 0) FROM ledger"),
		func(r scanner) (n int64, err error) { err = r.Scan(&n); return n, err },
	)
}
