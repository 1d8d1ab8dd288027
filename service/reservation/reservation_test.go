package reservation_test

import (
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/service/access"
	"oakenlatch/service/order"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/test/pace"
	"oakenlatch/test/servicetest"
)

const quay = "saltern-quay"

func TestMain(m *testing.M) { pace.Waiting(m) }

func kind(err error) refusal.Kind {
	var no *refusal.Error
	if errors.As(err, &no) {
		return no.Kind
	}
	return ""
}

func TestReservations(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, quay)
	c, err := r.Desk.Open(t.Context(), servicetest.Mara, "a change", "")
	require.NoError(t, err)
	n := c.Number
	_, err = r.Put(servicetest.Mara, n, quay, "/system/contact", "mine")
	require.NoError(t, err)
	reserve := func(p access.Person, reason string, d time.Duration) error {
		_, err := r.Reservations.Reserve(t.Context(), p, quay, reason, d)
		return err
	}
	assert.Equal(t, refusal.Invalid, kind(reserve(servicetest.Joss, "", time.Hour)))
	assert.Equal(t, refusal.Invalid, kind(reserve(servicetest.Joss, "x", 30*24*time.Hour)))
	works := r.Ready("mara", n)
	require.NoError(t, reserve(servicetest.Joss, "new fibre", time.Hour))
	require.NoError(t, reserve(servicetest.Joss, "new fibre, longer", 2*time.Hour), "one's own is moved")
	require.ErrorContains(t, reserve(servicetest.Mara, "me too", time.Hour), "is reserved by joss until")
	_, err = r.Desk.Ready(t.Context(), store.Everything, n, "mara", order.Order{})
	require.ErrorContains(t, err, "is reserved by joss")
	err = r.Begin("mara", n, order.Order{Hold: time.Minute}, works)
	require.ErrorContains(t, err, "is reserved by joss", "also one that was reserved since it was looked at")
	_, err = r.Reservations.Ask(t.Context(), servicetest.Mara, quay, "when?")
	require.NoError(t, err)
	list, err := r.Reservations.List(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "when?", list[0].Asks[0].Text)
	require.ErrorContains(t, r.Reservations.Release(t.Context(), servicetest.Mara, quay), "is reserved by joss")
	admin := access.Person{Name: "admin", Grants: servicetest.Admin}
	require.NoError(t, r.Reservations.Release(t.Context(), admin, quay))
	entries := r.Found(5, "device:%v who:admin", quay)
	assert.Contains(t, entries[0].Note, "lifted by an administrator; it was reserved by joss: new fibre, longer")
	require.NoError(t, reserve(servicetest.Joss, "a minute", time.Minute))
	r.SetClock(2 * time.Minute)
	r.Keep(servicetest.Mara, n) // it ran out
	assert.Equal(t, "mine", r.Value(quay, "/system/contact"))
}

// A reservation and what is asked of its holder are bounded, and refused with what would be right; a device out of
// reach is not there.
func TestReservationsRefused(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, quay)
	ctx := t.Context()
	long := strings.Repeat("å", 501)
	_, err := r.Reservations.Reserve(ctx, servicetest.Joss, quay, long, time.Hour)
	require.ErrorContains(t, err, "a reason of 1 to 500 characters")
	_, err = r.Reservations.Reserve(ctx, servicetest.Joss, quay, strings.Repeat("å", 500), time.Hour)
	require.NoError(t, err)
	_, err = r.Reservations.Ask(ctx, servicetest.Mara, quay, long)
	assert.Equal(t, refusal.Invalid, kind(err))
	_, err = r.Reservations.Ask(ctx, servicetest.Joss, quay, "myself")
	require.ErrorContains(t, err, "is reserved by yourself")
	for _, device := range []string{"none", ""} {
		_, err = r.Reservations.Reserve(ctx, servicetest.Joss, device, "x", time.Hour)
		assert.Equal(t, refusal.NotFound, kind(err), device)
	}
	nobody := access.Person{Name: "joss"}
	_, err = r.Reservations.Reserve(ctx, nobody, quay, "x", time.Hour)
	assert.Equal(t, refusal.NotFound, kind(err), "what is out of reach is not there")
	require.NoError(t, r.Reservations.Release(ctx, servicetest.Joss, quay))
	err = r.Reservations.Release(ctx, servicetest.Joss, quay)
	require.Error(t, err)
	list, err := r.Reservations.List(ctx)
	require.NoError(t, err)
	assert.Empty(t, list)
}
