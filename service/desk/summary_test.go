package desk_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/service/desk"
	"oakenlatch/service/order"
	"oakenlatch/service/store"
	"oakenlatch/test/servicetest"
)

// One line says what a change comes to: the count, who reverts it, what is wrong; and whether a commit would be taken
// is the same as what the commit itself says.
func TestSummary(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, router, quay, slip)
	sum := func(n int64) desk.Summary {
		t.Helper()
		list, seen, err := r.Desk.Preview(t.Context(), servicetest.Mara, n, desk.Options{})
		require.NoError(t, err)
		return desk.Sum(list, seen)
	}
	n := open(t, r, servicetest.Mara)
	assert.Equal(t, desk.Summary{Level: desk.NothingToDo, Text: "The change is empty: nothing is staged."}, sum(n))

	put := func(device, path, value string) {
		t.Helper()
		_, err := r.Put(servicetest.Mara, n, device, path, value)
		require.NoError(t, err)
	}
	put(router, "/system/contact", "x")
	assert.Equal(t, desk.Summary{
		Level: desk.AllReady,
		Text: "Ready: 1 change on " + router + ". Unless you confirm, the device reverts it by itself. " +
			"Nothing wrong was found.",
	}, sum(n))
	list, seen, err := r.Desk.Preview(t.Context(), servicetest.Mara, n, desk.Options{By: "mara"})
	require.NoError(t, err)
	assert.Contains(t, desk.Sum(list, seen).Text, "This part alone: 1 change on "+router+".", "a part is never ready")
	put(quay, "/system/contact", "x")
	assert.Contains(t, sum(n).Text, "2 changes on "+router+" and "+quay+". Unless you confirm, each device reverts it")
	put(slip, "/system/contact", "x")
	s := sum(n)
	assert.Equal(t, desk.AllReady, s.Level)
	assert.Contains(
		t, s.Text, "Ready: 3 changes on 3 devices. Unless you confirm, the device reverts it by itself on "+
			router+", "+quay+"; only this service can revert it on "+slip+".",
	)
	put(router, "/interfaces/interface=port3/ipv4/address=10.64.0.1/prefix-length", "30")
	s = sum(n)
	assert.Equal(t, desk.WithCare, s.Level, "the address is on port1 already")
	assert.Contains(t, s.Text, "Ready, with care: 4 changes on 3 devices.")
	assert.Contains(t, s.Text, "2 need a second look.")
	assert.Contains(
		t, s.Trouble[0].Text+s.Trouble[1].Text, "whether it keeps management access is not known",
		"an address moves, and nobody told how the device is seen",
	)

	put(router, "/interfaces/interface=port9/description", "no type")
	s = sum(n)
	assert.Equal(t, desk.NotReady, s.Level)
	assert.Equal(
		t, desk.Trouble{
			Stops: true, Device: router, Path: "/interfaces/interface=port9/type", Text: "is mandatory and not set",
		}, s.Trouble[0], "what stops a commit comes first",
	)
	assert.Contains(t, s.Text, "1 thing stops a commit, 2 need a second look.")
	_, err = r.Desk.Ready(t.Context(), store.Everything, n, "mara", order.Order{})
	require.ErrorContains(t, err, "is mandatory and not set")
}

// Edits whose lines later ones all touched again are known as superseded.
func TestSuperseded(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, router)
	n := open(t, r, servicetest.Mara)
	for _, value := range []string{"1400", "1450", "9000"} {
		_, err := r.Put(servicetest.Mara, n, router, mtu, value)
		require.NoError(t, err)
	}
	_, err := r.Put(servicetest.Mara, n, router, "/system/contact", "x")
	require.NoError(t, err)
	v := verdict(t, r, servicetest.Mara, n, router)
	var old []bool
	for _, e := range v.Edits {
		old = append(old, v.Superseded(e.ID))
	}
	assert.Equal(t, []bool{true, true, false, false}, old)
}
