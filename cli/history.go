package cli

import (
	"cmp"
	"flag"
	"fmt"
	"strings"
	"time"

	"oakenlatch/client"
	"oakenlatch/core/clip"
	"oakenlatch/core/diff"
	"oakenlatch/core/lifecycle"
	"oakenlatch/wire"
)

// past reads a time that was: like moment, or so long ago (2d, 90m).
func past(text string, now time.Time) (time.Time, error) {
	if d, err := parseSpan(text); err == nil && d >= 0 {
		return now.Add(-d), nil
	}
	at, err := moment(text, now.Location(), now)
	if err != nil {
		return at, fmt.Errorf(
			"%q is no time; write it like 2d (ago), 02:00, \"2026-11-20 02:00\" or 2026-11-20T02:00:00Z", text,
		)
	}
	for at.After(now) && !strings.Contains(text, "-") { // a time of day: the last one
		at = at.AddDate(0, 0, -1)
	}
	return at, nil
}

// revisionCause tells what made a revision, and who, as far as is known.
func revisionCause(r wire.Revision) string {
	switch r.Source {
	case lifecycle.ByChange:
		text := fmt.Sprintf("change %d: %s", r.Change, r.Title)
		if r.Ticket != "" {
			text += " (" + r.Ticket + ")"
		}
		return text
	case lifecycle.ByOutside:
		return "changed outside of this service"
	case lifecycle.BySave:
		if r.Change != 0 {
			return fmt.Sprintf("saved with change %d", r.Change)
		}
		return "saved"
	case lifecycle.ByReplaced:
		return "another box was put in its place"
	case lifecycle.ByRebuilt:
		return strings.TrimSuffix("rebuilt from an archive: "+r.Note, ": ")
	}
	return "first read"
}

// revisionWho tells whose a revision is.
func revisionWho(r wire.Revision) string {
	switch {
	case r.Author != "" && r.Actor != "" && r.Author != r.Actor:
		return r.Author + ", committed by " + r.Actor
	case r.Author != "":
		return r.Author
	case r.Actor != "":
		return r.Actor
	case r.Source == lifecycle.ByOutside:
		return "not known"
	}
	return ""
}

func revisions(a *app, fs *flag.FlagSet) func([]string) error {
	startup := fs.Bool("startup", false, "those of its startup instead of running")
	limit := fs.Int("limit", 40, "at most so many; 0 for all")
	return func(args []string) error {
		line, place := "running", "rev"
		if *startup {
			line, place = "startup", "startup"
		}
		list, err := a.api().ListRevisions(a.ctx, args[0], client.ListRevisionsQuery{Line: line})
		if err != nil {
			return err
		}
		return a.show(list, func() {
			var rows [][]string
			for i, r := range list {
				if *limit > 0 && i == *limit {
					break
				}
				rows = append(
					rows,
					[]string{
						fmt.Sprintf("%s:%d", place, r.Number), when(r.At), revisionWho(r),
						clip.Line(revisionCause(r), 80),
					},
				)
			}
			a.table([]string{"PLACE", "SINCE", "WHO", "CAUSE"}, rows)
			switch {
			case len(list) == 0:
				a.printf("Nothing of %s is on record as %s.\n", args[0], line)
			case len(rows) < len(list):
				a.printf("And %s older: --limit 0 shows all.\n", count(len(list)-len(rows), "revision", "revisions"))
			}
			if len(list) > 1 {
				a.printf(
					"See what one changed: latch compare %s@%s:%d %s@%s:%d\n", args[0], place, list[1].Number, args[0],
					place, list[0].Number,
				)
			}
		})
	}
}

// momentMark stands beside a moment of the timeline.
var momentMark = map[lifecycle.MomentKind]string{
	lifecycle.MomentChange: "✓", lifecycle.MomentOutside: "!", lifecycle.MomentFirst: "·",
	lifecycle.MomentReplaced: "⇄", lifecycle.MomentRebuilt: "⇄", lifecycle.MomentSaved: "s",
	lifecycle.MomentSavedOutside: "!", lifecycle.MomentSnapshot: "#", lifecycle.MomentReverted: "↩",
	lifecycle.MomentFailed: "×", lifecycle.MomentPartly: "≠", lifecycle.MomentHolding: "…",
}

