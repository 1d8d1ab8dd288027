package api

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Who keeps as many requests open as they may is told to wait, and nobody else is;
// event streams have bounds of their own; and what is too large is not read.
func TestBounds(t *testing.T) {
	t.Parallel()
	d := newCounter(t)
	server := httptest.NewServer(d.h)
	t.Cleanup(server.Close)
	ask := func(who, method, path string, body io.Reader) (*http.Response, error) {
		req, err := http.NewRequestWithContext(t.Context(), method, server.URL+prefix+path, body)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+d.tokens[who])
		req.Header.Set("Content-Type", "application/json")
		return http.DefaultClient.Do(req)
	}
	status := func(who, method, path string, body io.Reader) int {
		res, err := ask(who, method, path, body)
		require.NoError(t, err)
		defer func() { _ = res.Body.Close() }()
		_, _ = io.Copy(io.Discard, io.LimitReader(res.Body, 1<<20))
		return res.StatusCode
	}
	var wg sync.WaitGroup
	var writers []*io.PipeWriter
	for range mostOfAccount {
		r, w := io.Pipe()
		writers = append(writers, w)
		wg.Go(func() {
			res, err := ask("nell", "POST", "/changes", r)
			if err == nil {
				_ = res.Body.Close()
			}
		})
	}
	require.Eventually(
		t, func() bool { return status("nell", "GET", "/me", nil) == http.StatusServiceUnavailable }, 90*time.Second,
		20*time.Millisecond,
	)
	assert.Equal(t, http.StatusOK, status("otto", "GET", "/me", nil))
	for _, w := range writers {
		_ = w.CloseWithError(io.ErrUnexpectedEOF)
	}
	wg.Wait()
	require.Eventually(
		t, func() bool { return status("nell", "GET", "/me", nil) == http.StatusOK }, 90*time.Second,
		20*time.Millisecond, "it is over, and counts no more",
	)

	var streams []*http.Response
	for range mostOwnStreams {
		res, err := ask("nell", "GET", "/events", nil)
		require.NoError(t, err)
		require.Equal(t, http.StatusOK, res.StatusCode)
		streams = append(streams, res)
	}
	assert.Equal(t, http.StatusServiceUnavailable, status("nell", "GET", "/events", nil))
	res, err := ask("otto", "GET", "/events", nil)
	require.NoError(t, err)
	assert.Equal(t, http.StatusOK, res.StatusCode)
	require.NoError(t, res.Body.Close())
	for _, s := range streams {
		require.NoError(t, s.Body.Close())
	}
	require.Eventually(t, func() bool {
		res, err := ask("nell", "GET", "/events", nil)
		if err != nil {
			return false
		}
		defer func() { _ = res.Body.Close() }()
		return res.StatusCode == http.StatusOK
	}, 90*time.Second, 50*time.Millisecond)

	assert.Equal(
		t, http.StatusRequestEntityTooLarge,
		status(
			"nell", "POST", "/changes",
			io.MultiReader(strings.NewReader(`{"title":"`), io.LimitReader(endless{}, MaxBody+1)),
		),
	)
}

// endless is a word without end.
type endless struct{}

func (endless) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = 'x'
	}
	return len(p), nil
}

// Where a request comes from says the connection; a proxy is believed only where it
// was named.
func TestProxies(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		proxies, from, says, want string
		secure                    bool
	}{
		{"", "198.51.100.7:1", "203.0.113.9", "198.51.100.7", false},
		{"192.0.2.0/24", "198.51.100.7:1", "203.0.113.9", "198.51.100.7", false},
		{"192.0.2.0/24", "192.0.2.1:1", "203.0.113.9", "203.0.113.9", true},
		{"192.0.2.0/24", "192.0.2.1:1", "10.1.1.1, 203.0.113.9", "203.0.113.9", true},
	} {
		a := &API{}
		if c.proxies != "" {
			_, n, err := net.ParseCIDR(c.proxies)
			require.NoError(t, err)
			a.Proxies = []net.IPNet{*n}
		}
		req := httptest.NewRequest("GET", "/", nil)
		req.RemoteAddr = c.from
		req.Header.Set("X-Forwarded-For", c.says)
		req.Header.Set("X-Forwarded-Proto", "https")
		assert.Equal(t, c.want, a.from()(req), c)
		assert.Equal(t, c.secure, a.secure(echo.New().NewContext(req, httptest.NewRecorder())), c)
	}
}

// What takes longer than a body may be read is done and answered: the time for the body
// counts until the body is read, and not where there is none.
func TestLongRequest(t *testing.T) {
	t.Parallel()
	a := &API{bodyTimeout: 200 * time.Millisecond, Logger: slog.New(slog.DiscardHandler)}
	e := echo.New()
	e.Use(a.within)
	long := func(c *echo.Context) error {
		body, err := io.ReadAll(c.Request().Body)
		if err != nil {
			return c.String(http.StatusRequestTimeout, err.Error())
		}
		select {
		case <-c.Request().Context().Done():
			return c.String(http.StatusInternalServerError, "ended meanwhile")
		case <-time.After(time.Second):
		}
		return c.String(http.StatusOK, "done: "+string(body))
	}
	e.POST("/long", long)
	e.GET("/long", long)
	server := httptest.NewServer(e)
	t.Cleanup(server.Close)
	for method, body := range map[string]io.Reader{http.MethodPost: strings.NewReader("it"), http.MethodGet: nil} {
		req, err := http.NewRequestWithContext(t.Context(), method, server.URL+"/long", body)
		require.NoError(t, err)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		assert.Equal(t, http.StatusOK, res.StatusCode, "%s %s", method, text)
		assert.True(t, strings.HasPrefix(string(text), "done: "), "%s %s", method, text)
	}
	// A body that does not come is not waited for.
	slow, w := io.Pipe()
	t.Cleanup(func() { _ = w.Close() })
	req, err := http.NewRequestWithContext(t.Context(), http.MethodPost, server.URL+"/long", slow)
	require.NoError(t, err)
	res, err := http.DefaultClient.Do(req)
	if err == nil {
		assert.NotEqual(t, http.StatusOK, res.StatusCode)
		require.NoError(t, res.Body.Close())
	}
}

// An answer that breaks off is none: what was begun ends as broken off, and what was not is an
// error status, never 200 with nothing.
func TestBrokenOffAnswer(t *testing.T) {
	t.Parallel()
	counted := make(chan int, 2)
	a := &API{
		Logger: slog.New(slog.DiscardHandler),
		count:  func(_, _ string, status int, _ time.Duration) { counted <- status },
	}
	e := echo.New()
	e.Use(a.within, a.recovered)
	e.GET("/half", func(c *echo.Context) error {
		_, err := io.WriteString(c.Response(), strings.Repeat("a row,of a table\n", 5000))
		return errors.Join(err, errors.New("the rest cannot be read"))
	})
	e.GET("/cancelled", func(*echo.Context) error { return context.Canceled })
	server := httptest.NewServer(e)
	t.Cleanup(server.Close)
	res, err := http.Get(server.URL + "/half")
	require.NoError(t, err)
	_, err = io.ReadAll(res.Body)
	require.ErrorIs(t, err, io.ErrUnexpectedEOF)
	require.NoError(t, res.Body.Close())
	assert.Equal(t, http.StatusInternalServerError, <-counted)
	res, err = http.Get(server.URL + "/cancelled")
	require.NoError(t, err)
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	assert.Equal(t, http.StatusServiceUnavailable, res.StatusCode)
	assert.Contains(t, string(text), "broken off")
	assert.Equal(t, http.StatusServiceUnavailable, <-counted)
}
