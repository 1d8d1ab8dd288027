package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"oakenlatch/core/advice"

	"github.com/labstack/echo/v5"

	"oakenlatch/service/access"
	"oakenlatch/service/fleet"
	"oakenlatch/service/history"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

var refusalStatus = map[refusal.Kind]int{
	refusal.Invalid: http.StatusUnprocessableEntity, refusal.NotFound: http.StatusNotFound,
	refusal.Forbidden: http.StatusForbidden, refusal.Misdirected: http.StatusMisdirectedRequest,
	refusal.Conflict: http.StatusConflict, refusal.Moved: http.StatusPreconditionFailed,
}

var fleetStatus = map[fleet.Kind]int{
	fleet.Unreachable: http.StatusGatewayTimeout, fleet.HostKey: http.StatusBadGateway,
	fleet.BadLogin: http.StatusBadGateway, fleet.Protocol: http.StatusBadGateway, fleet.Refusal: http.StatusConflict,
}

var titles = map[string]string{
	"invalid": "That does not make sense as it is", "not-found": "There is no such thing", "forbidden": "Not allowed",
	"conflict": "Not possible now", "unreachable": "The device does not answer",
	"host-key": "The device's host key is not accepted", "device-login": "The device does not let us in",
	"protocol": "The device does not speak NETCONF as it should", "refusal": "The device says no",
	"moved": "It is no longer as it was seen", "denied": "Wrong account or password",
	"second-factor": "Show your second factor", "wrong-factor": "That was not it",
	"misdirected": "Asked of another name", "sign-in": "Sign in first", "slow": "Too many tries", "busy": "Busy",
	"full": "The disk is full", "damaged": "The records are damaged at this place", "broken-off": "Broken off",
	"records": "The records cannot be reached", "too-large": "Too large", "internal": "The service failed",
}

// problem turns any error into a problem document.
func problem(err error) wire.Problem {
	advise := func(slug string, status int, detail string, next advice.Steps) wire.Problem {
		return wire.Problem{
			Type: wire.ProblemPrefix + slug, Title: titles[slug], Status: status, Detail: detail, Next: next,
		}
	}
	make := func(slug string, status int, detail, next string) wire.Problem {
		return advise(slug, status, detail, advice.Words(next))
	}
	var no *refusal.Error
	var dev *fleet.Error
	var status interface{ StatusCode() int }
	var hurt *history.Damaged
	var second *access.SecondError
	switch {
	case errors.As(err, &hurt):
		return advise("damaged", http.StatusInternalServerError, hurt.Error(), hurt.Next())
	case errors.As(err, &no):
		return advise(string(no.Kind), refusalStatus[no.Kind], no.Msg, no.Steps)
	case errors.As(err, &dev):
		where := dev.Device
		if dev.Address != "" {
			where += " (" + dev.Address + ")"
		}
		p := advise(string(dev.Kind), fleetStatus[dev.Kind], where+": "+dev.Msg, dev.Next)
		p.Device = dev.Device
		return p
	case errors.As(err, &second):
		p := advise(
			"second-factor", http.StatusUnauthorized, second.Error(),
			advice.Words("show it where you sign in").Do(advice.SignIn).Or("or again", advice.ProveFactor),
		)
		if second.Anew {
			p.Status = http.StatusForbidden
		}
		p.Second = &wire.Second{Anew: second.Anew, Ticket: second.Ticket, Ways: second.Ways, Passkey: second.Passkey}
		return p
	case errors.Is(err, access.ErrShown):
		return advise(
			"wrong-factor", http.StatusUnauthorized, access.ErrShown.Error(),
			advice.Words(
				"try again: a code counts once, and for half a minute; where the factor is lost, a recovery code "+
					"does, or an administrator can take it away",
			).Do(advice.ResetFactors),
		)
	case errors.Is(err, access.ErrDenied):
		return make(
			"denied", http.StatusUnauthorized, "wrong account or password",
			"try again; an administrator can set a new password",
		)
	case errors.As(err, new(*access.ThrottledError)):
		return make(
			"slow", http.StatusTooManyRequests, err.Error(),
			"wait, and look whether it is the right account; an administrator can set another password",
		)
	case errors.Is(err, store.ErrFull), errors.Is(err, store.ErrShort):
		return make(
			"full", http.StatusInsufficientStorage, err.Error(),
			"make room on the disk of the records; oaken-latchd doctor says how much there is",
		)
	case store.Sick(err), errors.Is(err, store.ErrLocked):
		return make(
			"records", http.StatusServiceUnavailable, err.Error(),
			"oaken-latchd doctor, on the service's machine, says more",
		)
	case errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		return make(
			"broken-off", http.StatusServiceUnavailable, "the request was broken off before it was answered",
			"see how it stands, and ask again",
		)
	case errors.Is(err, errBusy):
		return make("busy", http.StatusServiceUnavailable, err.Error(), "try again in a moment")
	case errors.Is(err, errNoLogin):
		return advise(
			"sign-in", http.StatusUnauthorized, errNoLogin.Error(), advice.Words("sign in").Do(advice.SignIn),
		)
	case errors.Is(err, store.ErrExists):
		return make("conflict", http.StatusConflict, err.Error(), "choose another name")
	case errors.Is(err, store.ErrNotFound):
		return make("not-found", http.StatusNotFound, err.Error(), "")
	case errors.As(err, &status) && status.StatusCode() == http.StatusRequestEntityTooLarge:
		return make(
			"too-large", http.StatusRequestEntityTooLarge,
			fmt.Sprintf(
				"the request is larger than %d MiB, or %d MiB for a configuration; nothing of it was taken",
				MaxBody>>20, MaxLoad>>20,
			),
			"send it in parts",
		)
	case errors.As(err, &status) && status.StatusCode() < 500:
		return make("invalid", status.StatusCode(), err.Error(), "")
	}
	// What it is stands in the log alone: it may name files, addresses, what others did.
	return make(
		"internal", http.StatusInternalServerError, "the service could not do this",
		"look into the service's log; nothing is lost that was answered before",
	)
}

// plainLine is a text as a header takes it: one line of ASCII, not too long.
func plainLine(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r > '~' {
			return ' '
		}
		return r
	}, text[:min(len(text), 400)])
}

// internal reports whether a problem is one of the service itself, of which only its log tells.
func internal(p wire.Problem) bool { return p.Type == wire.ProblemPrefix+"internal" }

// fail is the one place where errors become answers.
func (a *API) fail(c *echo.Context, err error) {
	p := problem(err)
	if internal(p) {
		id := c.Request().Context().Value(requestID{})
		p.Detail = fmt.Sprintf("the service could not do this; its log says why, at request %v", id)
		a.Logger.Error(
			"request failed", "request", id, "method", c.Request().Method, "path", c.Request().URL.Path, "error", err,
		)
	}
	var slow *access.ThrottledError
	if errors.As(err, &slow) {
		c.Response().Header().Set("Retry-After", strconv.Itoa(int(slow.Wait/time.Second)+1))
	}
	if errors.Is(err, errBusy) {
		c.Response().Header().Set("Retry-After", "1")
	}
	c.Response().Header().Set("Content-Type", "application/problem+json")
	if werr := c.JSON(p.Status, p); werr != nil {
		a.Logger.Debug("answer not sent", "error", werr)
	}
}
