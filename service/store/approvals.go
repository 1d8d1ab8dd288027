package store

import (
	"context"
	"errors"
	"time"
)

// ApprovalRule says what is not committed without others' agreement.
type ApprovalRule struct {
	ID        int64
	Scope     string // site=NAME and the like; "" is all devices
	Path      string // "" is anywhere
	Needed    int    // persons
	Emergency bool   // a commit without them is possible, for a reason
	Note      string
	Actor     string
	At        time.Time
}

// AddApprovalRule keeps a rule and gives it with its number.
func (tx *Tx) AddApprovalRule(r ApprovalRule) (ApprovalRule, error) {
	res, err := tx.exec(
		"INSERT INTO approval_rules (scope, path, needed, emergency, note, actor, at) VALUES (?, ?, ?, ?, ?, ?, ?)",
		r.Scope, r.Path, r.Needed, r.Emergency, r.Note, r.Actor, timeText(r.At),
	)
	if err == nil {
		r.ID, err = res.LastInsertId()
	}
	return r, err
}

// DropApprovalRule takes a rule away.
func (tx *Tx) DropApprovalRule(id int64) error {
	return affected(tx.exec("DELETE FROM approval_rules WHERE id = ?", id))
}

// ApprovalRules lists all rules.
func (s *Store) ApprovalRules(ctx context.Context) ([]ApprovalRule, error) {
	return many(s.ask(
		ctx, "SELECT id, scope, path, needed, emergency, note, actor, at FROM approval_rules ORDER BY id",
	), func(r scanner) (a ApprovalRule, err error) {
		var at string
		if err = r.Scan(&a.ID, &a.Scope, &a.Path, &a.Needed, &a.Emergency, &a.Note, &a.Actor, &at); err == nil {
			a.At, err = parseTime(at)
		}
		return a, err
	})
}

// Approval is one person's agreement to a change, as a preview showed it.
type Approval struct {
	Change int64
	Actor  string
	Digest string // of the preview
	Note   string
	At     time.Time
}

// Approve keeps an agreement, in the place of the same person's former one.
func (tx *Tx) Approve(a Approval) error {
	_, err := tx.exec(
		"INSERT OR REPLACE INTO approvals (change, actor, digest, note, at) VALUES (?, ?, ?, ?, ?)", a.Change, a.Actor,
		a.Digest, a.Note, timeText(a.At),
	)
	return err
}

// Unapprove takes somebody's agreement back.
func (tx *Tx) Unapprove(change int64, actor string) error {
	return affected(tx.exec("DELETE FROM approvals WHERE change = ? AND actor = ?", change, actor))
}

func scanApproval(r scanner) (a Approval, err error) {
	var at string
	if err = r.Scan(&a.Change, &a.Actor, &a.Digest, &a.Note, &at); err == nil {
		a.At, err = parseTime(at)
	}
	return a, err
}

// Approvals lists the agreements to a change, whatever they were to.
func (s *Store) Approvals(ctx context.Context, change int64) ([]Approval, error) {
	return many(
		s.ask(ctx, "SELECT change, actor, digest, note, at FROM approvals WHERE change = ? ORDER BY at", change),
		scanApproval,
	)
}

// AddWorker keeps that somebody has worked on a change, for good.
func (tx *Tx) AddWorker(change int64, account string) error {
	_, err := tx.exec(
		"INSERT OR IGNORE INTO workers (change, account) SELECT number, ? FROM changes WHERE number = ?", account,
		change,
	)
	return err
}

// Workers lists all who ever worked on a change.
func (s *Store) Workers(ctx context.Context, change int64) ([]string, error) {
	return many(
		s.ask(ctx, "SELECT account FROM workers WHERE change = ? ORDER BY account", change),
		func(r scanner) (who string, err error) { err = r.Scan(&who); return who, err },
	)
}

// ApprovalAsk is that a change's people ask others to agree.
type ApprovalAsk struct {
	Change int64
	Actor  string
	Note   string
	At     time.Time
}

// AskApproval keeps that agreement is asked for.
func (tx *Tx) AskApproval(a ApprovalAsk) error {
	_, err := tx.exec(
		"INSERT OR REPLACE INTO approval_asks (change, actor, note, at) VALUES (?, ?, ?, ?)", a.Change, a.Actor, a.Note,
		timeText(a.At),
	)
	return err
}

// ApprovalAsks lists the changes for which agreement is asked, that are on no
// device; of one, or with 0 of all.
func (s *Store) ApprovalAsks(ctx context.Context, change int64) ([]ApprovalAsk, error) {
	// All of them are found by the changes that are open, of which there are fewer than were ever asked about.
	from, where := "changes c CROSS JOIN approval_asks a ON a.change = c.number", "? = 0"
	if change != 0 {
		from, where = "approval_asks a JOIN changes c ON c.number = a.change", "a.change = ?"
	}
	return many(s.ask(ctx, "SELECT a.change, a.actor, a.note, a.at FROM "+from+" WHERE "+where+
		" AND c.state IN ('draft', 'failed', 'reverted', 'scheduled') ORDER "+
		"BY a.at DESC", change), func(r scanner) (a ApprovalAsk, err error) {
		var at string
		if err = r.Scan(&a.Change, &a.Actor, &a.Note, &at); err == nil {
			a.At, err = parseTime(at)
		}
		return a, err
	})
}

// Emergency is a commit without the agreement that was needed.
type Emergency struct {
	ID         int64
	Change     int64
	Actor      string
	Reason     string
	Digest     string
	At         time.Time
	ReviewedBy string
	Reviewed   time.Time // zero until somebody looked at it
	Review     string
}

// AddEmergency keeps one and gives it with its number.
func (tx *Tx) AddEmergency(e Emergency) (Emergency, error) {
	res, err := tx.exec(
		"INSERT INTO emergencies (change, actor, reason, digest, at) VALUES (?, ?, ?, ?, ?)", e.Change, e.Actor,
		e.Reason, e.Digest, timeText(e.At),
	)
	if err == nil {
		e.ID, err = res.LastInsertId()
	}
	return e, err
}

// ReviewEmergency keeps what somebody found who looked at it; ErrNotFound where
// somebody did already.
func (tx *Tx) ReviewEmergency(id int64, by, review string, at time.Time) error {
	return affected(
		tx.exec(
			"UPDATE emergencies SET reviewed_by = ?, reviewed_at = ?, review = ? WHERE id = ? AND reviewed_at = ''", by,
			timeText(at), review, id,
		),
	)
}

// Emergencies lists them, newest first: those that nobody looked at, or all.
func (s *Store) Emergencies(ctx context.Context, all bool) ([]Emergency, error) {
	return many(s.ask(
		ctx,
		"SELECT id, change, actor, reason, digest, at, reviewed_by, reviewed_at, review FROM emergencies WHERE ? OR "+
			"reviewed_at = '' ORDER BY id DESC LIMIT 500",
		all,
	), func(r scanner) (e Emergency, err error) {
		var at, reviewed string
		if err = r.Scan(
			&e.ID, &e.Change, &e.Actor, &e.Reason, &e.Digest, &at, &e.ReviewedBy, &reviewed, &e.Review,
		); err != nil {
			return e, err
		}
		var aerr error
		e.At, aerr = parseTime(at)
		e.Reviewed, err = parseTime(reviewed)
		return e, errors.Join(aerr, err)
	})
}
