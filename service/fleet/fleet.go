// Package fleet reaches the devices: sessions, host keys, capabilities and the
// schemas compiled from the modules they hand out.
package fleet

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"oakenlatch/core/advice"

	"golang.org/x/crypto/ssh"

	"oakenlatch/core/codec"
	"oakenlatch/core/ledger"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/hostkey"
	"oakenlatch/service/refusal"
	"oakenlatch/service/spare"
	"oakenlatch/service/store"
)

// Kind says what stands between us and a device.
type Kind string

// The kinds of trouble with a device.
const (
	Unreachable Kind = "unreachable"  // no answer, refused, broken off
	HostKey     Kind = "host-key"     // not accepted yet, or another than was accepted
	BadLogin    Kind = "device-login" // the device does not take account and secret
	Protocol    Kind = "protocol"     // it answers, but not as NETCONF says
	Refusal     Kind = "refusal"      // it understood and said no
)

// Error is trouble with a device: which, what, and what to do.
type Error struct {
	Device, Address string
	Kind            Kind
	Msg             string
	Next            advice.Steps
	Err             error
}

func (e *Error) Error() string {
	s := fmt.Sprintf("%s (%s): %s", e.Device, e.Address, e.Msg)
	if len(e.Next) > 0 {
		s += "; " + e.Next.String()
	}
	return s
}

func (e *Error) Unwrap() error { return e.Err }

// Fleet is the devices of the inventory.
type Fleet struct {
	store  *store.Store
	log    *audit.Log
	sealer *access.Sealer

	Traffic netconf.Traffic // with all devices, since the start
	Recent  *Recent

	mu        sync.Mutex
	schemas   map[string]*schema.Schema // by digest of the module set
	watching  *watching                 // nil where devices are not watched
	learners  map[string]*sync.Mutex    // by device
	listeners listeners
}

// New gives the fleet over a store.
func New(s *store.Store, log *audit.Log, sealer *access.Sealer) *Fleet {
	return &Fleet{
		store: s, log: log, sealer: sealer, schemas: map[string]*schema.Schema{}, learners: map[string]*sync.Mutex{},
		Recent:    newRecent(),
		listeners: listeners{own: map[string][]ownSession{}, on: map[string]listening{}, told: map[string][]Heard{}},
	}
}

var deviceName = regexp.MustCompile(`^[a-zA-Z0-9][a-zA-Z0-9._-]{0,62}$`)

// NewDevice is what a person tells of a device.
type NewDevice struct {
	Name, Address, Account string
	Password, PrivateKey   string // one of them
	Site, Role             string
	SeenAs                 string // its management address as packets have it, "" where that is Address
}

// Add adds a device to the inventory. It is not contacted.
func (f *Fleet) Add(ctx context.Context, by string, n NewDevice) error {
	if !deviceName.MatchString(n.Name) {
		return refusal.New(
			refusal.Invalid, "use 1 to 63 letters, digits, dots, dashes or underscores", "%q is no name for a device",
			n.Name,
		)
	}
	d := store.Device{Name: n.Name, Site: n.Site, Role: n.Role, SeenAs: n.SeenAs, Added: f.log.Now(), AddedBy: by}
	if err := f.wayIn(&d, n); err != nil {
		return err
	}
	return f.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.AddDevice(d); err != nil {
			return fmt.Errorf("device %s: %w", n.Name, err)
		}
		return tx.Record(
			ledger.Entry{Actor: by, Action: "device.add", Device: n.Name, Note: n.Account + "@" + n.Address},
		)
	})
}

