package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/wire"
)

// What waits is told pile by pile, each with what is done about it; and that nothing does, where nothing does.
func TestNow(t *testing.T) {
	t.Setenv("TZ", "UTC")
	status, out, _ := run(t, answer(200, wire.Attention{}), nil, "now")
	assert.Equal(t, Done, status)
	assert.Equal(t, "Nothing waits for you: no hold runs, every device answers and is saved.\n", out)

	busy := wire.Attention{
		Records: "the disk is full",
		Holding: []wire.Change{{
			Number: 7, Title: "Lamps", Author: "mara", Devices: []string{"quay", "slip"},
			Commit: &wire.Commit{Deadline: at},
		}},
		Approve: []wire.Change{{Number: 8, Title: "Masts", Author: "joss"}},
		Outside: []wire.Outside{{Number: 3, Device: "quay", Places: 2, Who: "not named", Found: at}},
		Trouble: []wire.Device{{Name: "slip"}, {Name: "quay", Trouble: "no answer"}},
		Unsaved: []wire.Device{{Name: "quay"}},
	}
	status, out, _ = run(t, answer(200, busy), nil, "now")
	assert.Equal(t, Done, status)
	assert.Equal(t, `Nothing new can be begun: the disk is full
On hold
  change 7 Lamps, by mara, on quay, slip: reverted at 2026-11-23 02:00:00 UTC unless somebody confirms
  Next: latch confirm CHANGE, latch extend CHANGE or latch revert CHANGE
To be approved
  change 8 Masts, by joss, on no device yet
  Next: latch preview CHANGE, then latch approve CHANGE
Changed outside
  3: quay, 2 places, not named, found 2026-11-23 02:00:00 UTC
  Next: latch outside show NUMBER
Trouble
  slip: its host key has not been accepted yet
  quay: no answer
  Next: latch device show DEVICE
Not saved to startup
  quay
  Next: latch device save DEVICE
`, out)
	_, out, _ = run(t, answer(200, busy), nil, "now", "--json")
	var back wire.Attention
	require.NoError(t, json.Unmarshal([]byte(out), &back))
	assert.Equal(t, busy.Holding[0].Number, back.Holding[0].Number)
}

// Everything that happens is told, and a stream that breaks is gone on from where it broke: nothing twice, nothing
// left out.
func TestWatchAll(t *testing.T) {
	var asked atomic.Int32
	ctx, stop := context.WithTimeout(context.Background(), 20*time.Second)
	defer stop()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n := int(asked.Add(1))
		if n > 1 {
			assert.Equal(t, fmt.Sprint(n-1), r.Header.Get("Last-Event-ID"))
		}
		if n > 3 {
			stop()
			return
		}
		w.Header().Set("Content-Type", "text/event-stream")
		_, _ = fmt.Fprintf(
			w,
			"id: %d\nevent: entry\ndata: {\"seq\":%d,\"actor\":\"mara\",\"action\":\"edit.put\","+
				"\"device\":\"quay\",\"change\":7,\"path\":\"/x\",\"after\":\"v%d\"}\n\nevent: pulse\ndata: {}\n\n",
			n, n, n,
		)
	}))
	defer s.Close()
	var out, errOut strings.Builder
	a := &app{ctx: ctx, out: &out, err: &errOut, getenv: func(string) string { return "" }, server: s.URL}
	require.ErrorIs(t, a.watchAll(), context.Canceled)
	assert.Equal(t, 3, strings.Count(out.String(), "edit.put"), out.String())
	for i := 1; i <= 3; i++ {
		assert.Contains(t, out.String(), fmt.Sprintf("/x + v%d", i))
	}
	assert.Contains(t, errOut.String(), "trying again")
}

// A stream that told nothing yet and breaks is gone on with too, and that something may be missing is said; one that
// never began is an error; who may not audit is told what moved.
func TestWatchAllBegins(t *testing.T) {
	var asked atomic.Int32
	ctx, stop := context.WithTimeout(context.Background(), 20*time.Second)
	defer stop()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		switch asked.Add(1) {
		case 1: // nothing, and it breaks
		case 2:
			_, _ = fmt.Fprint(w, "id: 4\nevent: moved\ndata: {\"seq\":4,\"device\":\"quay\",\"about\":\"commit\"}\n\n")
		default:
			stop()
		}
	}))
	defer s.Close()
	var out, errOut strings.Builder
	a := &app{ctx: ctx, out: &out, err: &errOut, getenv: func(string) string { return "" }, server: s.URL}
	require.ErrorIs(t, a.watchAll(), context.Canceled)
	assert.Contains(t, errOut.String(), "what happens meanwhile is not told")
	assert.Regexp(t, `commit +quay`, out.String())
	s.Close()
	a = &app{ctx: t.Context(), out: &out, err: &errOut, getenv: a.getenv, server: s.URL}
	require.Error(t, a.watchAll(), "nobody is there")
}
