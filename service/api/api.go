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
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"oakenlatch/service/access"
	"oakenlatch/service/archive"
	"oakenlatch/service/audit"
	"oakenlatch/service/desk"
	"oakenlatch/service/engine"
	"oakenlatch/service/fleet"
	"oakenlatch/service/history"
	"oakenlatch/service/outside"
	"oakenlatch/service/refusal"
	"oakenlatch/service/report"
	"oakenlatch/service/store"
	"oakenlatch/service/tell"
)

// MaxBody is the largest request body taken, in bytes, and MaxLoad the largest
// of those that may hold a whole configuration.
const (
	MaxBody = 4 << 20
	MaxLoad = 96 << 20
)

// API answers requests.
type API struct {
	Store     *store.Store
	Log       *audit.Log
	Accounts  *access.Accounts
	Fleet     *fleet.Fleet
	History   *history.History
	Desk      *desk.Desk
	Engine    *engine.Engine
	Archives  *archive.Archives
	Decisions *outside.Decisions
	Reports   *report.Reports
	Teller    *tell.Teller
	Sealer    *access.Sealer
	OIDC      *access.OIDC // nil: nobody else vouches for people
	Console   fs.FS
	Logger    *slog.Logger
	Proxies   []net.IPNet     // what stands before us is believed who asks, and how they came
	Stopping  context.Context // ends event streams when the service stops

	jobs     jobs
	requests busy
	streams  busy

	readWithin time.Duration // for the body of a request; the usual if 0
}

// route is one operation of the API. In and Out are samples of its documents,
// from which the OpenAPI description is made.
type route struct {
	method, path string
	summary      string
	needs        access.Need
	status       int
	in, out      any
	query        []string
	handle       func(*call) (any, error)
}

// What routes need.
var (
	everybody       = access.Need{Open: true}
	anyone          = access.Need{}
	toRead          = access.Need{Role: access.Read}
	toStage         = access.Need{Role: access.Stage}
	toCommit        = access.Need{Role: access.Commit}
	toApprove       = access.Need{Role: access.Approve}
	toAudit         = access.Need{Role: access.Audit}
	toAdminister    = access.Need{Role: access.Administer}
	toAdministerAll = access.Need{Role: access.Administer, Everywhere: true}
)

// call is a request being answered.
type call struct {
	*echo.Context
	ctx    context.Context
	person access.Person
	token  string
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
	e.Use(a.within, a.headers, a.recovered, a.ownOnly)
	e.Use(middleware.BodyLimitWithConfig(middleware.BodyLimitConfig{LimitBytes: MaxBody, Skipper: large}))
	e.Use(middleware.BodyLimitWithConfig(middleware.BodyLimitConfig{LimitBytes: MaxLoad}))
	reg := a.metrics()
	for _, r := range a.routes() {
		e.Add(r.method, prefix+r.path, a.serve(r, reg.requests))
	}
	e.GET(prefix+"/events", a.events)
	e.GET(prefix+"/openapi.json", func(c *echo.Context) error { return c.JSON(http.StatusOK, a.OpenAPI()) })
	e.GET("/healthz", func(c *echo.Context) error { return c.String(http.StatusOK, "ok\n") })
	e.GET("/readyz", a.ready)
	e.GET("/metrics", a.measured(promhttp.HandlerFor(reg.registry, promhttp.HandlerOpts{})))
	e.RouteNotFound(prefix+"/*", func(c *echo.Context) error {
		return refusal.New(refusal.NotFound, "see "+prefix+"/openapi.json", "there is no %s %s", c.Request().Method, c.Request().URL.Path)
	})
	e.GET("/*", a.console)
	return e
}

const prefix = "/api/v1"

// large reports whether a request may hold a whole configuration.
func large(c *echo.Context) bool {
	p := c.Request().URL.Path
	return strings.HasSuffix(p, "/load") || strings.HasPrefix(p, prefix+"/import") || strings.HasPrefix(p, prefix+"/stencils/")
}

func (a *API) ready(c *echo.Context) error {
	if err := a.Store.Ping(c.Request().Context()); err != nil {
		a.Logger.Error("not ready", "error", err)
		return c.String(http.StatusServiceUnavailable, "not ready: the database does not answer; the service's log says why\n")
	}
	if err := a.Store.Check(c.Request().Context()); err != nil {
		return c.String(http.StatusServiceUnavailable, "not ready: nothing new can be begun: "+err.Error()+"\n")
	}
	return c.String(http.StatusOK, "ready\n")
}

