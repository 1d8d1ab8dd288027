package access

import (
	"strings"
	"unicode/utf8"

	"github.com/trustelem/zxcvbn"

	"oakenlatch/service/refusal"
)

// What a password has to be (NIST SP 800-63B, 3.1.1.2): long, and none of those that are tried first.
// Of what characters it is made is nobody's business.
const (
	leastPassword = 12   // characters
	mostPassword  = 1024 // bytes
	leastBeside   = 8    // characters beside the account's name
	leastGuesses  = 1e6  // below that one is found by trying at the door, however slowed
	looksAt       = 100  // bytes of it that are looked at: more costs time, and is not guessed anyway
)

// sound refuses a password that is too short, or that others would try early.
func sound(account, password string) error {
	if n := utf8.RuneCountInString(password); n < leastPassword || len(password) > mostPassword {
		return refusal.New(
			refusal.Invalid, "some words that come to nobody else's mind do well",
			"a password has at least %d characters, and at most %d bytes; this one has %d characters", leastPassword,
			mostPassword, n,
		)
	}
	rest := strings.ReplaceAll(strings.ToLower(password), strings.ToLower(account), "")
	if account != "" && utf8.RuneCountInString(rest) < leastBeside {
		return refusal.New(
			refusal.Invalid, "some words that come to nobody else's mind do well",
			"that password is little but the account's name",
		)
	}
	known := append(
		[]string{account, "oaken", "latch", "oakenlatch"},
		strings.FieldsFunc(account, func(r rune) bool { return strings.ContainsRune("._-", r) })...,
	)
	if zxcvbn.PasswordStrength(password[:min(len(password), looksAt)], known).Guesses < leastGuesses {
		return refusal.New(
			refusal.Invalid, "some words that come to nobody else's mind do well",
			"that password is among those that are tried first",
		)
	}
	return nil
}
