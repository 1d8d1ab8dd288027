package store

import (
	"context"
	"errors"
	"time"
)

// Factor is something that a person shows beside their password.
type Factor struct {
	ID, Account string
	Kind        string // code or passkey
	Name        string
	Secret      []byte // sealed
	Created     time.Time
	Used        time.Time // zero is never
	Step        int64     // of a code: the last step of time (RFC 6238) of which one was taken
}

// Factors lists the second factors of an account, the oldest first.
func (s *Store) Factors(ctx context.Context, account string) ([]Factor, error) {
	return many(s.ask(
		ctx,
		"SELECT id, account, kind, name, secret, created, used, step FROM factors WHERE account = ? ORDER BY "+
			"created, id",
		account,
	), func(r scanner) (f Factor, err error) {
		var created, used string
		if err := r.Scan(&f.ID, &f.Account, &f.Kind, &f.Name, &f.Secret, &created, &used, &f.Step); err != nil {
			return f, err
		}
		var cerr, uerr error
		f.Created, cerr = parseTime(created)
		f.Used, uerr = parseTime(used)
		return f, errors.Join(cerr, uerr)
	})
}

// AddFactor keeps a second factor.
func (tx *Tx) AddFactor(f Factor) error {
	tx.forgets = true
	_, err := tx.exec(
		"INSERT INTO factors (id, account, kind, name, secret, created) VALUES (?, ?, ?, ?, ?, ?)", f.ID, f.Account,
		f.Kind, f.Name, f.Secret, timeText(f.Created),
	)
	return err
}

// UseFactor notes that a factor was shown; ErrNotFound where a code of that step, or a later one, was
// taken before, or the factor is gone.
func (tx *Tx) UseFactor(f Factor) error {
	return affected(
		tx.exec(
			"UPDATE factors SET secret = ?, used = ?, step = ? WHERE id = ? AND (kind <> 'code' OR step < ?)", f.Secret,
			timeText(f.Used), f.Step, f.ID, f.Step,
		),
	)
}

// DropFactor forgets an account's factor; ErrNotFound where it has none such.
func (tx *Tx) DropFactor(account, id string) error {
	tx.forgets = true
	return affected(tx.exec("DELETE FROM factors WHERE account = ? AND id = ?", account, id))
}

// LoseFactor forgets a factor, whosever it is.
func (tx *Tx) LoseFactor(id string) error {
	tx.forgets = true
	return affected(tx.exec("DELETE FROM factors WHERE id = ?", id))
}

// DropFactors forgets all factors of an account, and its recovery codes.
func (tx *Tx) DropFactors(account string) error {
	tx.forgets = true
	_, err := tx.exec("DELETE FROM factors WHERE account = ?", account)
	return errors.Join(err, tx.SetRecovery(account, nil))
}

// CountFactors tells how many second factors an account has.
func (tx *Tx) CountFactors(account string) (int, error) {
	return one(tx.ask("SELECT count(*) FROM factors WHERE account = ?", account), scanCount)
}

func scanCount(r scanner) (n int, err error) { err = r.Scan(&n); return n, err }

// SetRecovery puts other recovery codes, by their hashes, in the place of an account's.
func (tx *Tx) SetRecovery(account string, hashes []string) error {
	_, err := tx.exec("DELETE FROM recovery_codes WHERE account = ?", account)
	for _, h := range hashes {
		if err == nil {
			_, err = tx.exec("INSERT INTO recovery_codes (account, hash) VALUES (?, ?)", account, h)
		}
	}
	return err
}

// Recovery gives the hashes of the recovery codes that an account has left.
func (s *Store) Recovery(ctx context.Context, account string) ([]string, error) {
	return many(
		s.ask(ctx, "SELECT hash FROM recovery_codes WHERE account = ?", account),
		func(r scanner) (h string, err error) { err = r.Scan(&h); return h, err },
	)
}

// UseRecovery uses up a recovery code; ErrNotFound where it is none, or was used.
func (tx *Tx) UseRecovery(account, hash string) error {
	return affected(tx.exec("DELETE FROM recovery_codes WHERE account = ? AND hash = ?", account, hash))
}

// SetProven notes when a session's person showed a second factor.
func (tx *Tx) SetProven(token string, at time.Time) error {
	return affected(tx.exec("UPDATE tokens SET proven = ? WHERE hash = ?", timeText(at), token))
}
