package service

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"oakenlatch/core/guard"
)

// A hold is overdue a minute after its end, as long as it is not decided.
func TestOverdue(t *testing.T) {
	now := time.Unix(1_800_000_000, 0)
	s := guard.State{
		Deadline: now.Add(-61 * time.Second),
		Devices: []guard.Device{
			{Name: "saltern-slip", Standing: guard.IsReverting}, {Name: "gannet-hall", Standing: guard.IsReverted},
		},
	}
	assert.True(t, overdue(s, now))
	assert.Equal(t, "saltern-slip reverting, gannet-hall reverted", standing(s))
	s.Deadline = now.Add(-59 * time.Second)
	assert.False(t, overdue(s, now), "it is being done")
	s.Deadline = time.Time{}
	assert.False(t, overdue(s, now), "it has not begun")
	s.Deadline, s.Outcome = now.Add(-time.Hour), guard.Reverted
	assert.False(t, overdue(s, now), "it has its end")
}
