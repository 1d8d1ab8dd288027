package test

import (
	"context"
	"fmt"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/client"
	"oakenlatch/core/ledger"
)

// follow reads n entries of the event stream, from behind an entry.
func follow(c *client.Client, after string, n int) <-chan []ledger.Entry {
	out := make(chan []ledger.Entry, 1)
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	go func() {
		defer close(out)
		defer cancel()
		var list []ledger.Entry
		for e, err := range c.Events(ctx, after) {
			if err != nil {
				return
			}
			var entry ledger.Entry
			if e.Kind == "entry" && e.Read(&entry) == nil {
				list = append(list, entry)
			}
			if len(list) == n {
				out <- list
				return
			}
		}
	}()
	return out
}

// The stream tells what happens as it happens, loses nothing over a break, and
// keeps drafts private.
func TestEvents(t *testing.T) {
	t.Parallel()
	s := newStage(t, router)
	mara, _ := s.Client("mara", maraPassword)
	joss, _ := s.Client("joss", "joss's own password")
	s.Do("mara", 0, "whoami")
	live := follow(mara, "", 3)
	others := follow(joss, "", 1)
	time.Sleep(200 * time.Millisecond)
	n := s.Open("mara", router+" "+mtu+" 9000", router+" /system/contact me")
	got := <-live
	require.Len(t, got, 3)
	for i, action := range []string{"change.open", "edit.put", "edit.put"} {
		assert.Equal(t, action, got[i].Action)
		assert.Equal(t, "mara", got[i].Actor)
	}
	resumed := <-follow(mara, fmt.Sprint(got[0].Seq), 2)
	require.Len(t, resumed, 2, "what came meanwhile is not lost")
	assert.Equal(t, got[1:], resumed)

	select {
	case e := <-others:
		t.Fatalf("a draft is nobody else's business, but joss was told: %+v", e)
	case <-time.After(500 * time.Millisecond):
	}
	s.Do("mara", 0, "commit", n, "--hold", "1m")
	first := <-others
	require.Len(t, first, 1)
	assert.Equal(t, "change.open", first[0].Action, "once committed the whole of it is everybody's to know")
	s.Do("mara", 0, "revert", n, "--yes")

	res, err := http.Get(s.URL + "/api/v1/events")
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	assert.Equal(t, http.StatusUnauthorized, res.StatusCode)
}

// A stop in good form ends open streams and does not hang.
func TestStopsInGoodForm(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	mara, _ := s.Client("mara", maraPassword)
	stream := follow(mara, "", 100)
	time.Sleep(200 * time.Millisecond)
	start := time.Now()
	s.Stop()
	assert.Less(t, time.Since(start), 10*time.Second)
	<-stream
	// A second service on the same records is refused while one runs.
	s.Start()
	out, status := s.DaemonAgain()
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "is in use by another oaken-latchd")
}
