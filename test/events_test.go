package test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/ledger"
	"oakenlatch/wire"
)

// token signs in by the API alone.
func (s *stage) token(account, password string) string {
	s.T.Helper()
	body, err := json.Marshal(wire.Login{Account: account, Password: password})
	require.NoError(s.T, err)
	res, err := http.Post(s.URL+"/api/v1/login", "application/json", bytes.NewReader(body))
	require.NoError(s.T, err)
	defer func() { _ = res.Body.Close() }()
	var in wire.Session
	require.NoError(s.T, json.NewDecoder(res.Body).Decode(&in))
	return in.Token
}

// follow reads n entries of the event stream, from behind an entry.
func (s *stage) follow(token, after string, n int) <-chan []ledger.Entry {
	out := make(chan []ledger.Entry, 1)
	ready := make(chan struct{})
	go func() {
		defer close(out)
		ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
		defer cancel()
		req, _ := http.NewRequestWithContext(ctx, http.MethodGet, s.URL+"/api/v1/events", nil)
		req.Header.Set("Authorization", "Bearer "+token)
		if after != "" {
			req.Header.Set("Last-Event-ID", after)
		}
		res, err := http.DefaultClient.Do(req)
		close(ready)
		if err != nil {
			return
		}
		defer func() { _ = res.Body.Close() }()
		var list []ledger.Entry
		lines := bufio.NewScanner(res.Body)
		for len(list) < n && lines.Scan() {
			if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
				var e ledger.Entry
				if json.Unmarshal([]byte(data), &e) == nil {
					list = append(list, e)
				}
			}
		}
		out <- list
	}()
	<-ready
	return out
}

// The stream tells what happens as it happens, loses nothing over a break, and
// keeps drafts private.
func TestEvents(t *testing.T) {
	t.Parallel()
	s := newStage(t, router)
	mara, joss := s.token("mara", maraPassword), s.token("joss", "joss's own password")
	s.Do("mara", 0, "whoami")
	live := s.follow(mara, "", 3)
	others := s.follow(joss, "", 1)
	time.Sleep(200 * time.Millisecond)
	n := s.Open("mara", router+" "+mtu+" 9000", router+" /system/contact me")
	got := <-live
	require.Len(t, got, 3)
	for i, action := range []string{"change.open", "edit.put", "edit.put"} {
		assert.Equal(t, action, got[i].Action)
		assert.Equal(t, "mara", got[i].Actor)
	}
	resumed := <-s.follow(mara, fmt.Sprint(got[0].Seq), 2)
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
	stream := s.follow(s.token("mara", maraPassword), "", 100)
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