// measured gives the metrics to whoever may read of all devices: they name them. A
// collector has a token of its own.
func (a *API) measured(h http.Handler) echo.HandlerFunc {
	return func(ec *echo.Context) error {
		c := &call{Context: ec, ctx: ec.Request().Context()}
		if err := a.identify(c); err != nil {
			return err
		}
		if err := c.person.Fits(access.Need{Role: access.Read, Everywhere: true}); err != nil {
			return err
		}
		h.ServeHTTP(ec.Response(), ec.Request())
		return nil
	}
}

// serve wraps a route: who is asking, may they, and the answer as JSON.
func (a *API) serve(r route, requests *prometheus.CounterVec) echo.HandlerFunc {
	return func(ec *echo.Context) error {
		requests.WithLabelValues(r.method, r.path).Inc()
		c := &call{Context: ec, ctx: ec.Request().Context()}
		if !r.needs.Open {
			if err := a.identify(c); err != nil {
				return err
			}
			c.ctx = access.Within(audit.By(c.ctx, c.way()), c.person, r.needs)
			if err := a.permit(c, r); err != nil {
				a.recordRefusal(c, r, err)
				return err
			}
		}
		if err := a.requests.enter(c.person.Name); err != nil {
			return err
		}
		defer a.requests.leave(c.person.Name)
		out, err := r.handle(c)
		if err != nil {
			a.recordRefusal(c, r, err)
			return err
		}
		if write, ok := out.(stream); ok {
			return write(ec.Response())
		}
		if out == nil {
			return ec.NoContent(http.StatusNoContent)
		}
		return ec.JSON(r.status, out)
	}
}

// permit checks that a person may make a request: as the route needs it, on every
// device of the change that the path names. Devices that are named otherwise are
// checked where they are looked up, which access.Within sees to.
func (a *API) permit(c *call, r route) error {
	if err := c.person.Fits(r.needs); err != nil {
		return err
	}
	if !strings.HasPrefix(r.path, "/changes/:number") {
		return nil
	}
	n, err := numberParam(c)
	if err != nil {
		return err
	}
	devices, err := a.Store.ChangeDevices(store.Unbounded(c.ctx), n)
	if err != nil {
		return err
	}
	for _, d := range devices {
		err := c.person.Check(r.needs.Role, d)
		if errors.Is(err, store.ErrNotFound) {
			return refusal.New(refusal.Forbidden, "ask an administrator", "change %d is about devices that account %s may not see", n, c.person.Name)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// stream is an answer that is written as it is made, and is no JSON.
type stream func(w http.ResponseWriter) error

// way is how the person came in.
func (c *call) way() audit.Way {
	w := audit.Way{Kind: "token", Address: c.RealIP(), Session: access.SessionName(c.token)}
	if c.Request().Header.Get("Authorization") == "" {
		w.Kind = "console"
	}
	return w
}

const cookieName = "oaken_latch_session"

// identify finds out who is asking: by bearer token, or by the console's cookie.
func (a *API) identify(c *call) error {
	if h := c.Request().Header.Get("Authorization"); h != "" {
		token, ok := strings.CutPrefix(h, "Bearer ")
		if !ok {
			return errNoLogin
		}
		c.token = token
	} else if ck, err := c.Cookie(cookieName); err == nil {
		c.token = ck.Value
	}
	if c.token == "" {
		return errNoLogin
	}
	var err error
	c.person, err = a.Accounts.Who(c.ctx, c.token, c.RealIP())
	if errors.Is(err, access.ErrEnded) {
		return errNoLogin
	}
	c.Set(whoKey, c.person.Name)
	return err
}

var errNoLogin = errors.New("you are not signed in, or your session has ended")

// deviceParam gives the device named in the path, or a refusal that says so.
func (a *API) deviceParam(c *call) (store.Device, error) { return a.deviceNamed(c, c.Param("name")) }

func (a *API) deviceNamed(c *call, name string) (store.Device, error) {
	d, err := a.Store.Device(c.ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return d, noDevice(name)
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

func noDevice(name string) error {
	return refusal.New(refusal.NotFound, "list them with: latch devices", "there is no device %q", name)
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
