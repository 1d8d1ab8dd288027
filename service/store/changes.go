package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"oakenlatch/core/guard"
	"oakenlatch/core/lifecycle"
)

// Change is a numbered unit of staged work.
type Change struct {
	Number          int64
	Title, Ticket   string
	Author          string
	State           lifecycle.State
	Reason          string
	Origin          string // what it was made from by itself: an undo, a restore; "" for one a person opened
	Opened, Updated time.Time
}

// Part is a change's work on one device.
type Part struct {
	Change, Device, Base int64 // Base is a revision's number

	// Where the part moves the device's management to, "" where it does not, and
	// that address as packets have it.
	MovesTo, MovesSeenAs string
}

// Edit is one staged edit.
type Edit struct {
	ID, Change, Device int64
	Op, Path, Value    string // Op is put, delete, move or load
	Mode               string // of a put or load: how
	Source             string // of a load: where it is from
	Lines              int    // how many nodes it touches
	Times              int    // that something was taken out of it
	Body               []byte // of a load, when it is added: XML; read it with [Store.EditBody]
	Actor              string
	At                 time.Time
}

func scanChange(r scanner) (Change, error) {
	var c Change
	var opened, updated string
	if err := r.Scan(
		&c.Number, &c.Title, &c.Ticket, &c.Author, &c.State, &c.Reason, &c.Origin, &opened, &updated,
	); err != nil {
		return c, err
	}
	var oerr, uerr error
	c.Opened, oerr = parseTime(opened)
	c.Updated, uerr = parseTime(updated)
	return c, errors.Join(oerr, uerr)
}

const changeColumns = "number, title, ticket, author, state, reason, origin, opened_at, updated_at"

// AddChange opens a change and gives it its number.
func (tx *Tx) AddChange(c Change) (Change, error) {
	c.Updated = c.Opened
	err := tx.row(
		"INSERT INTO changes (title, ticket, author, state, origin, opened_at, updated_at) VALUES (?, ?, ?, ?, ?, ?, "+
			"?) RETURNING number",
		c.Title, c.Ticket, c.Author, c.State, c.Origin, timeText(c.Opened), timeText(c.Updated),
	).Scan(&c.Number)
	return c, err
}

// Change gives a change by its number.
func (s *Store) Change(ctx context.Context, number int64) (Change, error) {
	return one(s.ask(ctx, "SELECT "+changeColumns+" FROM changes WHERE number = ?", number), scanChange)
}

// Change gives a change by its number, as this transaction sees it.
func (tx *Tx) Change(number int64) (Change, error) {
	return one(tx.ask("SELECT "+changeColumns+" FROM changes WHERE number = ?", number), scanChange)
}

// Changes lists changes, newest first.
func (s *Store) Changes(ctx context.Context) ([]Change, error) {
	return many(s.ask(ctx, "SELECT "+changeColumns+" FROM changes ORDER BY number DESC"), scanChange)
}

// SetState moves a change to a state.
func (tx *Tx) SetState(number int64, state lifecycle.State, reason string, at time.Time) error {
	return affected(
		tx.exec(
			"UPDATE changes SET state = ?, reason = ?, updated_at = ? WHERE number = ?", state, reason, timeText(at),
			number,
		),
	)
}

// SetPart makes a part, or gives it another base.
func (tx *Tx) SetPart(p Part) error {
	_, err := tx.exec(`INSERT INTO parts (change, device, base) VALUES (?, ?, ?)
		ON CONFLICT (change, device) DO UPDATE SET base = excluded.base`, p.Change, p.Device, p.Base)
	return err
}

// MovePart says where a part moves its device's management to.
func (tx *Tx) MovePart(p Part) error {
	return affected(
		tx.exec(
			"UPDATE parts SET moves_to = ?, moves_seen_as = ? WHERE change = ? AND device = ?", p.MovesTo,
			p.MovesSeenAs, p.Change, p.Device,
		),
	)
}

