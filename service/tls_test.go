package service_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/tls"
	"crypto/x509"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/service"
	"oakenlatch/wire"
)

// A certificate of our own is made once and renewed in time with the same key; one
// that is replaced while it is served is taken up, and one that makes no sense is
// not.
func TestOwnCertificate(t *testing.T) {
	dir := t.TempDir()
	now := time.Now()
	cert, key, err := service.OwnCertificate(dir, []string{"localhost", "127.0.0.1"}, now)
	require.NoError(t, err)
	st, err := os.Stat(key)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), st.Mode().Perm())
	c := &service.Certificate{CertFile: cert, KeyFile: key, Logger: slog.New(slog.DiscardHandler)}
	first, err := c.Load()
	require.NoError(t, err)
	_, _, err = service.OwnCertificate(dir, []string{"localhost"}, now.Add(time.Hour))
	require.NoError(t, err)
	same, err := c.Load()
	require.NoError(t, err)
	assert.Equal(t, first.SerialNumber, same.SerialNumber)
	_, _, err = service.OwnCertificate(dir, []string{"localhost"}, first.NotAfter.Add(-10*24*time.Hour))
	require.NoError(t, err)
	renewed, err := c.Load()
	require.NoError(t, err)
	assert.NotEqual(t, first.SerialNumber, renewed.SerialNumber)
	assert.Equal(t, wire.Pin(first), wire.Pin(renewed), "who pinned it need not do so again")
	require.NoError(t, os.WriteFile(key, []byte("nonsense"), 0o600))
	_, _, err = service.OwnCertificate(dir, []string{"localhost"}, now)
	require.ErrorContains(t, err, "put it back")
}

func TestServeTLS(t *testing.T) {
	s, err := service.Open(t.Context(), options(t.TempDir()))
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	dir, other := t.TempDir(), t.TempDir()
	certFile, keyFile, err := service.OwnCertificate(dir, []string{"127.0.0.1"}, time.Now())
	require.NoError(t, err)
	c := &service.Certificate{CertFile: certFile, KeyFile: keyFile, Logger: slog.New(slog.DiscardHandler)}
	first, err := c.Load()
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- s.Serve(ctx, l, c) }()
	shown := func() string {
		conn, err := tls.Dial("tcp", l.Addr().String(), &tls.Config{InsecureSkipVerify: true})
		require.NoError(t, err)
		defer func() { _ = conn.Close() }()
		return wire.Pin(conn.ConnectionState().PeerCertificates[0])
	}
	assert.Equal(t, wire.Pin(first), shown())
	roots := x509.NewCertPool()
	roots.AddCert(first)
	res, err := (&http.Client{
		Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots}},
	}).Get("https://" + l.Addr().String() + "/healthz")
	require.NoError(t, err)
	body, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	assert.Equal(t, "ok\n", string(body))
	assert.NotEmpty(t, res.Header.Get("Strict-Transport-Security"))
	_, err = tls.Dial(
		"tcp", l.Addr().String(), &tls.Config{InsecureSkipVerify: true, MaxVersion: tls.VersionTLS11},
	) //nolint:gosec // it is refused
	require.Error(t, err)

	// Half of a pair changes nothing; the whole of it does, without a restart.
	a, b, err := service.OwnCertificate(other, []string{"127.0.0.1"}, time.Now())
	require.NoError(t, err)
	move := func(from, to string) {
		text, err := os.ReadFile(from)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(to+".new", text, 0o600))
		require.NoError(t, os.Rename(to+".new", to))
	}
	move(a, filepath.Join(dir, filepath.Base(certFile)))
	time.Sleep(1100 * time.Millisecond)
	assert.Equal(t, wire.Pin(first), shown())
	move(b, filepath.Join(dir, filepath.Base(keyFile)))
	require.Eventually(t, func() bool { return shown() != wire.Pin(first) }, 90*time.Second, 200*time.Millisecond)
	leaf, err := c.Load()
	require.NoError(t, err)
	_, ok := leaf.PublicKey.(*ecdsa.PublicKey)
	assert.True(t, ok)
	stop()
	require.NoError(t, <-ended)
}

// A key that is rotated: what is broken off at any point leaves a file that opens
// what is in the records. One that is missing stops the start.
func TestKeyFile(t *testing.T) {
	for addr, want := range map[string]bool{
		"127.0.0.1:1": true, "[::1]:1": true, "localhost:1": true, "0.0.0.0:1": false, ":1": false,
		"192.0.2.5:1": false,
	} {
		here, err := service.OnlyHere(addr)
		require.NoError(t, err)
		assert.Equal(t, want, here, addr)
	}
	_, err := service.OnlyHere("nowhere")
	require.Error(t, err)
	dir := t.TempDir()
	opt := options(dir)
	s, err := service.Open(t.Context(), opt)
	require.NoError(t, err)
	require.NoError(t, s.Close())
	require.NoError(t, os.Rename(filepath.Join(dir, "seal.key"), filepath.Join(dir, "confirmed")))
	_, err = service.Open(t.Context(), opt)
	require.ErrorContains(t, err, "put it back")
	require.NoFileExists(t, filepath.Join(dir, "seal.key"), "no new one is made in its place")
	opt.KeyFile = filepath.Join(dir, "confirmed")
	s, err = service.Open(t.Context(), opt)
	require.NoError(t, err)
	require.NoError(t, s.Close())
}
