package api

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"oakenlatch/core/advice"
	"oakenlatch/core/ledger"
	"oakenlatch/core/search"
	"oakenlatch/core/tree"
	"oakenlatch/service/audit"
	"oakenlatch/service/documents"
	"oakenlatch/service/refusal"
	"oakenlatch/service/report"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// recordRoutes are those about what was committed, and reports.
func (a *API) recordRoutes() []route {
	return []route{
		{
			id: "listCommits", method: "GET", path: "/commits", needs: toRead,
			summary: "Every commit, newest first, with who had a hand in it; by a person (who staged, committed or " +
				"confirmed), of a device, of a change, that made a difference at or below a path; before is a " +
				"place in it",
			out:    wire.CommitRecords{},
			query:  []string{"who", "device", "change", "path", "since", "until", "before", "limit"},
			handle: a.commits,
		},
		{
			id: "getCommit", method: "GET", path: "/commits/:number", needs: toRead,
			summary: "One commit: what it made of each device, its steps, who staged what; context is the number of " +
				"unchanged neighbours",
			out: wire.CommitRecord{}, query: []string{"context", "path"}, handle: a.commitRecord,
		},
		{
			id: "changeReport", method: "GET", path: "/changes/:number/report", about: aChange, needs: toRead,
			summary: "A change's report: what is planned before its commit, what happened after it; format is " +
				"pdf or html",
			streams: reportTypes, query: []string{"format"}, handle: a.changeReport,
		},
		{
			id: "periodReport", method: "GET", path: "/report", needs: toAudit,
			summary: "A period's report, of all, of a device or of a person; since and until as in a line to search " +
				"by; format is pdf or html",
			streams: reportTypes, query: []string{"since", "until", "device", "who", "format"}, handle: a.spanReport,
		},
	}
}

// times reads since and until as a line to search by has them.
func (a *API) times(c *call) (since, until time.Time, err error) {
	line := ""
	for _, key := range []string{"since", "until"} {
		if text := c.QueryParam(key); text != "" {
			line += " " + key + ":" + search.Quote(text)
		}
	}
	q, err := search.Parse(line, a.Log.Now())
	if err != nil {
		return since, until, badLine(err)
	}
	return q.Since, q.Until, nil
}

// numbers reads those of some parameters that are given, numbers from 1 on.
func (c *call) numbers(wanted map[string]*int64) (err error) {
	for name, into := range wanted {
		if text := c.QueryParam(name); text != "" {
			if *into, err = strconv.ParseInt(text, 10, 64); err != nil || *into < 1 {
				return refusal.New(refusal.Invalid, "", "%s is %q, a number is needed", name, text)
			}
		}
	}
	return nil
}

func (a *API) commits(c *call) (any, error) {
	q := report.Filter{
		CommitQuery: store.CommitQuery{Person: c.QueryParam("who"), Limit: 50}, Path: c.QueryParam("path"),
	}
	if q.Path != "" && !strings.HasPrefix(q.Path, "/") {
		return nil, refusal.New(
			refusal.Invalid, "write it as in /interfaces", "path is %q, a path starts with /", q.Path,
		)
	}
	var err error
	if q.Since, q.Until, err = a.times(c); err != nil {
		return nil, err
	}
	if q.Device, err = a.deviceQuery(c); err != nil {
		return nil, err
	}
	limit := int64(q.Limit)
	if err := c.numbers(map[string]*int64{"change": &q.Change, "before": &q.Before, "limit": &limit}); err != nil {
		return nil, err
	}
	if limit > 500 {
		return nil, refusal.New(refusal.Invalid, "", "limit is %d, at most 500 are given at once", limit)
	}
	q.Limit = int(limit)
	var out wire.CommitRecords
	list, next, err := a.Reports.Commits(c.ctx, c.person.Reach(), q)
	var no *tree.PathError
	if errors.As(err, &no) {
		return nil, refusal.New(refusal.Invalid, "", "%v", no)
	}
	if err != nil {
		return nil, err
	}
	out.Next = next
	out.Commits, err = a.page(c).CommitRecords(list)
	return out, err
}

