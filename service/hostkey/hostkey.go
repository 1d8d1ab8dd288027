// Package hostkey is about the host keys of SSH servers: what one shows, and
// whether it is the one that a person accepted.
package hostkey

import (
	"context"
	"errors"
	"net"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// Check compares a server's key with the accepted one.
type Check struct {
	Accepted string // in authorized_keys form
	Other    string // fingerprint of a key that was shown and is not the accepted one
}

// Callback is for an ssh.ClientConfig.
func (h *Check) Callback(_ string, _ net.Addr, key ssh.PublicKey) error {
	if authorized(key) == h.Accepted {
		return nil
	}
	h.Other = ssh.FingerprintSHA256(key)
	return errors.New("host key is not the accepted one")
}

// Algorithms asks the server for a key of the accepted one's type: it may have
// several.
func (h *Check) Algorithms() []string {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(h.Accepted))
	if err != nil {
		return nil
	}
	if key.Type() == ssh.KeyAlgoRSA {
		return []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
	}
	return []string{key.Type()}
}

func authorized(key ssh.PublicKey) string {
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
}

// Fingerprint is that of a key in authorized_keys form.
func Fingerprint(accepted string) string {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(accepted))
	if err != nil {
		return "(unreadable)"
	}
	return ssh.FingerprintSHA256(key)
}

// Shown is a host key as a server shows it.
type Shown struct {
	Fingerprint string
	Type        string
	Accepted    string // fingerprint of the key accepted before, "" if none

	Key string // in authorized_keys form
}

// Scan asks a server for its host key without logging in. The context must
// have a deadline.
func Scan(ctx context.Context, address, user, accepted string) (Shown, error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", address)
	if err != nil {
		return Shown{}, err
	}
	defer func() { _ = conn.Close() }()
	deadline, _ := ctx.Deadline()
	if err := conn.SetDeadline(deadline.Add(-time.Millisecond)); err != nil {
		return Shown{}, err
	}
	var shown Shown
	seen := errors.New("seen")
	_, _, _, err = ssh.NewClientConn(conn, address, &ssh.ClientConfig{
		User: user,
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			shown = Shown{Fingerprint: ssh.FingerprintSHA256(key), Type: key.Type(), Key: authorized(key)}
			return seen
		},
	})
	if shown.Key == "" {
		return Shown{}, err
	}
	if accepted != "" {
		shown.Accepted = Fingerprint(accepted)
	}
	return shown, nil
}
