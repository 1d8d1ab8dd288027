package access_test

import (
	"crypto/hmac"
	"crypto/sha1"
	"encoding/base32"
	"encoding/binary"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/service/access"
	"oakenlatch/service/refusal"
	"oakenlatch/test/pace"
)

// codeAt is an authenticator app, written from RFC 4226 section 5.3 and RFC 6238 section 4, that shares
// nothing with the service.
func codeAt(t *testing.T, secret string, at time.Time) string {
	t.Helper()
	key, err := base32.StdEncoding.WithPadding(base32.NoPadding).DecodeString(strings.ToUpper(secret))
	require.NoError(t, err)
	var counter [8]byte
	binary.BigEndian.PutUint64(counter[:], uint64(at.Unix()/30))
	mac := hmac.New(sha1.New, key)
	mac.Write(counter[:])
	sum := mac.Sum(nil)
	offset := sum[len(sum)-1] & 15
	return fmt.Sprintf("%06d", (binary.BigEndian.Uint32(sum[offset:])&0x7fffffff)%1_000_000)
}

func TestApp(t *testing.T) {
	t.Parallel()
	// RFC 6238, appendix B, in six digits.
	for at, want := range map[int64]string{59: "287082", 1111111109: "081804", 20000000000: "353130"} {
		assert.Equal(
			t, want, codeAt(t, base32.StdEncoding.EncodeToString([]byte("12345678901234567890")), time.Unix(at, 0)),
		)
	}
}

func (r *room) sealed(t *testing.T) *room {
	t.Helper()
	var err error
	r.opt.Sealer, err = access.OpenSealer(filepath.Join(t.TempDir(), "key"))
	require.NoError(t, err)
	r.reopen(t)
	return r
}

// in signs somebody in, with a second factor where they are asked.
func (r *room) in(t *testing.T, name, from string, shown ...string) (token string, p access.Person, err error) {
	t.Helper()
	token, _, _, err = r.Login(t.Context(), name, name+"'s password", from, access.Site{})
	var second *access.SecondError
	if len(shown) > 0 {
		require.ErrorAs(t, err, &second)
		require.False(t, second.Anew)
		for _, code := range shown {
			token, _, _, err = r.LoginSecond(t.Context(), second.Ticket, access.Shown{Code: code}, from)
		}
	}
	if err != nil {
		return "", p, err
	}
	p, err = r.Who(t.Context(), token, from)
	require.NoError(t, err)
	return token, p, nil
}

// app sets an app up for somebody who is signed in.
func (r *room) app(t *testing.T, token string, p access.Person) (secret string, codes []string) {
	t.Helper()
	begun, err := r.BeginFactor(
		t.Context(), p, token, access.CodeFactor, "phone", p.Name+"'s password", "here", access.Site{},
	)
	require.NoError(t, err)
	_, codes, err = r.AddFactor(
		t.Context(), p, token, begun.Ticket, access.Shown{Code: codeAt(t, begun.Secret, r.clock)},
	)
	require.NoError(t, err)
	return begun.Secret, codes
}