// wayIn sets how a device is reached, checked as far as can be without it.
func (f *Fleet) wayIn(d *store.Device, n NewDevice) error {
	if host, port, err := net.SplitHostPort(n.Address); err != nil || host == "" || port == "" {
		return refusal.New(
			refusal.Invalid, "write it as HOST:PORT, e.g. 192.0.2.11:830 or [2001:db8::11]:830", "%s: %q is no address",
			d.Name, n.Address,
		)
	}
	if n.Account == "" {
		return refusal.New(refusal.Invalid, "", "%s: the account on the device is missing", d.Name)
	}
	secret := n.Password
	d.Address, d.Account, d.Auth = n.Address, n.Account, "password"
	if n.PrivateKey != "" {
		d.Auth, secret = "key", n.PrivateKey
		if _, err := ssh.ParsePrivateKey([]byte(secret)); err != nil {
			return refusal.New(
				refusal.Invalid, "give one in OpenSSH or PEM form without a passphrase",
				"%s: the private key cannot be read: %v", d.Name, err,
			)
		}
	}
	if secret == "" {
		return refusal.New(refusal.Invalid, "", "%s: a password or a private key is needed", d.Name)
	}
	d.Secret = f.sealer.Seal([]byte(secret), access.Purpose("devices", d.Name))
	return nil
}

// Replace puts another box in a device's place: it is reached as told here,
// its host key is to be accepted again, and the device's history goes on.
func (f *Fleet) Replace(ctx context.Context, by string, d store.Device, n NewDevice) error {
	was := d.Account + "@" + d.Address
	if err := f.wayIn(&d, n); err != nil {
		return err
	}
	note := "what the old box was is not known"
	if d.Model+d.Serial != "" {
		note = "the old box was " + strings.TrimSpace(d.Model+" "+d.Serial)
	}
	return f.log.Write(ctx, func(tx *audit.Tx) error { // the session that stands to the old one ends by itself
		if err := tx.Replace(d); err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: by, Action: "device.replace", Device: d.Name, Before: was, After: d.Account + "@" + d.Address,
				Note: note,
			},
		)
	})
}

// Session is a NETCONF session with a device, with the device's schema.
type Session struct {
	*netconf.Client
	Device store.Device
	Schema *schema.Schema

	fleet *Fleet
}

// dialTimeout bounds reaching a device; callers may set less by context.
const dialTimeout = 20 * time.Second

// Dial opens a session and notes in the inventory how that went.
func (f *Fleet) Dial(ctx context.Context, reach store.Reach, name string) (*Session, error) {
	s, err := f.open(ctx, reach, name, 0)
	return s, f.named(ctx, reach, name, err)
}

// DialAt opens a session at another address than the one kept, with the same
// account and host key. The inventory hears nothing of it.
func (f *Fleet) DialAt(ctx context.Context, reach store.Reach, name, address string) (*Session, error) {
	d, err := f.store.Device(ctx, reach, name)
	if err != nil {
		return nil, fmt.Errorf("device %s: %w", name, err)
	}
	d.Address, d.MovingTo = address, ""
	return f.dial(ctx, d, 0)
}

// open is Dial with the time between signs of life, 0 for the usual one.
func (f *Fleet) open(ctx context.Context, reach store.Reach, name string, sign time.Duration) (*Session, error) {
	d, err := f.store.Device(ctx, reach, name)
	if err != nil {
		return nil, fmt.Errorf("device %s: %w", name, err)
	}
	s, err := f.dial(ctx, d, sign)
	if ctx.Err() != nil && errors.Is(ctx.Err(), context.Canceled) {
		if err == nil {
			s.Abort()
		}
		return nil, ctx.Err() // the asker went away; nothing is said of the device
	}
	f.note(ctx, d, err)
	return s, err
}

// note keeps how a contact with a device went, where that is news. That it could not
// be kept, as on a full disk, is no reason not to go on with the device.
func (f *Fleet) note(ctx context.Context, d store.Device, err error) {
	trouble := ""
	if err != nil {
		trouble = err.Error()
	}
	if trouble == d.Trouble && (err != nil || f.log.Now().Sub(d.Seen) <= time.Minute) {
		return
	}
	switch {
	case trouble != "" && d.Trouble == "":
		slog.Warn("a device cannot be reached as it should", "device", d.Name, "address", d.Address, "error", trouble)
	case trouble == "" && d.Trouble != "":
		slog.Info("a device is OK again", "device", d.Name, "address", d.Address)
	}
	if err := f.store.Write(
		ctx, func(tx *store.Tx) error { return tx.SetContact(d.ID, f.log.Now(), trouble) },
	); err != nil {
		slog.Error("how a contact with a device went could not be stored", "device", d.Name, "error", err)
	}
}

