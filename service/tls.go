package service

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"log/slog"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"

	"oakenlatch/wire"
)

// Files of a data folder with the service's own certificate and its key.
const (
	CertFile    = "tls.crt"
	CertKeyFile = "tls.key"
)

// How long a certificate of our own lasts, and how long before its end a new one
// is made, with the same key: who pinned that need not do so again.
const (
	ownCertLife  = 398 * 24 * time.Hour
	ownCertRenew = 30 * 24 * time.Hour
)

// OwnCertificate makes sure that a data folder has a certificate, made by ourselves,
// for some names and addresses, and gives its files.
func OwnCertificate(dir string, names []string, now time.Time) (cert, key string, err error) {
	cert, key = filepath.Join(dir, CertFile), filepath.Join(dir, CertKeyFile)
	private, err := ownKey(key)
	if err != nil {
		return cert, key, err
	}
	if pair, err := tls.LoadX509KeyPair(cert, key); err == nil && pair.Leaf.NotAfter.Sub(now) > ownCertRenew &&
		covers(pair.Leaf, names) {
		return cert, key, nil
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return cert, key, err
	}
	t := &x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{CommonName: "Oaken Latch"}, NotBefore: now.Add(-time.Hour),
		NotAfter: now.Add(ownCertLife), KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, BasicConstraintsValid: true,
	}
	for _, n := range names {
		if ip := net.ParseIP(n); ip != nil {
			t.IPAddresses = append(t.IPAddresses, ip)
		} else {
			t.DNSNames = append(t.DNSNames, n)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, t, t, private.Public(), private)
	if err != nil {
		return cert, key, err
	}
	return cert, key, put(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
}

func covers(leaf *x509.Certificate, names []string) bool {
	for _, n := range names {
		if leaf.VerifyHostname(n) != nil {
			return false
		}
	}
	return true
}

// ownKey reads the key, making it on first use.
func ownKey(file string) (*ecdsa.PrivateKey, error) {
	text, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			return nil, err
		}
		der, err := x509.MarshalPKCS8PrivateKey(key)
		if err != nil {
			return nil, err
		}
		return key, put(file, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
	}
	if err != nil {
		return nil, fmt.Errorf("certificate's key %s: %w", file, err)
	}
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, fmt.Errorf(
			"certificate's key %s holds no PEM; put it back from where it was copied, or take it away: a new one is "+
				"made, and clients have to accept it again",
			file,
		)
	}
	parsed, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	key, ok := parsed.(*ecdsa.PrivateKey)
	if err == nil && !ok {
		err = fmt.Errorf("it is a %T", parsed)
	}
	if err != nil {
		return nil, fmt.Errorf("certificate's key %s is no ECDSA key in PKCS #8: %w", file, err)
	}
	return key, nil
}

// put writes a file for its owner alone, whole or not at all.
func put(file string, content []byte) error {
	f, err := os.CreateTemp(filepath.Dir(file), filepath.Base(file)+".*")
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return os.Rename(f.Name(), file)
}

// Certificate is a certificate in files that may be replaced while it is served.
type Certificate struct {
	CertFile, KeyFile string
	Logger            *slog.Logger

	mu     sync.Mutex
	pair   *tls.Certificate
	seen   [2]time.Time // when the files were changed that are loaded
	looked time.Time
	failed string
}

// Load reads the files.
func (c *Certificate) Load() (*x509.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if err := c.load(); err != nil {
		return nil, err
	}
	return c.pair.Leaf, nil
}

func (c *Certificate) load() error {
	seen := [2]time.Time{}
	for i, file := range []string{c.CertFile, c.KeyFile} {
		if st, err := os.Stat(file); err == nil {
			seen[i] = st.ModTime()
		}
	}
	pair, err := tls.LoadX509KeyPair(c.CertFile, c.KeyFile)
	if err != nil {
		return fmt.Errorf("certificate %s with key %s: %w", c.CertFile, c.KeyFile, err)
	}
	c.pair, c.seen, c.failed = &pair, seen, ""
	return nil
}

// lookEvery is how often the files are looked at, at most.
const lookEvery = time.Second

// get gives the certificate as it is in the files now. Files that make no sense
// together, perhaps because one of them is just being written, change nothing.
func (c *Certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if now := time.Now(); now.Sub(c.looked) > lookEvery {
		c.looked = now
		changed := false
		for i, file := range []string{c.CertFile, c.KeyFile} {
			st, err := os.Stat(file)
			changed = changed || err == nil && !st.ModTime().Equal(c.seen[i])
		}
		if changed {
			if err := c.load(); err == nil {
				c.Logger.Info(
					"another certificate is served", "file", c.CertFile, "until", c.pair.Leaf.NotAfter, "pin",
					wire.Pin(c.pair.Leaf),
				)
			} else if c.failed != err.Error() {
				c.failed = err.Error()
				c.Logger.Error(
					"the certificate was changed and cannot be read: the former one is served on", "error", err,
				)
			}
		}
	}
	return c.pair, nil
}

// Pin names the key that is served; see [wire.Pin].
func (c *Certificate) Pin() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return wire.Pin(c.pair.Leaf)
}

// Config is how the service does TLS with it.
func (c *Certificate) Config() *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: c.get}
}
