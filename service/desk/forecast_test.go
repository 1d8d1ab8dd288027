package desk_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/advice"
	"oakenlatch/core/guard"
	"oakenlatch/core/lockout"
	"oakenlatch/lab"
	"oakenlatch/service/audit"
	"oakenlatch/service/desk"
	"oakenlatch/service/order"
	"oakenlatch/service/store"
	"oakenlatch/test/pace"
	"oakenlatch/test/servicetest"
)

// see tells the service how a device is seen from the network, as a person does.
func see(t *testing.T, r *servicetest.Room, device string) {
	t.Helper()
	d, err := r.Store.Device(t.Context(), store.Everything, device)
	require.NoError(t, err)
	m := r.Devices[device].Spec.Management
	require.NoError(
		t, r.Log.Write(t.Context(), func(tx *audit.Tx) error { return tx.SetSeen(d.ID, m.Address.String(), "", "") }),
	)
}

// The forecast of a preview, and what a commit asks where nobody could send the
// device back.
func TestForecast(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, quay, slip)
	n := open(t, r, servicetest.Mara)
	_, err := r.Put(servicetest.Mara, n, quay, "/interfaces/interface=mgmt0/enabled", "false")
	require.NoError(t, err)
	assert.Equal(
		t, lockout.Unknown, verdict(t, r, servicetest.Mara, n, quay).Forecasts[0].Answer, "nobody told how it is seen",
	)
	see(t, r, quay)
	see(t, r, slip)
	v := verdict(t, r, servicetest.Mara, n, quay)
	assert.Equal(t, lockout.Cuts, v.Forecasts[0].Answer)
	assert.Equal(t, "/interfaces/interface=mgmt0/enabled", v.Forecasts[0].Path)
	assert.False(t, v.Helpless(), "the device itself reverts")
	m := open(t, r, servicetest.Mara)
	_, err = r.Put(servicetest.Mara, m, slip, "/interfaces/interface=mgmt0/enabled", "false")
	require.NoError(t, err)
	_, err = r.Desk.Ready(t.Context(), store.Everything, m, "mara", order.Order{})
	require.ErrorContains(t, err, "say so with the device's name")
	assert.Equal(t, map[string]string{"change": "2", "device": slip}, next(err, advice.CommitCutOff))
	_, err = r.Desk.Ready(t.Context(), store.Everything, m, "mara", order.Order{CutOff: []string{slip}})
	require.NoError(t, err)
}

// The management address moves on purpose: it is proved that the device is reached at the new
// one, and once kept the device is reached there. Not there, it reverts.
func TestReaddress(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	r := servicetest.New(t, quay)
	see(t, r, quay)
	d := r.Devices[quay]
	var other string
	for a := range d.Spec.Management.Others {
		other = a.String()
	}
	stage := func(moved string) int64 {
		n := open(t, r, servicetest.Mara)
		_, err := r.Put(
			servicetest.Mara, n, quay, "/interfaces/interface=mgmt0/ipv4/address="+moved+"/prefix-length", "24",
		)
		require.NoError(t, err)
		_, err = r.Stage(
			servicetest.Mara, n, quay,
			desk.Act{Op: "delete", Path: "/interfaces/interface=mgmt0/ipv4/address=192.0.2.12"},
		)
		require.NoError(t, err)
		for a := range d.Spec.Management.Others {
			require.NoError(t, r.Desk.Readdress(t.Context(), servicetest.Mara, n, quay, d.At(a), a.String()))
		}
		return n
	}
	wrong := stage("192.0.2.99") // nobody carries that one there
	works := r.Ready("mara", wrong)
	assert.Equal(t, lockout.Cuts, verdict(t, r, servicetest.Mara, wrong, quay).Forecasts[0].Answer)
	require.NoError(t, r.Begin("mara", wrong, order.Order{Hold: 12 * time.Second}, works))
	r.Until(wrong, guard.Done)
	c, err := r.Store.Change(t.Context(), wrong)
	require.NoError(t, err)
	assert.EqualValues(t, "reverted", c.State, c.Reason)
	dev, err := r.Store.Device(t.Context(), store.Everything, quay)
	require.NoError(t, err)
	assert.Empty(t, dev.MovingTo)
	assert.Equal(t, d.Address, dev.Address)

	n := stage(other)
	assert.Equal(t, lockout.Keeps, verdict(t, r, servicetest.Mara, n, quay).Forecasts[0].Answer)
	r.Keep(servicetest.Mara, n)
	dev, err = r.Store.Device(t.Context(), store.Everything, quay)
	require.NoError(t, err)
	assert.NotEqual(t, d.Address, dev.Address)
	assert.Equal(t, other, dev.SeenAs)
	_, err = r.History.Read(t.Context(), store.Everything, quay, "mara")
	require.NoError(t, err, "it is reached where it is now")
}

