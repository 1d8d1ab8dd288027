package notify_test

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/ledger"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/notify"
	"oakenlatch/service/store"
	"oakenlatch/test/outpost"
	"oakenlatch/test/records"
)

// hostile is a text that nobody who is told of it may be harmed by.
const hostile = "=cmd()\x1b[2J\u202eevil\u202c \"quoted]\\ <b>\r\nBcc: all@tidewell.example"

type room struct {
	*notify.Notifier
	t    *testing.T
	log  *audit.Log
	db   *store.Store
	stop context.CancelFunc
	dir  string
}

func newRoom(t *testing.T) *room {
	t.Helper()
	r := &room{t: t, dir: t.TempDir()}
	r.open()
	t.Cleanup(func() { r.close() })
	return r
}

func (r *room) open() {
	records.Fresh(r.t, r.dir)
	var err error
	r.db, err = store.Open(r.dir)
	require.NoError(r.t, err)
	r.log = audit.New(r.db, audit.Options{})
	sealer, err := access.OpenSealer(filepath.Join(r.dir, access.KeyFile))
	require.NoError(r.t, err)
	r.Notifier = notify.New(r.db, r.log, sealer, slog.New(slog.DiscardHandler))
	r.Timing = notify.Timing{
		Gather: 50 * time.Millisecond, FirstRetry: 100 * time.Millisecond, LastRetry: 300 * time.Millisecond,
		Patience: 3 * time.Second,
	}
	var ctx context.Context
	ctx, r.stop = context.WithCancel(context.Background())
	require.NoError(r.t, r.Run(ctx))
}

func (r *room) close() {
	r.stop()
	r.Stop()
	_ = r.db.Close()
}

func (r *room) add(w notify.Wanted) {
	r.t.Helper()
	_, err := r.Add(r.t.Context(), "admin", w)
	require.NoError(r.t, err)
}

func (r *room) enter(list ...ledger.Entry) {
	r.t.Helper()
	require.NoError(r.t, r.log.Write(r.t.Context(), func(tx *audit.Tx) error {
		var errs []error
		for _, e := range list {
			errs = append(errs, tx.Record(e))
		}
		return errors.Join(errs...)
	}))
}

func (r *room) kinds() (out []string) {
	list, err := r.log.Entries(r.t.Context(), store.LedgerQuery{Oldest: true})
	require.NoError(r.t, err)
	for _, e := range list {
		out = append(out, e.Action)
	}
	return out
}

func eventually(t *testing.T, what func() bool, msg ...any) {
	t.Helper()
	require.Eventually(t, what, 90*time.Second, 30*time.Millisecond, msg...)
}

// Debian's rsyslog takes what it is told, over UDP, TCP and TLS: severity,
// kind, structured data and text as RFC 5424 has them, a hostile text as one
// harmless line; and only what its line finds.
func TestRsyslog(t *testing.T) {
	t.Parallel()
	cert := outpost.NewCertificate(t)
	for _, network := range []string{"udp", "tcp", "tls"} {
		t.Run(network, func(t *testing.T) {
			t.Parallel()
			s := outpost.NewSyslog(t, network, cert)
			r := newRoom(t)
			w := notify.Wanted{Name: "loghost", Kind: notify.Syslog, Place: s.Place, Line: "kind:change,edit -who:wren"}
			if network == "tls" {
				w.Authority = cert.CertPEM
			}
			r.add(w)
			require.NoError(t, r.Try(t.Context(), "admin", "loghost"))
			r.enter(
				ledger.Entry{
					Actor: "mara", Action: "edit.put", Device: "quay", Change: 7, Path: `/a/b=x"]y`, Before: "1",
					After: hostile,
				},
				ledger.Entry{Actor: "wren", Action: "edit.put"}, ledger.Entry{Actor: "mara", Action: "login"},
				ledger.Entry{Actor: "service", Action: "change.failed", Change: 7, Note: "Ölhafen, 2 devices"},
			)
			line := func(entry string) string {
				i := slices.IndexFunc(
					s.Lines(), func(l string) bool { return strings.Contains(l, ` entry="`+entry+`"`) },
				)
				if i < 0 {
					return ""
				}
				return s.Lines()[i]
			}
			for entry, wanted := range map[string][]string{
				"2": {"1 audit.notice tell.try [ledger@32473 "},
				"3": {
					`1 audit.info edit.put [ledger@32473 entry="3" who="mara" device="quay" change="7" path="/a/b=x\"\]y" outcome="done" digest="`,
					"mara: edit.put, on quay, change 7", "=cmd() [2J",
				}, // a control character acts on nobody
				"6": {`1 audit.err change.failed [ledger@32473 entry="6" `, "Ölhafen, 2 devices"},
			} {
				eventually(t, func() bool { return line(entry) != "" }, "entry "+entry)
				for _, want := range wanted {
					assert.Contains(t, line(entry), want)
				}
			}
			assert.Empty(t, line("4")+line("5"), "it is told of what its line finds")
		})
	}
}

