package fleet

import (
	"runtime"
	"testing"
	"time"
	"weak"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/netconf"
	"oakenlatch/service/store"
)

// What a session to a device held in memory, replies with secrets among it, goes with the session: nobody keeps one
// that was closed, or broken off.
func TestClosedSessionsAreForgotten(t *testing.T) {
	f, _ := newFleet(t)
	f.adopt(t, "d", serve(t, &talker{modules: modules}, "urn:top?module=top"))
	var sessions []weak.Pointer[Session]
	var clients []weak.Pointer[netconf.Client]
	for n := range 6 {
		s, err := f.Dial(t.Context(), store.Everything, "d")
		require.NoError(t, err)
		_, err = s.Read(t.Context(), netconf.Running)
		require.NoError(t, err)
		sessions, clients = append(sessions, weak.Make(s)), append(clients, weak.Make(s.Client))
		if n%2 == 0 {
			require.NoError(t, s.Close(t.Context()))
		} else {
			s.Abort()
		}
	}
	assert.Eventually(t, func() bool {
		runtime.GC()
		for n := range sessions {
			if sessions[n].Value() != nil || clients[n].Value() != nil {
				return false
			}
		}
		return true
	}, 90*time.Second, 50*time.Millisecond)
}
