package api

import (
	"context"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/labstack/echo/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/service/access"
	"oakenlatch/test/pace"
	"oakenlatch/test/servicetest"
	"oakenlatch/wire"
)

// What only looks ends when who asked has gone; what changes something is carried out all the same.
func TestEndsWithItsAsker(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	d := newCounter(t, quay)
	d.keep("Contact", "/system/contact", "one")
	d.keep("Contact", "/system/contact", "two")
	gone, end := context.WithCancel(t.Context())
	end()
	nell := access.Person{Name: "nell", Grants: servicetest.Admin}.Acting(access.Read)
	answer := func(ctx context.Context, r route) error {
		e := echo.New()
		var err error
		e.Add(r.method, r.url(), func(ec *echo.Context) error { // who asks is known already
			var out any
			out, err = r.handle(&call{Context: ec, ctx: ctx, person: nell, token: d.tokens["nell"]})
			if write, ok := out.(stream); ok && err == nil {
				err = write(httptest.NewRecorder())
			}
			return nil
		})
		path := strings.NewReplacer(
			":name", quay, ":number", "1", ":ref", "1", ":id", "1", ":account", "nell",
		).Replace(r.url())
		req := httptest.NewRequestWithContext(
			ctx, r.method,
			path+"?path=/system&device="+quay+"&since=2026-01-01T00:00:00Z&a="+quay+"@rev:1&b="+quay+"@rev:2",
			strings.NewReader("{}"),
		)
		req.Header.Set("Content-Type", "application/json")
		e.ServeHTTP(httptest.NewRecorder(), req)
		return err
	}
	looked := 0
	for _, r := range d.API.routes() {
		// those two have nothing to read
		if r.method != http.MethodGet && !r.needs.Looks || r.lasts || r.path == metricsPath || r.needs.Open ||
			r.path == "/me" || r.path == "/audit/complete" {
			continue
		}
		if answer(t.Context(), r) == nil {
			looked++
			assert.Error(t, answer(gone, r), "%s %s", r.method, r.path)
		}
	}
	assert.Greater(t, looked, 30)

	req := httptest.NewRequestWithContext(
		gone, "POST", prefix+"/changes", strings.NewReader(`{"title": "opened by somebody who went"}`),
	)
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Authorization", "Bearer "+d.tokens["nell"])
	rec := httptest.NewRecorder()
	d.h.ServeHTTP(rec, req)
	require.Equal(t, http.StatusCreated, rec.Code, rec.Body)
	var list []wire.Change
	d.ok("nell", "GET", "/changes", nil, &list)
	assert.Equal(t, "opened by somebody who went", list[0].Title)

	// Nobody's password is worked on for somebody who has gone.
	over := make(chan error)
	go func() {
		_, _, _, err := d.API.Accounts.Login(gone, "nell", "a long password", "192.0.2.1", access.Site{})
		over <- err
	}()
	require.ErrorIs(t, <-over, context.Canceled)
}
