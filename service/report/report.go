package report

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode"

	"oakenlatch/core/clip"
	"oakenlatch/core/diff"
	"oakenlatch/core/flow"
	"oakenlatch/core/ledger"
	"oakenlatch/core/lifecycle"
	"oakenlatch/service/access"
	"oakenlatch/service/desk"
	"oakenlatch/service/store"
)

// Report is what is to be printed: a head, and sections.
type Report struct {
	Title    string
	Subtitle string
	Facts    []Fact // of the head
	Made     time.Time
	By       string
	Ledger   ledger.Entry // the last when it was made: its number and digest stand for all before it
	Nonce    string       // that its style carries where a page is only let have such
	Sections []Section
}

// Section is one part of a report. What it lacks is not drawn.
type Section struct {
	Title string
	Text  string
	Facts []Fact
	Table *Table
	Lines []diff.Line // a difference
	Left  int         // lines of it that were left out
}

// Fact is a name and what it is.
type Fact struct{ Name, Value string }

// Table is rows under a head; Wide is the column that takes what room there is.
type Table struct {
	Head []string
	Rows [][]string
	Wide int
}

// What is drawn at most, so that a report stays one that people read.
const (
	mostLines = 4000
	mostRows  = 1500
)

func itoa(n int64) string { return strconv.FormatInt(n, 10) }

// stamp writes a time with its zone.
func stamp(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format("2006-01-02 15:04:05 UTC")
}

// plain shows what would act on a reader, or turn the direction of text, as
// what it is.
func plain(text string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n' || r == '\t':
			return r
		case unicode.IsControl(r) || unicode.Is(unicode.Cf, r):
			return '\ufffd'
		}
		return r
	}, text)
}

func (r *Reports) begin(ctx context.Context, by, title string) (Report, error) {
	out := Report{Title: plain(title), Made: r.Log.Now(), By: by}
	list, err := r.Log.Entries(ctx, store.LedgerQuery{Limit: 1})
	if err == nil && len(list) > 0 {
		out.Ledger = list[0]
	}
	return out, err
}

func (r *Report) fact(name, value string) {
	if value != "" {
		r.Facts = append(r.Facts, Fact{name, plain(value)})
	}
}

func (r *Report) add(s Section) { r.Sections = append(r.Sections, s) }

// difference adds a difference, cut where it is too long to be read on paper.
func (r *Report) difference(title, text string, d *diff.Difference) {
	s := Section{Title: title, Text: text, Lines: d.Lines(1)}
	if n := len(s.Lines); n > mostLines {
		s.Lines, s.Left = s.Lines[:mostLines], n-mostLines
	}
	for i := range s.Lines {
		s.Lines[i].Text = plain(s.Lines[i].Text)
	}
	r.add(s)
}

// ForChange makes a change's report: what is planned, before its commit; what
// happened, once there was one.
func (r *Reports) ForChange(ctx context.Context, p access.Person, number int64) (Report, error) {
	c, err := r.Desk.Get(ctx, p, number)
	if err != nil {
		return Report{}, err
	}
	out, err := r.begin(ctx, p.Name, fmt.Sprintf("Change %d: %s", c.Number, c.Title))
	if err != nil {
		return out, err
	}
	commits, _, err := r.Commits(ctx, p.Reach(), Filter{CommitQuery: store.CommitQuery{Change: number, Limit: 50}})
	if err != nil {
		return out, err
	}
	out.Subtitle = "What is planned"
	if len(commits) > 0 && c.State != lifecycle.Draft {
		out.Subtitle = "What happened"
	}
	coworkers, err := r.Store.Coworkers(ctx, number)
	if err != nil {
		return out, err
	}
	out.fact("Ticket", c.Ticket)
	out.fact("State", string(c.State))
	out.fact("Because", c.Reason)
	out.fact("Author", c.Author)
	out.fact("With", strings.Join(coworkers, ", "))
	out.fact("Opened", stamp(c.Opened))
	out.fact("Made from", c.Origin)
	if out.Subtitle == "What is planned" {
		err = r.planned(ctx, p, c, &out)
	} else {
		err = r.happened(ctx, c, commits[0], &out)
	}
	if err != nil {
		return out, err
	}
	if err := r.people(ctx, p.Reach(), c, &out); err != nil {
		return out, err
	}
	for _, old := range commits {
		if old.ID != commits[0].ID || out.Subtitle == "What is planned" {
			out.add(Section{Title: fmt.Sprintf("An earlier commit, number %d", old.ID), Facts: commitFacts(old)})
		}
	}
	return out, nil
}

