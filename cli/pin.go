package cli

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net/http"
	"strings"

	"oakenlatch/wire"
)

// strangeKey is given where a server shows a key that nobody vouches for: no
// authority this machine trusts, and no person.
type strangeKey struct {
	server, shown, accepted string
}

func (e *strangeKey) Error() string {
	if e.accepted != "" {
		return fmt.Sprintf(
			"%s shows another key than the one that was accepted: it is %s now, and was %s. Nothing was sent to it. "+
				"Either the service was given another key, which whoever runs it can say, or this is not the "+
				"service. If it is: latch login --pin %s",
			e.server, e.shown, e.accepted, e.shown,
		)
	}
	return fmt.Sprintf(
		"%s shows a key that nobody vouches for: %s. Nothing was sent to it. Compare that with what oaken-latchd "+
			"printed when it started, and if it is the same: latch login --pin %s",
		e.server, e.shown, e.shown,
	)
}

// client speaks to the service: to the very key that a person accepted, or to one
// that an authority vouches for, which this machine trusts.
func (a *app) client() *http.Client {
	if !strings.HasPrefix(a.server, "https://") {
		return http.DefaultClient
	}
	verify := func(s tls.ConnectionState) error {
		shown := wire.Pin(s.PeerCertificates[0])
		if a.pin != "" {
			if a.pin == shown {
				return nil
			}
			return &strangeKey{a.server, shown, a.pin}
		}
		opt := x509.VerifyOptions{DNSName: s.ServerName, Intermediates: x509.NewCertPool()}
		for _, c := range s.PeerCertificates[1:] {
			opt.Intermediates.AddCert(c)
		}
		if _, err := s.PeerCertificates[0].Verify(opt); err != nil {
			return &strangeKey{server: a.server, shown: shown}
		}
		return nil
	}
	// The usual check is not made, because the one above takes its place: the key is
	// one that a person accepted, or what it would have found.
	return &http.Client{Transport: &http.Transport{
		Proxy: http.ProxyFromEnvironment, ForceAttemptHTTP2: true,
		TLSClientConfig: &tls.Config{
			MinVersion: tls.VersionTLS12, InsecureSkipVerify: true, VerifyConnection: verify,
		}, //nolint:gosec // see verify
	}}
}
