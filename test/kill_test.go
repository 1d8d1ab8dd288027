package test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The service is killed with SIGKILL at a random moment of a commit, of its
// hold or of its confirm, and started again. Whatever it then says is what the
// device holds, and nothing is left on hold.
func TestKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	first := uint64(time.Now().UnixNano())
	for i := range uint64(6) {
		seed := first + i
		t.Run(fmt.Sprintf("seed %d", seed), func(t *testing.T) {
			t.Parallel()
			rnd := rand.New(rand.NewPCG(seed, 6))
			s := newStage(t, router)
			n := s.Open("mara", router+" "+mtu+" 9000")
			killed := make(chan struct{})
			confirms := rnd.IntN(2) == 0
			go func(after time.Duration) {
				defer close(killed)
				time.Sleep(after)
				s.Kill()
			}(time.Duration(rnd.IntN(2400)) * time.Millisecond)
			_, status := s.Latch("mara", "commit", n, "--hold", "10s")
			if status == 0 && confirms {
				s.Latch("mara", "confirm", n)
			}
			<-killed
			s.Start()
			var state string
			require.Eventually(t, func() bool {
				out, status := s.Latch("mara", "show", n, "--json")
				require.Zero(t, status, out)
				state = stateOf(t, out)
				if state == "holding" && confirms {
					s.Latch("mara", "confirm", n) // still in time, or refused with the truth
				}
				return state != "applying" && state != "holding"
			}, 90*time.Second, 500*time.Millisecond)
			want := "1500"
			if state == "confirmed" {
				want = "9000"
			}
			assert.Equal(t, want, s.Value(router, mtu), state)
			assert.False(t, s.Devices[router].Pending())
			assert.Contains(t, []string{"draft", "confirmed", "reverted", "failed"}, state)
			s.Do("admin", 6, "audit", "verify")
		})
	}
}