func TestSecondFactor(t *testing.T) {
	t.Parallel()
	r := open(t).sealed(t)
	r.add(t, "mara", "read,stage")
	other, _, err := r.in(t, "mara", "elsewhere")
	require.NoError(t, err)
	token, p, err := r.in(t, "mara", "here")
	require.NoError(t, err)

	// It is set up by whoever knows the password, and shows a code; nothing is half set up.
	_, err = r.BeginFactor(t.Context(), p, token, access.CodeFactor, "phone", "not her password", "here", access.Site{})
	require.ErrorContains(t, err, "the password is wrong")
	begun, err := r.BeginFactor(
		t.Context(), p, token, access.CodeFactor, "phone", "mara's password", "here", access.Site{},
	)
	require.NoError(t, err)
	assert.Equal(
		t,
		"otpauth://totp/Oaken%20Latch:mara?algorithm=SHA1&digits=6&issuer=Oaken%20Latch&period=30&secret="+begun.Secret,
		begun.URI,
	)
	_, _, err = r.AddFactor(t.Context(), p, other, begun.Ticket, access.Shown{Code: codeAt(t, begun.Secret, r.clock)})
	require.ErrorContains(t, err, "you are not setting up", "another session's")
	begun, err = r.BeginFactor(
		t.Context(), p, token, access.CodeFactor, "phone", "mara's password", "here", access.Site{},
	)
	require.NoError(t, err)
	_, _, err = r.AddFactor(t.Context(), p, token, begun.Ticket, access.Shown{Code: "000000"})
	require.ErrorContains(t, err, "here it is 02:00:00 UTC")
	_, _, err = r.in(t, "mara", "here")
	require.NoError(t, err, "not set up yet")
	_, codes, err := r.AddFactor(
		t.Context(), p, token, begun.Ticket, access.Shown{Code: codeAt(t, begun.Secret, r.clock)},
	)
	require.NoError(t, err)
	require.Len(t, codes, 10)
	_, err = r.Who(t.Context(), other, "elsewhere")
	require.ErrorIs(t, err, access.ErrEnded, "a session that began without it")

	// The password alone is not enough, a wrong code is not, and one that was used is not.
	_, _, err = r.in(t, "mara", "here")
	require.ErrorContains(t, err, "with a second factor, too")
	next := codeAt(t, begun.Secret, r.clock.Add(30*time.Second))
	_, p, err = r.in(t, "mara", "here", "000000", next)
	require.NoError(t, err)
	assert.Equal(t, 1, p.Factors)
	_, _, err = r.in(t, "mara", "here", next)
	require.ErrorIs(t, err, access.ErrShown)
	_, _, err = r.in(t, "mara", "here", codeAt(t, begun.Secret, r.clock))
	require.ErrorIs(t, err, access.ErrShown, "an older step than one that was taken")
	r.reopen(t)
	_, _, err = r.in(t, "mara", "here", next)
	require.ErrorIs(t, err, access.ErrShown, "what was used is on record")
	r.clock = r.clock.Add(time.Minute)
	_, _, err = r.in(t, "mara", "here", codeAt(t, begun.Secret, r.clock.Add(-90*time.Second)))
	require.ErrorIs(t, err, access.ErrShown)
	_, _, err = r.in(t, "mara", "here", codeAt(t, begun.Secret, r.clock))
	require.NoError(t, err)

	// A recovery code lets in once; a ticket that was answered, or is old, does not.
	_, _, err = r.in(t, "mara", "here", strings.ToUpper(codes[3]))
	require.NoError(t, err)
	_, _, err = r.in(t, "mara", "here", codes[3])
	require.ErrorIs(t, err, access.ErrShown)
	_, _, _, err = r.Login(t.Context(), "mara", "mara's password", "here", access.Site{})
	var second *access.SecondError
	require.ErrorAs(t, err, &second)
	assert.Equal(t, []string{"code", "recovery"}, second.Ways)
	_, _, _, err = r.LoginSecond(t.Context(), second.Ticket, access.Shown{Code: codes[4]}, "here")
	require.NoError(t, err)
	_, _, _, err = r.LoginSecond(t.Context(), second.Ticket, access.Shown{Code: codes[5]}, "here")
	require.ErrorContains(t, err, "you were not asked for that")
	_, _, _, err = r.Login(t.Context(), "mara", "mara's password", "here", access.Site{})
	require.ErrorAs(t, err, &second)
	r.clock = r.clock.Add(6 * time.Minute)
	_, _, _, err = r.LoginSecond(t.Context(), second.Ticket, access.Shown{Code: codes[5]}, "here")
	require.ErrorContains(t, err, "more than five minutes ago")
	list, left, err := r.Factors(t.Context(), "mara")
	require.NoError(t, err)
	assert.Len(t, list, 1)
	assert.Equal(t, 8, left)

	// Nothing of it stands open in the records.
	assert.NotContains(t, string(list[0].Secret), begun.Secret)
}

