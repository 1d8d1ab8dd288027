package store

import "context"

// Sealed gives what is kept sealed under a name; ErrNotFound where nothing is.
func (s *Store) Sealed(ctx context.Context, name string) ([]byte, error) {
	return one(
		s.ask(ctx, "SELECT body FROM sealed WHERE name = ?", name),
		func(r scanner) (body []byte, err error) { err = r.Scan(&body); return body, err },
	)
}

// SetSealed keeps something sealed under a name.
func (tx *Tx) SetSealed(name string, body []byte) error {
	_, err := tx.exec("INSERT OR REPLACE INTO sealed (name, body) VALUES (?, ?)", name, body)
	return err
}

// Secret is something that is kept sealed: where it stands, and for what it was
// sealed.
type Secret struct {
	Table, Key string
	Body       []byte
}

// secretTables are where sealed secrets stand: the table, its key and the column.
var secretTables = [][3]string{
	{"devices", "name", "secret"}, {"archives", "name", "secret"}, {"receivers", "name", "secret"},
	{"sealed", "name", "body"}, {"factors", "id", "secret"},
}

// Secrets gives all that is sealed.
func (tx *Tx) Secrets() (out []Secret, err error) {
	for _, t := range secretTables {
		list, err := many(tx.ask(
			"SELECT "+t[1]+", "+t[2]+" FROM "+t[0]+" WHERE length("+t[2]+") > 0 ORDER BY "+t[1],
		), func(r scanner) (s Secret, err error) {
			s.Table = t[0]
			err = r.Scan(&s.Key, &s.Body)
			return s, err
		})
		if err != nil {
			return nil, err
		}
		out = append(out, list...)
	}
	return out, nil
}

// SetSecret puts another sealed text in the place of one.
func (tx *Tx) SetSecret(s Secret) error {
	for _, t := range secretTables {
		if t[0] == s.Table {
			return affected(tx.exec("UPDATE "+t[0]+" SET "+t[2]+" = ? WHERE "+t[1]+" = ?", s.Body, s.Key))
		}
	}
	return ErrNotFound
}

// DropSealed forgets the keys that the service made for itself.
func (tx *Tx) DropSealed() error {
	_, err := tx.exec("DELETE FROM sealed")
	return err
}
