package store

import (
	"context"
	"time"
)

// Account is a person's account.
type Account struct {
	Name    string
	Hash    string // of the password
	Role    string // admin, operator, viewer
	Created time.Time
}

func scanAccount(r scanner) (Account, error) {
	var a Account
	var at string
	err := r.Scan(&a.Name, &a.Hash, &a.Role, &at)
	if err == nil {
		a.Created, err = parseTime(at)
	}
	return a, err
}

// Account gives an account by name.
func (s *Store) Account(ctx context.Context, name string) (Account, error) {
	return one(s.row(ctx, "SELECT name, hash, role, created_at FROM accounts WHERE name = ?", name), scanAccount)
}

// Accounts lists all accounts by name.
func (s *Store) Accounts(ctx context.Context) ([]Account, error) {
	rows, err := s.rows(ctx, "SELECT name, hash, role, created_at FROM accounts ORDER BY name")
	return many(rows, err, scanAccount)
}

// AddAccount adds an account; ErrExists where the name is taken.
func (tx *Tx) AddAccount(a Account) error {
	res, err := tx.exec("INSERT INTO accounts (name, hash, role, created_at) VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING",
		a.Name, a.Hash, a.Role, timeText(a.Created))
	return inserted(res, err)
}

// AddToken keeps a token by its hash.
func (tx *Tx) AddToken(hash, account string, created, expires time.Time) error {
	_, err := tx.exec("INSERT INTO tokens (hash, account, created_at, expires_at) VALUES (?, ?, ?, ?)",
		hash, account, timeText(created), timeText(expires))
	return err
}

// DropToken forgets a token.
func (tx *Tx) DropToken(hash string) error {
	_, err := tx.exec("DELETE FROM tokens WHERE hash = ?", hash)
	return err
}

// TokenAccount gives the account a token belongs to, unless it has expired.
func (s *Store) TokenAccount(ctx context.Context, hash string, now time.Time) (Account, error) {
	return one(s.row(ctx, `SELECT a.name, a.hash, a.role, a.created_at FROM tokens t JOIN accounts a ON a.name = t.account
		WHERE t.hash = ? AND t.expires_at > ?`, hash, timeText(now)), scanAccount)
}
