package cli

import (
	"flag"
	"fmt"
	"slices"
	"strings"

	"oakenlatch/core/clip"
	"oakenlatch/wire"
)

func share(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		c, err := a.api().ShareChange(a.ctx, n, wire.Share{Account: args[1]})
		if err != nil {
			return err
		}
		return a.show(c, func() {
			a.printf(
				"%s works on change %d now: sees it, stages in it, commits it. On it are %s.\n", args[1], n,
				coworkers(c),
			)
		})
	}
}

func coworkers(c wire.Change) string {
	return strings.Join(append([]string{c.Author}, c.Coworkers...), ", ")
}

func unshare(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		c, err := a.api().UnshareChange(a.ctx, n, args[1])
		if err != nil {
			return err
		}
		return a.show(c, func() {
			a.printf(
				"%s is off change %d. What they staged stays; remove it with: latch unstage %d --by %s\n", args[1],
				n, n, args[1],
			)
		})
	}
}

func note(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		c, err := a.api().AddNote(a.ctx, n, wire.NewNote{Text: args[1]})
		if err != nil {
			return err
		}
		return a.show(c, func() { a.printf("Noted with change %d.\n", n) })
	}
}

func rename(a *app, fs *flag.FlagSet) func([]string) error {
	title := fs.String("title", "", "another title")
	ticket := fs.String("ticket", "", "another ticket; - for none")
	return func(args []string) error {
		c, err := a.fetch(args[0])
		if err != nil {
			return err
		}
		if *title == "" && *ticket == "" {
			return wrongUse("give --title or --ticket")
		}
		in := wire.NewChange{Title: c.Title, Ticket: c.Ticket}
		if *title != "" {
			in.Title = *title
		}
		if *ticket != "" {
			in.Ticket = strings.TrimPrefix(*ticket, "-")
		}
		c, err = a.api().RenameChange(a.ctx, c.Number, in)
		if err != nil {
			return err
		}
		return a.show(c, func() { a.printf("Change %d: %s %s\n", c.Number, c.Title, c.Ticket) })
	}
}

func decide(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		if args[3] != "mine" && args[3] != "theirs" {
			return wrongUse(
				"say mine (what the change has; the device's is overwritten) or theirs (what the device has), not %q",
				args[3],
			)
		}
		c, err := a.api().DecideConflict(a.ctx, n, wire.Decide{Device: args[1], Path: args[2], Keep: args[3]})
		if err != nil {
			return err
		}
		return a.show(c, func() {
			a.printf("Decided, and on record: at %s of %s %s is kept.\n", c.Path, args[1], c.Keep)
			a.conflict(c)
			a.printf("Next: latch rebase %d %s\n", n, args[1])
		})
	}
}

// conflict shows its three values.
func (a *app) conflict(c wire.Conflict) {
	for _, side := range []struct{ name, text string }{{"was", c.Base}, {"mine", c.Mine}, {"theirs", c.Theirs}} {
		mark := " "
		if c.Keep == side.name {
			mark = "*"
		}
		for i, l := range strings.Split(side.text, "\n") {
			if i == 12 {
				a.printf("             …\n")
				break
			}
			if i > 0 {
				mark, side.name = " ", ""
			}
			a.printf("    %s %-7s %s\n", mark, side.name, l)
		}
	}
}

func rebase(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		list, err := a.api().RebaseChange(a.ctx, n, wire.Rebase{Devices: args[1:]})
		if err != nil {
			return err
		}
		return a.show(list, func() {
			if len(list) == 0 {
				a.printf("No device moved on since change %d was staged: there is nothing to rebase.\n", n)
				return
			}
			for _, r := range list {
				a.printf("%s: from revision %d onto %d. The device had moved:\n", r.Device, r.From, r.To)
				a.difference(r.Moved)
				for _, e := range r.Dropped {
					a.printf("  means nothing any more, and is gone: %s\n", editLine(e))
				}
				if r.Mended {
					a.printf("  an edit was added for what was decided\n")
				}
			}
			a.printf("Next: latch preview %d\n", n)
		})
	}
}