func (a *API) commitRecord(c *call) (any, error) {
	n, err := numberIn(c, "number", "commit number")
	if err != nil {
		return nil, err
	}
	context, err := contextParam(c)
	if err != nil {
		return nil, err
	}
	r, err := a.Reports.Find(c.ctx, c.person.Reach(), n)
	if errors.Is(err, store.ErrNotFound) {
		return nil, refusal.New(refusal.NotFound, "list them", "there is no commit %d", n).Do(advice.ListCommits)
	}
	if err != nil {
		return nil, err
	}
	made, err := a.Reports.Made(c.ctx, r)
	if err != nil {
		return nil, err
	}
	steps, err := a.Reports.Steps(c.ctx, r)
	if err != nil {
		return nil, err
	}
	return a.page(c).WholeCommit(r, made, steps, documents.Look{Context: context, Path: c.QueryParam("path")})
}

// formOf reads how a report is wanted.
func formOf(c *call) (string, error) {
	form := c.QueryParamOr("format", "pdf")
	if form != "pdf" && form != "html" {
		return "", refusal.New(refusal.Invalid, "give pdf or html", "%q is no format of a report", form)
	}
	return form, nil
}

func (a *API) changeReport(c *call) (any, error) {
	form, err := formOf(c)
	if err != nil {
		return nil, err
	}
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	r, err := a.Reports.ForChange(c.ctx, c.person, n)
	if err != nil {
		return nil, err
	}
	return a.printed(c, r, form, fmt.Sprintf("change-%d", n), ledger.Entry{Change: n})
}

func (a *API) spanReport(c *call) (any, error) {
	form, err := formOf(c)
	if err != nil {
		return nil, err
	}
	s := report.Span{Device: c.QueryParam("device"), Person: c.QueryParam("who")}
	if s.Since, s.Until, err = a.times(c); err != nil {
		return nil, err
	}
	if s.Until.IsZero() {
		s.Until = a.Log.Now()
	}
	if s.Since.IsZero() {
		s.Since = s.Until.Add(-7 * 24 * time.Hour)
	}
	if s.Since.After(s.Until) {
		return nil, refusal.New(
			refusal.Invalid, "", "the period ends %s, before it begins", s.Until.Format(time.RFC3339),
		)
	}
	if s.Device != "" {
		if _, err := a.deviceNamed(c, s.Device); err != nil {
			return nil, err
		}
	}
	r, err := a.Reports.ForSpan(c.ctx, c.person, s)
	if err != nil {
		return nil, err
	}
	return a.printed(
		c, r, form, "report-"+s.Since.UTC().Format(time.DateOnly)+"-to-"+s.Until.UTC().Format(time.DateOnly),
		ledger.Entry{Device: s.Device},
	)
}

// reportTypes are the media types of reports.
var reportTypes = []string{"application/pdf", "text/html"}

// printed writes a report and enters in the ledger that it was taken.
func (a *API) printed(c *call, r report.Report, form, name string, e ledger.Entry) (any, error) {
	e.Actor, e.Action, e.Note = c.person.Name, "report.made", form+": "+r.Title+", "+r.Subtitle
	if err := a.Log.Write(c.ctx, func(tx *audit.Tx) error { return tx.Record(e) }); err != nil {
		return nil, err
	}
	return stream(func(w http.ResponseWriter) error {
		r.Nonce, _ = c.Get(nonceKey).(string)
		write, kind := r.PDF, "application/pdf"
		if form == "html" {
			write, kind = r.HTML, "text/html; charset=utf-8"
		}
		w.Header().Set("Content-Type", kind)
		w.Header().Set("Content-Disposition", fmt.Sprintf("inline; filename=%q", name+"."+form))
		return write(w)
	}), nil
}
