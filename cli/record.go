package cli

import (
	"flag"
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"time"

	"oakenlatch/client"
	"oakenlatch/core/clip"
	"oakenlatch/wire"
)

func commits(a *app, fs *flag.FlagSet) func([]string) error {
	who := fs.String("who", "", "those this person staged, committed or confirmed")
	device := fs.String("device", "", "those on this device")
	change := fs.Int64("change", 0, "those of this change")
	path := fs.String("path", "", "those that made a difference at this path or below")
	since := fs.String("since", "", "begun since: 7d, 02:00, 2026-11-20")
	until := fs.String("until", "", "begun until")
	before := fs.Int64("before", 0, "only those before this one, for the next page")
	limit := fs.Int("limit", 40, "at most so many, up to 500")
	return func([]string) error {
		if *limit < 1 {
			return wrongUse("--limit is from 1 to 500")
		}
		page, err := a.api().ListCommits(a.ctx, client.ListCommitsQuery{
			Who: *who, Device: *device, Change: *change, Since: *since, Until: *until, Limit: int64(*limit),
			Before: *before, Path: *path,
		})
		if err != nil {
			return err
		}
		return a.show(page, func() {
			rows := make([][]string, len(page.Commits))
			for i, c := range page.Commits {
				rows[i] = []string{
					fmt.Sprint(c.Number), when(c.Started), took(c), outcomeText(c), perDevice(c),
					strings.Join(c.Devices, ","), clip.Line(fmt.Sprintf("%d %s", c.Change, c.Title), 50),
				}
			}
			a.table(
				[]string{"COMMIT", "BEGAN", "TOOK", "OUTCOME", "STAGED / COMMITTED / CONFIRMED", "DEVICES", "CHANGE"},
				rows,
			)
			switch {
			case page.Next != 0:
				a.printf("Older ones: the same, with --before %d\n", page.Next)
			case len(rows) == 0:
				a.printf("Nothing was committed.\n")
			}
		})
	}
}

func took(c wire.CommitRecord) string {
	if c.Ended.IsZero() {
		return "…"
	}
	return spell(time.Duration(c.Seconds * float64(time.Second)).Round(time.Second))
}

func outcomeText(c wire.CommitRecord) string {
	if c.Outcome == "" {
		return "not decided"
	}
	return string(c.Outcome)
}

// perDevice is who staged, committed and confirmed.
func perDevice(c wire.CommitRecord) string {
	confirmed := c.Confirmed
	if confirmed == "" {
		confirmed = "–"
	}
	return strings.Join(c.Staged, "+") + " / " + c.Committed + " / " + confirmed
}

func commitShow(a *app, fs *flag.FlagSet) func([]string) error {
	context := fs.Int("context", 1, "unchanged neighbours shown around each line")
	path := fs.String("path", "", "only what differs at this path or below")
	return func(args []string) error {
		commit, err := numbered("a commit", args[0], "latch commits")
		if err != nil {
			return err
		}
		c, err := a.api().GetCommit(a.ctx, commit, client.GetCommitQuery{Context: context, Path: *path})
		if err != nil {
			return err
		}
		return a.show(c, func() { a.commitRecord(c) })
	}
}

func (a *app) commitRecord(c wire.CommitRecord) {
	a.printf(
		"%s  %s\n", a.paint(strong, fmt.Sprintf("Commit %d of change %d: %s", c.Number, c.Change, c.Title)),
		outcomeText(c),
	)
	for _, row := range [][2]string{
		{"because", c.Reason}, {"ticket", c.Ticket}, {"staged", strings.Join(c.Staged, ", ")},
		{"committed", c.Committed + ", " + when(c.Started)}, {"confirmed", c.Confirmed},
		{"took", took(c) + fmt.Sprintf(", hold %s", spell(time.Duration(c.Hold)*time.Second))},
		{"devices", strings.Join(c.Devices, ", ")},
	} {
		if row[1] != "" {
			a.printf("  %-10s %s\n", row[0], row[1])
		}
	}
	for _, n := range c.Notes {
		a.printf("  note by %s, %s: %s\n", n.Actor, when(n.At), strings.ReplaceAll(n.Text, "\n", "\n      "))
	}
	for _, p := range c.Parts {
		a.printf("\n%s  %s\n", a.paint(strong, p.Device), count(p.Count, "place", "places"))
		a.difference(p.Lines)
	}
	if len(c.Steps) > 0 {
		a.printf("\nSteps\n")
		rows := make([][]string, len(c.Steps))
		for i, e := range c.Steps {
			rows[i] = []string{
				"  " + e.At.UTC().Format("15:04:05.000"), e.Actor, e.Action, e.Device,
				clip.Line(whatText(e), 90),
			}
		}
		a.table([]string{"  AT (UTC)", "WHO", "WHAT", "DEVICE", "DETAIL"}, rows)
	}
	if len(c.Devices) > 0 {
		a.printf("\nCompare it with now: latch compare %s@change:%d %s@running\n", c.Devices[0], c.Change, c.Devices[0])
	}
}

// reportTo takes a report into a file; its form is told by the file's name.
func (a *app) reportTo(file, form string, take func(form string) (*client.Download, error)) error {
	if form == "" {
		form = strings.TrimPrefix(strings.ToLower(filepath.Ext(file)), ".")
	}
	if form == "htm" {
		form = "html"
	}
	if form != "pdf" && form != "html" {
		return wrongUse("name the file .pdf or .html, or say --format")
	}
	res, err := take(form)
	if err != nil {
		return err
	}
	defer func() { _ = res.Body.Close() }()
	if file == "-" {
		_, err = io.Copy(a.exactly(), res.Body)
		return err
	}
	n, err := a.keepFile(file, res.Body)
	if err == nil {
		a.printf("%s: %d bytes.\n", file, n)
	}
	return err
}

func reportChange(a *app, fs *flag.FlagSet) func([]string) error {
	form := fs.String("format", "", "pdf or html, where the file's name does not say")
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		return a.reportTo(args[1], *form, func(form string) (*client.Download, error) {
			return a.api().ChangeReport(a.ctx, n, client.ChangeReportQuery{Format: form})
		})
	}
}

func reportSpan(a *app, fs *flag.FlagSet) func([]string) error {
	form := fs.String("format", "", "pdf or html, where the file's name does not say")
	since := fs.String("since", "7d", "from when on: 7d, 02:00, 2026-11-20")
	until := fs.String("until", "", "until when; now if left out")
	device := fs.String("device", "", "of this device")
	who := fs.String("who", "", "of this person")
	return func(args []string) error {
		return a.reportTo(args[0], *form, func(form string) (*client.Download, error) {
			return a.api().PeriodReport(a.ctx, client.PeriodReportQuery{
				Since: *since, Until: *until, Device: *device, Who: *who, Format: form,
			})
		})
	}
}
