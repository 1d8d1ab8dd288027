package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"oakenlatch/core/ledger"
	"oakenlatch/service/access"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// beat is how often a silent stream says that it lives, and lookAtHealth how often it looks whether the records are
// as they should be.
const (
	beat         = 15 * time.Second
	lookAtHealth = 2 * time.Second
)

// events streams what happens as it is written (server-sent events). An event's id is the place of
// its entry in the ledger: a client that comes back with Last-Event-ID misses nothing.
func (a *API) events(c *call) (any, error) {
	q := store.LedgerQuery{Oldest: true, Limit: 500}
	if err := c.person.Bound(c.ctx, a.Store, access.Read, &q); err != nil {
		return nil, err
	}
	last, err := a.resumeFrom(c)
	if err != nil {
		return nil, err
	}
	q.After = last
	var pulse int64
	if err := c.numbers(map[string]*int64{"pulse": &pulse}); err != nil {
		return nil, err
	}
	alive := sign{every: beat, text: ": here\n\n"}
	if pulse > 0 {
		alive = sign{every: time.Duration(min(pulse, 60)) * time.Second, text: "event: pulse\ndata: {}\n\n"}
	}
	return stream(func(w http.ResponseWriter) error { return a.streamEntries(c, q, alive, w) }), nil
}

// sign is what a silent stream says from time to time: browsers show scripts no comments, and a page has to know
// whether it still hears the service.
type sign struct {
	every time.Duration
	text  string
}

// event is what of an entry is told to somebody: all of it where they may audit what it is about;
// else that something has moved which they may see; else nothing.
func (a *API) event(c *call, e ledger.Entry, devices map[string]store.Device) (kind string, data any) {
	if c.person.Grants.Everywhere(access.Audit) || e.Actor == c.person.Name && c.person.Grants.Somewhere(access.Audit) {
		return "entry", e
	}
	if d, known := devices[e.Device]; known && c.person.Grants.May(access.Audit, d) {
		return "entry", e
	}
	if e.Device == "" && e.Change == 0 || e.Action == refusedAction {
		return "", nil // of accounts, sessions, rules, receivers and the like
	}
	about, _, _ := strings.Cut(e.Action, ".")
	return "moved", wire.Moved{Seq: e.Seq, At: e.At, Device: e.Device, Change: e.Change, About: about}
}

// streamEntries writes a stream until what let it in ends, or somebody goes.
func (a *API) streamEntries(c *call, q store.LedgerQuery, alive sign, w http.ResponseWriter) error {
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
	var until time.Time // is asked at once
	fewer := a.Store.Fewer()
	health := time.NewTicker(lookAtHealth)
	defer health.Stop()
	ill := a.illness(c)
	for {
		added := a.Log.Added()
		select {
		case <-fewer:
			fewer, until = a.Store.Fewer(), time.Time{}
		default:
		}
		if !until.After(a.Log.Now()) && !a.stillIn(c, &until) {
			return nil
		}
		list, err := a.Log.Entries(c.ctx, q)
		if err != nil {
			return nil // the client comes back with the last id
		}
		soon()
		devices, err := a.devicesByName(c.ctx, list)
		if err != nil {
			return nil
		}
		for _, e := range list {
			q.After = e.Seq
			kind, data := a.event(c, e, devices)
			if kind == "" {
				continue
			}
			if err := sendEvent(w, e.Seq, kind, data); err != nil {
				return nil
			}
		}
		if err := flush.Flush(); err != nil {
			return nil
		}
		if len(list) == q.Limit {
			continue
		}
		if !a.waitForEntries(c, w, alive, health.C, &ill, added, fewer, until) {
			return nil
		}
	}
}

// waitForEntries waits until a stream has to look for entries again; false where it ends. Meanwhile it says that it
// lives, and that something is wrong with the records, or no longer: nothing is entered where they are ill, and
// everybody has to know of it.
func (a *API) waitForEntries(
	c *call, w http.ResponseWriter, alive sign, health <-chan time.Time, ill *string, added, fewer <-chan struct{},
	until time.Time,
) bool {
	flush := http.NewResponseController(w)
	tell := func(write func() error) bool {
		_ = flush.SetWriteDeadline(time.Now().Add(writeEvent))
		return write() == nil && flush.Flush() == nil
	}
	asked, silent := time.After(until.Sub(a.Log.Now())), time.After(alive.every)
	for {
		select {
		case <-added:
			return true
		case <-fewer:
			return true
		case <-asked:
			return true
		case <-health:
			now := a.illness(c)
			if now == *ill {
				continue
			}
			*ill = now
			moved := wire.Moved{At: a.Log.Now(), About: "records"}
			if !tell(func() error { return sendEvent(w, 0, "moved", moved) }) {
				return false
			}
		case <-silent:
			return tell(func() error {
				_, err := fmt.Fprint(w, alive.text)
				return err
			})
		case <-c.ctx.Done():
			return false
		case <-a.Stopping.Done():
			return false
		}
	}
}

// illness says what is wrong with the disk of the records; "" where nothing is.
func (a *API) illness(c *call) string {
	if err := a.Store.Check(c.ctx); err != nil {
		return err.Error()
	}
	return ""
}

// sendEvent writes an event of a stream; one that is no entry has no id, so that whoever comes back goes on from
// the entry before.
func sendEvent(w io.Writer, id int64, kind string, data any) error {
	body, err := json.Marshal(data)
	if err != nil {
		return err
	}
	if id > 0 {
		_, err = fmt.Fprintf(w, "id: %d\n", id)
	}
	_, werr := fmt.Fprintf(w, "event: %s\ndata: %s\n\n", kind, body)
	return errors.Join(err, werr)
}

// devicesByName gives the devices that entries are about.
func (a *API) devicesByName(ctx context.Context, list []ledger.Entry) (map[string]store.Device, error) {
	if !slices.ContainsFunc(list, func(e ledger.Entry) bool { return e.Device != "" }) {
		return nil, nil
	}
	all, err := a.Store.Devices(ctx, store.Everything)
	out := make(map[string]store.Device, len(all))
	for _, d := range all {
		out[d.Name] = d
	}
	return out, err
}

// stillIn reports whether what let a person in still does, and lets them as much: a stream
// ends with it. until is when that is to be asked again at the latest.
func (a *API) stillIn(c *call, until *time.Time) bool {
	p, end, err := a.Accounts.Lets(c.ctx, c.token)
	*until = end
	return err == nil && slices.Equal(p.Grants.Texts(), c.person.Grants.Texts())
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
