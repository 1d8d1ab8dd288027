package notify

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/mail"
	"net/url"
	"regexp"
	"strings"

	"oakenlatch/core/ledger"
	"oakenlatch/core/search"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/service/syslog"
)

// New receivers are checked as far as can be without asking them.

// Wanted is a receiver as a person wants it.
type Wanted struct {
	Name, Kind, Place, Line string
	Secret                  string // what signs a webhook; the password of mail
	Settings
}

var receiverName = regexp.MustCompile(`^[a-zA-Z0-9][a-zA-Z0-9._-]{0,62}$`)

// What a receiver may be set to.
const (
	mostGather  = 24 * 3600
	mostTo      = 50
	leastSecret = 16
)

// Add adds a receiver: it is told of what comes from now on.
func (t *Notifier) Add(ctx context.Context, by string, w Wanted) (store.Receiver, error) {
	if !receiverName.MatchString(w.Name) {
		return store.Receiver{}, refusal.New(
			refusal.Invalid, "use 1 to 63 letters, digits, dots, dashes or underscores", "%q is no name for a receiver",
			w.Name,
		)
	}
	if err := t.readable(w.Line); err != nil {
		return store.Receiver{}, err
	}
	if err := w.check(); err != nil {
		return store.Receiver{}, err
	}
	settings, err := json.Marshal(w.Settings)
	if err != nil {
		return store.Receiver{}, err
	}
	r := store.Receiver{
		Name: w.Name, Kind: w.Kind, Place: w.Place, Line: w.Line, Settings: string(settings), Added: t.log.Now(),
		AddedBy: by,
	}
	if w.Secret != "" {
		r.Secret = t.sealer.Seal([]byte(w.Secret), access.Purpose("receivers", w.Name))
	}
	err = t.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.AddReceiver(r); errors.Is(err, store.ErrExists) {
			return refusal.New(
				refusal.Conflict, "take another name, or retire that one", "there is a receiver %q already", r.Name,
			)
		} else if err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: by, Action: "tell.add", After: w.Line, Note: fmt.Sprintf("%s: %s %s", r.Name, r.Kind, r.Place),
			},
		)
	})
	if err != nil {
		return r, err
	}
	if r, err = t.store.Receiver(ctx, w.Name); err == nil {
		t.begin(r)
	}
	return r, err
}

func (t *Notifier) readable(line string) error {
	_, err := search.Parse(line, t.log.Now())
	var bad *search.Error
	if errors.As(err, &bad) {
		return refusal.New(refusal.Invalid, bad.Next, "what it is to be told of goes wrong at %s", bad.Error())
	}
	return err
}

func (w *Wanted) check() error {
	no := func(next, format string, args ...any) error {
		return refusal.New(refusal.Invalid, next, format, args...)
	}
	u, err := url.Parse(w.Place)
	if err != nil || len(w.Place) > 1000 || u.User != nil {
		return no("write it as a URL without a password in it", "%q is no place", w.Place)
	}
	if _, err := w.authority(); err != nil {
		return no("give a certificate in PEM", "its authority cannot be read: %v", err)
	}
	switch w.Kind {
	case Syslog:
		if w.Secret != "" {
			return no("leave it out", "a syslog receiver has no secret")
		}
		if _, err := syslog.Parse(w.Place, nil); err != nil {
			return no("", "%v", err)
		}
	case Webhook:
		if u.Scheme != "https" && u.Scheme != "http" || u.Host == "" {
			return no("write https://HOST/PATH", "%q is no webhook", w.Place)
		}
		if u.Scheme == "http" && !loopback(u.Hostname()) {
			return no("write https://", "what is told would go to %s in the clear", u.Host)
		}
		if len(w.Secret) < leastSecret {
			return no(
				fmt.Sprintf("give one of %d characters or more, which the receiver knows too", leastSecret),
				"a webhook needs a secret that signs what it is told",
			)
		}
	case Mail:
		return w.checkMail(u)
	default:
		return no("give syslog, webhook or mail", "%q is no kind of receiver", w.Kind)
	}
	return nil
}

