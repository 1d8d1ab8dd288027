package engine_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/guard"
	"oakenlatch/core/tree"
	"oakenlatch/lab"
	"oakenlatch/service/store"
	"oakenlatch/test/servicetest"
)

// However a device reports its defaults (RFC 6243), it does not look changed:
// a commit of an entry that has defaults is kept and read back as predicted,
// and nobody is told of a change made outside this service.
func TestEveryWayOfReportingDefaults(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		mode tree.DefaultsMode
		only bool
	}{
		{tree.Explicit, true}, {tree.Trim, true}, {tree.ReportAll, true}, {tree.ReportAll, false},
		{tree.ReportAllTagged, false},
	} {
		t.Run(string(c.mode), func(t *testing.T) {
			t.Parallel()
			r := &room{
				servicetest.NewWith(t, func(s *lab.Spec) { s.Defaults, s.OnlyDefaults = c.mode, c.only }, quay), t,
			}
			before, err := r.History.Read(t.Context(), store.Everything, quay, "mara")
			require.NoError(t, err)
			n := r.stage(
				quay+" /interfaces/interface=port9/type iana-if-type:ethernetCsmacd", quay+" /system/contact x",
			)
			r.commit(n, time.Minute)
			r.until(n, 20*time.Second, awaiting)
			require.NoError(t, r.Engine.Say(t.Context(), n, guard.Event{Kind: guard.SayConfirm, By: "mara"}))
			s := r.until(n, 20*time.Second, done)
			assert.Equal(t, guard.Confirmed, s.Outcome)
			after, err := r.History.Read(t.Context(), store.Everything, quay, "mara")
			require.NoError(t, err)
			assert.Equal(t, before.Revision.Number+1, after.Revision.Number)
			list := r.Found(50, "device:%v", quay)
			for _, e := range list {
				assert.NotContains(t, e.Action, "outside")
			}
			d, err := r.Store.Device(t.Context(), store.Everything, quay)
			require.NoError(t, err)
			assert.False(t, d.Unsaved)
		})
	}
}
