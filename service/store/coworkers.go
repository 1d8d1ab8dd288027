package store

import (
	"context"
	"time"
)

// Note is what somebody wrote down about a change.
type Note struct {
	ID, Change  int64
	Actor, Text string
	At          time.Time
}

// Decision is what a person decided where a change and its device both changed
// the same. It holds for the three values as they were shown.
type Decision struct {
	Change, Device     int64
	Path, Keep         string // Keep is mine or theirs
	Base, Mine, Theirs string
	Actor              string
	At                 time.Time
}

// Previewed is what a preview showed a person.
type Previewed struct {
	Change        int64
	Actor, Digest string
	At            time.Time
	Parts         string // JSON
}

// AddCoworker adds somebody to a change.
func (tx *Tx) AddCoworker(change int64, account, by string, at time.Time) error {
	return inserted(
		tx.exec(
			"INSERT INTO coworkers (change, account, added_by, added_at) VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING",
			change, account, by, timeText(at),
		),
	)
}

// DropCoworker takes somebody off a change.
func (tx *Tx) DropCoworker(change int64, account string) error {
	return affected(tx.exec("DELETE FROM coworkers WHERE change = ? AND account = ?", change, account))
}

const coworkersQuery = "SELECT account FROM coworkers WHERE change = ? ORDER BY account"

func scanText(r scanner) (text string, err error) { err = r.Scan(&text); return text, err }

// Coworkers lists who works on a change beside its author.
func (s *Store) Coworkers(ctx context.Context, change int64) ([]string, error) {
	return many(s.ask(ctx, coworkersQuery, change), scanText)
}

// Coworkers lists who works on a change, as this transaction sees it.
func (tx *Tx) Coworkers(change int64) ([]string, error) {
	return many(tx.ask(coworkersQuery, change), scanText)
}

// SharedWith lists the changes that somebody was added to.
func (s *Store) SharedWith(ctx context.Context, account string) ([]int64, error) {
	return many(
		s.ask(ctx, "SELECT change FROM coworkers WHERE account = ?", account),
		func(r scanner) (n int64, err error) { err = r.Scan(&n); return n, err },
	)
}

// SetTitle gives a change another title and ticket.
func (tx *Tx) SetTitle(change int64, title, ticket string, at time.Time) error {
	return affected(
		tx.exec(
			"UPDATE changes SET title = ?, ticket = ?, updated_at = ? WHERE number = ?", title, ticket, timeText(at),
			change,
		),
	)
}

// AddNote writes a note down.
func (tx *Tx) AddNote(n Note) (Note, error) {
	err := tx.row(
		"INSERT INTO notes (change, actor, at, text) VALUES (?, ?, ?, ?) RETURNING id", n.Change, n.Actor,
		timeText(n.At), n.Text,
	).Scan(&n.ID)
	return n, err
}

// Notes lists a change's notes, oldest first.
func (s *Store) Notes(ctx context.Context, change int64) ([]Note, error) {
	return many(
		s.ask(ctx, "SELECT id, change, actor, at, text FROM notes WHERE change = ? ORDER BY id", change), scanNote,
	)
}

func scanNote(r scanner) (n Note, err error) {
	var at string
	if err = r.Scan(&n.ID, &n.Change, &n.Actor, &at, &n.Text); err == nil {
		n.At, err = parseTime(at)
	}
	return n, err
}

// Decide keeps a decision, in place of an older one on the same.
func (tx *Tx) Decide(d Decision) error {
	_, err := tx.exec(`INSERT INTO decisions (change, device, path, keep, base, mine, theirs, actor, at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (change, device, path) DO UPDATE SET keep = excluded.keep, base = excluded.base, mine = excluded.mine, theirs = excluded.theirs, actor = excluded.actor, at = excluded.at`,
		d.Change, d.Device, d.Path, d.Keep, d.Base, d.Mine, d.Theirs, d.Actor, timeText(d.At))
	return err
}

// DropDecisions forgets the decisions on a part, which was put on another base.
func (tx *Tx) DropDecisions(change, device int64) error {
	_, err := tx.exec("DELETE FROM decisions WHERE change = ? AND device = ?", change, device)
	return err
}

// Decisions lists a change's decisions.
func (s *Store) Decisions(ctx context.Context, change int64) ([]Decision, error) {
	return many(s.ask(
		ctx,
		"SELECT change, device, path, keep, base, mine, theirs, actor, at FROM decisions WHERE change = ? ORDER BY "+
			"device, path",
		change,
	), func(r scanner) (d Decision, err error) {
		var at string
		if err = r.Scan(
			&d.Change, &d.Device, &d.Path, &d.Keep, &d.Base, &d.Mine, &d.Theirs, &d.Actor, &at,
		); err == nil {
			d.At, err = parseTime(at)
		}
		return d, err
	})
}

// KeepPreview notes what a person was shown. Seen again, it is the newest.
func (tx *Tx) KeepPreview(p Previewed) error {
	_, err := tx.exec(`INSERT INTO previews (change, actor, digest, at, parts) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (change, actor, digest) DO UPDATE SET at = excluded.at`, p.Change, p.Actor, p.Digest,
		timeText(p.At), p.Parts)
	return err
}

const previewColumns = "change, actor, digest, at, parts"

func scanPreviewed(r scanner) (p Previewed, err error) {
	var at string
	if err = r.Scan(&p.Change, &p.Actor, &p.Digest, &at, &p.Parts); err == nil {
		p.At, err = parseTime(at)
	}
	return p, err
}

// PreviewOf gives a preview of a change by its digest, whoever saw it.
func (s *Store) PreviewOf(ctx context.Context, change int64, digest string) (Previewed, error) {
	return one(
		s.ask(
			ctx, "SELECT "+previewColumns+" FROM previews WHERE change = ? AND digest = ? ORDER BY at DESC LIMIT 1",
			change, digest,
		),
		scanPreviewed,
	)
}

// LastPreview gives what a person was shown of a change last.
func (s *Store) LastPreview(ctx context.Context, change int64, actor string) (Previewed, error) {
	return one(
		s.ask(
			ctx, "SELECT "+previewColumns+" FROM previews WHERE change = ? AND actor = ? ORDER BY at DESC LIMIT 1",
			change, actor,
		),
		scanPreviewed,
	)
}
