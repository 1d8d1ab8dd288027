package store

import (
	"context"
	"fmt"
)

// Use is what points at a kept configuration.
type Use struct {
	Device   string
	DeviceID int64
	Kind     string // revision, startup, snapshot, or change (what a commit found or made)
	Number   int64
}

// String names it for a person.
func (u Use) String() string { return fmt.Sprintf("%s %s %d", u.Device, u.Kind, u.Number) }

// UsesOf lists what points at a configuration, ten of it at most.
func (s *Store) UsesOf(ctx context.Context, digest string) ([]Use, error) {
	return many(s.ask(ctx, `SELECT d.name, d.id, kind, n FROM (
			SELECT device, 'revision' AS kind, number AS n FROM revisions WHERE digest = ?1
			UNION ALL SELECT device, 'startup', number FROM startup_revisions WHERE digest = ?1
			UNION ALL SELECT device, 'snapshot', snapshot FROM snapshot_items WHERE digest = ?1 OR startup = ?1
			UNION ALL SELECT p.device, 'change', c.change FROM commit_parts p JOIN commits c ON c.id = p.commit_id WHERE p.base = ?1 OR p.result = ?1
		) JOIN devices d ON d.id = device ORDER BY kind = 'revision' DESC, d.name, n LIMIT 10`, digest).unremembered(),
		func(r scanner) (u Use, err error) {
			err = r.Scan(&u.Device, &u.DeviceID, &u.Kind, &u.Number)
			return u, err
		})
}

// ConfigDigests lists all kept configurations, run by run in their order.
func (s *Store) ConfigDigests(ctx context.Context) ([]string, error) {
	return many(
		s.ask(ctx, "SELECT digest FROM configs ORDER BY run, place").unremembered(),
		func(r scanner) (t string, err error) { err = r.Scan(&t); return t, err },
	)
}

// MendConfig keeps a configuration whole in the place of one that is damaged. Others of its
// run are made of what stood there, and stay as they are.
func (tx *Tx) MendConfig(digest string, body []byte) error {
	return affected(
		tx.exec("UPDATE configs SET run = NULL, place = 0, body = ? WHERE digest = ?", tx.s.dense(body), digest),
	)
}
