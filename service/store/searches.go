package store

import (
	"context"
	"time"
)

// Search is a line to search by, kept under a name.
type Search struct {
	Owner  string
	Name   string
	Line   string
	Shared bool // others may use it too
	At     time.Time
}

func scanSearch(r scanner) (Search, error) {
	var s Search
	var at string
	err := r.Scan(&s.Owner, &s.Name, &s.Line, &s.Shared, &at)
	if err == nil {
		s.At, err = parseTime(at)
	}
	return s, err
}

// Searches lists an account's own lines and those that others share, by name.
func (s *Store) Searches(ctx context.Context, account string) ([]Search, error) {
	return many(
		s.ask(
			ctx,
			"SELECT owner, name, line, shared, at FROM searches WHERE owner = ? OR shared ORDER BY name, owner "+
				"<> ?, owner",
			account, account,
		),
		scanSearch,
	)
}

// SetSearch keeps a line, in place of the account's own of that name.
func (tx *Tx) SetSearch(s Search) error {
	_, err := tx.exec(`INSERT INTO searches (owner, name, line, shared, at) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (owner, name) DO UPDATE SET line = excluded.line, shared = excluded.shared, at = excluded.at`,
		s.Owner, s.Name, s.Line, s.Shared, timeText(s.At))
	return err
}

// DropSearch forgets an account's own line; ErrNotFound where there is none.
func (tx *Tx) DropSearch(owner, name string) error {
	res, err := tx.exec("DELETE FROM searches WHERE owner = ? AND name = ?", owner, name)
	return affected(res, err)
}
