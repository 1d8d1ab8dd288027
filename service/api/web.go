package api

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"mime"
	"net"
	"net/http"
	"path"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v5"

	"oakenlatch/service/refusal"
)

// Bounds on what one service does at a time, and for how long.
const (
	mostRequests     = 256              // answered at once, event streams beside them
	mostOfAccount    = 64               // of one account
	mostStreams      = 512              // event streams
	mostOwnStreams   = 32               // of one account
	bodyTimeout      = time.Minute      // a request's body
	largeBodyTimeout = 5 * time.Minute  // one that may hold a whole configuration
	answerTimeout    = 15 * time.Minute // an answer, exports among them
	writeEvent       = 20 * time.Second // what is sent on an event stream
)

// busy counts what is under way, in all and of each account.
type busy struct {
	most, ofAccount int

	mu  sync.Mutex
	all int
	by  map[string]int
}

// errBusy is given where as much is under way as there may be.
var errBusy = errors.New("as much is under way as there may be at once")

func (b *busy) enter(account string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.by == nil {
		b.by = map[string]int{}
	}
	if b.all >= b.most || account != "" && b.by[account] >= b.ofAccount {
		return errBusy
	}
	b.all++
	b.by[account]++
	return nil
}

func (b *busy) leave(account string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.all--
	if b.by[account]--; b.by[account] == 0 {
		delete(b.by, account)
	}
}

// requestID is under what a request's name stands in its context.
type requestID struct{}

// within makes a request a bounded one, gives it a name, and tells of it when it
// is over. Slow clients are cut off: they keep nothing but their own connection.
func (a *API) within(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		began := time.Now()
		id := rand.Text()[:12]
		req := c.Request()
		c.SetRequest(req.WithContext(context.WithValue(req.Context(), requestID{}, id)))
		c.Response().Header().Set("Request-Id", id)
		limit := cmp.Or(a.bodyTimeout, bodyTimeout)
		if large(c) {
			limit = largeBodyTimeout
		}
		rc := http.NewResponseController(c.Response()) // of a recorder in a test there are no deadlines
		_ = rc.SetWriteDeadline(began.Add(answerTimeout))
		if req := c.Request(); req.Body == nil || req.Body == http.NoBody {
			_ = rc.SetReadDeadline(time.Time{})
		} else {
			_ = rc.SetReadDeadline(began.Add(limit))
			req.Body = &limitedBody{ReadCloser: req.Body, read: func() { _ = rc.SetReadDeadline(time.Time{}) }}
		}
		err := next(c)
		if r, uerr := echo.UnwrapResponse(c.Response()); err != nil && uerr == nil && r.Committed {
			// A part of the answer is on its way: it ends as what it is, broken off.
			a.Logger.Error("an answer broke off", "request", id, "method", req.Method, "route", c.Path(), "error", err)
			a.tell(c, id, http.StatusInternalServerError, time.Since(began))
			panic(http.ErrAbortHandler)
		}
		if err != nil {
			a.fail(c, err)
		}
		status := http.StatusOK
		if r, err := echo.UnwrapResponse(c.Response()); err == nil && r.Status != 0 {
			status = r.Status
		}
		a.tell(c, id, status, time.Since(began))
		return nil
	}
}

// limitedBody is a body that is to be read within a time. Once it is, that time no
// longer counts: the server would take it for a connection that broke, and end what
// is being done for the request.
type limitedBody struct {
	io.ReadCloser
	read func()
}

func (b *limitedBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if errors.Is(err, io.EOF) {
		b.read()
	}
	return n, err
}

