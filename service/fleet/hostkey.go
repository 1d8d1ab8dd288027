package fleet

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"oakenlatch/core/ledger"
	"oakenlatch/service/audit"
)

// hostKeyCheck compares a device's key with the accepted one.
type hostKeyCheck struct {
	accepted string
	other    string // fingerprint of a key that was shown and is not the accepted one
}

func (h *hostKeyCheck) callback(_ string, _ net.Addr, key ssh.PublicKey) error {
	if authorized(key) == h.accepted {
		return nil
	}
	h.other = ssh.FingerprintSHA256(key)
	return errors.New("host key is not the accepted one")
}

// algorithms asks the device for a key of the accepted one's type: it may have
// several.
func (h *hostKeyCheck) algorithms() []string {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(h.accepted))
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

func fingerprint(accepted string) string {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(accepted))
	if err != nil {
		return "(unreadable)"
	}
	return ssh.FingerprintSHA256(key)
}

// ShownKey is a host key as a device shows it.
type ShownKey struct {
	Fingerprint string
	Type        string
	Accepted    string // fingerprint of the key accepted before, "" if none

	key string
}

// ScanHostKey asks a device for its host key without logging in.
func (f *Fleet) ScanHostKey(ctx context.Context, name string) (ShownKey, error) {
	d, err := f.store.Device(ctx, name)
	if err != nil {
		return ShownKey{}, fmt.Errorf("device %s: %w", name, err)
	}
	ctx, cancel := context.WithTimeout(ctx, dialTimeout)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", d.Address)
	if err != nil {
		return ShownKey{}, f.explain(d, &hostKeyCheck{}, err)
	}
	defer func() { _ = conn.Close() }()
	deadline, _ := ctx.Deadline()
	if err := conn.SetDeadline(deadline.Add(-time.Millisecond)); err != nil {
		return ShownKey{}, err
	}
	var shown ShownKey
	seen := errors.New("seen")
	_, _, _, err = ssh.NewClientConn(conn, d.Address, &ssh.ClientConfig{
		User: d.Account,
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			shown = ShownKey{Fingerprint: ssh.FingerprintSHA256(key), Type: key.Type(), key: authorized(key)}
			return seen
		},
	})
	if shown.key == "" {
		return ShownKey{}, f.explain(d, &hostKeyCheck{}, err)
	}
	if d.HostKey != "" {
		shown.Accepted = fingerprint(d.HostKey)
	}
	return shown, nil
}

// Trust accepts the host key with that fingerprint, if the device still shows it.
func (f *Fleet) Trust(ctx context.Context, by, name, print string) (ShownKey, error) {
	shown, err := f.ScanHostKey(ctx, name)
	if err != nil {
		return shown, err
	}
	if shown.Fingerprint != print {
		return shown, &Error{Device: name, Kind: HostKey, Msg: fmt.Sprintf("shows host key %s, not the %s you accept", shown.Fingerprint, print),
			Next: "nothing was kept; compare again with: latch device trust " + name}
	}
	d, err := f.store.Device(ctx, name)
	if err != nil {
		return shown, err
	}
	err = f.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.SetHostKey(d.ID, shown.key); err != nil {
			return err
		}
		if err := tx.SetContact(d.ID, f.log.Now(), ""); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: by, Action: "device.trust", Device: name, Before: shown.Accepted, After: shown.Fingerprint})
	})
	if err == nil {
		d.HostKey = shown.key
		f.watch(d)
	}
	return shown, err
}
