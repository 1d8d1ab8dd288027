package cli

import (
	"flag"
	"fmt"
	"slices"
	"strings"
	"time"

	"oakenlatch/client"
	"oakenlatch/core/check"
	"oakenlatch/core/diff"
	"oakenlatch/core/lifecycle"
	"oakenlatch/core/lockout"
	"oakenlatch/wire"
)

// previewForms are the forms of a preview beside the readable one; the last
// three are the whole result.
var previewForms = []string{
	"lines", "unified", "edit-config", "yang-patch", "yang-patch-json", "outline", "xml", "json",
}

func preview(a *app, fs *flag.FlagSet) func([]string) error {
	context := fs.Int("context", 1, "unchanged neighbours, or lines, shown around each change")
	whole := fs.Bool("whole", false, "every line, also of a very large difference")
	as := fs.String(
		"as", "lines",
		strings.Join(previewForms[:5], ", ")+"; or the whole result as "+strings.Join(previewForms[5:], ", "),
	)
	device := fs.String("device", "", "this device only")
	by := fs.String("by", "", "the edits of this person only")
	path := fs.String("path", "", "only what differs at this path or below")
	people := fs.Bool("people", false, "beside each line, who staged it and when")
	validate := fs.Bool("validate", false, "have the devices judge the result, without committing it")
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		if !slices.Contains(previewForms, *as) {
			return wrongUse("--as %q is not one of %s", *as, strings.Join(previewForms, ", "))
		}
		p, err := a.api().PreviewChange(a.ctx, n, client.PreviewChangeQuery{
			Context: context, As: *as, Device: *device, By: *by, Validate: *validate,
			Path: *path,
		})
		if err != nil {
			return err
		}
		t := previewText{
			app: a, whole: *whole, people: *people, by: *by, path: *path,
			partial: *device != "" || *by != "" || *path != "",
		}
		err = a.paged(func() error {
			return a.show(p, func() {
				if *as == "lines" {
					t.preview(p)
					return
				}
				for _, part := range p.Parts {
					if len(p.Parts) > 1 && *as != "unified" {
						a.printf("# %s\n", part.Device)
					}
					_ = a.exact(part.Rendered)
				}
			})
		})
		if err == nil && p.Against == "running" && !p.Ready && !t.partial {
			err = &exit{status: AnswerNo}
		}
		return err
	}
}

// previewText writes a preview for people.
type previewText struct {
	*app
	whole, people, partial bool
	by, path               string
	offered                int // fixes so far
}

// preview writes what it comes to first, then what is wrong, then the differences, then the details.
func (t *previewText) preview(p wire.Preview) {
	c := p.Change
	head := fmt.Sprintf("%s, by %s", c.State, coworkers(c))
	if c.Ticket != "" {
		head += ", " + c.Ticket
	}
	t.printf("%s  %s\n", t.paint(strong, fmt.Sprintf("Change %d  %s", c.Number, c.Title)), head)
	t.verdict(p)
	for _, n := range c.Notes {
		t.printf("  note of %s, %s: %s\n", n.Actor, when(n.At), n.Text)
	}
	if t.by != "" {
		t.printf("  only what %s staged, by itself\n", t.by)
	}
	for _, part := range p.Parts {
		t.part(part, p.Against, c.Number)
	}
	t.legend(p)
	for _, part := range p.Parts {
		if t.path == "" || part.Count > 0 {
			t.details(part, p)
		}
	}
	t.end(p)
}

// verdict is one line of what it comes to, and then what is wrong.
func (t *previewText) verdict(p wire.Preview) {
	switch {
	case p.Verdict == "":
		return
	case p.Level == "not-ready":
		t.printf("%s\n", t.paint(alarm, p.Verdict))
	default:
		t.printf("%s\n", t.paint(strong, p.Verdict))
	}
	if len(p.Trouble) > 0 {
		t.printf("\n")
	}
	for _, x := range p.Trouble {
		word := t.paint(alarm, "  stops   ")
		if !x.Stops {
			word = "  careful "
		}
		where := x.Device
		if x.Path != "" {
			where += " " + x.Path
		}
		if where != "" {
			where += ": "
		}
		t.printf("%s%s%s\n", word, strings.TrimLeft(where, " "), x.Text)
	}
	for _, part := range p.Parts {
		for _, x := range part.Conflicts {
			t.conflict(x)
			t.printf("    choose one: latch decide %d %s %s mine|theirs\n", p.Change.Number, part.Device, x.Path)
		}
	}
}

