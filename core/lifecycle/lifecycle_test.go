package lifecycle_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"oakenlatch/core/lifecycle"
)

// What may be done with a change follows from its state; no state is open and under way at once.
func TestStates(t *testing.T) {
	open, underWay, private := map[lifecycle.State]bool{}, map[lifecycle.State]bool{}, map[lifecycle.State]bool{}
	for _, s := range lifecycle.States() {
		assert.True(t, s.Known())
		assert.False(t, s.Open() && s.UnderWay(), s)
		open[s], underWay[s], private[s] = s.Open(), s.UnderWay(), s.Private()
	}
	assert.False(t, lifecycle.State("draught").Known())
	for _, s := range []lifecycle.State{lifecycle.Draft, lifecycle.Failed, lifecycle.Reverted} {
		assert.True(t, open[s], s)
		delete(open, s)
	}
	assert.NotContains(t, open, true)
	assert.True(
		t,
		underWay[lifecycle.Holding] && underWay[lifecycle.Applying] && private[lifecycle.Draft] &&
			private[lifecycle.Dropped],
	)
	assert.Equal(t, []string{"draft", "confirmed"}, lifecycle.Names(lifecycle.Draft, lifecycle.Confirmed))
}
