// Package port gives test servers addresses that stay theirs.
package port

import (
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

var (
	mu    sync.Mutex
	given = map[int]bool{}
)

// Free gives a port on 127.0.0.1 that nobody listens on, and each one once.
//
// It lies below those that the kernel hands out by itself: a server that is
// killed and started again finds it free. One that the kernel chose may by then be
// the near end of somebody's connection.
func Free(t testing.TB) int {
	t.Helper()
	mu.Lock()
	defer mu.Unlock()
	const lowest = 10000
	end := 32768
	if text, err := os.ReadFile("/proc/sys/net/ipv4/ip_local_port_range"); err == nil {
		_, err = fmt.Sscan(string(text), &end)
		require.NoError(t, err)
	}
	for range 1000 {
		n := lowest + rand.IntN(max(end-lowest, 1))
		if given[n] {
			continue
		}
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", n))
		if err != nil {
			continue
		}
		require.NoError(t, l.Close())
		given[n] = true
		return n
	}
	t.Fatal("no free port")
	return 0
}

// Address is Free with its host: 127.0.0.1:PORT.
func Address(t testing.TB) string {
	t.Helper()
	return fmt.Sprintf("127.0.0.1:%d", Free(t))
}