// Whoever knows the password cannot try codes as fast as they like, from wherever they come.
func TestCodesAreSlowed(t *testing.T) {
	t.Parallel()
	pace.Long(t)
	r := open(t).sealed(t)
	r.add(t, "mara", "read")
	token, p, err := r.in(t, "mara", "here")
	require.NoError(t, err)
	secret, _ := r.app(t, token, p)
	looked, slow := 0, 0
	for i := range 30 {
		_, _, err := r.in(t, "mara", fmt.Sprintf("198.51.100.%d", i), "123456")
		var wait *access.ThrottledError
		switch {
		case errors.As(err, &wait):
			slow++
		default:
			require.ErrorIs(t, err, access.ErrShown)
			looked++
		}
	}
	assert.Equal(t, []int{3, 27}, []int{looked, slow}, "tries that were looked at, and not")

	// Many at once are no more.
	r.clock = r.clock.Add(time.Hour)
	var tickets []string
	for range 20 {
		_, _, _, err := r.Login(t.Context(), "mara", "mara's password", "here", access.Site{})
		var second *access.SecondError
		require.ErrorAs(t, err, &second)
		tickets = append(tickets, second.Ticket)
	}
	var wg sync.WaitGroup
	var at atomic.Int32
	for _, ticket := range tickets {
		wg.Go(func() {
			_, _, _, err := r.LoginSecond(t.Context(), ticket, access.Shown{Code: "654321"}, "here")
			if errors.Is(err, access.ErrShown) {
				at.Add(1)
			}
		})
	}
	wg.Wait()
	assert.Equal(t, int32(3), at.Load())
	r.clock = r.clock.Add(time.Hour)
	_, _, err = r.in(t, "mara", "here", codeAt(t, secret, r.clock))
	require.NoError(t, err)
}

func TestHasToHaveOne(t *testing.T) {
	t.Parallel()
	r := open(t).sealed(t)
	var err error
	r.opt.Second, err = access.ParseNeeds("administer, approve")
	require.NoError(t, err)
	r.reopen(t)
	_, err = access.ParseNeeds("admin")
	require.ErrorContains(t, err, `"admin" is no role`)
	r.add(t, "mara", "read,stage")
	r.add(t, "boss", "read", "administer@site=Saltern")
	_, mara, err := r.in(t, "mara", "here")
	require.NoError(t, err)
	require.NoError(t, mara.Fits(access.Need{Role: access.Stage}))
	token, boss, err := r.in(t, "boss", "here")
	require.NoError(t, err)
	for _, n := range []access.Need{{}, {Role: access.Read}, {Role: access.Administer}, {Fresh: true}} {
		require.ErrorContains(t, boss.Fits(n), "has to have a second factor, and has none yet", n)
	}
	require.NoError(t, boss.Fits(access.Need{Lacking: true}))
	r.app(t, token, boss)
	boss, err = r.Who(t.Context(), token, "here")
	require.NoError(t, err)
	require.NoError(t, boss.Fits(access.Need{Role: access.Administer}))
	list, _, err := r.Factors(t.Context(), "boss")
	require.NoError(t, err)
	require.ErrorContains(t, r.DropFactor(t.Context(), boss, list[0].ID), "this is its last")
	require.ErrorContains(t, r.DropFactor(t.Context(), boss, "none"), "no second factor")
}