// Parts lists a change's parts by device.
func (s *Store) Parts(ctx context.Context, change int64) ([]Part, error) {
	return many(s.ask(
		ctx, "SELECT change, device, base, moves_to, moves_seen_as FROM parts WHERE change = ? ORDER BY device", change,
	), func(r scanner) (p Part, err error) {
		err = r.Scan(&p.Change, &p.Device, &p.Base, &p.MovesTo, &p.MovesSeenAs)
		return p, err
	})
}

// ChangeDevices gives the devices that a change has parts on, in the order of its
// parts; an error where one is out of reach.
func (s *Store) ChangeDevices(ctx context.Context, r Reach, change int64) ([]Device, error) {
	list, err := many(
		s.ask(
			ctx,
			"SELECT "+deviceColumns+" FROM devices WHERE id IN (SELECT device FROM parts WHERE change = ?) ORDER BY id",
			change,
		),
		scanDevice,
	)
	for _, d := range list {
		if err == nil {
			_, err = r.reached(d, nil)
		}
	}
	if err != nil {
		return nil, err
	}
	return list, nil
}

// AddEdit stages an edit.
func (tx *Tx) AddEdit(e Edit) (Edit, error) {
	var body any
	if e.Body != nil {
		body = tx.s.compress(e.Body)
	}
	e.Lines = max(e.Lines, 1)
	err := tx.row(
		"INSERT INTO edits (change, device, op, path, value, mode, source, lines, body, actor, at) VALUES (?, ?, ?, "+
			"?, ?, ?, ?, ?, ?, ?, ?) RETURNING id",
		e.Change, e.Device, e.Op, e.Path, e.Value, e.Mode, e.Source, e.Lines, body, e.Actor, timeText(e.At),
	).Scan(&e.ID)
	return e, err
}

// SetEditBody gives a load less, or other, content, and where mode is not ""
// that mode.
func (tx *Tx) SetEditBody(id int64, lines int, body []byte, mode string) error {
	return affected(
		tx.exec(
			"UPDATE edits SET lines = ?, body = ?, mode = iif(? = '', mode, ?), times = times + 1 WHERE id = ?", lines,
			tx.s.compress(body), mode, mode, id,
		),
	)
}

// EditBody gives the content of a load.
func (s *Store) EditBody(ctx context.Context, id int64) ([]byte, error) {
	return s.blob(s.ask(ctx, "SELECT body FROM edits WHERE id = ?", id), fmt.Sprintf("edit %d", id))
}

// DropEdit takes a staged edit back, and the part with its last one.
func (tx *Tx) DropEdit(change, id int64) error {
	if err := affected(tx.exec("DELETE FROM edits WHERE change = ? AND id = ?", change, id)); err != nil {
		return err
	}
	if _, err := tx.exec("DELETE FROM bindings WHERE change = ? AND edit = ?", change, id); err != nil {
		return err
	}
	_, err := tx.exec(
		"DELETE FROM parts WHERE change = ?1 AND NOT EXISTS (SELECT 1 FROM edits e WHERE e.change = ?1 AND e.device "+
			"= parts.device)",
		change,
	)
	return err
}

const editColumns = "id, change, device, op, path, value, mode, source, lines, times, actor, at"

func scanEdit(r scanner) (e Edit, err error) {
	var at string
	if err = r.Scan(
		&e.ID, &e.Change, &e.Device, &e.Op, &e.Path, &e.Value, &e.Mode, &e.Source, &e.Lines, &e.Times, &e.Actor, &at,
	); err == nil {
		e.At, err = parseTime(at)
	}
	return e, err
}

// Edits lists a change's edits in the order they were staged.
func (s *Store) Edits(ctx context.Context, change int64) ([]Edit, error) {
	return many(s.ask(ctx, "SELECT "+editColumns+" FROM edits WHERE change = ? ORDER BY id", change), scanEdit)
}

