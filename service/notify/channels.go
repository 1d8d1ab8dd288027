package notify

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	mail "github.com/wneessen/go-mail"

	"oakenlatch/core/clip"
	"oakenlatch/core/ledger"
	"oakenlatch/service/access"
	"oakenlatch/service/store"
	"oakenlatch/service/syslog"
)

// open gives the way to a receiver.
func (t *Notifier) open(r store.Receiver) (channel, error) {
	var s Settings
	if err := json.Unmarshal([]byte(r.Settings), &s); err != nil {
		return nil, fmt.Errorf("its settings cannot be read: %w", err)
	}
	cfg, err := s.authority()
	if err != nil {
		return nil, err
	}
	secret := []byte{}
	if len(r.Secret) > 0 {
		if secret, err = t.sealer.Open(r.Secret, access.Purpose("receivers", r.Name)); err != nil {
			return nil, err
		}
	}
	switch r.Kind {
	case Syslog:
		to, err := syslog.Parse(r.Place, cfg)
		if err != nil {
			return nil, err
		}
		return &bySyslog{to}, nil
	case Webhook:
		return &byWebhook{
			name: r.Name, place: r.Place, secret: secret, now: t.log.Now,
			client: &http.Client{
				Transport: &http.Transport{
					TLSClientConfig: cfg, MaxIdleConns: 1, IdleConnTimeout: time.Minute,
					ResponseHeaderTimeout: t.Timing.Patience,
				},
				// it is told where it was set
				CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
			},
		}, nil
	}
	u, err := url.Parse(r.Place)
	if err != nil {
		return nil, err
	}
	port, err := strconv.Atoi(u.Port())
	if err != nil {
		return nil, err
	}
	cfg.ServerName = u.Hostname()
	options := []mail.Option{mail.WithPort(port), mail.WithTimeout(t.Timing.Patience), mail.WithTLSConfig(cfg)}
	switch {
	case u.Scheme == "smtps":
		options = append(options, mail.WithSSL())
	case loopback(u.Hostname()):
		options = append(options, mail.WithTLSPolicy(mail.TLSOpportunistic))
	default:
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	}
	if s.Account != "" {
		options = append(
			options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(s.Account),
			mail.WithPassword(string(secret)),
		)
	}
	c, err := mail.NewClient(u.Hostname(), options...)
	if err != nil {
		return nil, err
	}
	return &byMail{client: c, settings: s, name: r.Name}, nil
}

// Element is the SD-ID of an entry (RFC 5424 section 6.3.2). The number behind
// the @ is the one set aside for documentation (RFC 5612): none is registered.
const Element = "ledger@32473"

type bySyslog struct{ to *syslog.Receiver }

func (b *bySyslog) most() int { return 200 }
func (b *bySyslog) close()    {}

func (b *bySyslog) send(ctx context.Context, list []ledger.Entry) (int, error) {
	messages := make([]syslog.Message, len(list))
	for i, e := range list {
		messages[i] = message(e)
	}
	if err := b.to.Send(ctx, messages...); err != nil {
		return 0, err // which of them it took is not known
	}
	return len(list), nil
}

// message gives an entry as syslog has it.
func message(e ledger.Entry) syslog.Message {
	change := ""
	if e.Change != 0 {
		change = strconv.FormatInt(e.Change, 10)
	}
	return syslog.Message{
		Severity: severity(e), At: e.At, ID: e.Action, Element: Element, Text: sentence(e),
		Data: [][2]string{
			{"entry", strconv.FormatInt(e.Seq, 10)}, {"who", e.Actor}, {"device", e.Device}, {"change", change},
			{"ticket", e.Ticket}, {"path", e.Path}, {"outcome", e.Outcome.String()},
			{"way", e.Way}, {"address", e.Address},
			{"session", e.Session}, {"digest", e.Hash},
		},
	}
}

// severity is how urgent an entry is (RFC 5424 section 6.2.1).
func severity(e ledger.Entry) int {
	kind, _, _ := strings.Cut(e.Action, ".")
	switch {
	case e.Outcome == ledger.Failed, e.Action == "change.failed":
		return syslog.Error
	case e.Outcome == ledger.Refused, kind == "outside", e.Action == "revision.outside", e.Action == "startup.outside",
		e.Action == "change.reverted", e.Action == "visit.cut-off", e.Action == "hold.ending",
		e.Action == "device.not-reached":
		return syslog.Warning
	case kind == "change", kind == "commit", kind == "account", kind == "audit", kind == "tell":
		return syslog.Notice
	}
	return syslog.Info
}