func timeline(a *app, fs *flag.FlagSet) func([]string) error {
	limit := fs.Int("limit", 60, "at most so many; 0 for all")
	return func(args []string) error {
		list, err := a.api().DeviceTimeline(a.ctx, args[0])
		if err != nil {
			return err
		}
		return a.show(list, func() {
			day := ""
			for i, m := range list {
				if *limit > 0 && i == *limit {
					a.printf("And %d older: --limit 0 shows all.\n", len(list)-i)
					break
				}
				if d := m.At.Local().Format("Monday 2006-01-02 MST"); d != day {
					day = d
					a.printf("%s\n", a.paint(strong, day))
				}
				a.printf("  %s %s %s\n", m.At.Local().Format("15:04:05"), momentMark[m.Kind], momentText(m))
			}
		})
	}
}

func momentText(m wire.Moment) string {
	text := m.Text
	switch m.Kind {
	case lifecycle.MomentChange:
		text = fmt.Sprintf("revision %d, change %d: %s", m.Revision, m.Change, m.Text)
	case lifecycle.MomentOutside, lifecycle.MomentFirst, lifecycle.MomentReplaced, lifecycle.MomentRebuilt:
		text = fmt.Sprintf("revision %d, %s", m.Revision, m.Text)
	case lifecycle.MomentSaved, lifecycle.MomentSavedOutside:
		text = fmt.Sprintf("%s (startup %d)", m.Text, m.Startup)
	case lifecycle.MomentSnapshot:
		text = fmt.Sprintf("snapshot %d: %s", m.Snapshot, m.Text)
	case lifecycle.MomentReverted, lifecycle.MomentFailed, lifecycle.MomentPartly:
		text = fmt.Sprintf("change %d %s: %s", m.Change, m.Kind, m.Text)
	case lifecycle.MomentHolding:
		text = fmt.Sprintf("change %d is being committed: %s", m.Change, m.Text)
	}
	if m.Actor != "" {
		text += ", " + m.Actor
	}
	return text
}

func pathArg(args []string) string {
	if len(args) == 2 {
		return args[1]
	}
	return ""
}

func blameLines(a *app, fs *flag.FlagSet) func([]string) error {
	gone := fs.Bool("gone", false, "what was removed instead, and by whom")
	return func(args []string) error {
		b, err := a.api().Blame(a.ctx, args[0], client.BlameQuery{Path: pathArg(args)})
		if err != nil {
			return err
		}
		return a.paged(func() error {
			return a.show(b, func() {
				by := map[int64]wire.Revision{}
				for _, r := range b.Revisions {
					by[r.Number] = r
				}
				if *gone {
					a.gone(b, by)
					return
				}
				for _, l := range b.Lines {
					left := ""
					if l.Revision != 0 {
						left = blameText(by[l.Revision])
					}
					a.printf(
						"%s %s%s\n", a.paint(dim, fill(left, blameWidth)+" │"), strings.Repeat("  ", l.Depth), l.Text,
					)
				}
				if n := len(b.Gone); n > 0 {
					a.printf(
						"%s removed since the first revision and not there any more: latch blame %s %s --gone\n",
						count(n, "place was", "places were"), args[0], b.Path,
					)
				}
			})
		})
	}
}

// blameText is the column beside a line: revision, when, who, change, ticket.
func blameText(r wire.Revision) string {
	who := cmp.Or(r.Author, r.Actor)
	if who == "" {
		who = map[lifecycle.Cause]string{
			lifecycle.ByOutside: "outside", lifecycle.FirstRead: "first read", lifecycle.ByReplaced: "new box",
			lifecycle.ByRebuilt: "archive",
		}[r.Source]
	}
	text := fmt.Sprintf("rev %d  %s  %s", r.Number, r.At.Local().Format("2006-01-02 15:04 MST"), who)
	if r.Change != 0 {
		text += fmt.Sprintf("  change %d", r.Change)
	}
	if r.Ticket != "" {
		text += " " + r.Ticket
	}
	if r.Note != "" {
		text += "  " + r.Note
	}
	return clip.To(text, blameWidth)
}

// blameWidth is how wide the column beside the lines is.
const blameWidth = 58