// tell logs a request: what was asked, of which change, by whom, and how it went;
// never what it held.
func (a *API) tell(c *echo.Context, id string, status int, took time.Duration) {
	path := c.Path()
	if a.count != nil {
		a.count(method(c.Request().Method), path, status, took)
	}
	if !strings.HasPrefix(path, prefix) {
		return
	}
	level := slog.LevelDebug
	switch {
	case status >= 500:
		level = slog.LevelError
	case c.Request().Method != http.MethodGet:
		level = slog.LevelInfo
	}
	list := []any{
		"request", id, "method", c.Request().Method, "route", strings.TrimPrefix(path, prefix), "status", status, "ms",
		took.Milliseconds(), "from", c.RealIP(),
	}
	if who, _ := c.Get(whoKey).(string); who != "" {
		list = append(list, "account", who)
	}
	for at, of := range map[string]string{"/changes/:number": "change", "/devices/:name": "device"} {
		if strings.HasPrefix(path, prefix+at) {
			list = append(list, of, c.Param(at[strings.IndexByte(at, ':')+1:]))
		}
	}
	a.Logger.Log(c.Request().Context(), level, "request", list...)
}

// method keeps what anybody can ask out of the names of metrics.
func method(text string) string {
	switch text {
	case http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete,
		http.MethodOptions:
		return text
	}
	return "other"
}

// whoKey is under what who asks is noted with a request.
const whoKey = "oaken-latch-who"

// headers are what browsers are to keep to: nothing is taken from elsewhere, no
// script stands in a page, and no other site frames one. Style sheets that the
// console's library makes carry the page's own nonce.
func (a *API) headers(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		nonce := rand.Text()
		c.Set(nonceKey, nonce)
		h := c.Response().Header()
		h.Set("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self' 'nonce-"+nonce+
			"'; img-src 'self' data:; font-src 'self'; connect-src 'self'; manifest-src 'self'; "+
			"base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("X-Frame-Options", "DENY")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
		h.Set("Permissions-Policy", "camera=(), geolocation=(), microphone=(), payment=(), usb=()")
		if a.secure(c) {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		if strings.HasPrefix(c.Request().URL.Path, prefix) {
			h.Set("Cache-Control", "no-store")
		}
		return next(c)
	}
}

// calledRight refuses what is asked of another name than the service's: a page of somebody else can
// have its own name lead here (DNS rebinding), and would then read as if it were ours. An address is no
// such name.
func (a *API) calledRight(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		host := c.Request().Host
		if name, _, err := net.SplitHostPort(host); err == nil {
			host = name
		}
		host = strings.TrimSuffix(strings.ToLower(strings.Trim(host, "[]")), ".")
		if a.Names != nil && net.ParseIP(host) == nil && !slices.Contains(a.Names, host) {
			return refusal.New(
				refusal.Misdirected, "call it by its address, or name it in the settings tls-names or public-url",
				"this service is not called %.80q", host,
			)
		}
		return next(c)
	}
}

const nonceKey = "oaken-latch-nonce"

// ownOnly refuses what another site has a browser ask: it would carry the session
// of whoever sits there (http.CrossOriginProtection: Sec-Fetch-Site, and Origin
// against Host). What is asked with a token in its header comes from no such page.
func (a *API) ownOnly(next echo.HandlerFunc) echo.HandlerFunc {
	guard := http.NewCrossOriginProtection()
	return func(c *echo.Context) error {
		if c.Request().Header.Get("Authorization") == "" {
			if err := guard.Check(c.Request()); err != nil {
				return refusal.New(
					refusal.Forbidden, "open the console itself",
					"a request from another site cannot use the console's session",
				)
			}
		}
		return next(c)
	}
}

// worthPacking is from how many bytes on an answer is compressed.
const worthPacking = 1400

// packings are how the console's files are there, the smallest first (console/scripts/pack.mjs).
var packings = []struct{ coding, suffix string }{{"br", ".br"}, {"gzip", ".gz"}}

// packed gives the name under which a file is there in a coding that whoever asks takes (RFC 9110, section 12.5.3), and
// the coding; the name itself and "" where it is not.
func packed(files fs.FS, name, accept string) (string, string) {
	for _, p := range packings {
		if !accepts(accept, p.coding) {
			continue
		}
		if st, err := fs.Stat(files, name+p.suffix); err == nil && !st.IsDir() {
			return name + p.suffix, p.coding
		}
	}
	return name, ""
}

