package service

import (
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// No more connections than there may be, and of one address elsewhere no more than
// its part; what is closed makes room.
func TestBoundedListener(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	b := bound(l, 16)
	elsewhere, other := netip.MustParseAddr("192.0.2.7"), netip.MustParseAddr("192.0.2.8")
	here := netip.MustParseAddr("127.0.0.1")
	for range 2 {
		assert.True(t, b.enter(elsewhere))
	}
	assert.False(t, b.enter(elsewhere), "an eighth of all")
	assert.True(t, b.enter(other))
	b.leave(elsewhere)
	assert.True(t, b.enter(elsewhere))
	b.leave(elsewhere)
	b.leave(elsewhere)
	b.leave(other)
	six, neighbour := netip.MustParseAddr("2001:db8:7::1"), netip.MustParseAddr("2001:db8:7::2")
	further := netip.MustParseAddr("2001:db8:7:1::1")
	assert.True(t, b.enter(six) && b.enter(neighbour))
	assert.False(t, b.enter(six), "who has one address of a network has all of it")
	assert.True(t, b.enter(further))
	for _, a := range []netip.Addr{neighbour, six, further} {
		b.leave(a)
	}
	accepted := make(chan net.Conn, 32)
	go func() {
		for {
			c, err := b.Accept()
			if err != nil {
				return
			}
			accepted <- c
		}
	}()
	var clients []net.Conn
	for range 17 {
		c, err := net.Dial("tcp", l.Addr().String())
		require.NoError(t, err)
		clients = append(clients, c)
	}
	require.Eventually(t, func() bool { return len(accepted) == 16 }, 90*time.Second, 10*time.Millisecond)
	closed := 0
	for _, c := range clients {
		_ = c.SetReadDeadline(time.Now().Add(50 * time.Millisecond))
		if _, err := c.Read(make([]byte, 1)); err != nil && !isTimeout(err) {
			closed++
		}
	}
	assert.Equal(t, 1, closed)
	assert.False(t, b.enter(here))
	first := <-accepted
	require.NoError(t, first.Close())
	_ = first.Close() // twice counts once
	assert.True(t, b.enter(here))
	assert.False(t, b.enter(here))
	require.NoError(t, b.Close())
}

func isTimeout(err error) bool {
	ne, ok := err.(net.Error)
	return ok && ne.Timeout()
}