type byWebhook struct {
	name, place string
	secret      []byte
	now         func() time.Time
	client      *http.Client
}

func (b *byWebhook) most() int { return 100 }
func (b *byWebhook) close()    { b.client.CloseIdleConnections() }

// delivery is what a webhook is told.
type delivery struct {
	Receiver string         `json:"receiver"`
	Entries  []ledger.Entry `json:"entries"`
}

func (b *byWebhook) send(ctx context.Context, list []ledger.Entry) (int, error) {
	return all(list, b.post(ctx, list))
}

// all is what was taken where it is all or nothing.
func all(list []ledger.Entry, err error) (int, error) {
	if err != nil {
		return 0, err
	}
	return len(list), nil
}

func (b *byWebhook) post(ctx context.Context, list []ledger.Entry) error {
	body, err := json.Marshal(delivery{b.name, list})
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, b.place, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("User-Agent", "oaken-latchd")
	req.Header.Set("Idempotency-Key", fmt.Sprintf("%s-%d-%d", b.name, list[0].Seq, list[len(list)-1].Seq))
	b.sign(req, body)
	res, err := b.client.Do(req)
	if err != nil {
		return err
	}
	defer func() { _ = res.Body.Close() }()
	_, _ = io.Copy(io.Discard, io.LimitReader(res.Body, 64<<10))
	if res.StatusCode < 200 || res.StatusCode > 299 {
		return fmt.Errorf("it answers %s", res.Status)
	}
	return nil
}

// sign signs a request (RFC 9421) with the shared secret, over the method, the
// target, the type and the digest of the body (RFC 9530).
func (b *byWebhook) sign(req *http.Request, body []byte) {
	sum := sha256.Sum256(body)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	req.Header.Set("Content-Digest", digest)
	params := fmt.Sprintf(
		`("@method" "@target-uri" "content-type" "content-digest");created=%d;keyid="%s";alg="hmac-sha256"`,
		b.now().Unix(), b.name,
	)
	mac := hmac.New(sha256.New, b.secret)
	_, _ = mac.Write([]byte(SignatureBase(req.Method, b.place, req.Header.Get("Content-Type"), digest, params)))
	req.Header.Set("Signature-Input", "oaken-latch="+params)
	req.Header.Set("Signature", "oaken-latch=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":")
}

// SignatureBase is the text that is signed (RFC 9421 section 2.5).
func SignatureBase(method, target, contentType, digest, params string) string {
	return fmt.Sprintf(
		"\"@method\": %s\n\"@target-uri\": %s\n\"content-type\": %s\n\"content-digest\": %s\n\"@signature-params\": %s",
		method, target, contentType, digest, params,
	)
}

type byMail struct {
	client   *mail.Client
	settings Settings
	name     string
}

func (b *byMail) most() int { return 200 }
func (b *byMail) close()    {}

func (b *byMail) send(ctx context.Context, list []ledger.Entry) (int, error) {
	return all(list, b.mail(ctx, list))
}

func (b *byMail) mail(ctx context.Context, list []ledger.Entry) error {
	m := mail.NewMsg()
	if err := m.From(b.settings.From); err != nil {
		return err
	}
	if err := m.To(b.settings.To...); err != nil {
		return err
	}
	m.Subject(subject(list))
	m.SetUserAgent("oaken-latchd")
	m.SetDate()
	m.SetMessageID()
	m.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834: no automatic answers
	var text strings.Builder
	for _, e := range list {
		fmt.Fprintf(
			&text, "%s  entry %d\n  %s\n\n", e.At.UTC().Format("2006-01-02 15:04:05 UTC"), e.Seq,
			strings.ReplaceAll(visible(sentence(e)), "\n", "\n  "),
		)
	}
	fmt.Fprintf(
		&text, "-- \nOaken Latch tells %s of these; what of is set at the receiver %s\n", b.name, b.name,
	)
	m.SetBodyString(mail.TypeTextPlain, text.String())
	return b.client.DialAndSendWithContext(ctx, m)
}

// visible shows what would act on a reader as what it is.
func visible(text string) string {
	return strings.Map(func(r rune) rune {
		if r != '\n' && (r < ' ' || r == 0x7f || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069) {
			return '\ufffd'
		}
		return r
	}, text)
}

func subject(list []ledger.Entry) string {
	first := clip.To(strings.ReplaceAll(visible(sentence(list[0])), "\n", " "), 90)
	if len(list) > 1 {
		first += fmt.Sprintf(" (and %d more)", len(list)-1)
	}
	return "[Oaken Latch] " + first
}
