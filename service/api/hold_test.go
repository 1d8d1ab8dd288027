package api

import (
	"bytes"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/guard"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/order"
	"oakenlatch/test/servicetest"
	"oakenlatch/wire"
)

// theirs is an API with an account for the person of that name, signed in.
func theirs(t *testing.T, r *servicetest.Room) (ask func(method, path, body string) (int, []byte)) {
	t.Helper()
	accounts := r.Accounts
	require.NoError(t, accounts.Add(t.Context(), audit.Service, "boss", "the boss's own password", servicetest.Admin))
	a := apiOf(t, r)
	h := a.Handler()
	token, _, _, err := accounts.Login(t.Context(), "boss", "the boss's own password", "127.0.0.1", access.Site{})
	require.NoError(t, err)
	return func(method, path, body string) (int, []byte) {
		req := httptest.NewRequestWithContext(t.Context(), method, prefix+path, bytes.NewReader([]byte(body)))
		req.Header.Set("Authorization", "Bearer "+token)
		req.Header.Set("Content-Type", "application/json")
		w := httptest.NewRecorder()
		h.ServeHTTP(w, req)
		judge(t, method, path, w)
		return w.Code, w.Body.Bytes()
	}
}

// Every word and order by the API: what it answers, and what it says to those
// that make no sense.
func TestHoldByAPI(t *testing.T) {
	t.Parallel()
	const quay = "saltern-quay"
	r := servicetest.New(t, quay)
	ask := theirs(t, r)
	must := func(status int, method, path, body string, into any) {
		t.Helper()
		got, answer := ask(method, path, body)
		require.Equal(t, status, got, "%s %s %s: %s", method, path, body, answer)
		if into != nil {
			require.NoError(t, json.Unmarshal(answer, into))
		}
	}
	no := func(method, path, body, says string) {
		t.Helper()
		status, answer := ask(method, path, body)
		assert.GreaterOrEqual(t, status, 400, path+body)
		assert.Less(t, status, 500, path+body)
		assert.Contains(t, string(answer), says, path+body)
	}
	var c wire.Change
	must(201, "POST", "/changes", `{"title":"who to call"}`, &c)
	must(
		201, "POST", "/changes/1/edits", `{"device":"saltern-quay","op":"put","path":"/system/contact","value":"new"}`,
		nil,
	)
	for body, says := range map[string]string{
		`{"holdSeconds":9223372036854775807}`:  "a hold lasts from 10s to 7 days",
		`{"holdSeconds":-9223372036854775808}`: "a hold lasts", `{}`: "a hold lasts",
		`{"holdSeconds":60,"probes":["ping x"]}`:                          "write tcp HOST:PORT",
		`{"holdSeconds":60,"waves":[["nobody"]]}`:                         "has no part on",
		`{"holdSeconds":60,"waves":[["saltern-quay"],["saltern-quay"]]}`:  "named in two waves",
		`{"holdSeconds":60,"aheadSeconds":999999}`:                        "stays prepared for up to 12h",
		`{"holdSeconds":60,"probes":["tcp a:1"],"probeWithinSeconds":-1}`: "may fail for up to",
		`{"holdSeconds":"ten"}`:                                           "cannot be read",
		`{"holdSeconds":60,"hurry":true}`:                                 "unknown field",
	} {
		no("POST", "/changes/1/commit", body, says)
	}
	no("POST", "/changes/1/schedule", `{"at":"2020-01-01T00:00:00Z","commit":{"holdSeconds":60}}`, "is past")
	no("POST", "/changes/1/schedule", `{"at":"2099-01-01T00:00:00Z"}`, "how it is to be committed is not said")
	no("POST", "/changes/1/schedule", `{"at":"2099-01-01T00:00:00Z","commit":{"holdSeconds":60}}`, "more than a year")
	no("POST", "/changes/1/hold", `{"addSeconds":60}`, "has not been committed")
	no("DELETE", "/schedule/77", "", "there is no number 77")
	no("DELETE", "/schedule/x", "", "is not a number of the schedule")
	no("GET", "/devices/saltern-quay/difference?from=yesterday", "", "no place to read from")
	no("GET", "/devices/saltern-quay/difference?context=-1", "", "a number from 0")
	no("DELETE", "/devices/saltern-quay/sessions/4711", "", "there is no session 4711")
	no("DELETE", "/devices/saltern-quay/candidate", "", "holds nothing but running")
	no("POST", "/devices/saltern-quay/schedule", `{"at":"2020-01-01T00:00:00Z"}`, "is past")

	must(202, "POST", "/changes/1/commit", `{"holdSeconds":60,"save":false}`, &c)
	assert.Equal(t, guard.ByDevice, c.Commit.Devices[0].Keeper)
	require.Eventually(
		t, func() bool { must(200, "GET", "/changes/1", "", &c); return c.Commit.Phase == guard.Awaiting },
		90*time.Second, 50*time.Millisecond,
	)
	no("POST", "/changes/1/hold", `{}`, "is not said, or said twice")
	no("POST", "/changes/1/hold", `{"addSeconds":99999999}`, "a hold ends within 7 days")
	no("POST", "/changes/1/hold", `{"addSeconds":-3600}`, "cannot end in the past")
	no("POST", "/changes/1/begin", "", "not waiting for that")
	no("POST", "/changes/1/accept-device", `{"device":"saltern-quay"}`, "is not stuck")
	no("POST", "/changes/1/accept-device", `{"device":"nobody"}`, "no commit of change 1 is under way on")
	no("POST", "/devices/saltern-quay/save", "", "the commit of change 1 is under way on it")
	end := c.Commit.Deadline
	must(200, "POST", "/changes/1/hold", `{"addSeconds":600}`, &c)
	assert.Equal(t, end.Add(10*time.Minute), c.Commit.Deadline)
	must(200, "POST", "/changes/1/confirm", "", &c)
	assert.EqualValues(t, "confirmed", c.State)
	var d wire.Device
	must(200, "GET", "/devices/saltern-quay", "", &d)
	assert.True(t, d.Unsaved)
	var df wire.Difference
	must(200, "GET", "/devices/saltern-quay/difference", "", &df)
	assert.Equal(t, 1, df.Count)
	must(200, "POST", "/devices/saltern-quay/save", "", &d)
	assert.False(t, d.Unsaved)
	must(200, "PATCH", "/devices/saltern-quay", `{"save":false}`, &d)
	assert.False(t, d.Save)
	var clock wire.Clock
	must(200, "GET", "/devices/saltern-quay/clock", "", &clock)
	assert.False(t, clock.Off)
	var list []wire.Visitor
	must(200, "GET", "/devices/saltern-quay/sessions", "", &list)
	assert.NotEmpty(t, list)
	var due wire.Scheduled
	must(
		201, "POST", "/devices/saltern-quay/schedule",
		`{"at":"`+time.Now().Add(time.Hour).UTC().Format(time.RFC3339)+`","zone":"UTC"}`, &due,
	)
	must(204, "DELETE", "/schedule/1", "", nil)
	no("DELETE", "/schedule/1", "", "does not wait")
	require.ErrorContains(t, r.Begin("boss", 1, order.Order{Hold: time.Minute}, nil), "is empty")
	assert.Equal(t, http.StatusOK, func() int { s, _ := ask("GET", "/schedule", ""); return s }())
}