// dial opens a session. A device whose management a commit is moving may be at
// either address: the first to answer is taken.
func (f *Fleet) dial(ctx context.Context, d store.Device, sign time.Duration) (*Session, error) {
	to, _, _ := strings.Cut(d.MovingTo, " ")
	if to == "" || to == d.Address {
		return f.dialOne(ctx, d, sign)
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	type answer struct {
		s   *Session
		err error
	}
	answers := make(chan answer, 2)
	for _, address := range []string{d.Address, to} {
		there := d
		there.Address = address
		go func() {
			s, err := f.dialOne(ctx, there, sign)
			answers <- answer{s, err}
		}()
	}
	var errs []error
	for range 2 {
		a := <-answers
		if a.err == nil {
			if len(errs) == 0 { // the other one has not answered yet, and is not wanted
				go func() {
					if b := <-answers; b.err == nil {
						b.s.Abort()
					}
				}()
			}
			return a.s, nil
		}
		errs = append(errs, a.err)
	}
	return nil, errs[0]
}

func (f *Fleet) dialOne(ctx context.Context, d store.Device, sign time.Duration) (*Session, error) {
	if len(d.Secret) == 0 {
		return nil, &Error{
			d.Name, d.Address, BadLogin,
			"there is no password or key for it: it was rebuilt from an archive, which holds none",
			advice.Words("give it one").Do(advice.ReplaceDevice, d.Name, d.Address, d.Account), nil,
		}
	}
	if d.HostKey == "" {
		return nil, &Error{d.Name, d.Address, HostKey, "its host key has not been accepted yet",
			advice.Words("compare it and accept it").Do(advice.TrustDevice, d.Name), nil}
	}
	secret, err := f.sealer.Open(d.Secret, access.Purpose("devices", d.Name))
	if err != nil {
		return nil, &Error{d.Name, d.Address, BadLogin, err.Error(), nil, err}
	}
	// Some SSH servers take a password only as the answer to a question
	// (keyboard-interactive, RFC 4256).
	auth := []ssh.AuthMethod{ssh.Password(string(secret)), ssh.KeyboardInteractive(func(
		_, _ string, questions []string, _ []bool,
	) ([]string, error) {
		answers := make([]string, len(questions))
		for i := range answers {
			answers[i] = string(secret)
		}
		return answers, nil
	})}
	if d.Auth == "key" {
		signer, err := ssh.ParsePrivateKey(secret)
		if err != nil {
			return nil, &Error{
				d.Name, d.Address, BadLogin, "the stored private key cannot be read",
				advice.Words("give it another").Do(advice.ReplaceDevice, d.Name, d.Address, d.Account), err,
			}
		}
		auth = []ssh.AuthMethod{ssh.PublicKeys(signer)}
	}
	check := &hostkey.Check{Accepted: d.HostKey}
	c, err := spare.Open(func() (*netconf.Client, error) {
		return netconf.Dial(ctx, d.Address, netconf.DialOptions{
			Client: ssh.ClientConfig{
				User: d.Account, Auth: auth,
				HostKeyCallback: check.Callback, HostKeyAlgorithms: check.Algorithms(),
			},
			Timeout: dialTimeout, Keepalive: sign, NETCONF: netconf.ClientOptions{
				Traffic: &f.Traffic, Notify: func(n netconf.Notification) { f.heard(d, n) },
			},
		})
	})
	if err != nil {
		return nil, f.explain(d, check, err)
	}
	s := &Session{Client: c, Device: d, fleet: f}
	f.opened(s)
	if err := f.learn(ctx, s); err != nil {
		c.Abort()
		return nil, err
	}
	return s, nil
}

// explain tells a failed dial in words.
func (f *Fleet) explain(d store.Device, check *hostkey.Check, err error) error {
	e := &Error{Device: d.Name, Address: d.Address, Kind: Unreachable, Err: err}
	var netErr net.Error
	switch {
	case check.Other != "":
		e.Kind = HostKey
		e.Msg = fmt.Sprintf(
			"its host key is not the one that was accepted: accepted %s, shown now %s", hostkey.Fingerprint(d.HostKey),
			check.Other,
		)
		e.Next = advice.Words(
			"nothing was sent; if the device was replaced or reset, check the new key at its console and accept it",
		).Do(advice.TrustDevice, d.Name)
	case strings.Contains(err.Error(), "unable to authenticate"):
		e.Kind = BadLogin
		e.Msg = fmt.Sprintf("it does not accept account %s with the stored %s", d.Account, d.Auth)
		e.Next = advice.Words("check the account on the device")
	case strings.Contains(err.Error(), "no netconf subsystem"), strings.Contains(err.Error(), "hello"):
		e.Kind = Protocol
		e.Msg = err.Error()
		e.Next = advice.Words("check that NETCONF over SSH is on at this port")
	case errors.Is(err, context.DeadlineExceeded), errors.As(err, &netErr) && netErr.Timeout():
		e.Msg = "no answer"
		e.Next = advice.Words("check the address and that the device is up")
	default:
		e.Msg = "cannot be reached: " + err.Error()
		e.Next = advice.Words("check the address, the port and that the device is up")
	}
	return e
}

// Wrap tells an error of an operation on a session in words.
func (s *Session) Wrap(doing string, err error) error {
	if err == nil {
		return nil
	}
	kind := Protocol
	var none *netconf.NoReplyError
	switch {
	case netconf.Refused(err):
		kind = Refusal
	case errors.As(err, &none), errors.Is(err, netconf.ErrClosed):
		kind = Unreachable
	}
	return &Error{s.Device.Name, s.Device.Address, kind, doing + ": " + err.Error(), nil, err}
}

// Answered is Wrap for what a device may say no to: no says so in words. Without an
// answer it is none.
func (s *Session) Answered(no, doing string, err error) error {
	if netconf.Refused(err) {
		doing = no
	}
	return s.Wrap(doing, err)
}

// Read reads a datastore as a configuration.
func (s *Session) Read(ctx context.Context, from netconf.Datastore) (*tree.Node, error) {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	ask, trim := defaultsMode(s.Capabilities)
	data, err := s.GetConfigWith(ctx, from, nil, ask)
	if err != nil {
		return nil, s.Wrap("reading "+string(from), err)
	}
	source := data.Fingerprint()
	n, err := s.fleet.Recent.Tree(s.Schema, fmt.Sprintf("%x %t", source, trim), func() (*tree.Node, int, error) {
		n, err := codec.Decoder{Schema: s.Schema}.Tree(data)
		if err != nil {
			return nil, 0, err
		}
		if n = n.ConfigOnly(); trim {
			n = n.WithoutDefaults()
		}
		return n, len(data.Raw), nil
	})
	if err != nil {
		return nil, &Error{
			s.Device.Name, s.Device.Address, Protocol,
			fmt.Sprintf("reading %s: its answer is no configuration: %v", from, err), nil, err,
		}
	}
	return n, nil
}

// defaultsMode picks how a device is asked for its defaults (RFC 6243): so that
// what somebody set is told from what merely holds, or else without any. trim
// is set where the device can only report them all.
func defaultsMode(caps netconf.Capabilities) (ask string, trim bool) {
	basic, also := caps.Defaults()
	if basic != string(tree.ReportAll) {
		return "", false // explicit and trim report what was set
	}
	for _, mode := range []tree.DefaultsMode{tree.Explicit, tree.ReportAllTagged, tree.Trim} {
		if slices.Contains(also, string(mode)) {
			return string(mode), false
		}
	}
	return "", true
}
