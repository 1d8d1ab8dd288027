package witness

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"
)

// The ways to ask a witness.
const (
	AddCheckpoint = "/add-checkpoint" // c2sp.org/tlog-witness
	AddKey        = "/add-key"        // our own: a note by which a known key signs another in
)

// maxBody is how long a request may be.
const maxBody = 1 << 18

// Handler answers requests.
func (w *Witness) Handler(log *slog.Logger) http.Handler {
	e := echo.New()
	e.Logger = log
	ask := func(name string, do func([]byte) (string, error)) echo.HandlerFunc {
		return func(c *echo.Context) error {
			body, err := io.ReadAll(http.MaxBytesReader(c.Response(), c.Request().Body, maxBody))
			if err != nil {
				return c.String(
					http.StatusRequestEntityTooLarge, fmt.Sprintf("a request has at most %d bytes\n", maxBody),
				)
			}
			out, err := do(body)
			var no *No
			switch {
			case errors.As(err, &no) && no.Status == http.StatusConflict:
				log.Warn("not signed", "from", c.Request().RemoteAddr, "why", no.Why)
				return c.Blob(no.Status, "text/x.tlog.size", fmt.Appendf(nil, "%d\n", no.Size))
			case errors.As(err, &no):
				log.Warn("not signed", "asked", name, "from", c.Request().RemoteAddr, "why", no.Why)
				return c.String(no.Status, no.Why+"\n")
			case err != nil:
				return err
			}
			return c.Blob(http.StatusOK, "text/plain; charset=utf-8", []byte(out))
		}
	}
	e.POST(AddCheckpoint, ask("add-checkpoint", w.Add))
	e.POST(AddKey, ask("add-key", func(text []byte) (string, error) { return "", w.AddKey(text) }))
	return e
}

// Serve answers on a listener until the context ends.
func (w *Witness) Serve(ctx context.Context, l net.Listener, log *slog.Logger) error {
	srv := &http.Server{
		Handler: w.Handler(log), ReadTimeout: 10 * time.Second, WriteTimeout: 10 * time.Second,
		IdleTimeout: time.Minute, MaxHeaderBytes: 16 << 10,
	}
	done := make(chan error, 1)
	go func() { done <- srv.Serve(l) }()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
	}
	stopping, cancel := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
	defer cancel()
	return srv.Shutdown(stopping)
}
