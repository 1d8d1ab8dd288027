// Package sshpeer listens for SSH connections on loopback, for tests of what
// clients make of strange servers.
package sshpeer

import (
	"crypto/ed25519"
	"crypto/rand"
	"net"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// Listen gives each connection, in a goroutine of its own, to handle with cfg,
// which gets a new host key. It ends with the test.
func Listen(
	t testing.TB, cfg *ssh.ServerConfig, handle func(net.Conn, *ssh.ServerConfig),
) (address string, key ssh.PublicKey) {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	cfg.AddHostKey(signer)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go handle(conn, cfg)
		}
	}()
	return l.Addr().String(), signer.PublicKey()
}
