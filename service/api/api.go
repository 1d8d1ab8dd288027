// Package api is the service's HTTP interface: /api/v1, health, metrics and
// the console's files.
package api

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"reflect"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"oakenlatch/service/access"
	"oakenlatch/service/approval"
	"oakenlatch/service/archive"
	"oakenlatch/service/audit"
	"oakenlatch/service/commit"
	"oakenlatch/service/desk"
	"oakenlatch/service/documents"
	"oakenlatch/service/engine"
	"oakenlatch/service/fleet"
	"oakenlatch/service/history"
	"oakenlatch/service/notify"
	"oakenlatch/service/outside"
	"oakenlatch/service/refusal"
	"oakenlatch/service/report"
	"oakenlatch/service/reservation"
	"oakenlatch/service/restore"
	"oakenlatch/service/stencils"
	"oakenlatch/service/store"
	"oakenlatch/service/syslog"
	"oakenlatch/service/witness"
)

// MaxBody is the largest request body taken, in bytes, and MaxLoad the largest
// of those that may hold a whole configuration.
const (
	MaxBody = 4 << 20
	MaxLoad = 96 << 20
)

// API answers requests.
type API struct {
	Store        *store.Store
	Log          *audit.Log
	Accounts     *access.Accounts
	Fleet        *fleet.Fleet
	History      *history.History
	Desk         *desk.Desk
	Stencils     *stencils.Stencils
	Restorer     *restore.Restorer
	Engine       *engine.Engine
	Archives     *archive.Archives
	Decisions    *outside.Decisions
	Documents    *documents.Documents
	Approvals    *approval.Approvals
	Reservations *reservation.Reservations
	Reports      *report.Reports
	Commits      *commit.Commits
	Notifier     *notify.Notifier
	Syslog       *syslog.Sender     // of the machine's own log of copies; nil is none
	Witnesses    *witness.Witnesses // who vouches for the record from outside
	Sealer       *access.Sealer
	OIDC         *access.OIDC // nil: nobody else vouches for people
	Console      fs.FS
	Logger       *slog.Logger
	Proxies      []net.IPNet     // what stands before us is believed who asks, and how they came
	Stopping     context.Context // ends event streams when the service stops

	jobs        jobs
	description description
	requests    busy
	streams     busy

	count func(method, route string, status int, took time.Duration) // into the metrics
	// that the service is called by, beside addresses; nil is any
	Names     []string
	collected http.Handler // the metrics

	bodyTimeout time.Duration // for the body of a request; the usual if 0
}

// call is a request being answered.
type call struct {
	*echo.Context
	ctx    context.Context
	person access.Person
	token  string
	docs   *documents.Page // nil until a document is made
}

// page makes the documents of an answer.
func (a *API) page(c *call) *documents.Page {
	if c.docs == nil {
		c.docs = a.Documents.Page(c.ctx, c.person)
	}
	return c.docs
}

// plainPath refuses names in a path that act.
func (c *call) plainPath() error {
	for _, v := range c.PathValues() {
		if err := standing("the "+v.Name+" in the path", v.Value); err != nil {
			return err
		}
	}
	return nil
}

// read decodes the request's JSON body, strictly.
func (c *call) read(into any) error {
	if ct := c.Request().Header.Get("Content-Type"); !strings.HasPrefix(ct, "application/json") {
		return refusal.New(refusal.Invalid, "send Content-Type: application/json", "the body is of type %q", ct)
	}
	dec := json.NewDecoder(c.Request().Body)
	dec.DisallowUnknownFields()
	err := dec.Decode(into)
	if err == nil {
		if _, more := dec.Token(); !errors.Is(more, io.EOF) {
			err = errors.New("more than one JSON value")
		}
	}
	var status interface{ StatusCode() int }
	if err != nil && !errors.As(err, &status) {
		return refusal.New(refusal.Invalid, "see /api/v1/openapi.json", "the body cannot be read: %v", err)
	}
	if err == nil {
		err = plain("the body", reflect.ValueOf(into))
	}
	return err
}

