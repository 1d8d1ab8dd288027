package cli

import (
	"flag"
	"fmt"
	"strconv"
	"strings"
	"time"

	"oakenlatch/core/clip"
	"oakenlatch/core/lifecycle"
	"oakenlatch/wire"
)

// scheduleCommit puts a commit on the schedule.
func (a *app) scheduleCommit(n int64, in wire.NewCommit, d *scheduleFlags) error {
	due, err := d.due(time.Now())
	if err != nil {
		return err
	}
	due.Commit = &in
	out, err := a.api().ScheduleCommit(a.ctx, n, due)
	if err != nil {
		return err
	}
	return a.show(out, func() {
		a.printf(
			"Change %d was checked and is on the schedule: it goes on hold at %s, in %s.\n", n,
			whenIn(out.At, out.Zone), spell(time.Until(out.At)),
		)
		a.printf(
			"It is checked again then; if the devices have moved on in the same places it is not begun. If the "+
				"service is down then, it may begin up to %s late.\n",
			spell(time.Duration(out.LatenessSeconds)*time.Second),
		)
		a.clocks(out.Clocks)
		a.printf("Take it off: latch unschedule %d    All: latch schedule\n", n)
	})
}

// clocks tells of devices' clocks that are off, or not known.
func (a *app) clocks(list []wire.Clock) {
	for _, c := range list {
		switch {
		case c.Trouble != "":
			a.printf("  clock of %s: not known: %s\n", c.Device, c.Trouble)
		case c.Off:
			a.printf("  %s of %s: %s\n", a.paint(alarm, "clock"), c.Device, clockText(c))
		}
	}
}

func clockText(c wire.Clock) string {
	ahead := time.Duration(c.AheadSeconds * float64(time.Second)).Round(time.Second)
	switch {
	case ahead == 0:
		return "right to the second"
	case ahead > 0:
		return spell(ahead) + " ahead of this service's"
	}
	return spell(-ahead) + " behind this service's"
}

func schedule(a *app, fs *flag.FlagSet) func([]string) error {
	all := fs.Bool("all", false, "also what is over: begun, missed, stopped, cancelled")
	return func([]string) error {
		list, err := a.api().ListSchedule(a.ctx)
		if err != nil {
			return err
		}
		if !*all {
			var waiting []wire.Scheduled
			for _, d := range list {
				if d.State == lifecycle.Waiting {
					waiting = append(waiting, d)
				}
			}
			list = waiting
		}
		return a.show(list, func() {
			rows := make([][]string, len(list))
			for i, d := range list {
				what := fmt.Sprintf("commit change %d: %s", d.Change, d.Title)
				if d.Kind == lifecycle.ScheduledRestart {
					what = "restart"
				}
				state := string(d.State)
				if d.State == lifecycle.Waiting {
					state = "in " + spell(time.Until(d.At))
				}
				rows[i] = []string{
					whenIn(d.At, d.Zone), clip.Line(what, 50), strings.Join(d.Devices, ", "), d.Actor, state,
					clip.Line(d.Note, 80),
				}
			}
			a.table([]string{"AT", "WHAT", "DEVICES", "BY", "STATE", ""}, rows)
			if len(list) == 0 {
				a.printf("Nothing waits on the schedule. Put something there: latch commit CHANGE --at TIME\n")
			}
		})
	}
}

func unschedule(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		list, err := a.api().ListSchedule(a.ctx)
		if err != nil {
			return err
		}
		n, err := strconv.ParseInt(args[0], 10, 64)
		for _, d := range list {
			fits := err == nil && d.Kind == lifecycle.ScheduledCommit && d.Change == n ||
				err != nil && d.Kind == lifecycle.ScheduledRestart && d.Devices[0] == args[0]
			if d.State != lifecycle.Waiting || !fits {
				continue
			}
			if err := a.api().Unschedule(a.ctx, d.ID); err != nil {
				return err
			}
			return a.show(d, func() {
				if d.Kind == lifecycle.ScheduledRestart {
					a.printf("The restart of %s is off the schedule.\n", args[0])
					return
				}
				a.printf("Change %d is off the schedule and a draft again.\n", d.Change)
			})
		}
		return &exit{Refused, fmt.Errorf("nothing of %s waits on the schedule; see latch schedule", args[0])}
	}
}
