package cli

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"oakenlatch/wire"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A server's key that nobody vouches for is accepted by a person, once, and then no
// other: nothing is sent to one that shows another, no password and no token.
func TestPin(t *testing.T) {
	asked := 0
	handler := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked++
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write([]byte(`{"account":"mara","may":["read"],"token":"tok"}`))
	})
	first, other := httptest.NewTLSServer(handler), httptest.NewUnstartedServer(handler)
	t.Cleanup(first.Close)
	home := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(home, "pw"), []byte("a password"), 0o600))
	latch := func(in string, ask bool, env map[string]string, args ...string) (int, string) {
		var out bytes.Buffer
		a := &app{in: strings.NewReader(in), out: &out, err: &out, ask: ask, getenv: func(k string) string {
			if v, ok := env[k]; ok {
				return v
			}
			return map[string]string{"HOME": home}[k]
		}}
		return a.run(context.Background(), args), out.String()
	}
	login := []string{"--server", first.URL, "login", "--user", "mara", "--password-file", filepath.Join(home, "pw")}
	pin := wire.Pin(first.Certificate())
	status, out := latch("", false, nil, login...)
	assert.Equal(t, Refused, status)
	assert.Contains(t, out, "shows a key that nobody vouches for: "+pin)
	status, _ = latch("no\n", true, nil, login...)
	assert.Equal(t, Refused, status)
	status, _ = latch("", false, nil, append(login, "--pin", "SHA256:another")...)
	assert.Equal(t, Refused, status)
	assert.Zero(t, asked, "nothing was sent")
	status, out = latch("yes\n", true, nil, login...)
	assert.Equal(t, Done, status, out)
	status, out = latch("", false, nil, "whoami")
	assert.Equal(t, Done, status, out)
	assert.Equal(t, 2, asked)
	status, _ = latch("", false, map[string]string{"OAKEN_LATCH_PIN": pin}, "whoami")
	assert.Equal(t, Done, status)

	// The same address, another key.
	addr := first.Listener.Addr().String()
	first.Close()
	l := other.Listener
	require.NoError(t, l.Close())
	var err error
	other.Listener, err = net.Listen("tcp", addr)
	require.NoError(t, err)
	other.TLS = anotherKey(t)
	other.StartTLS()
	t.Cleanup(other.Close)
	asked = 0
	status, out = latch("yes\n", true, nil, "whoami")
	assert.Equal(t, Refused, status)
	assert.Contains(t, out, "shows another key than the one that was accepted")
	assert.Zero(t, asked)
}

// anotherKey is a certificate that is not the test server's usual one.
func anotherKey(t *testing.T) *tls.Config {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(2), NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, c, c, key.Public(), key)
	require.NoError(t, err)
	return &tls.Config{
		Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}},
	} //nolint:gosec // a test's
}
