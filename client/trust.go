package client

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net/http"
	"strings"

	"oakenlatch/wire"
)

// UntrustedKey is given where a service shows a key that nobody vouches for: no authority that this machine trusts,
// and no person. Nothing was sent to it.
type UntrustedKey struct {
	Server   string
	Shown    string // the pin of the key that it shows (wire.Pin)
	Accepted string // the one that a person accepted; "" where none did
}

func (e *UntrustedKey) Error() string {
	if e.Accepted != "" {
		return fmt.Sprintf(
			"%s shows another key than the one that was accepted: it is %s now, and was %s",
			e.Server,
			e.Shown,
			e.Accepted,
		)
	}
	return fmt.Sprintf("%s shows a key that nobody vouches for: %s", e.Server, e.Shown)
}

// speaking gives what speaks to a service: to the very key that a person accepted, or to one
// that an authority vouches for, which this machine trusts.
func speaking(o Options) *http.Client {
	if !strings.HasPrefix(o.Server, "https://") {
		return http.DefaultClient
	}
	verify := func(s tls.ConnectionState) error {
		shown := wire.Pin(s.PeerCertificates[0])
		if o.Pin != "" {
			if o.Pin == shown {
				return nil
			}
			return &UntrustedKey{o.Server, shown, o.Pin}
		}
		opt := x509.VerifyOptions{DNSName: s.ServerName, Intermediates: x509.NewCertPool()}
		for _, c := range s.PeerCertificates[1:] {
			opt.Intermediates.AddCert(c)
		}
		if _, err := s.PeerCertificates[0].Verify(opt); err != nil {
			return &UntrustedKey{Server: o.Server, Shown: shown}
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