// EditsOf lists a part's edits as this transaction sees them.
func (tx *Tx) EditsOf(change, device int64) ([]Edit, error) {
	return many(
		tx.ask("SELECT "+editColumns+" FROM edits WHERE change = ? AND device = ? ORDER BY id", change, device),
		scanEdit,
	)
}

// stampQuery names what is staged in a change as it is: another edit, base,
// address or decision gives another.
const stampQuery = `SELECT count(*) || ' ' || coalesce(sum(id), 0) || ' ' || coalesce(sum(times), 0) || ' ' ||
	(SELECT coalesce(group_concat(device || ':' || base || ':' || moves_to, ' '), '') FROM (SELECT * FROM parts WHERE change = ?1 ORDER BY device)) || ' ' ||
	(SELECT coalesce(group_concat(device || path || keep || at, ' '), '') FROM (SELECT * FROM decisions WHERE change = ?1 ORDER BY device, path))
	FROM edits WHERE change = ?1`

// Stamp names what is staged in a change as it is now.
func (s *Store) Stamp(ctx context.Context, change int64) (string, error) {
	return one(s.ask(ctx, stampQuery, change), scanText)
}

// Stamp names what is staged in a change, as this transaction sees it.
func (tx *Tx) Stamp(change int64) (string, error) {
	return one(tx.ask(stampQuery, change), scanText)
}

// Commit is one attempt to bring a change onto its devices.
type Commit struct {
	ID, Change     int64
	Actor          string
	Hold           time.Duration
	Started, Ended time.Time // Ended is zero while it runs
	Plan           guard.Plan
	State          guard.State
	Parts          []CommitPart
}

// CommitPart is what a commit needs to know of one device, in the order of
// State.Devices. Base and Result are set once it is prepared.
type CommitPart struct {
	Device       int64
	Persist      string
	Base, Result string // digests
}

// AddCommit records a commit that is about to begin.
func (tx *Tx) AddCommit(c Commit) (Commit, error) {
	state, err := json.Marshal(c.State)
	if err != nil {
		return c, err
	}
	plan, err := json.Marshal(c.Plan)
	if err != nil {
		return c, err
	}
	err = tx.row(
		"INSERT INTO commits (change, actor, hold, started_at, plan, state) VALUES (?, ?, ?, ?, ?, ?) RETURNING id",
		c.Change, c.Actor, int64(c.Hold/time.Second), timeText(c.Started), string(plan), string(state),
	).Scan(&c.ID)
	if err != nil {
		return c, err
	}
	for i, p := range c.Parts {
		if _, err := tx.exec(
			"INSERT INTO commit_parts (commit_id, place, device, persist) VALUES (?, ?, ?, ?)", c.ID, i, p.Device,
			p.Persist,
		); err != nil {
			return c, err
		}
	}
	return c, nil
}

// SetCommitPart keeps what a device holds before and is to hold after.
func (tx *Tx) SetCommitPart(commit int64, place int, base, result string) error {
	return affected(
		tx.exec(
			"UPDATE commit_parts SET base = ?, result = ? WHERE commit_id = ? AND place = ?", base, result, commit,
			place,
		),
	)
}

// Journal appends events and keeps the state they lead to.
func (tx *Tx) Journal(commit int64, events []guard.Event, state guard.State, ended time.Time) error {
	folded, err := json.Marshal(state)
	if err != nil {
		return err
	}
	var seq int64
	if err := tx.row("SELECT coalesce(max(seq), 0) FROM journal WHERE commit_id = ?", commit).Scan(&seq); err != nil {
		return err
	}
	for _, e := range events {
		event, err := json.Marshal(e)
		if err != nil {
			return err
		}
		seq++
		if _, err := tx.exec(
			"INSERT INTO journal (commit_id, seq, event) VALUES (?, ?, ?)", commit, seq, string(event),
		); err != nil {
			return err
		}
	}
	return affected(
		tx.exec("UPDATE commits SET state = ?, ended_at = ? WHERE id = ?", string(folded), timeText(ended), commit),
	)
}