// accepts reports whether Accept-Encoding names a coding, and not with a weight of 0.
func accepts(header, coding string) bool {
	for part := range strings.SplitSeq(header, ",") {
		name, weight, _ := strings.Cut(part, ";")
		if !strings.EqualFold(strings.TrimSpace(name), coding) {
			continue
		}
		q, given := strings.CutPrefix(strings.TrimSpace(weight), "q=")
		v, err := strconv.ParseFloat(q, 64)
		return !given || err != nil || v > 0
	}
	return false
}

// console serves the console's files; every page of it is index.html, with the
// nonce that its style sheets carry.
func (a *API) console(c *echo.Context) error {
	name := strings.TrimPrefix(c.Request().URL.Path, "/")
	if name != "" && name != "index.html" {
		if st, err := fs.Stat(a.Console, name); err == nil && !st.IsDir() {
			if strings.HasPrefix(name, "assets/") {
				c.Response().Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			c.Response().Header().Add("Vary", "Accept-Encoding")
			as, coding := packed(a.Console, name, c.Request().Header.Get("Accept-Encoding"))
			if coding != "" && c.Request().Header.Get("Range") == "" {
				c.Response().Header().Set("Content-Encoding", coding)
				c.Response().Header().Set("Content-Type", cmp.Or(mime.TypeByExtension(path.Ext(name)),
					"application/octet-stream"))
				name = as
			}
			return c.FileFS(name, a.Console)
		}
	}
	page, err := fs.ReadFile(a.Console, "index.html")
	if err != nil {
		return c.String(http.StatusNotFound, "this build has no console; make build puts it in\n")
	}
	c.Response().Header().Set("Cache-Control", "no-store")
	nonce, _ := c.Get(nonceKey).(string)
	return c.HTMLBlob(http.StatusOK, bytes.Replace(page, []byte("__NONCE__"), []byte(nonce), 1))
}

// recovered makes a problem of a panic: what it is told and logged with is where
// it was, and nothing of what was asked.
func (a *API) recovered(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) (err error) {
		defer func() {
			r := recover()
			if r == nil {
				return
			}
			if e, ok := r.(error); ok && errors.Is(e, http.ErrAbortHandler) {
				panic(r)
			}
			a.Logger.Error(
				"a mistake of the service", "request", c.Request().Context().Value(requestID{}), "route", c.Path(),
				"kind", fmt.Sprintf("%T", r), "at", where(),
			)
			err = errors.New("the service made a mistake")
		}()
		return next(c)
	}
}

// where tells in which of our functions a panic was.
func where() string {
	pcs := make([]uintptr, 40)
	frames := runtime.CallersFrames(pcs[:runtime.Callers(3, pcs)])
	var out []string
	for f, more := frames.Next(); ; f, more = frames.Next() {
		if strings.HasPrefix(f.Function, "oakenlatch/") && len(out) < 8 {
			out = append(out, fmt.Sprintf("%s:%d", strings.TrimPrefix(f.Function, "oakenlatch/"), f.Line))
		}
		if !more {
			return strings.Join(out, " < ")
		}
	}
}

// from gives how it is told where a request comes from: by the connection, or where
// that is a proxy's that is believed, by what it says (X-Forwarded-For).
func (a *API) from() echo.IPExtractor {
	if len(a.Proxies) == 0 {
		return echo.ExtractIPDirect()
	}
	trust := []echo.TrustOption{echo.TrustLoopback(false), echo.TrustLinkLocal(false), echo.TrustPrivateNet(false)}
	for i := range a.Proxies {
		trust = append(trust, echo.TrustIPRange(&a.Proxies[i]))
	}
	return echo.ExtractIPFromXFFHeader(trust...)
}

// secure reports whether a request came over TLS: to us, or to a proxy that is
// believed.
func (a *API) secure(c *echo.Context) bool {
	if c.IsTLS() {
		return true
	}
	host, _, err := net.SplitHostPort(c.Request().RemoteAddr)
	ip := net.ParseIP(host)
	return err == nil && ip != nil && c.Request().Header.Get("X-Forwarded-Proto") == "https" && slices.ContainsFunc(
		a.Proxies, func(n net.IPNet) bool { return n.Contains(ip) },
	)
}
