package api

import (
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"oakenlatch/core/advice"
	"oakenlatch/core/clip"
	"oakenlatch/core/diff"
	"oakenlatch/core/ledger"
	"oakenlatch/core/search"
	"oakenlatch/core/tree"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/documents"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// auditRoutes are those about the ledger.
func (a *API) auditRoutes() []route {
	return []route{
		{
			id: "searchAudit", method: "GET", path: "/audit", needs: toAudit,
			summary: "The ledger, newest first: q is a line to search by (docs/audit.md), before a place in it, " +
				"oldest=true turns the order round and goes on after a place",
			out: wire.Audit{}, query: []string{"q", "before", "after", "oldest", "limit"}, handle: a.audit,
		},
		{
			id: "exportAudit", method: "GET", path: "/audit/export", needs: toAudit,
			summary: "What a line finds, oldest first, as CSV (RFC 4180) or JSON Lines; format is csv or jsonl",
			streams: []string{"text/csv", "application/jsonl"}, query: []string{"q", "format"}, handle: a.exportAudit,
		},
		{
			id: "completeSearch", method: "GET", path: "/audit/complete", needs: toAudit,
			summary: "How a line to search by may go on",
			out:     wire.SearchHints{}, query: []string{"q"}, handle: a.completeSearch,
		},
		{
			id: "verifyAudit", method: "GET", path: "/audit/verify", needs: toAudit,
			summary: "Check the whole ledger, against the checkpoints that are kept and what witnesses saw",
			out:     wire.Verified{}, handle: a.verify,
		},
		{
			id: "verifyAgainst", method: "POST", path: "/audit/verify", needs: toVerify,
			summary: "The same, also against a checkpoint that was stored elsewhere",
			in:      wire.Against{}, out: wire.Verified{}, handle: a.verify,
		},
		{
			id: "signCheckpoint", method: "POST", path: "/audit/checkpoint", needs: toAudit,
			summary: "Sign what the ledger is now, to be kept elsewhere",
			out:     wire.Checkpoint{}, handle: a.checkpoint,
		},
		{
			id: "listRecordKeys", method: "GET", path: "/audit/keys", needs: toAudit,
			summary: "The keys that sign the record, or did",
			out:     []wire.RecordKey{}, handle: a.recordKeys,
		},
		{
			id: "proveEntry", method: "POST", path: "/audit/entries/:number/proof", needs: toVerify,
			summary: "A file that shows anybody that an entry is in the record (c2sp.org/tlog-proof)",
			out:     wire.Proof{}, handle: a.prove,
		},
		{
			id: "proveExtension", method: "POST", path: "/audit/extends", needs: toVerify,
			summary: "A text that shows anybody that the record goes on from a checkpoint that was kept",
			in:      wire.Against{}, out: wire.Proof{}, handle: a.extends,
		},
		{
			id: "getEntry", method: "GET", path: "/audit/entries/:number", needs: toAudit,
			summary: "One entry",
			out:     wire.Entry{}, handle: a.entry,
		},
		{
			id: "auditPace", method: "GET", path: "/audit/pace", needs: toAudit,
			summary: "When what a line finds happened, and by whom, counted",
			out:     wire.Pace{}, query: []string{"q"}, handle: a.pace,
		},
		{
			id: "listSearches", method: "GET", path: "/searches", needs: toAudit,
			summary: "Saved searches: one's own, and those that others share",
			out:     []wire.Search{}, handle: a.searches,
		},
		{
			id: "setSearch", method: "PUT", path: "/searches/:name", needs: toAudit,
			summary: "Keep a line under a name",
			in:      wire.NewSearch{}, out: wire.Search{}, handle: a.setSearch,
		},
		{
			id: "dropSearch", method: "DELETE", path: "/searches/:name", needs: toAudit,
			summary: "Forget one's own line of that name",
			status:  204, handle: a.dropSearch,
		},
	}
}

// ledgerQuery reads what is asked of the ledger.
func (a *API) ledgerQuery(c *call) (q store.LedgerQuery, err error) {
	line := c.QueryParam("q")
	if q.Query, err = search.Parse(line, a.Log.Now()); err != nil {
		return q, badLine(err)
	}
	if err := c.person.Bound(c.ctx, a.Store, access.Audit, &q); err != nil {
		return q, err
	}
	for name, into := range map[string]*int64{"before": &q.Before, "after": &q.After} {
		if text := c.QueryParam(name); text != "" {
			n, err := strconv.ParseInt(text, 10, 64)
			if err != nil || n < 0 {
				return q, refusal.New(refusal.Invalid, "", "%s is %q, the number of an entry is needed", name, text)
			}
			*into = n
		}
	}
	q.Oldest = c.QueryParam("oldest") == "true"
	return q, nil
}

// badLine says where a line to search by goes wrong.
func badLine(err error) error {
	var e *search.Error
	if !errors.As(err, &e) {
		return err
	}
	no := refusal.New(refusal.Invalid, e.Next, "the search goes wrong at %s", e.Error())
	if e.Next == "" {
		no = no.Or("see how searches are written", advice.SearchHelp)
	}
	return no
}

func (a *API) audit(c *call) (any, error) {
	q, err := a.ledgerQuery(c)
	if err != nil {
		return nil, err
	}
	q.Limit = 100
	if text := c.QueryParam("limit"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 || n > 1000 {
			return nil, refusal.New(refusal.Invalid, "", "limit is %q, a number from 1 to 1000 is needed", text)
		}
		q.Limit = n
	}
	q.Limit++ // one more tells whether there is another page
	list, err := a.Log.Entries(c.ctx, q)
	if err != nil {
		return nil, tooBroad(err)
	}
	more := len(list) == q.Limit
	if more {
		list = list[:q.Limit-1]
	}
	out := wire.Audit{Entries: list}
	if out.Entries == nil {
		out.Entries = []ledger.Entry{}
	}
	if more {
		out.Next = list[len(list)-1].Seq
	}
	return out, nil
}

func tooBroad(err error) error {
	if errors.Is(err, store.ErrBroad) {
		return refusal.New(refusal.Invalid, "ask for fewer", "%v", err)
	}
	return err
}

func (a *API) entry(c *call) (any, error) {
	e, err := a.entryOf(c)
	if err != nil {
		return nil, err
	}
	return wire.Entry{Entry: e, Lines: a.entryLines(c, e)}, nil
}

// entryOf gives the entry that a request names, where its person may read that.
func (a *API) entryOf(c *call) (e ledger.Entry, err error) {
	n, err := numberParam(c)
	if err != nil {
		return e, err
	}
	q := store.LedgerQuery{After: n - 1, Before: n + 1}
	if err := c.person.Bound(c.ctx, a.Store, access.Audit, &q); err != nil {
		return e, err
	}
	list, err := a.Log.Entries(c.ctx, q)
	if err == nil && len(list) == 0 {
		err = refusal.New(refusal.NotFound, "", "there is no entry %d that you may read", n)
	}
	if err != nil {
		return e, err
	}
	return list[0], nil
}

// entryLines gives an entry's before and after as a difference is shown.
func (a *API) entryLines(c *call, e ledger.Entry) []diff.Line {
	if e.Before == "" && e.After == "" {
		return []diff.Line{}
	}
	if lines := a.comparedLines(c, e); len(lines) > 0 {
		return lines
	}
	// Of no configuration, or of one whose modules are not known any more.
	var out []diff.Line
	add := func(mark, text string) {
		for l := range strings.Lines(text) {
			out = append(out, diff.Line{Mark: mark, Text: strings.TrimRight(l, "\r\n")})
		}
	}
	add(diff.MarkRemoved, e.Before)
	add(diff.MarkAdded, e.After)
	return out
}

// comparedLines compares what stood at an entry's path before and after; nil
// where that cannot be read by the device's modules.
func (a *API) comparedLines(c *call, e ledger.Entry) []diff.Line {
	d, err := a.Store.Device(c.ctx, c.person.Reach(), e.Device)
	if err != nil || e.Path == "" {
		return nil
	}
	s, err := a.Fleet.Schema(c.ctx, d)
	if err != nil {
		return nil
	}
	side := func(text string) (*tree.Node, error) {
		if text == "" {
			return tree.Empty, nil
		}
		return diff.ApplyItems(s, tree.Empty, []diff.Item{{Kind: diff.Added, Path: e.Path, New: text}})
	}
	before, berr := side(e.Before)
	after, aerr := side(e.After)
	if berr != nil || aerr != nil {
		return nil
	}
	return documents.Lines(diff.Compare(before, after), 0)
}

// What is counted for a chart: how many columns it has, and of how many
// entries.
const (
	paceSteps   = 60
	paceEntries = 10_000
)

func (a *API) pace(c *call) (any, error) {
	q, err := a.ledgerQuery(c)
	if err != nil {
		return nil, err
	}
	q.Limit = paceEntries + 1
	list, err := a.Log.Entries(c.ctx, q)
	if err != nil {
		return nil, tooBroad(err)
	}
	out := wire.Pace{Steps: []wire.PaceStep{}, Whole: len(list) <= paceEntries}
	list = list[:min(len(list), paceEntries)]
	out.Entries = len(list)
	if len(list) == 0 {
		return out, nil
	}
	out.From, out.To = list[0].At, list[0].At
	for _, e := range list {
		if e.At.Before(out.From) {
			out.From = e.At
		}
		if e.At.After(out.To) {
			out.To = e.At
		}
	}
	if !q.Since.IsZero() && out.Whole {
		out.From = q.Since.UTC()
	}
	out.StepSeconds = int64(out.To.Sub(out.From)/time.Second)/paceSteps + 1
	step := time.Duration(out.StepSeconds) * time.Second
	for at := out.From; !at.After(out.To); at = at.Add(step) {
		out.Steps = append(out.Steps, wire.PaceStep{At: at, Counts: map[string]int{}})
	}
	for _, e := range list {
		out.Steps[min(int(e.At.Sub(out.From)/step), len(out.Steps)-1)].Counts[e.Actor]++
	}
	return out, nil
}

// exportAudit writes what a line finds, however much it is.
func (a *API) exportAudit(c *call) (any, error) {
	q, err := a.ledgerQuery(c)
	if err != nil {
		return nil, err
	}
	q.Oldest = true
	form := c.QueryParamOr("format", "csv")
	writers := map[string]func(http.ResponseWriter) entryWriter{"csv": newCSV, "jsonl": newJSONL}
	if writers[form] == nil {
		return nil, refusal.New(refusal.Invalid, "give csv or jsonl", "%q is no format of an export", form)
	}
	q.Limit = 1 // what cannot be asked is said before anything is written
	if _, err := a.Log.Entries(c.ctx, q); err != nil {
		return nil, tooBroad(err)
	}
	q.Limit = 0
	err = a.Log.Write(c.ctx, func(tx *audit.Tx) error {
		return tx.Record(
			ledger.Entry{
				Actor: c.person.Name, Action: "audit.export", Note: strings.TrimSpace(form + " " + c.QueryParam("q")),
			},
		)
	})
	if err != nil {
		return nil, err
	}
	return stream(func(w http.ResponseWriter) error {
		out := writers[form](w)
		for e, err := range a.Log.Each(c.ctx, q) {
			if err == nil {
				err = out.entry(e)
			}
			if err != nil { // half of it is out, and must not look whole
				a.Logger.Error("an export of the ledger broke off", "error", err)
				panic(http.ErrAbortHandler)
			}
		}
		return out.end()
	}), nil
}

type entryWriter interface {
	entry(ledger.Entry) error
	end() error
}

type jsonl struct{ *json.Encoder }

func newJSONL(w http.ResponseWriter) entryWriter {
	w.Header().Set("Content-Type", "application/jsonl")
	w.Header().Set("Content-Disposition", `attachment; filename="ledger.jsonl"`)
	return jsonl{json.NewEncoder(w)}
}

func (j jsonl) entry(e ledger.Entry) error { return j.Encode(e) }
func (j jsonl) end() error                 { return nil }

// table is CSV (RFC 4180).
type table struct{ w *csv.Writer }

var columns = []string{
	"entry", "at", "who", "what", "device", "change", "ticket", "path", "before", "after", "note", "outcome", "way",
	"address", "session", "hash",
}

func newCSV(w http.ResponseWriter) entryWriter {
	w.Header().Set("Content-Type", "text/csv; charset=utf-8; header=present")
	w.Header().Set("Content-Disposition", `attachment; filename="ledger.csv"`)
	t := table{csv.NewWriter(w)}
	t.w.UseCRLF = true
	_ = t.w.Write(columns) // the writer keeps its first error
	return t
}

func (t table) entry(e ledger.Entry) error {
	change := ""
	if e.Change != 0 {
		change = fmt.Sprint(e.Change)
	}
	row := []string{
		fmt.Sprint(e.Seq), e.At.Format("2006-01-02T15:04:05.000Z07:00"), e.Actor, e.Action, e.Device, change, e.Ticket,
		e.Path, e.Before, e.After, e.Note, e.Outcome.String(), e.Way, e.Address, e.Session, e.Hash,
	}
	for i := range row {
		row[i] = harmless(row[i])
	}
	return t.w.Write(row)
}

func (t table) end() error {
	t.w.Flush()
	return t.w.Error()
}

// harmless keeps a spreadsheet from taking a text for a formula: it gets an
// apostrophe in front, which is shown nowhere there.
func harmless(text string) string {
	text = strings.ReplaceAll(text, "\x00", "�")
	if text != "" && strings.ContainsRune("=+-@\t\r\n", rune(text[0])) {
		return "'" + text
	}
	return text
}

// mostHints is how many hints are given at once.
const mostHints = 50

func (a *API) completeSearch(c *call) (any, error) {
	line := c.QueryParam("q")
	if len(line) > search.MaxLine {
		return wire.SearchHints{From: len(line), Hints: []wire.SearchHint{}}, nil
	}
	at := search.At(line)
	out := wire.SearchHints{From: at.From, Hints: []wire.SearchHint{}}
	add := func(value, says string) {
		if strings.HasPrefix(strings.ToLower(value), strings.ToLower(at.Partial)) && len(out.Hints) < mostHints {
			out.Hints = append(out.Hints, wire.SearchHint{Value: value, Says: says})
		}
	}
	if at.Key == "" {
		for _, k := range search.Keys {
			add(string(k.Key)+":", k.Says)
		}
		return out, nil
	}
	values, err := a.valuesOf(c, at.Key, at.Partial)
	if err != nil {
		return nil, err
	}
	for _, v := range values {
		add(v, "")
	}
	for i := range out.Hints {
		out.Hints[i].Value = search.Quote(out.Hints[i].Value)
	}
	return out, nil
}

// valuesOf gives what the values of a key may be that begin with something, where that is known.
func (a *API) valuesOf(c *call, key search.Key, begun string) ([]string, error) {
	var out []string
	switch key {
	case search.Outcome:
		return []string{ledger.Done.String(), ledger.Refused.String(), ledger.Failed.String()}, nil
	case search.Since, search.Until:
		return []string{"1h", "1d", "7d", "30d", a.Log.Now().Format("2006-01-02")}, nil
	case search.Kind:
		kinds, err := a.Store.Kinds(c.ctx)
		for _, k := range kinds {
			if first, _, _ := strings.Cut(k, "."); !slices.Contains(out, first) {
				out = append(out, first)
			}
			if !slices.Contains(out, k) {
				out = append(out, k)
			}
		}
		return out, err
	case search.Who:
		list, err := a.Store.Accounts(c.ctx)
		for _, x := range list {
			out = append(out, x.Name)
		}
		return append(out, audit.Service), err
	case search.Device, search.Site:
		list, err := a.Store.Devices(c.ctx, c.person.Reach())
		for _, d := range list {
			v := d.Name
			if key == search.Site {
				v = d.Site
			}
			if v != "" && !slices.Contains(out, v) {
				out = append(out, v)
			}
		}
		return out, err
	case search.Change:
		list, err := a.Desk.List(c.ctx, c.person, store.ChangeQuery{Number: begun, Limit: mostHints})
		for _, ch := range list {
			out = append(out, fmt.Sprint(ch.Number))
		}
		return out, err
	case search.Ticket:
		return a.Desk.Tickets(c.ctx, c.person, store.ChangeQuery{Ticket: begun, Limit: mostHints})
	}
	return nil, nil
}

func searchDoc(s store.Search) wire.Search {
	return wire.Search{Name: s.Name, Owner: s.Owner, Line: s.Line, Shared: s.Shared, At: s.At}
}

func (a *API) searches(c *call) (any, error) {
	list, err := a.Store.Searches(c.ctx, c.person.Name)
	out := []wire.Search{}
	for _, s := range list {
		out = append(out, searchDoc(s))
	}
	return out, err
}

func (a *API) setSearch(c *call) (any, error) {
	var in wire.NewSearch
	if err := c.read(&in); err != nil {
		return nil, err
	}
	name := c.Param("name")
	if strings.TrimSpace(name) != name || name == "" || utf8.RuneCountInString(name) > 80 ||
		strings.ContainsAny(name, "\n\r\t") {
		return nil, refusal.New(refusal.Invalid, "", "%q is no name for a search: 1 to 80 characters on one line", name)
	}
	if _, err := search.Parse(in.Line, a.Log.Now()); err != nil {
		return nil, badLine(err)
	}
	s := store.Search{Owner: c.person.Name, Name: name, Line: in.Line, Shared: in.Shared, At: a.Log.Now()}
	err := a.Log.Write(c.ctx, func(tx *audit.Tx) error {
		if err := tx.SetSearch(s); err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: c.person.Name, Action: "audit.search", After: in.Line,
				Note: fmt.Sprintf("%s%s", name, map[bool]string{true: ", for all"}[in.Shared]),
			},
		)
	})
	return searchDoc(s), err
}

