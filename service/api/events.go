package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"oakenlatch/service/access"
	"oakenlatch/service/store"
)

// beat is how often a silent stream says that it lives.
const beat = 15 * time.Second

// events streams ledger entries as they are written (server-sent events). An
// event's id is the entry's place in the ledger: a client that comes back with
// Last-Event-ID misses nothing.
func (a *API) events(ec *echo.Context) error {
	c := &call{Context: ec, ctx: ec.Request().Context()}
	if err := a.identify(c); err != nil {
		return err
	}
	q := store.LedgerQuery{Oldest: true, Limit: 500}
	if err := c.person.Fits(toRead); err != nil {
		return err
	}
	if err := c.person.Bound(c.ctx, a.Store, access.Read, &q); err != nil {
		return err
	}
	if err := a.streams.enter(c.person.Name); err != nil {
		return err
	}
	defer a.streams.leave(c.person.Name)
	last, err := a.resumeFrom(c)
	if err != nil {
		return err
	}
	q.After = last
	w := ec.Response()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(http.StatusOK)
	flush := http.NewResponseController(w)
	_ = flush.SetReadDeadline(time.Time{})
	soon := func() { _ = flush.SetWriteDeadline(time.Now().Add(writeEvent)) }
	soon()
	if _, err := fmt.Fprint(w, ": the ledger, as it is written\n\n"); err != nil {
		return nil
	}
	for {
		added := a.Log.Added()
		list, err := a.Log.Entries(c.ctx, q)
		if err != nil {
			return nil // the client comes back with the last id
		}
		soon()
		for _, e := range list {
			body, err := json.Marshal(e)
			if err != nil {
				return nil
			}
			if _, err := fmt.Fprintf(w, "id: %d\nevent: %s\ndata: %s\n\n", e.Seq, "entry", body); err != nil {
				return nil
			}
			q.After = e.Seq
		}
		if err := flush.Flush(); err != nil {
			return nil
		}
		if len(list) == q.Limit {
			continue
		}
		select {
		case <-added:
		case <-time.After(beat):
			soon()
			if _, err := fmt.Fprint(w, ": here\n\n"); err != nil {
				return nil
			}
		case <-c.ctx.Done():
			return nil
		case <-a.Stopping.Done():
			return nil
		}
	}
}

// resumeFrom gives the place a stream goes on from: after Last-Event-ID, or
// for a new client after the newest entry.
func (a *API) resumeFrom(c *call) (int64, error) {
	if id := c.Request().Header.Get("Last-Event-ID"); id != "" {
		if n, err := strconv.ParseInt(id, 10, 64); err == nil && n >= 0 {
			return n, nil
		}
	}
	newest, err := a.Log.Entries(c.ctx, store.LedgerQuery{Limit: 1})
	if err != nil || len(newest) == 0 {
		return 0, err
	}
	return newest[0].Seq, nil
}