// A receiver that is away is told later, in order, all of it, also by a service
// that was started anew meanwhile; that it was away is on record, once.
func TestAway(t *testing.T) {
	t.Parallel()
	s := outpost.NewSyslog(t, "tcp", outpost.Certificate{})
	r := newRoom(t)
	r.add(notify.Wanted{Name: "loghost", Kind: notify.Syslog, Place: s.Place, Line: "who:mara"})
	r.enter(ledger.Entry{Actor: "mara", Action: "x.0"})
	eventually(t, func() bool { return len(s.Lines()) == 1 })
	s.Stop()
	for i := range 3 {
		r.enter(ledger.Entry{Actor: "mara", Action: fmt.Sprintf("x.%d", i+1)})
	}
	eventually(t, func() bool { return strings.Contains(strings.Join(r.kinds(), " "), "tell.failed") })
	time.Sleep(time.Second)
	assert.Equal(t, 1, strings.Count(strings.Join(r.kinds(), " "), "tell.failed"))
	v, err := r.Find(t.Context(), "loghost")
	require.NoError(t, err)
	assert.Contains(t, v.Trouble, "refused")
	r.close()
	r.open()
	r.enter(ledger.Entry{Actor: "mara", Action: "x.4"})
	s.Start()
	eventually(t, func() bool { return len(s.Lines()) >= 5 }, s.Lines)
	for i, l := range s.Lines() {
		assert.Contains(t, l, fmt.Sprintf(" x.%d ", i))
	}
	eventually(t, func() bool { return strings.Contains(strings.Join(r.kinds(), " "), "tell.again") })
	v, err = r.Find(t.Context(), "loghost")
	require.NoError(t, err)
	assert.Equal(t, []any{"", int64(5)}, []any{v.Trouble, v.Told})
}

// Debian's exim takes mail over STARTTLS: what was gathered is one mail, and no
// text of an entry becomes a header.
func TestExim(t *testing.T) {
	t.Parallel()
	cert := outpost.NewCertificate(t)
	s := outpost.NewMailServer(t, cert)
	r := newRoom(t)
	r.add(
		notify.Wanted{
			Name: "office", Kind: notify.Mail, Place: s.Place, Line: "outcome:failed",
			Settings: notify.Settings{
				Authority: cert.CertPEM, From: "latch@tidewell.example",
				To: []string{"office@tidewell.example", "pier@tidewell.example"}, Gather: 1,
			},
		},
	)
	r.enter(
		ledger.Entry{Actor: "mara", Action: "commit.start", Note: hostile, Outcome: ledger.Failed},
		ledger.Entry{Actor: "mara", Action: "x"},
		ledger.Entry{Actor: "joss", Action: "archive.copy", Outcome: ledger.Failed, Note: "Ölhafen"},
	)
	for _, to := range []string{"office", "pier"} {
		eventually(t, func() bool { return len(s.Mail(to)) > 0 }, to)
		mail := s.Mail(to)[0]
		assert.Contains(t, mail, "joss: archive.copy")
		head, _, _ := strings.Cut(mail, "\n\n")
		assert.NotContains(t, head, "\nBcc:")
		assert.Contains(t, head, "Auto-Submitted: auto-generated")
		assert.Contains(t, mail, "(and_1_more)")
		assert.Len(t, s.Mail(to), 1, "they were gathered")
	}
	assert.Empty(t, s.Mail("all"))
}

