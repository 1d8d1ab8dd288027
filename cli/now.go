package cli

import (
	"errors"
	"flag"
	"fmt"
	"strings"
	"time"

	"oakenlatch/client"
	"oakenlatch/core/clip"
	"oakenlatch/core/ledger"
	"oakenlatch/wire"
)

// pile is what waits for one kind of decision.
type pile struct {
	title string
	rows  []string
	next  string // what is done about it
}

func now(a *app, _ *flag.FlagSet) func([]string) error {
	return func([]string) error {
		doc, err := a.api().Attention(a.ctx)
		if err != nil {
			return err
		}
		return a.show(doc, func() {
			if doc.Records != "" {
				a.printf("%s\n", a.paint(alarm, "Nothing new can be begun: "+doc.Records))
			}
			waits := doc.Records != ""
			for _, p := range pilesOf(doc) {
				if len(p.rows) == 0 {
					continue
				}
				waits = true
				a.printf("%s\n", a.paint(strong, p.title))
				for _, r := range p.rows {
					a.printf("  %s\n", clip.Line(r, 300))
				}
				a.printf("  %s\n", a.paint(dim, "Next: "+p.next))
			}
			if !waits {
				a.printf("Nothing waits for you: no hold runs, every device answers and is saved.\n")
			}
		})
	}
}

// pilesOf gathers what waits, the most pressing first.
func pilesOf(doc wire.Attention) []pile {
	return []pile{
		{"On hold", each(doc.Holding, heldText), "latch confirm CHANGE, latch extend CHANGE or latch revert CHANGE"},
		{"Unsettled after a restore", each(doc.Unsettled, changeText), "latch settle CHANGE"},
		{
			"On hold once, and lost",
			each(doc.LostHolds, func(h wire.LostHold) string {
				return fmt.Sprintf("change %d %s, by %s, until %s", h.Change, h.Title, h.By, when(h.Until))
			}),
			"look at its devices, then say so in the console",
		},
		{
			"The record was altered",
			each(doc.Denied, func(w wire.Witness) string { return w.Name + ": " + w.Trouble }), "latch audit verify",
		},
		{"Damaged in the records", doc.Damaged, "what each line says"},
		{
			"Emergencies to be looked at",
			each(doc.Emergencies, func(e wire.Emergency) string {
				return fmt.Sprintf("%d: change %d %s, by %s: %s", e.Number, e.Change, e.Title, e.Actor, e.Reason)
			}),
			"latch emergency review NUMBER TEXT",
		},
		{
			"Proposed",
			each(doc.Proposals, func(p wire.Proposal) string {
				return fmt.Sprintf("%d: %s proposes: %s", p.Number, p.Actor, p.Says)
			}),
			"latch proposal agree NUMBER",
		},
		{"To be approved", each(doc.Approve, changeText), "latch preview CHANGE, then latch approve CHANGE"},
		{
			"On the schedule",
			each(doc.Scheduled, func(d wire.Scheduled) string {
				return fmt.Sprintf("%s: %s on %s, by %s", when(d.At), d.Kind, strings.Join(d.Devices, ", "), d.Actor)
			}),
			"latch schedule",
		},
		{
			"Changed outside",
			each(doc.Outside, func(o wire.Outside) string {
				return fmt.Sprintf(
					"%d: %s, %s, %s, found %s", o.Number, o.Device, count(o.Places, "place", "places"), o.Who,
					when(o.Found),
				)
			}),
			"latch outside show NUMBER",
		},
		{"Trouble", each(doc.Trouble, troubleText), "latch device show DEVICE"},
		{"Not saved to startup", each(doc.Unsaved, nameOf), "latch device save DEVICE"},
		{
			"Archives",
			each(doc.Archives, func(x wire.Archive) string { return strings.TrimSpace(x.Name + " " + x.Trouble) }),
			"latch archive list",
		},
		{
			"Not copied", each(doc.Uncopied, func(s wire.Standing) string { return s.Device }), "latch backups",
		},
		{
			"Not told",
			each(doc.Untold, func(r wire.Receiver) string {
				return fmt.Sprintf("%s: %s, %d behind", r.Name, r.Trouble, r.Behind)
			}),
			"latch receiver list",
		},
		{
			"Reserved",
			each(doc.Reserved, func(r wire.Reservation) string {
				return fmt.Sprintf("%s by %s until %s: %s", r.Device, r.Holder, when(r.Until), r.Reason)
			}),
			"latch reserve ask DEVICE TEXT",
		},
		{"Your drafts", each(doc.Drafts, changeText), "latch preview CHANGE"},
	}
}

func each[T any](list []T, text func(T) string) []string {
	out := make([]string, len(list))
	for i, x := range list {
		out[i] = text(x)
	}
	return out
}

func changeText(c wire.Change) string {
	on := strings.Join(c.Devices, ", ")
	if on == "" {
		on = "no device yet"
	}
	return fmt.Sprintf("change %d %s, by %s, on %s", c.Number, c.Title, c.Author, on)
}

func heldText(c wire.Change) string {
	text := changeText(c)
	if c.Commit != nil && !c.Commit.Deadline.IsZero() {
		text += ": reverted at " + when(c.Commit.Deadline) + " unless somebody confirms"
	}
	return text
}

func nameOf(d wire.Device) string { return d.Name }

func troubleText(d wire.Device) string {
	if d.Trouble == "" {
		return d.Name + ": its host key has not been accepted yet"
	}
	return d.Name + ": " + d.Trouble
}

// watchAll tells what happens, as it happens, until it is interrupted. A stream that breaks is gone on from where it
// broke. Who may not audit is told that something moved, and where.
func (a *app) watchAll() error {
	last, begun, wait := "", false, glance
	for {
		for e, err := range a.api().Events(a.ctx, last) {
			if a.ctx.Err() != nil {
				return a.ctx.Err()
			}
			var gone *client.Unreachable
			if err != nil && (!begun || !errors.As(err, &gone)) {
				return err // it never began, or is refused by now
			}
			if err != nil {
				lost := ""
				if last == "" {
					lost = "; what happens meanwhile is not told"
				}
				_, _ = fmt.Fprintf(a.err, "latch: %v; trying again%s\n", err, lost)
				break
			}
			begun, wait = true, glance
			if e.ID != "" {
				last = e.ID
			}
			if err := a.happened(e); err != nil {
				return err
			}
		}
		select {
		case <-a.ctx.Done():
			return a.ctx.Err()
		case <-time.After(wait):
			wait = min(2*wait, longest)
		}
	}
}

// happened writes what one event tells.
func (a *app) happened(e client.Event) error {
	if e.Kind != "entry" && e.Kind != "moved" {
		return nil
	}
	if a.asJSON {
		return a.exact(string(e.Data) + "\n")
	}
	var entry ledger.Entry
	err := e.Read(&entry)
	if e.Kind == "moved" {
		var m wire.Moved
		err = e.Read(&m)
		entry = ledger.Entry{At: m.At, Actor: "–", Action: m.About, Device: m.Device, Change: m.Change}
	}
	if err != nil {
		return err
	}
	about := strings.TrimSpace(entry.Device + " " + changeNamed(entry.Change))
	a.printf(
		"%s  %-10s %-22s %-24s %s\n", entry.At.Local().Format("15:04:05 MST"), entry.Actor, entry.Action, about,
		clip.Line(whatText(entry), 120),
	)
	return nil
}

// longest is how long a stream that broke is waited for between two tries, at most.
const longest = 5 * time.Second

func changeNamed(n int64) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("change %d", n)
}