// legend tells what the marks that are seen mean.
func (t *previewText) legend(p wire.Preview) {
	seen := map[string]bool{}
	for _, part := range p.Parts {
		for _, l := range part.Lines {
			seen[l.Mark] = true
		}
	}
	var parts []string
	for _, m := range []struct{ mark, says string }{
		{diff.MarkAdded, "added"}, {diff.MarkRemoved, "removed"}, {diff.MarkChanged, "changed"},
		{diff.MarkMoved, "moved"},
	} {
		if seen[m.mark] {
			parts = append(parts, t.paint(markStyle[m.mark], m.mark)+" "+m.says)
		}
	}
	if len(parts) > 0 {
		t.printf("\n  %s; unmarked: unchanged, … more of the same\n", strings.Join(parts, ", "))
	}
}

func (t *previewText) end(p wire.Preview) {
	n := p.Change.Number
	t.traffic(p)
	t.approval(p)
	switch {
	case p.Against == "record":
		t.printf("\nThis is what it did, from the record. How it stands: latch show %d\n", n)
		return
	case len(p.Parts) == 0:
		t.printf("\nNext: latch put %d DEVICE PATH VALUE\n", n)
		return
	case t.partial:
		t.printf("\nThis is a part of the change. The whole: latch preview %d\n", n)
		return
	case p.Empty:
		t.printf("\n%s\n", p.Verdict)
		return
	}
	if len(p.Steps) > 0 {
		t.printf("\nA commit would, in about %s until it is on hold:\n", time.Duration(p.EstimateSeconds)*time.Second)
	}
	for i, s := range p.Steps {
		t.printf("  %d. %s\n", i+1, s)
	}
	if p.Digest != "" {
		t.printf("Preview %s, %s: what is committed is this, or it is refused.\n", p.Digest, when(p.At))
	}
	if p.Ready {
		t.printf("\n%s\nNext: latch commit %d --hold 10m\n", p.Verdict, n)
		return
	}
	t.printf("\n%s\n", t.paint(alarm, p.Verdict))
	for _, part := range p.Parts {
		if part.Blocker != "" {
			t.printf("  %s\n", part.Blocker)
		}
	}
	t.blocked(p)
	if x := p.Approval; x != nil && x.Missing > 0 {
		t.printf(
			"  others have to agree: latch ask %d; they do so with: latch approve %d --preview %s\n", n, n, p.Digest,
		)
	}
}

// part writes what differs on a device.
func (t *previewText) part(p wire.PartPreview, against string, change int64) {
	where := "against running as just read"
	switch {
	case against == "record":
		where = "as committed"
	case !p.Read:
		where = fmt.Sprintf("against what was last known (revision %d)", p.Base)
	}
	t.printf("\n%s  %s\n", t.paint(strong, p.Device), where)
	if len(p.Groups) > 0 && !t.whole {
		t.groups(p.Groups)
		t.printf("  %s; line by line: latch preview %d --whole\n", count(p.Count, "change", "changes"), change)
	} else {
		t.lines(p)
	}
	switch {
	case p.Elsewhere > 0 && p.Count == 0:
		t.printf("  nothing at %s; %s elsewhere\n", t.path, count(p.Elsewhere, "change", "changes"))
	case p.Elsewhere > 0:
		t.printf("  %s more elsewhere than at %s\n", count(p.Elsewhere, "change", "changes"), t.path)
	case p.Count == 0 && against == "record":
		t.printf("  nothing was sent to it yet\n")
	case p.Count == 0:
		t.printf("  nothing would change here\n")
	}
}

// details writes what else there is to know of a device: who staged what, what was found, what keeps guard.
func (t *previewText) details(p wire.PartPreview, of wire.Preview) {
	t.printf("\n%s\n", t.paint(strong, p.Device+", details"))
	t.edits(p.Edits)
	t.base(p, of.Change.Number)
	for _, f := range p.Findings {
		if f.Severity == check.Hint || f.Fix != nil || of.Verdict == "" { // the others were told at the top
			t.finding(f)
		}
		if f.Fix != nil {
			t.offered++
			t.printf("    %s (stage it: latch fix %d %d)\n", fixText(f.Fix), of.Change.Number, t.offered)
		}
	}
	if of.Against != "record" {
		t.verdicts(p)
	}
}

// edits writes the staged edits, those that were superseded in one line unless all is wanted.
func (t *previewText) edits(list []wire.Edit) {
	var old []string
	for _, e := range list {
		if e.Superseded && !t.whole {
			old = append(old, fmt.Sprint(e.ID))
			continue
		}
		t.printf("  %s\n", t.paint(dim, editLine(e)))
	}
	if len(old) > 0 {
		t.printf("  %s\n", t.paint(dim, "superseded by later ones: "+strings.Join(old, ", ")+" (all of it: --whole)"))
	}
}

