package main

import (
	"bytes"
	"context"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Wrong use says what is right, with status 2; a failed start says why, with 1.
func TestStatuses(t *testing.T) {
	for _, c := range []struct {
		args   string
		status int
		says   string
	}{
		{"", 2, "oaken-latchd serve --data DIR"}, {"help", 0, "oaken-latchd lab"},
		{"fly", 2, "oaken-latchd serve --data DIR"}, {"serve", 2, "serve needs --data DIR"},
		{"demo", 2, "demo needs --data DIR"}, {"serve --date x", 2, "flag provided but not defined"},
		{"serve --data DIR --probe-programs /nowhere", 2, "there is no such folder"},
		{"serve --data DIR extra", 2, `takes no argument "extra"`}, {"lab --devices 0", 2, "1 to 5000"},
		{"serve --help", 0, "folder of the records"},
		{"init --data DIR --admin-password-file /nowhere", 1, "admin password"},
		{"serve --data DIR --listen nowhere", 2, "nowhere"}, {"reset-factors --data DIR", 2, "needs --account NAME"},
		{"reset-factors --data DIR --account admin", 1, "holds no records"},
		{"serve --data DIR --second-factor admin", 2, `"admin" is no role`},
	} {
		var out, errOut bytes.Buffer
		args := strings.Fields(strings.ReplaceAll(c.args, "DIR", t.TempDir()))
		assert.Equal(t, c.status, run(t.Context(), args, &out, &errOut), c.args)
		assert.Contains(t, out.String()+errOut.String(), c.says, c.args)
	}
}

// The lab alone names its devices and where they listen, and ends when told to.
func TestLabAlone(t *testing.T) {
	ctx, stop := context.WithTimeout(t.Context(), 30*time.Second)
	defer stop()
	var out, errOut bytes.Buffer
	ready := &waiter{w: &out, want: "ready", stop: stop}
	require.Zero(
		t, run(ctx, []string{"lab", "--devices", "4", "--dir", filepath.Join(t.TempDir(), "lab")}, ready, &errOut),
		errOut.String(),
	)
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	require.Len(t, lines, 5)
	assert.True(t, strings.HasPrefix(lines[0], "northmole-harbour 127.0.0.1:"), lines[0])
	assert.True(t, strings.HasPrefix(lines[3], "northmole-harbour-2 127.0.0.1:"), lines[3])
}

// waiter stops what writes to it once it has written a word.
type waiter struct {
	w    *bytes.Buffer
	want string
	stop func()
}

func (w *waiter) Write(p []byte) (int, error) {
	n, err := w.w.Write(p)
	if strings.Contains(w.w.String(), w.want) {
		w.stop()
	}
	return n, err
}
