package api

import (
	"cmp"
	"context"
	"errors"
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"

	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// route is one operation of the API: what of the service is reached by the network is a row of these, or
// is health.
type route struct {
	id           string // of the operation, for the clients that are made from the description
	method, path string
	summary      string
	about        about       // what the path names, and so has to be within the reach of who asks
	needs        access.Need // what who asks may do
	query        []string    // names in parameterDocs
	tagged       bool        // it may rest on a tag (If-Match, RFC 9110 section 13.1.1)
	takes        string      // the media type of a body that is no document
	in, out      any         // samples of the documents, for the description
	waits        any         // a sample of the answer where others have to agree first (202)
	comesTo      any         // of a job that is begun: a sample of its result
	status       int         // where it was done; 200 if 0
	streams      []string    // media types of an answer that is written as it is made; nil is JSON
	lasts        bool        // the answer ends when who asked goes
	handle       func(*call) (any, error)
}

// about is what a path names.
type about int

const (
	nothing about = iota
	aChange       // a change, :number
	aDevice       // a device, :name
)

// done is the status of an answer where it was done.
func (r route) done() int { return cmp.Or(r.status, http.StatusOK) }

// metricsPath stands where collectors look.
const metricsPath = "/metrics"

// url is a route's path as it is asked for.
func (r route) url() string {
	if r.path == metricsPath {
		return r.path
	}
	return prefix + r.path
}

// What routes need.
var (
	everybody       = access.Need{Open: true}
	anyone          = access.Need{}
	toRead          = access.Need{Role: access.Read}
	toReadAll       = access.Need{Role: access.Read, Everywhere: true}
	toStage         = access.Need{Role: access.Stage}
	toCommit        = access.Need{Role: access.Commit}
	toApprove       = access.Need{Role: access.Approve}
	toAudit         = access.Need{Role: access.Audit}
	toAdminister    = access.Need{Role: access.Administer}
	toAdministerAll = access.Need{Role: access.Administer, Everywhere: true}

	toAdministerFresh = access.Need{Role: access.Administer, Everywhere: true, Fresh: true}

	anyoneLacking = access.Need{Lacking: true}
	toEnter       = access.Need{Open: true, Looks: true}
	toVerify      = access.Need{Role: access.Audit, Looks: true}
	anyoneFresh   = access.Need{Fresh: true}
)

// serve wraps a route: who is asking, may they, and the answer as JSON.
func (a *API) serve(r route) echo.HandlerFunc {
	return func(ec *echo.Context) error {
		c := &call{Context: ec, ctx: ec.Request().Context()}
		if r.method != http.MethodGet && !r.needs.Looks {
			// What was asked is carried out or refused, whether who asked is there still or not.
			var end context.CancelFunc
			c.ctx, end = context.WithTimeout(context.WithoutCancel(c.ctx), answerTimeout)
			defer end()
		}
		if !r.needs.Open {
			if err := a.identify(c); err != nil {
				return err
			}
			c.ctx, c.person = audit.By(c.ctx, c.origin()), c.person.Acting(r.needs.Role)
			if err := a.permit(c, r); err != nil {
				a.recordRefusal(c, r, err)
				return err
			}
			if r.needs.Role == access.Stage && r.method != http.MethodGet {
				// What is put into a folder that is gone is gone, too.
				if err := a.Store.Check(c.ctx); errors.Is(err, store.ErrGone) {
					return err
				}
			}
		}
		bound := &a.requests
		if r.lasts {
			bound = &a.streams
		}
		if err := bound.enter(c.person.Name); err != nil {
			return err
		}
		defer bound.leave(c.person.Name)
		out, err := any(nil), c.plainPath()
		if err == nil {
			out, err = r.handle(c)
		}
		if err != nil {
			a.recordRefusal(c, r, err)
			return err
		}
		if stale := a.Store.Unread(); stale != nil {
			ec.Response().Header().Set(wire.StaleHeader, plainLine(stale.Error()))
		}
		if write, ok := out.(stream); ok {
			return write(ec.Response())
		}
		if waits, ok := out.(accepted); ok {
			return ec.JSON(http.StatusAccepted, waits.doc)
		}
		if out == nil {
			return ec.NoContent(http.StatusNoContent)
		}
		return ec.JSON(r.done(), out)
	}
}

// permit checks that a person may make a request: as the route needs it, on the device, or every
// device of the change, that the path names. Devices that are named otherwise are
// checked where they are looked up: within the reach of who asks.
func (a *API) permit(c *call, r route) error {
	if err := c.person.Fits(r.needs); err != nil {
		return err
	}
	if r.needs.Fresh {
		if err := a.fresh(c); err != nil {
			return err
		}
	}
	switch r.about {
	case aChange:
		return a.permitChange(c, r)
	case aDevice:
		_, err := a.deviceParam(c)
		return err
	}
	return nil
}

// permitChange checks that all devices of the change in the path are within reach.
func (a *API) permitChange(c *call, r route) error {
	n, err := numberParam(c)
	if err != nil {
		return err
	}
	devices, err := a.Store.ChangeDevices(c.ctx, store.Everything, n)
	if err != nil {
		return err
	}
	for _, d := range devices {
		err := c.person.Check(r.needs.Role, d)
		if errors.Is(err, store.ErrNotFound) {
			return refusal.New(
				refusal.Forbidden, "ask an administrator", "change %d is about devices that account %s may not see", n,
				c.person.Name,
			)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// identify finds out who is asking: by bearer token, or by the console's cookie.
func (a *API) identify(c *call) error {
	if h := c.Request().Header.Get("Authorization"); h != "" {
		token, ok := strings.CutPrefix(h, "Bearer ")
		if !ok {
			return errNoLogin
		}
		c.token = token
	} else if ck, err := c.Cookie(a.cookieName(c.Context)); err == nil {
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
