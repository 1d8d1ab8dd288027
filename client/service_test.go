package client_test

import (
	"context"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"oakenlatch/client"
	"oakenlatch/service/api"
	"oakenlatch/service/engine"
	"oakenlatch/test/servicetest"
	"oakenlatch/wire"
)

const (
	quay     = "saltern-quay"
	password = "a long enough password"
)

// served is the API of a service with one device, and a client signed in as wren, who may do what an operator may.
func served(t testing.TB) (*client.Client, *servicetest.Room) {
	t.Helper()
	r := servicetest.New(t, quay)
	r.Close()
	r.Timing = engine.Timing{Effect: 200 * time.Millisecond, Pause: 200 * time.Millisecond, Watch: time.Second}
	r.Open()
	require.NoError(t, r.Accounts.Add(t.Context(), "first start", "wren", password, servicetest.Operator))
	stop, cancel := context.WithCancel(context.Background())
	a := &api.API{
		Store: r.Store, Log: r.Log, Accounts: r.Accounts, Fleet: r.Fleet, History: r.History, Desk: r.Desk,
		Stencils: r.Stencils, Restorer: r.Restorer, Engine: r.Engine, Commits: r.Commits, Archives: r.Archives,
		Documents: r.Documents, Approvals: r.Approvals, Reservations: r.Reservations, Console: fstest.MapFS{},
		Logger: slog.New(slog.DiscardHandler), Stopping: stop,
	}
	server := httptest.NewServer(a.Handler())
	t.Cleanup(server.Close)
	t.Cleanup(cancel)
	c, err := client.New(client.Options{Server: server.URL})
	require.NoError(t, err)
	s, err := c.Login(t.Context(), wire.Login{Account: "wren", Password: password})
	require.NoError(t, err)
	return c.As(s.Token), r
}

// answering is a client of something that answers as it is told.
func answering(t *testing.T, answer http.HandlerFunc) *client.Client {
	t.Helper()
	server := httptest.NewServer(answer)
	t.Cleanup(server.Close)
	c, err := client.New(client.Options{Server: server.URL})
	require.NoError(t, err)
	return c
}

// connected is client.New with the address and the token of a service.
func connected() (*client.Client, func()) {
	o := &servicetest.Outside{}
	c, _ := served(o)
	return c, o.End
}