// A change on one device that cuts the way to another behind it: as a person
// told the way, and as the other's own route tells it.
func TestForecastBehind(t *testing.T) {
	t.Parallel()
	r := servicetest.NewWith(t, func(s *lab.Spec) {
		if s.Name == hall {
			s.Management = lab.Management{} // it answers whatever becomes of its routes
		}
	}, router, quay, hall)
	for _, name := range []string{router, quay, hall} {
		if name != hall {
			see(t, r, name)
		}
		_, err := r.History.Read(t.Context(), store.Everything, name, "mara")
		require.NoError(t, err)
	}
	via := func(name, as, through string) {
		d, err := r.Store.Device(t.Context(), store.Everything, name)
		require.NoError(t, err)
		require.NoError(
			t, r.Log.Write(t.Context(), func(tx *audit.Tx) error { return tx.SetSeen(d.ID, as, "", through) }),
		)
	}
	via(quay, "10.64.0.2", router) // behind port1 of the router
	via(hall, "10.64.0.6", "")     // to be learned: its way to us is port2
	require.NoError(
		t,
		r.Devices[hall].Console(
			"/routing/control-plane-protocols/control-plane-protocol=ietf-routing%3Astatic,harbour/static-routes/ipv4/route=198.51.100.0%2F24/next-hop/next-hop-address",
			"10.64.0.5",
		),
	)
	_, err := r.History.Read(t.Context(), store.Everything, hall, "mara")
	require.NoError(t, err)
	forwards := open(t, r, servicetest.Mara)
	_, err = r.Put(servicetest.Mara, forwards, router, "/interfaces/interface=mgmt0/ipv4/forwarding", "true")
	require.NoError(t, err)
	r.Keep(servicetest.Mara, forwards) // until then nothing passes it at all
	for path, cut := range map[string]string{
		"/interfaces/interface=port1/enabled": quay, "/interfaces/interface=port2/enabled": hall,
		"/interfaces/interface=port3/enabled": "",
	} {
		n := open(t, r, servicetest.Mara)
		_, err := r.Put(servicetest.Mara, n, router, path, "false")
		require.NoError(t, err)
		told := map[string]lockout.Answer{}
		for _, f := range verdict(t, r, servicetest.Mara, n, router).Forecasts {
			told[f.Device] = f.Answer
		}
		want := map[string]lockout.Answer{router: lockout.Keeps, quay: lockout.Keeps, hall: lockout.Keeps}
		if cut != "" {
			want[cut] = lockout.Cuts
		}
		assert.Equal(t, want, told, path)
	}
}

// Our address is asked of the device at every look: one that was told before
// the way to it changed judges nothing.
func TestOwnAddressIsAskedAgain(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, quay)
	see(t, r, quay)
	n := open(t, r, servicetest.Mara)
	_, err := r.Put(servicetest.Mara, n, quay, "/system/contact", "x")
	require.NoError(t, err)
	told := func() string {
		t.Helper()
		assert.Equal(t, lockout.Keeps, verdict(t, r, servicetest.Mara, n, quay).Forecasts[0].Answer)
		d, err := r.Store.Device(t.Context(), store.Everything, quay)
		require.NoError(t, err)
		return d.ToldFrom
	}
	from := told()
	assert.Equal(t, r.Devices[quay].Spec.Management.Operator.String(), from)
	d, err := r.Store.Device(t.Context(), store.Everything, quay)
	require.NoError(t, err)
	require.NoError(
		t, r.Log.Write(t.Context(), func(tx *audit.Tx) error { return tx.SetToldFrom(d.ID, "203.0.113.250") }),
	)
	assert.Equal(t, from, told())
}
