package report

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"oakenlatch/core/lifecycle"
	"oakenlatch/core/search"
	"oakenlatch/service/access"
	"oakenlatch/service/store"
)

// Span says what a report over time is about.
type Span struct {
	Since, Until time.Time
	Device       string
	Person       string
}

// ForSpan makes the report of a period: all that happened, or on a device, or
// by a person.
func (r *Reports) ForSpan(ctx context.Context, p access.Person, s Span) (Report, error) {
	title := "All that happened"
	switch {
	case s.Device != "" && s.Person != "":
		title = fmt.Sprintf("What %s did on %s", s.Person, s.Device)
	case s.Device != "":
		title = "What happened on " + s.Device
	case s.Person != "":
		title = "What " + s.Person + " did"
	}
	out, err := r.begin(ctx, p.Name, title)
	if err != nil {
		return out, err
	}
	out.Subtitle = stamp(s.Since) + " to " + stamp(s.Until)
	var device store.Device
	if s.Device != "" {
		if device, err = r.Store.Device(ctx, p.Reach(), s.Device); err != nil {
			return out, fmt.Errorf("device %s: %w", s.Device, err)
		}
	}
	commits, _, err := r.Commits(ctx, p.Reach(), Filter{
		CommitQuery: store.CommitQuery{
			Person: s.Person, Device: device.ID, Since: s.Since, Until: s.Until, Limit: mostRows,
		},
	})
	if err != nil {
		return out, err
	}
	outside, err := r.outside(ctx, p.Reach(), device.ID, s)
	if err != nil {
		return out, err
	}
	out.sum(commits, outside, s)
	for _, c := range commits {
		if err := r.commit(ctx, c, s, &out); err != nil {
			return out, err
		}
	}
	for _, o := range outside {
		if err := r.oneOutside(ctx, p.Reach(), o, &out); err != nil {
			return out, err
		}
	}
	return out, r.entries(ctx, p, s, &out)
}

func (r *Reports) outside(ctx context.Context, reach store.Reach, device int64, s Span) ([]store.Outside, error) {
	if s.Person != "" {
		return nil, nil // whoever it was is an account on a device, and no person here
	}
	list, err := r.Store.OutsideOf(ctx, device, false, mostRows)
	var out []store.Outside
	for _, o := range list {
		if _, err := r.Store.DeviceByID(ctx, reach, o.Device); store.OutOfReach(err) {
			continue // not the person's to see
		}
		if !o.Found.Before(s.Since) && !o.Found.After(s.Until) {
			out = append(out, o)
		}
	}
	return out, err
}

// sum adds what the period comes to.
func (r *Report) sum(commits []Commit, outside []store.Outside, s Span) {
	count := map[string]int{}
	for _, c := range commits {
		state := string(c.State.Outcome)
		if state == "" {
			state = "not decided yet"
		}
		count[state]++
	}
	for _, name := range []string{"confirmed", "reverted", "partly", "failed", "not decided yet"} {
		if count[name] > 0 {
			r.fact("Commits "+name, strconv.Itoa(count[name]))
		}
	}
	if len(commits) == 0 {
		r.fact("Commits", "none")
	}
	if s.Person == "" {
		undecided := 0
		for _, o := range outside {
			if o.State == lifecycle.OutsideOpen {
				undecided++
			}
		}
		r.fact("Outside changes", fmt.Sprintf("%d, of which %d are to be decided", len(outside), undecided))
	}
	t := &Table{Head: []string{"Commit", "Began (UTC)", "Change", "Hands", "Devices", "Outcome"}, Wide: 3}
	for _, c := range commits {
		var names []string
		for _, d := range c.Devices {
			names = append(names, d.Name)
		}
		t.Rows = append(
			t.Rows,
			[]string{
				itoa(c.ID), c.Started.UTC().Format("2006-01-02 15:04"),
				plain(fmt.Sprintf("%d %s", c.Change.Number, c.Change.Title)), c.Hands(), strings.Join(names, ", "),
				string(c.State.Outcome),
			},
		)
	}
	if len(t.Rows) > 0 {
		r.add(Section{Title: "Commits", Table: t})
	}
}

func (r *Reports) commit(ctx context.Context, c Commit, s Span, out *Report) error {
	facts := commitFacts(c)
	if c.Change.Ticket != "" {
		facts = append([]Fact{{"Ticket", plain(c.Change.Ticket)}}, facts...)
	}
	out.add(
		Section{
			Title: plain(fmt.Sprintf("Commit %d, change %d: %s", c.ID, c.Change.Number, c.Change.Title)), Facts: facts,
		},
	)
	made, err := r.Made(ctx, c)
	if err != nil {
		return err
	}
	for _, d := range c.Devices {
		if df := r.Log.Redactor.Difference(made[d.Name]); df != nil && (s.Device == "" || s.Device == d.Name) {
			out.difference(d.Name, "", df)
		}
	}
	return nil
}

func (r *Reports) oneOutside(ctx context.Context, reach store.Reach, o store.Outside, out *Report) error {
	d, err := r.Store.DeviceByID(ctx, reach, o.Device)
	if err != nil {
		return err
	}
	s, err := r.Fleet.Schema(ctx, d)
	if err != nil {
		return err
	}
	facts := []Fact{
		{"Found", stamp(o.Found)}, {"Not before", stamp(o.Since)}, {"Who", plain(o.Who)}, {"Stands", string(o.State)},
	}
	if !o.DeviceAt.IsZero() {
		facts = append(
			facts, Fact{"By its clock", stamp(o.DeviceAt) + map[bool]string{true: ", which is wrong"}[o.ClockOff]},
		)
	}
	if o.DecidedBy != "" {
		facts = append(
			facts, Fact{"Decided", plain(fmt.Sprintf("%s by %s, %s", o.Note, o.DecidedBy, stamp(o.DecidedAt)))},
		)
	}
	out.add(Section{Title: fmt.Sprintf("Outside change %d on %s", o.ID, d.Name), Facts: facts})
	df, err := r.History.Between(ctx, s, d.ID, o.Before, o.Revision)
	if err == nil {
		out.difference("What it changed on "+d.Name, "", r.Log.Redactor.Difference(df))
	}
	return err
}

// entries adds the period's ledger, as far as it can be printed.
func (r *Reports) entries(ctx context.Context, p access.Person, s Span, out *Report) error {
	q := store.LedgerQuery{Oldest: true, Limit: mostRows + 1}
	q.Since, q.Until = s.Since, s.Until
	q.Terms = searchTerms(s)
	if err := p.Bound(ctx, r.Store, access.Audit, &q); err != nil {
		return err
	}
	list, err := r.Log.Entries(ctx, q)
	if err != nil {
		return err
	}
	text := ""
	if len(list) > mostRows {
		list = list[:mostRows]
		text = fmt.Sprintf("The first %d; an export of the record has all.", mostRows)
	}
	out.add(Section{Title: "The ledger", Text: text, Table: entriesTable(list)})
	return nil
}

// searchTerms gives what the ledger is asked for in a period's report.
func searchTerms(s Span) []search.Term {
	var out []search.Term
	if s.Device != "" {
		out = append(out, search.Term{Key: search.Device, Values: []string{s.Device}})
	}
	if s.Person != "" {
		out = append(out, search.Term{Key: search.Who, Values: []string{s.Person}})
	}
	return out
}
