package cli

import (
	"flag"
	"fmt"
	"slices"
	"strings"

	"oakenlatch/core/lifecycle"
	"oakenlatch/wire"
)

// settle shows what the devices hold of a change that was under way when the backup was taken
// that the records come from, and carries out what a person says of them.
func settle(a *app, fs *flag.FlagSet) func([]string) error {
	keep := fs.Bool("accept", false,
		"accept the devices as they are: confirmed, reverted or neither, as they are found")
	back := fs.Bool(
		"revert", false, "open a change that undoes it, to be previewed and committed like any other",
	)
	looked := fs.Bool("looked", false, "of a hold that the records know nothing of: its devices were looked at")
	yes := fs.Bool("yes", false, "do not ask")
	return func(args []string) error {
		if len(args) == 0 {
			if *keep || *back || *looked {
				return wrongUse("which change? See what is to be settled with: latch settle")
			}
			return a.toSettle()
		}
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		devices := args[1:]
		switch {
		case *keep && *back || *looked && (*keep || *back || len(devices) > 0):
			return wrongUse("one of --accept, --revert and --looked; --looked names no device")
		case *looked:
			if err := a.api().DropLostHold(a.ctx, n); err != nil {
				return err
			}
			return a.show(
				map[string]int64{"looked": n},
				func() { a.printf("The hold of change %d is off the list; the record says so.\n", n) },
			)
		case *back:
			out, err := a.api().Undo(
				a.ctx,
				wire.NewUndo{Change: n, Devices: devices, Title: fmt.Sprintf("Revert change %d after a restore", n)},
			)
			if err != nil {
				return err
			}
			if err := a.brought(out); err != nil || a.asJSON {
				return err
			}
			a.printf("When that is confirmed, settle it: latch settle %d --accept\n", n)
			return nil
		}
		list, err := a.api().ListUnsettled(a.ctx, n)
		if err != nil {
			return err
		}
		if len(devices) > 0 {
			list = slices.DeleteFunc(list, func(u wire.Unsettled) bool { return !slices.Contains(devices, u.Device) })
		}
		if !*keep {
			return a.show(list, func() { a.unsettled(n, list) })
		}
		if !a.asJSON {
			a.unsettled(n, list)
		}
		if !*yes && !a.agree("Do these stay as they are? What each holds then stands as the end of the change.") {
			return &exit{Refused, fmt.Errorf("nothing was settled; without a terminal, give --yes")}
		}
		c, err := a.api().SettleChange(a.ctx, n, wire.Settle{Devices: devices})
		if err != nil {
			return err
		}
		return a.show(c, func() {
			if c.State == lifecycle.Unsettled {
				a.printf(
					"Change %d: that is entered; others of its devices are not settled yet: latch settle %d\n", n, n,
				)
				return
			}
			a.printf("Change %d is %s: %s.\n", n, a.paint(strong, string(c.State)), c.Reason)
		})
	}
}

// toSettle lists what is wrong with the records and is for a person to settle.
func (a *app) toSettle() error {
	all, err := a.api().Attention(a.ctx)
	if err != nil {
		return err
	}
	some := struct {
		Records   string          `json:"records,omitempty"`
		Unsettled []wire.Change   `json:"unsettled"`
		LostHolds []wire.LostHold `json:"lostHolds"`
		Damaged   []string        `json:"damaged"`
	}{all.Records, all.Unsettled, all.LostHolds, all.Damaged}
	return a.show(some, func() {
		if all.Records != "" {
			a.printf("%s %s\n", a.paint(alarm, "nothing new can be begun:"), all.Records)
		}
		for _, c := range all.Unsettled {
			a.printf(
				"%s change %d %q by %s, on %s: it was under way when the backup was taken that these records come "+
					"from.\n  What its devices hold: latch settle %d\n",
				a.paint(alarm, "unsettled:"), c.Number, c.Title, c.Author, strings.Join(c.Devices, ", "), c.Number,
			)
		}
		for _, h := range all.LostHolds {
			a.printf(
				"%s change %d %q by %s, begun %s, was on hold until %s, and the records know nothing of it. Look at:\n",
				a.paint(alarm, "lost:"), h.Change, h.Title, h.By, when(h.Began), when(h.Until),
			)
			for _, d := range h.Devices {
				a.printf("  %s (%s; reverted by %s)\n", d.Name, d.Address, d.Guard)
			}
			a.printf("  Then: latch settle %d --looked\n", h.Change)
		}
		for _, d := range all.Damaged {
			a.printf("%s %s\n", a.paint(alarm, "damaged:"), d)
		}
		if all.Records == "" && len(all.Unsettled)+len(all.LostHolds)+len(all.Damaged) == 0 {
			a.printf("There is nothing to settle.\n")
		}
	})
}

// unsettled tells what devices hold, and what can be done.
func (a *app) unsettled(n int64, list []wire.Unsettled) {
	var rows [][]string
	open, holding := 0, false
	for _, u := range list {
		holds := map[string]string{
			"former": "its former configuration", "change": "the change",
			"neither": "neither the former configuration nor the change",
		}[u.Holds]
		switch {
		case u.Settled != "":
			holds = fmt.Sprintf("settled: %s, by %s at %s", u.Settled, u.By, when(u.At))
		case u.Error != "":
			holds = a.paint(alarm, "not known: ") + u.Error
			open++
		default:
			open++
			holding = holding || u.Holds != "former"
			if u.Pending == "yes" {
				holds += a.paint(alarm, "; its own timer still runs, and reverts it")
			}
		}
		rows = append(rows, []string{u.Device, u.Address, holds})
	}
	a.printf(
		"Change %d was under way when the backup was taken that these records come from. Its devices were read now:\n",
		n,
	)
	a.table([]string{"DEVICE", "ADDRESS", "HOLDS"}, rows)
	if open == 0 {
		return
	}
	if holding {
		a.printf("Undo it, in a change that is previewed with what came since: latch settle %d --revert\n", n)
	}
	a.printf("Accept it as it is: latch settle %d [DEVICE]... --accept\n", n)
}