func (a *app) gone(b wire.Blame, by map[int64]wire.Revision) {
	if len(b.Gone) == 0 {
		a.printf("Nothing was removed at %s of %s that is not there again.\n", b.Path, b.Device)
	}
	for _, g := range b.Gone {
		r := by[g.Revision]
		a.printf(
			"%s\n    removed by %s, %s, %s\n", a.paint(markStyle[diff.MarkRemoved], "− "+g.Path), revisionCause(r),
			revisionWho(r), when(r.At),
		)
		for i, l := range strings.Split(g.Was, "\n") {
			if i == 8 {
				a.printf("        …\n")
				break
			}
			a.printf("        %s\n", l)
		}
		a.printf("    bring it back: latch restore %s rev:%d --path %s\n", b.Device, g.Revision-1, g.Path)
	}
}

func life(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		l, err := a.api().PathHistory(a.ctx, args[0], client.PathHistoryQuery{Path: args[1]})
		if err != nil {
			return err
		}
		return a.show(l, func() {
			by := map[int64]wire.Revision{}
			for _, r := range l.Revisions {
				by[r.Number] = r
			}
			a.printf("%s of %s\n", l.Path, l.Device)
			for _, e := range l.Events {
				r := by[e.Revision]
				text := ""
				switch e.Kind {
				case diff.Added:
					text = clip.Line(e.New, 100)
				case diff.Removed:
					text = clip.Line(e.Old, 100) + " (gone)"
				case diff.Changed:
					text = clip.Line(e.Old, 60) + " → " + clip.Line(e.New, 60)
				case diff.Moved:
					text = "moved to another place"
				}
				if e.Path != l.Path {
					text = strings.TrimPrefix(e.Path, l.Path) + ": " + text
				}
				mark := kindMark[e.Kind]
				a.printf(
					"  rev %-5d %s  %s\n            %s, %s\n", e.Revision, when(r.At),
					a.paint(markStyle[mark], mark+" "+text), revisionCause(r), orUnknown(revisionWho(r)),
				)
			}
			if l.Now == "" {
				a.printf("It is not there now.\n")
			}
		})
	}
}

func orUnknown(who string) string {
	if who == "" {
		return "by whom is not known"
	}
	return who
}

func moved(a *app, fs *flag.FlagSet) func([]string) error {
	site := fs.String("site", "", "the devices of this site only")
	devices := fs.String("device", "", "these devices only, with commas")
	return func(args []string) error {
		to := ""
		if len(args) == 2 {
			to = args[1]
		}
		f, err := a.api().CompareFleet(
			a.ctx,
			client.CompareFleetQuery{From: args[0], To: to, Site: *site, Device: *devices},
		)
		if err != nil {
			return err
		}
		err = a.show(f, func() {
			var rows [][]string
			unknown := 0
			for _, d := range f.Devices {
				if d.Trouble != "" {
					unknown++
					rows = append(rows, []string{d.Device, d.Site, "?", "?", "?", "?", d.Trouble})
					continue
				}
				var why []string
				for _, n := range d.Changes {
					why = append(why, fmt.Sprintf("change %d", n))
				}
				if d.Outside > 0 {
					why = append(why, count(d.Outside, "outside change", "outside changes"))
				}
				rows = append(
					rows,
					[]string{
						d.Device, d.Site, fmt.Sprint(d.Added), fmt.Sprint(d.Removed), fmt.Sprint(d.Changed),
						fmt.Sprint(d.Moved), strings.Join(why, ", ") + "; first " + d.First,
					},
				)
			}
			a.table([]string{"DEVICE", "SITE", "ADDED", "REMOVED", "CHANGED", "MOVED", "BY"}, rows)
			sum := count(len(f.Devices)-unknown, "device differs", "devices differ")
			if unknown > 0 {
				sum += fmt.Sprintf(", %d cannot be compared", unknown)
			}
			a.printf("From %s to %s: %s, %d the same.\n", f.From, f.To, sum, f.Same)
			for _, d := range f.Devices {
				if d.Trouble == "" {
					a.printf("Open one: latch compare %s %s\n", quoted(d.Open[0]), quoted(d.Open[1]))
					break
				}
			}
		})
		if err == nil && len(f.Devices) > 0 {
			err = &exit{status: AnswerNo}
		}
		return err
	}
}

// quoted writes an argument so that a shell takes it whole.
func quoted(arg string) string {
	if strings.ContainsAny(arg, " '\"\\$`!*?[](){};&|<>~#") {
		return "'" + strings.ReplaceAll(arg, "'", `'\''`) + "'"
	}
	return arg
}

// bringFlags are those of what stages something brought back.
type bringFlags struct {
	change        *int64
	title, ticket *string
	paths         list
}