// What is grave asks for it anew.
func TestFresh(t *testing.T) {
	t.Parallel()
	r := open(t).sealed(t)
	r.add(t, "boss", "administer,read")
	token, boss, err := r.in(t, "boss", "here")
	require.NoError(t, err)
	require.NoError(t, r.Fresh(t.Context(), boss, token, access.Site{}), "who has none is not asked")
	secret, codes := r.app(t, token, boss)
	who := func() access.Person {
		p, err := r.Who(t.Context(), token, "here")
		require.NoError(t, err)
		return p
	}
	require.NoError(t, r.Fresh(t.Context(), who(), token, access.Site{}), "it was shown just now")
	machine, _, err := r.AddToken(t.Context(), who(), access.NewToken{Name: "nightly", Until: r.clock.Add(time.Hour)})
	require.NoError(t, err)
	bot, err := r.Who(t.Context(), machine, "here")
	require.NoError(t, err)
	require.ErrorContains(
		t, r.Fresh(t.Context(), bot, machine, access.Site{}), "a machine's token shows no second factor",
	)
	r.clock = r.clock.Add(5*time.Minute + time.Second)
	var second *access.SecondError
	require.ErrorAs(t, r.Fresh(t.Context(), who(), token, access.Site{}), &second)
	assert.True(t, second.Anew)
	ticket := second.Ticket
	_, _, _, err = r.LoginSecond(t.Context(), ticket, access.Shown{Code: codes[0]}, "here")
	require.ErrorContains(t, err, "you were not asked for that at sign-in", "it lets nobody in")
	require.ErrorAs(t, r.Fresh(t.Context(), who(), token, access.Site{}), &second)
	r.add(t, "joss", "read")
	jtoken, joss, err := r.in(t, "joss", "here")
	require.NoError(t, err)
	require.ErrorContains(
		t, r.Prove(t.Context(), joss, jtoken, second.Ticket, access.Shown{Code: codes[0]}, "here"), "it was not you",
	)
	require.ErrorIs(t, r.Prove(t.Context(), who(), token, "", access.Shown{Code: "000000"}, "here"), access.ErrShown)
	require.ErrorAs(t, r.Fresh(t.Context(), who(), token, access.Site{}), &second)
	require.ErrorIs(
		t, r.Prove(t.Context(), who(), token, second.Ticket, access.Shown{Code: "111111"}, "here"), access.ErrShown,
	)
	require.NoError(
		t, r.Prove(t.Context(), who(), token, second.Ticket, access.Shown{Code: codeAt(t, secret, r.clock)}, "here"),
		"once more, with what was asked",
	)
	require.NoError(t, r.Fresh(t.Context(), who(), token, access.Site{}))

	// Somebody who lost theirs; the key rotated; the key lost.
	require.NoError(t, r.ResetFactors(t.Context(), "admin", "boss"))
	_, err = r.Who(t.Context(), token, "here")
	require.ErrorIs(t, err, access.ErrEnded)
	token, boss, err = r.in(t, "boss", "here")
	require.NoError(t, err)
	secret, _ = r.app(t, token, boss)
	file := filepath.Join(t.TempDir(), "key")
	var no *refusal.Error
	_, err = r.NewRecovery(t.Context(), joss)
	require.ErrorAs(t, err, &no)
	r.opt.Sealer, err = access.OpenSealer(file)
	require.NoError(t, err)
	r.reopen(t)
	_, _, err = r.in(t, "boss", "here", codeAt(t, secret, r.clock))
	require.ErrorContains(t, err, "does not open with this key file")
	_, err = access.Forget(t.Context(), r.log, file)
	require.NoError(t, err)
	_, _, err = r.in(t, "boss", "here")
	require.NoError(t, err, "nobody is locked out by a key that is lost")
}

// Who knows a password and asks without end pushes nobody else's sign-in off the list.
func TestAskingWithoutEnd(t *testing.T) {
	t.Parallel()
	pace.Long(t)
	r := open(t).sealed(t)
	begin := func(name string) string {
		t.Helper()
		_, _, _, err := r.Login(t.Context(), name, name+"'s password", "here", access.Site{})
		var second *access.SecondError
		require.ErrorAs(t, err, &second)
		r.clock = r.clock.Add(time.Millisecond)
		return second.Ticket
	}
	codes := map[string][]string{}
	for _, name := range []string{"mara", "joss"} {
		r.add(t, name, "read")
		token, p, err := r.in(t, name, "here")
		require.NoError(t, err)
		_, codes[name] = r.app(t, token, p)
	}
	joss := begin("joss")
	first := begin("mara")
	for range 25 {
		begin("mara")
	}
	newest := begin("mara")
	show := func(ticket, code string) error {
		_, _, _, err := r.LoginSecond(t.Context(), ticket, access.Shown{Code: code}, "here")
		return err
	}
	require.NoError(t, show(joss, codes["joss"][0]))
	require.ErrorContains(t, show(first, codes["mara"][0]), "you were not asked for that", "the oldest of one's own go")
	require.NoError(t, show(newest, codes["mara"][0]))
}
