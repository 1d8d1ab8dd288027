package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"
)

// Stencil is one version of a piece of configuration with blanks. Its text is
// "" once it is retired.
type Stencil struct {
	Name, Text, Note, Actor string
	Version                 int64
	At                      time.Time
}

// Shared is one version of a shared value; it has no items once retired.
type Shared struct {
	Name    string
	Version int64
	Items   []string
	Note    string
	Actor   string
	At      time.Time
}

// Binding is what a stencil sets on a device by a change.
type Binding struct {
	ID                   int64
	Stencil              string
	Device, Change, Edit int64
	Version              int64
	Blanks               map[string]string
	Filled               []byte // XML of what it sets; nil where it was taken off
	Actor                string
	At                   time.Time
}

const stencilColumns = "name, version, text, note, actor, at"

func scanStencil(r scanner) (v Stencil, err error) {
	var at string
	if err = r.Scan(&v.Name, &v.Version, &v.Text, &v.Note, &v.Actor, &at); err == nil {
		v.At, err = parseTime(at)
	}
	return v, err
}

// AddStencil keeps a new version of a stencil, one above the last.
func (tx *Tx) AddStencil(v Stencil) (Stencil, error) {
	err := tx.row(`INSERT INTO stencils (name, version, text, note, actor, at)
		SELECT ?1, coalesce(max(version), 0) + 1, ?2, ?3, ?4, ?5 FROM stencils WHERE name = ?1 RETURNING version`,
		v.Name, v.Text, v.Note, v.Actor, timeText(v.At)).Scan(&v.Version)
	return v, err
}

// StencilVersions lists a stencil's versions, newest first.
func (s *Store) StencilVersions(ctx context.Context, name string) ([]Stencil, error) {
	return many(
		s.ask(ctx, "SELECT "+stencilColumns+" FROM stencils WHERE name = ? ORDER BY version DESC", name), scanStencil,
	)
}

// Stencils lists the newest version of each stencil, by name.
func (s *Store) Stencils(ctx context.Context) ([]Stencil, error) {
	return many(
		s.ask(
			ctx,
			"SELECT "+stencilColumns+" FROM stencils v WHERE version = (SELECT max(version) FROM stencils w WHERE "+
				"w.name = v.name) ORDER BY name",
		),
		scanStencil,
	)
}

func scanShared(r scanner) (v Shared, err error) {
	var at, items string
	if err = r.Scan(&v.Name, &v.Version, &items, &v.Note, &v.Actor, &at); err == nil {
		v.At, err = parseTime(at)
	}
	return v, errors.Join(err, json.Unmarshal([]byte(items), &v.Items))
}

// AddShared keeps a new version of a shared value, one above the last.
func (tx *Tx) AddShared(v Shared) (Shared, error) {
	items, err := json.Marshal(v.Items)
	if err != nil {
		return v, err
	}
	err = tx.row(`INSERT INTO shared_values (name, version, items, note, actor, at)
		SELECT ?1, coalesce(max(version), 0) + 1, ?2, ?3, ?4, ?5 FROM shared_values WHERE name = ?1 RETURNING version`,
		v.Name, string(items), v.Note, v.Actor, timeText(v.At)).Scan(&v.Version)
	return v, err
}

// SharedValues lists the newest version of each shared value, by name.
func (s *Store) SharedValues(ctx context.Context) ([]Shared, error) {
	return many(
		s.ask(
			ctx,
			"SELECT name, version, items, note, actor, at FROM shared_values v WHERE version = (SELECT max(version) "+
				"FROM shared_values w WHERE w.name = v.name) ORDER BY name",
		),
		scanShared,
	)
}

// AddBinding notes what a stencil sets by a change.
func (tx *Tx) AddBinding(b Binding) error {
	blanks, err := json.Marshal(b.Blanks)
	if err != nil {
		return err
	}
	var filled any
	if b.Filled != nil {
		filled = tx.s.compress(b.Filled)
	}
	_, err = tx.exec(
		"INSERT INTO bindings (stencil, device, change, edit, version, blanks, filled, actor, at) VALUES (?, ?, ?, "+
			"?, ?, ?, ?, ?, ?)",
		b.Stencil, b.Device, b.Change, b.Edit, b.Version, string(blanks), filled, b.Actor, timeText(b.At),
	)
	return err
}

const bindingColumns = "b.id, b.stencil, b.device, b.change, b.edit, b.version, b.blanks, b.filled, b.actor, b.at"

func (s *Store) scanBinding(r scanner) (b Binding, err error) {
	var at, blanks string
	var filled []byte
	if err = r.Scan(
		&b.ID, &b.Stencil, &b.Device, &b.Change, &b.Edit, &b.Version, &blanks, &filled, &b.Actor, &at,
	); err != nil {
		return b, err
	}
	var ferr error
	if filled != nil {
		b.Filled, ferr = s.expand(filled)
	}
	b.At, err = parseTime(at)
	return b, errors.Join(err, ferr, json.Unmarshal([]byte(blanks), &b.Blanks))
}

// InForce lists what stencils set on devices by kept changes, or found there
// already (then no edit was staged): of each stencil and device the newest, and not where it was taken off. "" is
// every stencil.
func (s *Store) InForce(ctx context.Context, stencil string) ([]Binding, error) {
	return many(s.ask(ctx, "SELECT "+bindingColumns+` FROM bindings b JOIN changes c ON c.number = b.change
		WHERE (c.state = 'confirmed' OR b.edit = 0) AND b.filled IS NOT NULL AND (?1 = '' OR b.stencil = ?1)
		AND NOT EXISTS (SELECT 1 FROM bindings n JOIN changes d ON d.number = n.change WHERE n.stencil = b.stencil AND n.device = b.device AND n.id > b.id AND (d.state = 'confirmed' OR n.edit = 0))
		ORDER BY b.stencil, b.device`, stencil), s.scanBinding)
}

// BindingsOf lists what stencils set by a change.
func (s *Store) BindingsOf(ctx context.Context, change int64) ([]Binding, error) {
	return many(
		s.ask(ctx, "SELECT "+bindingColumns+" FROM bindings b WHERE b.change = ? ORDER BY b.id", change), s.scanBinding,
	)
}