// planned adds what a preview shows.
func (r *Reports) planned(ctx context.Context, p access.Person, c store.Change, out *Report) error {
	verdicts, seen, err := r.Desk.Preview(ctx, p, c.Number, desk.Options{})
	if err != nil {
		return err
	}
	out.fact("Preview", strings.TrimSpace(seen.Digest+" "+stamp(seen.At)))
	if len(verdicts) == 0 {
		out.add(Section{Title: "Nothing is staged", Text: "The change has no part on any device."})
	}
	for i := range verdicts {
		verdicts[i] = verdicts[i].Redacted(r.Log.Redactor) // a report goes to whom it goes
	}
	out.verdict(desk.Sum(verdicts, seen))
	for _, v := range verdicts {
		if v.Difference != nil && !v.Difference.Empty() {
			out.difference("What it would change on "+v.Device, "", v.Difference)
		}
	}
	for _, v := range verdicts {
		facts := []Fact{
			{"Base", fmt.Sprintf("revision %d of %s", v.Base.Number, stamp(v.Base.At))}, {"Guard", v.Guard.Name()},
		}
		if v.Trouble != "" {
			facts = append(facts, Fact{"Trouble", plain(v.Trouble)})
		}
		for _, f := range v.Forecasts {
			facts = append(facts, Fact{"Lockout forecast", plain(fmt.Sprintf("%s: %s", f.Answer, f.Because))})
		}
		if v.Guard.Untried != "" {
			facts = append(facts, Fact{"Revert not tested", plain(v.Guard.Untried)})
		}
		if h := v.Blocker(); h != "" {
			facts = append(facts, Fact{"In the way", plain(h)})
		}
		out.add(Section{Title: v.Device, Facts: facts})
		out.findings(v)
		for _, c := range v.Effects {
			out.effect("Traffic on "+v.Device+", "+c.Name(), c)
		}
	}
	out.traffic(seen.Traffic)
	return nil
}

// verdict adds what it comes to, before anything else.
func (r *Report) verdict(sum desk.Summary) {
	s := Section{Title: "Verdict", Text: plain(sum.Text)}
	for _, t := range sum.Trouble {
		if s.Table == nil {
			s.Table = &Table{Head: []string{"", "Device", "Path", "What is wrong"}, Wide: 3}
		}
		does := "needs a second look"
		if t.Stops {
			does = "stops a commit"
		}
		s.Table.Rows = append(s.Table.Rows, []string{does, t.Device, plain(t.Path), plain(t.Text)})
	}
	r.add(s)
}

// effect adds what becomes of traffic at one place.
func (r *Report) effect(title string, c flow.Change) {
	s := Section{Title: plain(title)}
	switch {
	case c.Trouble != "":
		s.Text = c.Trouble
	case c.NoEffect:
		s.Text = "No effect, proved: every packet is treated as before."
	default:
		s.Table = &Table{Head: []string{"", "Packets", "Example", "After", "Before"}, Wide: 1}
		for _, k := range []struct {
			name string
			list []flow.Moved
		}{{"newly permitted", c.Permitted}, {"newly denied", c.Denied}, {"answered differently", c.Answered}} {
			for _, m := range k.list {
				s.Table.Rows = append(
					s.Table.Rows,
					[]string{
						k.name, plain(m.Packets), plain(m.Example), plain(m.After.String()), plain(m.Before.String()),
					},
				)
			}
		}
		if c.More {
			s.Text = "There is more than is listed here."
		}
		for _, f := range c.DependsOn {
			s.Facts = append(s.Facts, Fact{"Depends on", plain(f)})
		}
	}
	r.add(s)
}

