package history_test

import (
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/lifecycle"
	"oakenlatch/service/history"
	"oakenlatch/service/store"
	"oakenlatch/test/servicetest"
)

const quay = "saltern-quay"

// Every configuration seen is a revision, once; what was not made here is told
// as that, place by place.
func TestRevisions(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, quay)
	first, err := r.History.Read(t.Context(), store.Everything, quay, "mara")
	require.NoError(t, err)
	again, err := r.History.Read(t.Context(), store.Everything, quay, "mara")
	require.NoError(t, err)
	assert.Equal(t, first.Revision.Number, again.Revision.Number, "what did not change is no new revision")
	assert.Equal(t, lifecycle.FirstRead, first.Revision.Source)

	require.NoError(t, r.Devices[quay].Console("/system/contact", "at the console"))
	moved, err := r.History.Read(t.Context(), store.Everything, quay, "mara")
	require.NoError(t, err)
	assert.Equal(t, first.Revision.Number+1, moved.Revision.Number)
	assert.Equal(t, lifecycle.ByOutside, moved.Revision.Source)
	d, err := r.Store.Device(t.Context(), store.Everything, quay)
	require.NoError(t, err)
	assert.True(t, d.Unsaved, "running is not what startup holds")

	list := r.Found(2, "device:%v", quay)
	assert.Equal(t, []string{"outside.changed", "revision.outside"}, []string{list[0].Action, list[1].Action})
	assert.Equal(t, []string{"service", "/ietf-system:system/contact", "Harbour office, ext. 12", "at the console"},
		[]string{list[0].Actor, list[0].Path, list[0].Before, list[0].After})
	assert.Contains(t, list[1].Note, "not named by the device: it was not listened to at that time")

	for _, rev := range []store.Revision{first.Revision, moved.Revision} {
		kept, err := r.History.Tree(t.Context(), first.Schema, rev.Digest)
		require.NoError(t, err)
		assert.Equal(t, rev.Digest, history.Digest(kept), "what was kept is what was read")
	}
	known, err := r.History.Known(t.Context(), store.Everything, quay)
	require.NoError(t, err)
	assert.Equal(t, moved.Running.Digest(), known.Running.Digest())

	// Going back to what was there before is a new revision of the same content.
	require.NoError(t, r.Devices[quay].Console("/system/contact", "Harbour office, ext. 12"))
	back, err := r.History.Read(t.Context(), store.Everything, quay, "mara")
	require.NoError(t, err)
	assert.Equal(t, moved.Revision.Number+1, back.Revision.Number)
	assert.Equal(t, first.Revision.Digest, back.Revision.Digest)
	d, err = r.Store.Device(t.Context(), store.Everything, quay)
	require.NoError(t, err)
	assert.False(t, d.Unsaved)
}

// Many readers of one device make one revision of what they all see.
func TestConcurrentReading(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, quay)
	var wg sync.WaitGroup
	for range 10 {
		wg.Go(func() {
			_, err := r.History.Read(t.Context(), store.Everything, quay, "mara")
			assert.NoError(t, err)
		})
	}
	wg.Wait()
	d, err := r.Store.Device(t.Context(), store.Everything, quay)
	require.NoError(t, err)
	list, err := r.Store.Revisions(t.Context(), d.ID)
	require.NoError(t, err)
	assert.Len(t, list, 1)
}
