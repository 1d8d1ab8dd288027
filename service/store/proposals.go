package store

import (
	"context"
	"errors"
	"time"
)

// Proposal is an act of administration that others have to agree to before it is done.
type Proposal struct {
	ID     int64
	Kind   string
	Body   string // JSON
	Says   string // to people
	Actor  string
	At     time.Time
	Ended  time.Time // zero while it waits
	Became string    // done or dropped
	Agreed []string  // who did
}

// AddProposal keeps one and gives it with its number.
func (tx *Tx) AddProposal(p Proposal) (Proposal, error) {
	res, err := tx.exec(
		"INSERT INTO proposals (kind, body, says, actor, at) VALUES (?, ?, ?, ?, ?)", p.Kind, p.Body, p.Says, p.Actor,
		timeText(p.At),
	)
	if err == nil {
		p.ID, err = res.LastInsertId()
	}
	return p, err
}

// AgreeToProposal keeps that somebody agrees.
func (tx *Tx) AgreeToProposal(id int64, account string, at time.Time) error {
	_, err := tx.exec(
		"INSERT INTO proposal_agreements (proposal, account, at) VALUES (?, ?, ?) ON CONFLICT DO NOTHING", id, account,
		timeText(at),
	)
	return err
}

// EndProposal keeps what became of one; ErrNotFound where it does not wait any more.
func (tx *Tx) EndProposal(id int64, became string, at time.Time) error {
	return affected(
		tx.exec("UPDATE proposals SET ended = ?, became = ? WHERE id = ? AND ended = ''", timeText(at), became, id),
	)
}

// Proposals lists those that wait, oldest first.
func (s *Store) Proposals(ctx context.Context) ([]Proposal, error) {
	list, err := many(s.ask(
		ctx, "SELECT id, kind, body, says, actor, at, ended, became FROM proposals WHERE ended = '' ORDER BY id",
	), func(r scanner) (p Proposal, err error) {
		var at, ended string
		if err = r.Scan(&p.ID, &p.Kind, &p.Body, &p.Says, &p.Actor, &at, &ended, &p.Became); err == nil {
			var aerr error
			p.At, aerr = parseTime(at)
			p.Ended, err = parseTime(ended)
			err = errors.Join(err, aerr)
		}
		return p, err
	})
	for i := range list {
		if err != nil {
			break
		}
		list[i].Agreed, err = many(
			s.ask(ctx, "SELECT account FROM proposal_agreements WHERE proposal = ? ORDER BY at", list[i].ID),
			func(r scanner) (who string, err error) { err = r.Scan(&who); return who, err },
		)
	}
	return list, err
}