func (w *Wanted) checkMail(u *url.URL) error {
	no := func(next, format string, args ...any) error {
		return refusal.New(refusal.Invalid, next, format, args...)
	}
	if u.Scheme != "smtp" && u.Scheme != "smtps" || u.Hostname() == "" || u.Port() == "" {
		return no(
			"write smtp://HOST:PORT, or smtps://HOST:PORT for TLS from the first byte", "%q is no mail server", w.Place,
		)
	}
	if _, err := mail.ParseAddress(w.From); err != nil {
		return no("give one", "%q is no address that mail can come from", w.From)
	}
	if len(w.To) == 0 || len(w.To) > mostTo {
		return no("say to whom it goes", "mail goes to 1 to %d addresses", mostTo)
	}
	for _, to := range w.To {
		if _, err := mail.ParseAddress(to); err != nil {
			return no("", "%q is no address that mail can go to", to)
		}
	}
	if w.Gather < 0 || w.Gather > mostGather {
		return no("", "entries are gathered for 0 to %d seconds", mostGather)
	}
	if (w.Account == "") != (w.Secret == "") {
		return no("give both, or neither", "a mail server is signed in to with an account and a password")
	}
	if w.Gather == 0 {
		w.Gather = 60
	}
	return nil
}

// loopback reports whether a host is this machine.
func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// authority gives how a receiver's certificate is checked.
func (s Settings) authority() (*tls.Config, error) {
	cfg := &tls.Config{MinVersion: tls.VersionTLS12}
	if s.Authority == "" {
		return cfg, nil
	}
	cfg.RootCAs = x509.NewCertPool()
	if !cfg.RootCAs.AppendCertsFromPEM([]byte(s.Authority)) {
		return nil, errors.New("it holds no certificate")
	}
	return cfg, nil
}

// Set changes what a receiver is told of.
func (t *Notifier) Set(ctx context.Context, by, name, line string) (store.Receiver, error) {
	if err := t.readable(line); err != nil {
		return store.Receiver{}, err
	}
	r, err := t.Find(ctx, name)
	if err != nil {
		return r, err
	}
	err = t.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.SetReceiver(r.ID, line); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: by, Action: "tell.set", Before: r.Line, After: line, Note: name})
	})
	if err != nil {
		return r, err
	}
	if r, err = t.Find(ctx, name); err == nil {
		t.begin(r)
	}
	return r, err
}

// Retire tells a receiver nothing any more.
func (t *Notifier) Retire(ctx context.Context, by, name string) error {
	r, err := t.Find(ctx, name)
	if err != nil {
		return err
	}
	err = t.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.RetireReceiver(r.ID, t.log.Now()); err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{Actor: by, Action: "tell.retire", Note: fmt.Sprintf("%s: %s %s", r.Name, r.Kind, r.Place)},
		)
	})
	if err == nil {
		t.end(r.ID)
	}
	return err
}

// Try tells a receiver of the ledger's last entry, whatever that is, and gives
// what came of it.
func (t *Notifier) Try(ctx context.Context, by, name string) error {
	r, err := t.Find(ctx, name)
	if err != nil {
		return err
	}
	w, err := t.open(r)
	if err != nil {
		return err
	}
	defer w.close()
	e := ledger.Entry{Actor: by, Action: "tell.try", Note: "this is a try: " + name + " is told of: " + orAll(r.Line)}
	if err := t.log.Write(ctx, func(tx *audit.Tx) error { return tx.Record(e) }); err != nil {
		return err
	}
	list, err := t.log.Entries(
		ctx,
		store.LedgerQuery{
			Query: search.Query{Terms: []search.Term{{Key: search.Kind, Values: []string{"tell.try"}}}}, Limit: 1,
		},
	)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, t.Timing.Patience)
	defer cancel()
	if _, err := w.send(ctx, list); err != nil {
		return refusal.New(
			refusal.Conflict, "check its place and that it listens", "%s (%s) did not take it: %s", name, r.Place,
			brief(err),
		)
	}
	return nil
}

func orAll(line string) string {
	if strings.TrimSpace(line) == "" {
		return "everything"
	}
	return line
}