// A webhook is signed as RFC 9421 has it, told once more with the same key
// where it failed, and never follows elsewhere.
func TestWebhook(t *testing.T) {
	t.Parallel()
	const secret = "a secret of some length"
	var mu sync.Mutex
	var keys []string
	var got []ledger.Entry
	fail := 2
	srv := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		body, _ := io.ReadAll(req.Body)
		sum := sha256.Sum256(body)
		digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
		assert.Equal(t, digest, req.Header.Get("Content-Digest"))
		params := strings.TrimPrefix(req.Header.Get("Signature-Input"), "oaken-latch=")
		base := "\"@method\": POST\n\"@target-uri\": https://" + req.Host + req.URL.Path +
			"\n\"content-type\": application/json\n\"content-digest\": " + digest + "\n\"@signature-params\": " + params
		mac := hmac.New(sha256.New, []byte(secret))
		mac.Write([]byte(base))
		assert.Equal(
			t, "oaken-latch=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":", req.Header.Get("Signature"),
		)
		keys = append(keys, req.Header.Get("Idempotency-Key"))
		if fail > 0 {
			fail--
			http.Redirect(w, req, "/elsewhere", http.StatusTemporaryRedirect)
			return
		}
		var d struct{ Entries []ledger.Entry }
		assert.NoError(t, json.Unmarshal(body, &d))
		got = append(got, d.Entries...)
	}))
	t.Cleanup(srv.Close)
	cert := outpost.Certificate{CertPEM: pemOf(srv)}
	r := newRoom(t)
	r.add(
		notify.Wanted{
			Name: "pager", Kind: notify.Webhook, Place: srv.URL + "/hook", Line: "who:mara", Secret: secret,
			Settings: notify.Settings{Authority: cert.CertPEM},
		},
	)
	r.enter(ledger.Entry{Actor: "mara", Action: "x", After: hostile}, ledger.Entry{Actor: "mara", Action: "y"})
	eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return len(got) == 2 })
	mu.Lock()
	defer mu.Unlock()
	assert.Equal(t, []string{"pager-2-3", "pager-2-3", "pager-2-3"}, keys)
	assert.Equal(t, hostile, got[0].After, "as it is: it is JSON")
	assert.Equal(t, got[0].Hash, ledger.Sum(got[0]).Hash, "and can be checked")
	v, err := r.Find(t.Context(), "pager")
	require.NoError(t, err)
	assert.NotContains(t, string(v.Secret), secret)
}

// A receiver that hangs holds up nobody else, and is said to hang.
func TestHangs(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	srv := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	t.Cleanup(srv.Close)
	r := newRoom(t)
	r.Timing.Patience = 500 * time.Millisecond
	r.add(
		notify.Wanted{
			Name: "hangs", Kind: notify.Webhook, Place: "http://" + l.Addr().String(),
			Secret: "a secret of some length", Line: "who:mara",
		},
	)
	r.add(
		notify.Wanted{
			Name: "mute", Kind: notify.Mail, Place: "smtp://" + l.Addr().String(), Line: "who:mara",
			Settings: notify.Settings{From: "a@tidewell.example", To: []string{"b@tidewell.example"}, Gather: 1},
		},
	)
	r.add(
		notify.Wanted{
			Name: "well", Kind: notify.Webhook, Place: srv.URL, Secret: "a secret of some length", Line: "who:mara",
		},
	)
	r.enter(ledger.Entry{Actor: "mara", Action: "x"})
	eventually(t, func() bool { v, err := r.Find(t.Context(), "well"); return err == nil && v.Told == 1 })
	for _, name := range []string{"hangs", "mute"} {
		eventually(t, func() bool { v, err := r.Find(t.Context(), name); return err == nil && v.Trouble != "" }, name)
	}
	require.ErrorContains(t, r.Try(t.Context(), "admin", "hangs"), "did not take it")
	require.NoError(t, r.Retire(t.Context(), "admin", "hangs"))
	_, err = r.Find(t.Context(), "hangs")
	require.ErrorContains(t, err, `there is no receiver "hangs"`)
	r.add(notify.Wanted{Name: "hangs", Kind: notify.Syslog, Place: "udp://127.0.0.1:9"})
}

