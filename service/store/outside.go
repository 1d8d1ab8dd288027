package store

import (
	"context"
	"time"

	"oakenlatch/core/lifecycle"
)

// Outside is a change that was found on a device and was not made by this
// service.
type Outside struct {
	ID        int64
	Device    int64
	Revision  int64 // that it made
	Before    int64 // the one before
	Found     time.Time
	Since     time.Time // the device was last seen to be as before
	DeviceAt  time.Time // by the device's clock; zero where it does not tell
	ClockOff  bool
	Account   string // on the device; "" where it names nobody
	Session   string
	Address   string
	Who       string // in words
	Told      string // JSON
	Places    int
	During    int64 // the change on hold there
	State     lifecycle.OutsideState
	DecidedBy string
	DecidedAt time.Time
	Note      string
	Change    int64
}

const outsideColumns = "id, device, revision, before, found_at, since, device_at, clock_off, account, session, " +
	"address, who, told, places, during, state, decided_by, decided_at, note, change"

func scanOutside(r scanner) (Outside, error) {
	var o Outside
	var found, since, at, decided string
	err := r.Scan(
		&o.ID, &o.Device, &o.Revision, &o.Before, &found, &since, &at, &o.ClockOff, &o.Account, &o.Session, &o.Address,
		&o.Who, &o.Told, &o.Places, &o.During, &o.State, &o.DecidedBy, &decided, &o.Note, &o.Change,
	)
	for _, t := range []struct {
		text string
		into *time.Time
	}{{found, &o.Found}, {since, &o.Since}, {at, &o.DeviceAt}, {decided, &o.DecidedAt}} {
		if err == nil {
			*t.into, err = parseTime(t.text)
		}
	}
	return o, err
}

// AddOutside keeps one and gives it with its number.
func (tx *Tx) AddOutside(o Outside) (Outside, error) {
	res, err := tx.exec(`INSERT INTO outside_changes (device, revision, before, found_at, since, device_at, clock_off, account, session, address, who, told, places, during, state, note)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		o.Device, o.Revision, o.Before, timeText(o.Found), timeText(o.Since), timeText(o.DeviceAt), o.ClockOff,
		o.Account, o.Session, o.Address, o.Who, o.Told, o.Places, o.During, o.State, o.Note)
	if err == nil {
		o.ID, err = res.LastInsertId()
	}
	return o, err
}

// Outside gives one by its number.
func (s *Store) Outside(ctx context.Context, id int64) (Outside, error) {
	return one(s.ask(ctx, "SELECT "+outsideColumns+" FROM outside_changes WHERE id = ?", id), scanOutside)
}

// OutsideAt gives the one that made a revision of a device.
func (s *Store) OutsideAt(ctx context.Context, device, revision int64) (Outside, error) {
	return one(
		s.ask(
			ctx, "SELECT "+outsideColumns+" FROM outside_changes WHERE device = ? AND revision = ?", device, revision,
		),
		scanOutside,
	)
}

// NameOutside keeps what a device told late of who made one.
func (tx *Tx) NameOutside(o Outside) error {
	return affected(tx.exec(
		"UPDATE outside_changes SET account = ?, session = ?, address = ?, device_at = ?, clock_off = ?, who = ?, "+
			"told = ? WHERE id = ?",
		o.Account, o.Session, o.Address, timeText(o.DeviceAt), o.ClockOff, o.Who, o.Told, o.ID,
	))
}

// OutsideOf lists those of a device, 0 for all devices, newest first; only the
// open ones, or at most so many of all.
func (s *Store) OutsideOf(ctx context.Context, device int64, open bool, limit int) ([]Outside, error) {
	where := "(? = 0 OR device = ?)"
	if open {
		where += " AND state = 'open'"
	}
	return many(
		s.ask(
			ctx, "SELECT "+outsideColumns+" FROM outside_changes WHERE "+where+" ORDER BY id DESC LIMIT ?", device,
			device, limit,
		),
		scanOutside,
	)
}

// DecideOutside keeps what was decided of one; ErrNotFound where that was
// decided meanwhile.
func (tx *Tx) DecideOutside(o Outside) error {
	res, err := tx.exec(
		"UPDATE outside_changes SET state = ?, decided_by = ?, decided_at = ?, note = ?, change = ? WHERE id = ? AND "+
			"state = 'open'",
		o.State, o.DecidedBy, timeText(o.DecidedAt), o.Note, o.Change, o.ID,
	)
	return affected(res, err)
}

// PushOutside notes the change that is to push one back; it stays open until
// that change is kept.
func (tx *Tx) PushOutside(id, change int64) error {
	res, err := tx.exec("UPDATE outside_changes SET change = ? WHERE id = ? AND state = 'open'", change, id)
	return affected(res, err)
}

// PushedBack decides those of a device that a change was to push back, and that
// is kept now.
func (tx *Tx) PushedBack(change, device int64, at time.Time) error {
	_, err := tx.exec(`UPDATE outside_changes SET state = 'pushed-back', decided_at = ?1, decided_by = (SELECT author FROM changes WHERE number = ?2)
		WHERE change = ?2 AND device = ?3 AND state = 'open'`, timeText(at), change, device)
	return err
}

// Silence is a path that moves by itself.
type Silence struct {
	ID     int64
	Device int64 // 0: every device
	Path   string
	Note   string
	Actor  string
	At     time.Time
}

func scanSilence(r scanner) (Silence, error) {
	var s Silence
	var at string
	err := r.Scan(&s.ID, &s.Device, &s.Path, &s.Note, &s.Actor, &at)
	if err == nil {
		s.At, err = parseTime(at)
	}
	return s, err
}

const silencesQuery = "SELECT id, coalesce(device, 0), path, note, actor, at FROM silences ORDER BY path, id"

// Silences lists the paths that move by themselves.
func (s *Store) Silences(ctx context.Context) ([]Silence, error) {
	return many(s.ask(ctx, silencesQuery), scanSilence)
}

// Silences is the same, as the transaction sees it.
func (tx *Tx) Silences() ([]Silence, error) {
	return many(tx.ask(silencesQuery), scanSilence)
}

// AddSilence keeps one and gives it with its number.
func (tx *Tx) AddSilence(s Silence) (Silence, error) {
	var device any
	if s.Device != 0 {
		device = s.Device
	}
	res, err := tx.exec(
		"INSERT INTO silences (device, path, note, actor, at) VALUES (?, ?, ?, ?, ?)", device, s.Path, s.Note, s.Actor,
		timeText(s.At),
	)
	if err == nil {
		s.ID, err = res.LastInsertId()
	}
	return s, err
}

// DropSilence forgets one.
func (tx *Tx) DropSilence(id int64) error {
	res, err := tx.exec("DELETE FROM silences WHERE id = ?", id)
	return affected(res, err)
}