// JournalOf gives a commit's events in order.
func (s *Store) JournalOf(ctx context.Context, commit int64) ([]guard.Event, error) {
	return many(s.ask(
		ctx, "SELECT event FROM journal WHERE commit_id = ? ORDER BY seq", commit,
	), func(r scanner) (e guard.Event, err error) {
		var text string
		if err = r.Scan(&text); err == nil {
			err = json.Unmarshal([]byte(text), &e)
		}
		return e, err
	})
}

const commitColumns = "id, change, actor, hold, started_at, ended_at, plan, state"

func scanCommit(r scanner) (Commit, error) {
	var c Commit
	var hold int64
	var started, ended, plan, state string
	if err := r.Scan(&c.ID, &c.Change, &c.Actor, &hold, &started, &ended, &plan, &state); err != nil {
		return c, err
	}
	c.Hold = time.Duration(hold) * time.Second
	var serr, eerr error
	c.Started, serr = parseTime(started)
	c.Ended, eerr = parseTime(ended)
	err := errors.Join(serr, eerr, json.Unmarshal([]byte(state), &c.State))
	if plan != "" {
		return c, errors.Join(err, json.Unmarshal([]byte(plan), &c.Plan))
	}
	// Made by an older release, which knew devices with their own guard only.
	c.Plan.Hold = c.Hold
	for i := range c.State.Devices {
		c.State.Devices[i].Keeper = guard.ByDevice
		c.Plan.Devices = append(
			c.Plan.Devices, guard.PlannedDevice{Name: c.State.Devices[i].Name, Keeper: guard.ByDevice},
		)
	}
	return c, err
}

// OpenCommits lists the commits that have not ended.
func (s *Store) OpenCommits(ctx context.Context) ([]Commit, error) {
	return s.wholeCommits(s.ask(ctx, "SELECT "+commitColumns+" FROM commits WHERE ended_at = '' ORDER BY id"))
}

// wholeCommits reads commits with their parts.
func (s *Store) wholeCommits(q question) ([]Commit, error) {
	list, err := many(q, scanCommit)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if list[i].Parts, err = s.commitParts(q.ctx, list[i].ID); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// LastCommit gives a change's newest commit.
func (s *Store) LastCommit(ctx context.Context, change int64) (Commit, error) {
	c, err := one(
		s.ask(ctx, "SELECT "+commitColumns+" FROM commits WHERE change = ? ORDER BY id DESC LIMIT 1", change),
		scanCommit,
	)
	if err == nil {
		c.Parts, err = s.commitParts(ctx, c.ID)
	}
	return c, err
}

func (s *Store) commitParts(ctx context.Context, commit int64) ([]CommitPart, error) {
	return many(s.ask(
		ctx,
		"SELECT device, persist, coalesce(base, ''), coalesce(result, '') FROM commit_parts WHERE commit_id = ? "+
			"ORDER BY place",
		commit,
	), func(r scanner) (p CommitPart, err error) {
		err = r.Scan(&p.Device, &p.Persist, &p.Base, &p.Result)
		return p, err
	})
}

// KeptBetween lists the changes of a person, as author or as who committed
// them, that were kept in a period, newest first.
func (s *Store) KeptBetween(ctx context.Context, person string, since, until time.Time) ([]Change, error) {
	return many(s.ask(ctx, "SELECT "+changeColumns+
		` FROM changes WHERE state = 'confirmed' AND (author = ?1 OR EXISTS (SELECT 1 FROM commits c WHERE c.change = number AND c.actor = ?1))
		AND number IN (SELECT change FROM commits WHERE ended_at >= ?2 AND ended_at <= ?3)
		ORDER BY (SELECT max(c.id) FROM commits c WHERE c.change = number) DESC`, person, timeText(since),
		timeText(until)), scanChange)
}