// lines shows the difference, with who staged each line where that is wanted.
func (t *previewText) lines(p wire.PartPreview) {
	if !t.people {
		t.difference(p.Lines)
		return
	}
	who := map[int64]string{}
	for _, e := range p.Edits {
		who[e.ID] = fmt.Sprintf("%s, edit %d, %s", e.Actor, e.ID, e.At.Local().Format("01-02 15:04 MST"))
	}
	for _, l := range p.Lines {
		text := strings.TrimRight(l.Mark+" "+strings.Repeat("  ", l.Depth)+l.Text, " ")
		if who[l.Edit] == "" {
			t.printf("  %s\n", t.paint(markStyle[l.Mark], text))
			continue
		}
		t.printf("  %s%s\n", t.paint(markStyle[l.Mark], fmt.Sprintf("%-56s", text)), t.paint(dim, "  "+who[l.Edit]))
	}
}

// base tells how the device moved on, and what is to be decided.
func (t *previewText) base(p wire.PartPreview, change int64) {
	if !p.Read {
		t.printf("  %s %s\n", t.paint(alarm, "not reached:"), p.Trouble)
	}
	if p.Behind {
		t.printf(
			"  behind: the device moved on since revision %d, where this started (latch rebase %d %s):\n", p.Base,
			change, p.Device,
		)
		t.difference(p.Moved)
		for _, r := range p.Since {
			t.printf("    %s\n", revisionText(r))
		}
	}
	for _, x := range p.Decided {
		t.printf("  decided by %s, %s: %s\n", x.Actor, when(x.At), x.Path)
		t.conflict(x)
	}
}

func revisionText(r wire.Revision) string {
	text := fmt.Sprintf("revision %d, %s: ", r.Number, when(r.At))
	switch {
	case r.Change != 0:
		return text + fmt.Sprintf("change %d of %s", r.Change, r.Author)
	case r.Source == lifecycle.ByOutside:
		return text + "changed outside of this service; by whom is not known"
	}
	return text + "first read"
}

// forecastStyle paints the answers of the lockout forecast.
var forecastStyle = map[lockout.Answer]string{"keeps": "38;5;37", "cuts": alarm, "unknown": dim}

func (t *previewText) verdicts(p wire.PartPreview) {
	t.effects(p.Effects)
	for i, f := range p.Forecasts {
		what := "lockout forecast"
		if i > 0 {
			what = "way to " + f.Device
		}
		because := f.Because
		if f.Path != "" && !strings.Contains(because, f.Path) {
			because += " (" + f.Path + ")"
		}
		t.printf("  %s: %s: %s\n", what, t.paint(forecastStyle[f.Answer], string(f.Answer)), because)
	}
	if p.MovesTo != "" {
		t.printf("  new management address %s: the hold's proof of management access goes there\n", p.MovesTo)
	}
	switch {
	case p.Tried && p.Said == "":
		t.printf("  the device itself finds the result valid\n")
	case p.Tried:
		t.printf("  %s %s\n", t.paint(alarm, "the device itself says no:"), p.Said)
	case p.Said != "":
		t.printf("  the device %s\n", p.Said)
	}
	if p.Unchecked > 0 && !p.Tried {
		t.printf(
			"  left to the device's own validate: %s (ask it now with --validate)\n",
			count(p.Unchecked, "condition", "conditions"),
		)
		for _, why := range p.Reasons {
			t.printf("    %s\n", t.paint(dim, why))
		}
	}
	if p.Reserved != nil {
		t.printf(
			"  %s by %s until %s: %s\n", t.paint(alarm, "reserved"), p.Reserved.Holder, when(p.Reserved.Until),
			p.Reserved.Reason,
		)
	}
	if p.HeldBy != 0 {
		t.printf("  %s: the commit of change %d is under way on it\n", t.paint(alarm, "busy"), p.HeldBy)
	}
	if p.Unsaved {
		t.printf("  note: running here is not saved to startup; see it with: latch device save %s\n", p.Device)
	}
	t.printf("  guard: %s\n", guardText(p.Guard))
	if p.Untried != "" && p.Count > 0 {
		t.printf("  %s %s\n", t.paint(alarm, "revert not tested:"), p.Untried)
	}
	if p.Helpless {
		t.printf(
			"  %s it would be cut off, and nobody could revert it; a commit must say so: --cut-off %s\n",
			t.paint(alarm, "warning:"), p.Device,
		)
	}
}

// paged shows what a command writes through a pager, where there is a terminal
// and more to read than fits it.
func (a *app) paged(write func() error) error {
	if !a.tty || a.asJSON {
		return write()
	}
	out := a.out
	var held strings.Builder
	a.out = &held
	err := write()
	a.out = out
	if perr := a.page(held.String()); perr != nil && err == nil {
		err = perr
	}
	return err
}