// What cannot be meant is refused in words before anything is kept.
func TestWrong(t *testing.T) {
	t.Parallel()
	r := newRoom(t)
	hook := notify.Wanted{
		Name: "x", Kind: notify.Webhook, Place: "https://hook.example/", Secret: "a secret of some length",
	}
	post := notify.Wanted{
		Name: "x", Kind: notify.Mail, Place: "smtp://192.0.2.25:25",
		Settings: notify.Settings{From: "a@b.example", To: []string{"c@d.example"}},
	}
	for want, alter := range map[string]func() notify.Wanted{
		"is no name for a receiver": func() notify.Wanted { w := hook; w.Name = "a b"; return w },
		"goes wrong at column 5":    func() notify.Wanted { w := hook; w.Line = "who:"; return w },
		"in the clear": func() notify.Wanted {
			w := hook
			w.Place = "http://hook.example/"
			return w
		},
		"is no place": func() notify.Wanted {
			w := hook
			w.Place = "https://user:pw@hook.example/"
			return w
		},
		"needs a secret that signs":    func() notify.Wanted { w := hook; w.Secret = "short"; return w },
		"its authority cannot be read": func() notify.Wanted { w := hook; w.Authority = "x"; return w },
		"is no kind of receiver":       func() notify.Wanted { w := hook; w.Kind = "pigeon"; return w },
		"is no syslog receiver": func() notify.Wanted {
			return notify.Wanted{Name: "x", Kind: notify.Syslog, Place: "tcp://nohost"}
		},
		"is no mail server":              func() notify.Wanted { w := post; w.Place = "smtp://host"; return w },
		"that mail can come from":        func() notify.Wanted { w := post; w.From = "a\r\nBcc: b@c"; return w },
		"that mail can go to":            func() notify.Wanted { w := post; w.To = []string{"x"}; return w },
		"with an account and a password": func() notify.Wanted { w := post; w.Account = "x"; return w },
		"entries are gathered for 0 to":  func() notify.Wanted { w := post; w.Gather = 1 << 40; return w },
		"mail goes to 1 to 50 addresses": func() notify.Wanted { w := post; w.To = nil; return w },
		"a syslog receiver has no secret": func() notify.Wanted {
			return notify.Wanted{Name: "x", Kind: notify.Syslog, Place: "udp://192.0.2.1:514", Secret: "y"}
		},
	} {
		_, err := r.Add(t.Context(), "admin", alter())
		require.ErrorContains(t, err, want)
	}
	list, err := r.db.Receivers(t.Context())
	require.NoError(t, err)
	assert.Empty(t, list)
	r.add(hook)
	_, err = r.Add(t.Context(), "admin", hook)
	require.ErrorContains(t, err, `there is a receiver "x" already`)
	_, err = r.Set(t.Context(), "admin", "nobody", "who:mara")
	require.ErrorContains(t, err, "there is no receiver")
	v, err := r.Set(t.Context(), "admin", "x", "who:joss")
	require.NoError(t, err)
	assert.Equal(t, "who:joss", v.Line)
}

func pemOf(srv *httptest.Server) string {
	return "-----BEGIN CERTIFICATE-----\n" + base64.StdEncoding.EncodeToString(srv.Certificate().Raw) +
		"\n-----END CERTIFICATE-----\n"
}
