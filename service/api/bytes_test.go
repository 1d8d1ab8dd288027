package api

import (
	"bufio"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/ledger"
	"oakenlatch/wire"
)

// TestBytesInRequests: bytes that are no UTF-8, and characters that act on a terminal, in what is asked for do not make
// the record look altered, nor get into it.
func TestBytesInRequests(t *testing.T) {
	t.Parallel()
	d := newCounter(t, "nmo-cr1")
	for _, ask := range []struct{ method, path string }{
		{"POST", "/devices/x\xff/save"}, {"POST", "/devices/nmo-cr1/\xc3\x28"},
		{"PUT", "/audit/searches/a\x1b]0;x\x07\xff"},
		{"DELETE", "/snapshots/\xe2\x82"}, {"PUT", "/expectations/a\xed\xa0\x80b"}, {"POST", "/changes/1/commit\xff"},
	} {
		for _, body := range []string{"{}", "{\"note\":\"\xff\",\"line\":\"\xff\",\"title\":\"a\xff\"}"} {
			req := httptest.NewRequest(ask.method, "/", strings.NewReader(body))
			req.URL = &url.URL{Path: prefix + ask.path}
			req.Header.Set("Content-Type", "application/json")
			req.Header.Set("Authorization", "Bearer "+d.tokens["nell"])
			rec := httptest.NewRecorder()
			d.h.ServeHTTP(rec, req)
			assert.GreaterOrEqual(t, rec.Code, 400, "%q: %s", ask.path, rec.Body)
			assert.Less(t, rec.Code, http.StatusInternalServerError, "%q: %s", ask.path, rec.Body)
		}
	}
	d.ok("nell", "POST", "/changes", wire.NewChange{Title: "after it"}, nil)
	var v ledger.Verifier
	refused := 0
	lines := bufio.NewScanner(d.page("nell", "/audit/export?format=jsonl").Body)
	for lines.Scan() {
		var e ledger.Entry
		require.NoError(t, json.Unmarshal(lines.Bytes(), &e))
		assert.Equal(t, e.Hash, ledger.Sum(e).Hash, "%s", lines.Text())
		v.Next(e)
		if e.Action == refusedAction {
			refused++
			assert.NotContains(t, e.Note, "\x1b")
		}
	}
	require.NoError(t, lines.Err())
	assert.True(t, v.End(), "the record holds together as it was exported")
	assert.Positive(t, refused)
}

// TestCharactersAreCounted: lengths are told in characters, and counted so.
func TestCharactersAreCounted(t *testing.T) {
	t.Parallel()
	d := newCounter(t, "nmo-cr1")
	of := func(n int) string { return strings.Repeat("å", n) }
	for _, ask := range []struct {
		method, path string
		most         int
		in           func(text string) any
	}{
		{"POST", "/changes", 200, func(text string) any { return wire.NewChange{Title: text} }},
		{"POST", "/changes", 100, func(text string) any { return wire.NewChange{Title: "x", Ticket: text} }},
		{"POST", "/tokens", 80, func(text string) any {
			return wire.NewToken{Name: text, Until: time.Now().Add(time.Hour)}
		}},
	} {
		status, p, _ := d.do("nell", ask.method, ask.path, ask.in(of(ask.most)), nil)
		assert.Less(t, status, 300, "%s: %s", ask.path, p.Detail)
		status, p, _ = d.do("nell", ask.method, ask.path, ask.in(of(ask.most+1)), nil)
		assert.Equal(t, http.StatusUnprocessableEntity, status, "%s: %s", ask.path, p.Detail)
		assert.Contains(t, p.Detail, "characters")
	}
}
