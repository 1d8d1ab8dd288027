package access

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/pquerna/otp/hotp"

	"oakenlatch/service/store"
)

// showsCode checks a code: an app's by RFC 6238 with a step either way (section 5.2), each step once, or a
// recovery code.
func (a *Accounts) showsCode(ctx context.Context, account string, list []store.Factor, code string) (string, error) {
	code = strings.ToLower(strings.NewReplacer(" ", "", "-", "").Replace(code))
	if len(code) > 6 {
		return a.recovers(ctx, account, code)
	}
	now := a.log.Now()
	for _, f := range list {
		if f.Kind != CodeFactor {
			continue
		}
		secret, err := a.opt.Sealer.Open(f.Secret, Purpose("factors", f.ID))
		if err != nil {
			return "", err
		}
		at := stepOf(string(secret), code, now)
		if at == 0 || at <= f.Step || !a.asking.step(f.ID, at) {
			continue
		}
		f.Used, f.Step = now, at
		if err := a.note(ctx, "a code", func(tx *store.Tx) error { return tx.UseFactor(f) }); err != nil {
			return "", err
		}
		return "a code of " + f.Name, nil
	}
	return "", ErrShown
}

// stepOf gives the step of time that a code is of, 0 where it is of none near now.
func stepOf(secret, code string, now time.Time) int64 {
	at := now.Unix() / factorPeriod
	for _, step := range []int64{at, at - 1, at + 1} {
		want, err := hotp.GenerateCode(secret, uint64(step))
		if err == nil && hmac.Equal([]byte(want), []byte(code)) {
			return step
		}
	}
	return 0
}

func (a *Accounts) recovers(ctx context.Context, account, code string) (string, error) {
	hash := recoveryHash(account, code)
	left, err := a.store.Recovery(ctx, account)
	if err != nil {
		return "", err
	}
	if !slices.Contains(left, hash) || !a.asking.spend(hash) {
		return "", ErrShown
	}
	if err := a.note(
		ctx, "a recovery code", func(tx *store.Tx) error { return tx.UseRecovery(account, hash) },
	); err != nil {
		return "", err
	}
	return fmt.Sprintf("a recovery code, %d are left", len(left)-1), nil
}

// recoveryHash is how a recovery code is kept. It is random with 80 bits: nobody guesses it from its hash.
func recoveryHash(account, code string) string { return digest(account + " recovers with " + code) }

// newRecovery makes recovery codes: as they are shown, and as they are kept.
func newRecovery(account string) (codes, hashes []string) {
	for range recoveries {
		code := strings.ToLower(rand.Text()[:16])
		codes = append(codes, strings.Join([]string{code[:4], code[4:8], code[8:12], code[12:]}, "-"))
		hashes = append(hashes, recoveryHash(account, code))
	}
	return codes, hashes
}