// traffic adds what was expected, and what is done beside it.
func (r *Report) traffic(t desk.Traffic) {
	rows := &Table{Head: []string{"Expected", "At", "By", "Answer"}, Wide: 0}
	for _, e := range t.Expected {
		answer := "delivered"
		switch {
		case e.Trouble != "":
			answer = "not known: " + e.Trouble
		case !e.Delivered:
			answer = "not delivered: " + e.Missing[0].Packets
		case e.Already == "wholly":
			answer = "delivered; it was so already"
		}
		rows.Rows = append(rows.Rows, []string{plain(e.Line), plain(e.Place), e.Actor, plain(answer)})
	}
	if len(rows.Rows) > 0 {
		r.add(Section{Title: "What was expected of the traffic", Table: rows})
	}
	for _, s := range t.Beside {
		title := fmt.Sprintf("Side effect at %s of %s", plain(s.Where()), s.Device)
		if s.Accepted != nil {
			title += ", accepted by " + s.Accepted.Actor + " " + stamp(s.Accepted.At)
		}
		r.effect(title, s.Change)
	}
}

func (r *Report) findings(v desk.Verdict) {
	t := &Table{Head: []string{"Severity", "Path", "Finding"}, Wide: 2}
	for _, f := range v.Check.Findings {
		t.Rows = append(t.Rows, []string{string(f.Severity), plain(f.Path), plain(f.Message)})
	}
	for _, c := range v.Conflicts {
		t.Rows = append(t.Rows, []string{"conflict", plain(c.Path.String()), plain(c.Why)})
	}
	if len(t.Rows) > 0 {
		r.add(Section{Title: "Found on " + v.Device, Table: t})
	}
}

func commitFacts(c Commit) []Fact {
	facts := []Fact{
		{"Outcome", string(c.State.Outcome)}, {"Because", plain(c.State.Reason)},
		{"Staged by", strings.Join(c.Staged, ", ")}, {"Committed by", c.Actor}, {"Confirmed by", c.Confirmed},
		{"Began", stamp(c.Started)}, {"Decided", stamp(c.Ended)}, {"Hold", c.Hold.String()},
	}
	if c.State.Outcome == "" {
		facts[0].Value = "not decided yet"
	}
	if took := c.Took(); took > 0 {
		facts = append(facts, Fact{"Took", took.Round(time.Second).String()})
	}
	var out []Fact
	for _, f := range facts {
		if f.Value != "" {
			out = append(out, f)
		}
	}
	return out
}

// happened adds what became of the newest commit.
func (r *Reports) happened(ctx context.Context, c store.Change, cm Commit, out *Report) error {
	out.add(Section{Title: fmt.Sprintf("Commit %d", cm.ID), Facts: commitFacts(cm)})
	devices := &Table{Head: []string{"Device", "Site", "Guard", "How it stands", "Last word"}, Wide: 4}
	for i, d := range cm.State.Devices {
		stands := string(d.Standing)
		if d.Saved {
			stands += " and saved to startup"
		}
		devices.Rows = append(
			devices.Rows, []string{d.Name, plain(cm.Devices[i].Site), string(d.Keeper), stands, plain(d.Said)},
		)
	}
	out.add(Section{Title: "Devices", Table: devices})
	made, err := r.Made(ctx, cm)
	if err != nil {
		return err
	}
	for _, d := range cm.Devices {
		if df := r.Log.Redactor.Difference(made[d.Name]); df != nil {
			out.difference(
				"What it changed on "+d.Name,
				map[bool]string{
					true: "", false: "It is not there any more: the change is " + string(c.State) + ".",
				}[c.State == lifecycle.Confirmed || c.State == lifecycle.Holding],
				df,
			)
		}
	}
	if err := r.expected(ctx, c, cm, out); err != nil {
		return err
	}
	if len(cm.State.Probes) > 0 {
		t := &Table{Head: []string{"Probe", "Result", "Since", "What was found"}, Wide: 3}
		for _, p := range cm.State.Probes {
			t.Rows = append(t.Rows, []string{plain(p.Text), string(p.Result), stamp(p.Since), plain(p.Said)})
		}
		out.add(Section{Title: "Probes", Table: t})
	}
	steps, err := r.Steps(ctx, cm)
	if err != nil {
		return err
	}
	out.add(Section{Title: "Steps", Table: entriesTable(steps)})
	return nil
}