// Handler gives the whole HTTP interface.
func (a *API) Handler() http.Handler {
	if a.Logger == nil {
		a.Logger = slog.New(slog.DiscardHandler)
	}
	a.requests.most, a.requests.ofAccount = mostRequests, mostOfAccount
	a.streams.most, a.streams.ofAccount = mostStreams, mostOwnStreams
	e := echo.New()
	e.IPExtractor = a.from()
	e.Logger = a.Logger
	e.HTTPErrorHandler = a.fail
	reg := a.metrics()
	a.count, a.collected = reg.count, promhttp.HandlerFor(reg.registry, promhttp.HandlerOpts{})
	e.Use(a.within, a.headers, a.calledRight, a.recovered, a.ownOnly)
	e.Use(middleware.BodyLimitWithConfig(middleware.BodyLimitConfig{LimitBytes: MaxBody, Skipper: large}))
	e.Use(middleware.BodyLimitWithConfig(middleware.BodyLimitConfig{LimitBytes: MaxLoad}))
	pack := middleware.GzipWithConfig(middleware.GzipConfig{MinLength: worthPacking})
	for _, r := range a.routes() {
		if len(r.streams) > 0 { // events are to arrive at once, and files are packed by themselves
			e.Add(r.method, r.url(), a.serve(r))
		} else {
			e.Add(r.method, r.url(), a.serve(r), pack)
		}
	}
	e.GET("/healthz", func(c *echo.Context) error { return c.String(http.StatusOK, "ok\n") })
	e.GET("/readyz", a.ready)
	e.RouteNotFound(prefix+"/*", func(c *echo.Context) error {
		return refusal.New(
			refusal.NotFound, "see "+prefix+"/openapi.json", "there is no %s %s", c.Request().Method,
			c.Request().URL.EscapedPath(),
		)
	})
	e.GET("/*", a.console)
	return e
}

const prefix = "/api/v1"

// large reports whether a request may hold a whole configuration.
func large(c *echo.Context) bool {
	p := c.Request().URL.Path
	return strings.HasSuffix(p, "/load") || strings.HasPrefix(p, prefix+"/import") || strings.HasPrefix(p, prefix+
		"/stencils/")
}

func (a *API) ready(c *echo.Context) error {
	if err := a.Store.Ping(c.Request().Context()); err != nil {
		a.Logger.Error("not ready", "error", err)
		return c.String(
			http.StatusServiceUnavailable, "not ready: the database does not answer; the service's log says why\n",
		)
	}
	if err := a.Store.Check(c.Request().Context()); err != nil {
		return c.String(http.StatusServiceUnavailable, "not ready: nothing new can be begun: "+err.Error()+"\n")
	}
	return c.String(http.StatusOK, "ready\n")
}

// stream is an answer that is written as it is made, and is no JSON.
type stream func(w http.ResponseWriter) error

// origin is how the person came in.
func (c *call) origin() audit.Origin {
	w := audit.Origin{Kind: "token", Address: c.RealIP(), Session: access.SessionName(c.token)}
	if c.Request().Header.Get("Authorization") == "" {
		w.Kind = "console"
	}
	return w
}

// cookieName is what the console's session is kept under. Over TLS no other host, no page in the clear
// and no other path can set one of that name (RFC 6265bis, 4.1.3.2).
func (a *API) cookieName(c *echo.Context) string {
	if a.secure(c) {
		return secureCookie
	}
	return plainCookie
}

const (
	plainCookie  = "oaken_latch_session"
	secureCookie = "__Host-" + plainCookie
)

// deviceParam gives the device named in the path, or a refusal that says so.
func (a *API) deviceParam(c *call) (store.Device, error) { return a.deviceNamed(c, c.Param("name")) }

func (a *API) deviceNamed(c *call, name string) (store.Device, error) {
	d, err := a.Store.Device(c.ctx, c.person.Reach(), name)
	if errors.Is(err, store.ErrNotFound) {
		return d, refusal.NoDevice(name)
	}
	return d, err
}

// deviceQuery gives the number of the device that a request asks about, 0 for
// none.
func (a *API) deviceQuery(c *call) (int64, error) {
	name := c.QueryParam("device")
	if name == "" {
		return 0, nil
	}
	d, err := a.deviceNamed(c, name)
	return d.ID, err
}

// numberParam gives the change number in the path.
func numberParam(c *call) (int64, error) { return numberIn(c, "number", "change number") }

// numberIn gives a number in the path; what says of what it is one.
func numberIn(c *call, name, what string) (int64, error) {
	text := c.Param(name)
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || strconv.FormatInt(n, 10) != text || n < 1 {
		return 0, refusal.New(refusal.Invalid, "", "%q is not a %s", text, what)
	}
	return n, nil
}