func (a *API) dropSearch(c *call) (any, error) {
	name := c.Param("name")
	return nil, a.Log.Write(c.ctx, func(tx *audit.Tx) error {
		if err := tx.DropSearch(c.person.Name, name); errors.Is(err, store.ErrNotFound) {
			return refusal.New(
				refusal.NotFound, "list them", "you have saved no search called %q", name,
			).Do(advice.ListSearches)
		} else if err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: c.person.Name, Action: "audit.search", Note: name + ", forgotten"})
	})
}

// refusedAction is the entry that somebody was refused something.
const refusedAction = "request.refused"

// recordRefusal enters in the ledger that somebody was refused something that
// would have changed something.
func (a *API) recordRefusal(c *call, r route, why error) {
	var no *refusal.Error
	if c.person.Name == "" || r.method == http.MethodGet || !errors.As(why, &no) {
		return
	}
	e := ledger.Entry{
		Actor: c.person.Name, Action: refusedAction, Outcome: ledger.Refused,
		Note: clip.To(fmt.Sprintf("%s %s: %s", r.method, c.Request().URL.EscapedPath(), no.Error()), 500),
	}
	if strings.HasPrefix(r.path, "/devices/:name") {
		if _, err := a.Store.Device(c.ctx, c.person.Reach(), c.Param("name")); err == nil {
			e.Device = c.Param("name")
		}
	}
	if strings.HasPrefix(r.path, "/changes/:number") {
		if n, err := numberParam(c); err == nil {
			e.Change = n
		}
	}
	if err := a.Log.Write(c.ctx, func(tx *audit.Tx) error { return tx.Record(e) }); err != nil {
		a.Logger.Error("a refusal could not be recorded", "error", err)
	}
}