func (a *app) bringFlags(fs *flag.FlagSet) *bringFlags {
	b := &bringFlags{
		title:  fs.String("title", "", "title of the change it opens; made up if left out"),
		ticket: fs.String("ticket", "", "ticket of that change"),
	}
	fs.Var(&b.paths, "path", "only what is at this path; may be given several times")
	return b
}

func restore(a *app, fs *flag.FlagSet) func([]string) error {
	b := a.bringFlags(fs)
	b.change = fs.Int64("change", 0, "stage it in this change instead of opening one")
	all := fs.Bool("all", false, "with a snapshot: all devices that it holds")
	return func(args []string) error {
		in := wire.NewRestore{Change: *b.change, Title: *b.title, Ticket: *b.ticket, Paths: b.paths}
		switch {
		case *all && len(args) == 1:
			in.From = args[0]
		case len(args) == 2 && !*all:
			in.Devices, in.From = strings.Split(args[0], ","), args[1]
		default:
			return wrongUse("give DEVICE and a place, or a snapshot with --all; see latch restore --help")
		}
		out, err := a.api().RestoreConfiguration(a.ctx, in)
		if err != nil {
			return err
		}
		return a.brought(out)
	}
}

func undo(a *app, fs *flag.FlagSet) func([]string) error {
	b := a.bringFlags(fs)
	devices := fs.String("device", "", "on these devices only, with commas")
	by := fs.String("by", "", "instead of a change: all changes of this person that were confirmed")
	since := fs.String("since", "", "with --by: from then on: 2d (ago), 02:00 or \"2026-11-20 02:00\"")
	until := fs.String("until", "", "with --by: up to then; now if left out")
	return func(args []string) error {
		in := wire.NewUndo{By: *by, Title: *b.title, Ticket: *b.ticket, Paths: b.paths}
		if *devices != "" {
			in.Devices = strings.Split(*devices, ",")
		}
		if len(args) == 1 {
			n, err := changeNumber(args[0])
			if err != nil {
				return err
			}
			in.Change = n
		}
		if (in.Change == 0) == (in.By == "") {
			return wrongUse("give a change, or --by PERSON --since TIME")
		}
		for _, t := range []struct {
			text string
			into *time.Time
		}{{*since, &in.Since}, {*until, &in.Until}} {
			if t.text == "" {
				continue
			}
			at, err := past(t.text, time.Now())
			if err != nil {
				return wrongUse("%v", err)
			}
			*t.into = at.UTC()
		}
		if in.By != "" && in.Since.IsZero() {
			return wrongUse("say since when: --since 2d")
		}
		out, err := a.api().Undo(a.ctx, in)
		if err != nil {
			return err
		}
		return a.brought(out)
	}
}

// brought tells what a restore or an undo came to.
func (a *app) brought(out wire.BroughtBack) error {
	err := a.show(out, func() {
		for _, p := range out.Parts {
			a.printf("%s\n", a.paint(strong, p.Device))
			a.difference(p.Lines)
			for _, n := range p.Notes {
				a.printf("  %s\n", n)
			}
			for _, l := range p.Left {
				a.printf(
					"  %s %s: change %d made it %s, it was set again since: it is %s now, and stays so (it was "+
						"%s before)\n",
					a.paint(alarm, "left as it is"), l.Path, l.Change, orAbsent(l.Made), orAbsent(l.Now),
					orAbsent(l.Before),
				)
			}
			if len(p.Takes) > 0 {
				a.printf("  %s\n", a.paint(alarm, "later work that this takes away:"))
			}
			for _, l := range p.Takes {
				what := "changed outside of this service"
				if l.Change != 0 {
					what = fmt.Sprintf("change %d of %s: %s", l.Change, l.Author, l.Title)
				}
				a.printf(
					"    revision %d, %s, %s: %s\n", l.Revision, when(l.At), what, count(l.Places, "place", "places"),
				)
			}
		}
		if out.Change == 0 {
			a.printf("There is nothing to do: it is so already. No change was opened.\n")
			return
		}
		a.printf(
			"Staged in change %d: %s. Nothing reached a device.\nNext: latch preview %d\n", out.Change, out.Title,
			out.Change,
		)
	})
	if err == nil && out.Change == 0 {
		err = &exit{status: AnswerNo}
	}
	return err
}

func orAbsent(text string) string {
	if text == "" {
		return "absent"
	}
	return clip.Line(text, 60)
}
