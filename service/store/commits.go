package store

import (
	"context"
	"time"
)

// CommitQuery selects commits; zero fields select all.
type CommitQuery struct {
	Person       string // who committed, confirmed, staged, or is the author
	Device       int64
	Change       int64
	Since, Until time.Time // of their beginning
	Before       int64     // only those with a smaller number
	Limit        int
}

// Commits lists commits, newest first.
func (s *Store) Commits(ctx context.Context, q CommitQuery) ([]Commit, error) {
	until := "9999"
	if !q.Until.IsZero() {
		until = timeText(q.Until)
	}
	return s.wholeCommits(s.ask(ctx, "SELECT "+commitColumns+` FROM commits c WHERE
		(?1 = '' OR c.actor = ?1 OR json_extract(c.state, '$.by') = ?1 OR c.change IN (SELECT number FROM changes WHERE author = ?1) OR c.change IN (SELECT change FROM edits WHERE actor = ?1))
		AND (?2 = 0 OR c.id IN (SELECT commit_id FROM commit_parts WHERE device = ?2))
		AND (?3 = 0 OR c.change = ?3) AND c.started_at >= ?4 AND c.started_at <= ?5 AND (?6 = 0 OR c.id < ?6)
		ORDER BY c.id DESC LIMIT ?7`, q.Person, q.Device, q.Change, timeText(q.Since), until, q.Before, q.Limit))
}

// Commit gives a commit by its number.
func (s *Store) Commit(ctx context.Context, id int64) (Commit, error) {
	c, err := one(s.ask(ctx, "SELECT "+commitColumns+" FROM commits WHERE id = ?", id), scanCommit)
	if err == nil {
		c.Parts, err = s.commitParts(ctx, c.ID)
	}
	return c, err
}