func readdress(a *app, fs *flag.FlagSet) func([]string) error {
	seenAs := fs.String("seen-as", "", "the same address as packets have it, where that is another")
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		in := wire.Readdress{Device: args[1], SeenAs: *seenAs}
		if args[2] != "-" {
			in.Address = args[2]
		}
		c, err := a.api().Readdress(a.ctx, n, in)
		if err != nil {
			return err
		}
		return a.show(c, func() {
			if in.Address == "" {
				a.printf("Change %d does not move the management of %s.\n", n, in.Device)
				return
			}
			a.printf(
				"Change %d gives %s the new management address %s. On hold, it is proved that the device is reached "+
					"there; once it is confirmed, "+
					"the device is reached there.\n",
				n, in.Device, in.Address,
			)
		})
	}
}

func reserve(a *app, fs *flag.FlagSet) func([]string) error {
	length := span(0)
	fs.Var(&length, "for", "how long, e.g. 2h")
	reason := fs.String("reason", "", "why; others read it")
	return func(args []string) error {
		if length == 0 {
			return wrongUse("for how long? Give --for, e.g. latch reserve %s --for 2h --reason TEXT", args[0])
		}
		v, err := a.api().ReserveDevice(a.ctx, args[0], wire.NewReservation{Reason: *reason, Seconds: length.seconds()})
		if err != nil {
			return err
		}
		return a.show(v, func() {
			a.printf(
				"%s is reserved for you until %s. End it with: latch release %s\n", v.Device, when(v.Until), v.Device,
			)
		})
	}
}

func reserveAsk(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		v, err := a.api().AskForDevice(a.ctx, args[0], wire.NewNote{Text: args[1]})
		if err != nil {
			return err
		}
		return a.show(v, func() {
			a.printf("%s will see it. Their reservation of %s ends at %s.\n", v.Holder, v.Device, when(v.Until))
		})
	}
}

func reserveList(a *app, _ *flag.FlagSet) func([]string) error {
	return func([]string) error {
		list, err := a.api().ListReservations(a.ctx)
		if err != nil {
			return err
		}
		return a.show(list, func() {
			rows := make([][]string, len(list))
			for i, v := range list {
				rows[i] = []string{
					v.Device, v.Holder, when(v.Until), clip.Line(v.Reason, 60), count(len(v.Asks), "ask", "asks"),
				}
			}
			a.table([]string{"DEVICE", "HOLDER", "UNTIL", "REASON", "ASKED"}, rows)
			for _, v := range list {
				for _, x := range v.Asks {
					a.printf("  %s: %s asked %s at %s: %s\n", v.Device, x.Actor, v.Holder, when(x.At), x.Text)
				}
			}
			if len(list) == 0 {
				a.printf("No device is reserved.\n")
			}
		})
	}
}

func release(a *app, fs *flag.FlagSet) func([]string) error {
	yes := fs.Bool("yes", false, "do not ask before somebody else's reservation is lifted")
	return func(args []string) error {
		list, err := a.api().ListReservations(a.ctx)
		if err != nil {
			return err
		}
		me, err := a.api().WhoAmI(a.ctx)
		if err != nil {
			return err
		}
		for _, v := range list {
			if v.Device == args[0] && v.Holder != me.Account && slices.Contains(me.May, "administer") && !*yes &&
				!a.agree(
					fmt.Sprintf(
						"%s has %s reserved until %s: %s. Lift it?", v.Holder, v.Device, when(v.Until), v.Reason,
					),
				) {
				return &exit{
					Refused, fmt.Errorf("the reservation of %s stays; without a terminal, give --yes", v.Device),
				}
			}
		}
		if err := a.api().ReleaseDevice(a.ctx, args[0]); err != nil {
			return err
		}
		return a.show(struct{}{}, func() { a.printf("%s is not reserved any more.\n", args[0]) })
	}
}
