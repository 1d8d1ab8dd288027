package service_test

import (
	"context"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/service"
	"oakenlatch/test/servicetest"
)

func options(dir string) service.Options {
	return service.Options{Dir: dir, Make: true, Console: fstest.MapFS{}, Logger: slog.New(slog.DiscardHandler)}
}

// A data folder belongs to one service at a time, and is its owner's alone.
func TestOneServiceAFolder(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "data")
	s, err := service.Open(t.Context(), options(dir))
	require.NoError(t, err)
	info, err := os.Stat(dir)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	_, err = service.Open(t.Context(), options(dir))
	require.ErrorContains(t, err, "in use by another oaken-latchd")
	require.NoError(t, s.Accounts.Add(t.Context(), "x", "mara", "her password", servicetest.Operator))
	require.NoError(t, s.Close())
	s, err = service.Open(t.Context(), options(dir))
	require.NoError(t, err)
	empty, err := s.Accounts.Empty(t.Context())
	require.NoError(t, err)
	assert.False(t, empty, "the records are there again")
	require.NoError(t, s.Close())
}

// What is broken is said at the start, not in the middle of the night.
func TestBrokenFolders(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	_, err := service.Open(t.Context(), options(file))
	require.ErrorContains(t, err, "data folder")
	dir := t.TempDir()
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(dir, "oaken-latch.db"), []byte("this is no database, whatever its name says"), 0o600,
		),
	)
	_, err = service.Open(t.Context(), options(dir))
	require.ErrorContains(t, err, "the database is damaged: stop the service")
	dir = t.TempDir()
	opt := options(dir)
	opt.KeyFile = filepath.Join(t.TempDir(), "seal.key")
	require.NoError(t, os.WriteFile(opt.KeyFile, []byte("short"), 0o600))
	_, err = service.Open(t.Context(), opt)
	require.ErrorContains(t, err, "seal.key")
	require.NoError(t, os.Remove(opt.KeyFile))
	s, err := service.Open(t.Context(), options(dir))
	require.NoError(t, err, "a start that failed leaves nothing locked")
	require.NoError(t, s.Close())
}

// Serve ends when it is told to, with what is under way answered.
func TestServe(t *testing.T) {
	s, err := service.Open(t.Context(), options(t.TempDir()))
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- s.Serve(ctx, l, nil) }()
	res, err := http.Get("http://" + l.Addr().String() + "/healthz")
	require.NoError(t, err)
	body, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	assert.Equal(t, "ok\n", string(body))
	stop()
	select {
	case err := <-ended:
		require.NoError(t, err)
	case <-time.After(10 * time.Second):
		t.Fatal("it goes on serving")
	}
	_, err = http.Get("http://" + l.Addr().String() + "/healthz")
	require.Error(t, err)
}