// expected adds what was expected of a change that was committed, and what it
// did to traffic.
func (r *Reports) expected(ctx context.Context, c store.Change, cm Commit, out *Report) error {
	made, err := r.Made(ctx, cm)
	if err != nil {
		return err
	}
	for _, d := range cm.Devices {
		if df := r.Log.Redactor.Difference(made[d.Name]); df != nil {
			for _, x := range flow.Changes(df.Old, df.New) {
				out.effect("Traffic on "+d.Name+", "+x.Name(), x)
			}
		}
	}
	list, err := r.Store.Expectations(ctx, c.Number)
	rows := &Table{Head: []string{"Expected, and delivered when it was committed", "At", "By"}, Wide: 0}
	for _, e := range list {
		rows.Rows = append(rows.Rows, []string{plain(e.Line), plain(e.Place), e.Actor})
	}
	if len(rows.Rows) > 0 {
		out.add(Section{Title: "What was expected of the traffic", Table: rows})
	}
	return err
}

func entriesTable(list []ledger.Entry) *Table {
	t := &Table{Head: []string{"Entry", "At (UTC)", "Who", "What", "Device", "Detail"}, Wide: 5}
	for _, e := range list {
		if len(t.Rows) == mostRows {
			t.Rows = append(t.Rows, []string{"…", "", "", "", "", fmt.Sprintf("%d more", len(list)-mostRows)})
			break
		}
		what := e.Action
		if e.Outcome != ledger.Done && !strings.HasSuffix(what, "."+e.Outcome.String()) {
			what += ", " + e.Outcome.String()
		}
		t.Rows = append(
			t.Rows,
			[]string{
				itoa(e.Seq), e.At.UTC().Format("01-02 15:04:05"), plain(e.Actor), what, e.Device, plain(detail(e)),
			},
		)
	}
	return t
}

// mostDetail is how much of an entry's values is printed.
const mostDetail = 400

func detail(e ledger.Entry) string {
	short := func(text string) string { return clip.To(text, mostDetail) }
	var parts []string
	if e.Path != "" {
		parts = append(parts, e.Path)
	}
	if e.Before != "" || e.After != "" {
		parts = append(parts, fmt.Sprintf("%s → %s", orNothing(short(e.Before)), orNothing(short(e.After))))
	}
	if e.Note != "" {
		parts = append(parts, short(e.Note))
	}
	return strings.Join(parts, " ")
}

func orNothing(text string) string {
	if text == "" {
		return "(nothing)"
	}
	return text
}

// people adds who wrote what, and who staged which line.
func (r *Reports) people(ctx context.Context, reach store.Reach, c store.Change, out *Report) error {
	edits, err := r.Store.Edits(ctx, c.Number)
	if err != nil {
		return err
	}
	t := &Table{Head: []string{"Edit", "At (UTC)", "Who", "Device", "What"}, Wide: 4}
	for _, e := range edits {
		d, err := r.Store.DeviceByID(ctx, reach, e.Device)
		if err != nil {
			return err
		}
		path, value := e.Path, e.Value
		if s, err := r.Fleet.Schema(ctx, d); err == nil {
			path, value = r.Log.Redactor.Edit(s, path, value)
		} else if value != "" {
			value = r.Log.Redactor.Name(value)
		}
		t.Rows = append(
			t.Rows,
			[]string{
				itoa(e.ID), e.At.UTC().Format("2006-01-02 15:04:05"), e.Actor, d.Name,
				plain(strings.TrimSpace(strings.Join([]string{e.Op, e.Mode, path, value, e.Source}, " "))),
			},
		)
	}
	if len(t.Rows) > 0 {
		out.add(Section{Title: "Who staged what", Table: t})
	}
	notes, err := r.Store.Notes(ctx, c.Number)
	if err != nil {
		return err
	}
	n := &Table{Head: []string{"At", "Who", "Note"}, Wide: 2}
	for _, x := range notes {
		n.Rows = append(n.Rows, []string{stamp(x.At), x.Actor, plain(x.Text)})
	}
	if len(n.Rows) > 0 {
		out.add(Section{Title: "Notes", Table: n})
	}
	return nil
}
