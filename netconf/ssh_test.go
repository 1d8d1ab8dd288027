package netconf

import (
	"context"
	"errors"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"oakenlatch/test/port"
	"oakenlatch/test/sshpeer"
)

// listen runs an SSH server whose connections are handled by f.
func listen(t *testing.T, f func(net.Conn, *ssh.ServerConfig)) (address string, key ssh.PublicKey) {
	t.Helper()
	cfg := &ssh.ServerConfig{PasswordCallback: func(_ ssh.ConnMetadata, p []byte) (*ssh.Permissions, error) {
		if string(p) != "right" {
			return nil, errors.New("no")
		}
		return nil, nil
	}}
	return sshpeer.Listen(t, cfg, f)
}

func login(password string, key ssh.PublicKey) ssh.ClientConfig {
	return ssh.ClientConfig{
		User: "u", Auth: []ssh.AuthMethod{ssh.Password(password)}, HostKeyCallback: ssh.FixedHostKey(key),
	}
}

// Each way in which a device cannot be reached is its own error, in time.
func TestDialFails(t *testing.T) {
	whole := &Server{Capabilities: []string{CapBase11}, Handler: refusing{}}
	address, key := listen(t, func(c net.Conn, cfg *ssh.ServerConfig) { _ = whole.ServeSSH(c, cfg) })
	_, other := listen(t, func(net.Conn, *ssh.ServerConfig) {})
	silent, _ := listen(t, func(net.Conn, *ssh.ServerConfig) {})
	bare, bareKey := listen(t, func(c net.Conn, cfg *ssh.ServerConfig) { // a shell server
		_, chans, reqs, err := ssh.NewServerConn(c, cfg)
		if err != nil {
			return
		}
		go ssh.DiscardRequests(reqs)
		for nc := range chans {
			_, requests, err := nc.Accept()
			if err != nil {
				return
			}
			go ssh.DiscardRequests(requests)
		}
	})
	nobody := port.Address(t)
	for name, c := range map[string]struct {
		address, password string
		key               ssh.PublicKey
		want              string
	}{
		"nobody there":    {nobody, "right", key, "connection refused"},
		"wrong password":  {address, "wrong", key, "unable to authenticate"},
		"wrong host key":  {address, "right", other, "host key mismatch"},
		"no answer":       {silent, "right", key, "no answer within 500ms"},
		"no netconf here": {bare, "right", bareKey, "no netconf subsystem"},
	} {
		t.Run(name, func(t *testing.T) {
			start := time.Now()
			_, err := Dial(
				t.Context(), c.address, DialOptions{Client: login(c.password, c.key), Timeout: 500 * time.Millisecond},
			)
			require.ErrorContains(t, err, c.want)
			assert.Less(t, time.Since(start), 10*time.Second)
		})
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := Dial(ctx, address, DialOptions{Client: login("right", key)})
	require.ErrorIs(t, err, context.Canceled)
	c, err := Dial(t.Context(), address, DialOptions{Client: login("right", key)})
	require.NoError(t, err)
	require.NoError(t, c.DiscardChanges(t.Context()))
	require.Len(t, whole.Sessions(), 1)
	assert.Equal(t, "u", whole.Sessions()[0].User)
	require.NoError(t, c.Close(t.Context()))
	require.NoError(t, c.Close(t.Context()), "closing twice is no harm")
	require.Eventually(t, func() bool { return len(whole.Sessions()) == 0 }, 90*time.Second, 10*time.Millisecond)
}

// Two sessions over one connection, each with its own id; one may be killed by
// the other.
func TestSessionsOfOneServer(t *testing.T) {
	srv := &Server{Capabilities: []string{CapBase10}, Handler: refusing{}}
	address, key := listen(t, func(c net.Conn, cfg *ssh.ServerConfig) { _ = srv.ServeSSH(c, cfg) })
	open := func() *Client {
		c, err := Dial(t.Context(), address, DialOptions{Client: login("right", key)})
		require.NoError(t, err)
		t.Cleanup(c.Abort)
		return c
	}
	a, b := open(), open()
	assert.NotEqual(t, a.SessionID, b.SessionID)
	assert.True(t, Tagged(a.KillSession(t.Context(), a.SessionID), "invalid-value"), "not one's own")
	require.NoError(t, a.KillSession(t.Context(), b.SessionID))
	select {
	case <-b.Done():
	case <-time.After(5 * time.Second):
		t.Fatal("the killed session goes on")
	}
	require.NoError(t, a.Commit(t.Context()))
}

// A message over the limit ends the session; it is not taken in.
func TestMessageLimit(t *testing.T) {
	big := make([]byte, 4096)
	for i := range big {
		big[i] = 'x'
	}
	srv := &Server{Capabilities: []string{CapBase11}, Handler: refusing{}, MaxMessage: 1024}
	address, key := listen(t, func(c net.Conn, cfg *ssh.ServerConfig) { _ = srv.ServeSSH(c, cfg) })
	c, err := Dial(t.Context(), address, DialOptions{Client: login("right", key)})
	require.NoError(t, err)
	t.Cleanup(c.Abort)
	err = c.EditConfig(t.Context(), EditConfig{Target: Candidate, Config: []byte("<x>" + string(big) + "</x>")})
	var none *NoReplyError
	require.ErrorAs(t, err, &none)
	small, err := Dial(
		t.Context(), address, DialOptions{Client: login("right", key), NETCONF: ClientOptions{MaxMessage: 64}},
	)
	if err == nil { // the hello itself is over the limit
		small.Abort()
	}
	require.ErrorIs(t, err, ErrTooLarge)
}
