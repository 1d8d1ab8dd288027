package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"
	"time"

	"oakenlatch/client"
	"oakenlatch/core/clip"
	"oakenlatch/core/lifecycle"
	"oakenlatch/wire"
)

func outsideList(a *app, fs *flag.FlagSet) func([]string) error {
	all := fs.Bool("all", false, "those that are decided too")
	device := fs.String("device", "", "those of this device")
	return func([]string) error {
		list, err := a.api().ListOutside(a.ctx, client.ListOutsideQuery{Device: *device, All: *all})
		if err != nil {
			return err
		}
		return a.show(list, func() {
			rows := make([][]string, len(list))
			for i, o := range list {
				rows[i] = []string{
					fmt.Sprint(o.Number), when(o.Found), o.Device, count(o.Places, "place", "places"), outsideState(o),
					clip.Line(o.Who, 90),
				}
			}
			if len(rows) == 0 && !*all {
				a.printf(
					"Nothing was changed outside that is not decided. All there were: latch outside --all\n",
				)
				return
			}
			a.table([]string{"NUMBER", "FOUND", "DEVICE", "CHANGED", "STATE", "WHO"}, rows)
			if len(rows) > 0 {
				a.printf("Look at one: latch outside show %d\n", list[0].Number)
			}
		})
	}
}

// outsideState is what became of an outside change.
func outsideState(o wire.Outside) string {
	switch {
	case o.State == lifecycle.OutsideOpen && o.Change != 0:
		return fmt.Sprintf("to be pushed back by change %d", o.Change)
	case o.State == lifecycle.OutsideOpen:
		return "to be decided"
	case o.State == lifecycle.OutsideOpened:
		return fmt.Sprintf("change %d goes on from it", o.Change)
	}
	return string(o.State)
}

func outsideShow(a *app, fs *flag.FlagSet) func([]string) error {
	context := fs.Int("context", 1, "unchanged neighbours shown around each line")
	return func(args []string) error {
		outside, err := numbered("an outside change", args[0], "latch outside --all")
		if err != nil {
			return err
		}
		o, err := a.api().GetOutside(a.ctx, outside, client.GetOutsideQuery{Context: context})
		if err != nil {
			return err
		}
		return a.show(o, func() { a.outside(o) })
	}
}

func (a *app) outside(o wire.Outside) {
	a.printf(
		"Outside change %d on %s: %s, %s\n", o.Number, a.paint(strong, o.Device), count(o.Places, "place", "places"),
		outsideState(o),
	)
	row := func(name, text string) {
		if text != "" {
			a.printf("%-10s %s\n", name, strings.ReplaceAll(text, "\n", "\n           "))
		}
	}
	row("who", o.Who)
	row("when", fmt.Sprintf("between %s and %s", when(o.Since), when(o.Found)))
	if !o.DeviceAt.IsZero() {
		text := when(o.DeviceAt) + " by the device's clock"
		if o.ClockOff {
			text += ", which is wrong: see latch device clock " + o.Device
		}
		row("", text)
	}
	row("made", fmt.Sprintf("revision %d of revision %d", o.Revision, o.Before))
	if o.During != 0 {
		row("during", fmt.Sprintf("the hold of change %d", o.During))
	}
	for i, t := range o.Told {
		row(map[bool]string{true: "told"}[i == 0], t)
	}
	row("listened", o.Listened)
	if o.DecidedBy != "" || o.Note != "" {
		row(
			"decided",
			strings.TrimSpace(
				strings.TrimPrefix(fmt.Sprintf("%s by %s, %s", o.State, o.DecidedBy, when(o.DecidedAt)), "open "),
			),
		)
		row("note", o.Note)
	}
	a.printf("\n")
	a.difference(o.Lines)
	if o.State == "open" {
		a.printf(
			"\nTake it as it is: latch outside adopt %d NOTE    Take it back: latch outside push-back %d\nGo on from "+
				"it: latch outside open %d    It always moves: latch outside silence PATH --device %s\n",
			o.Number, o.Number, o.Number, o.Device,
		)
	}
}

func outsideAdopt(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		outside, err := numbered("an outside change", args[0], "latch outside --all")
		if err != nil {
			return err
		}
		o, err := a.api().AdoptOutside(a.ctx, outside, wire.Adopt{Note: strings.Join(args[1:], " ")})
		if err != nil {
			return err
		}
		return a.show(o, func() {
			a.printf("Outside change %d on %s is adopted as it is, by %s.\n", o.Number, o.Device, o.DecidedBy)
		})
	}
}

// pushing is what the commands have in common that make a change of an outside
// change.
func pushing(
	a *app,
	fs *flag.FlagSet,
	push func(c *client.Client, ctx context.Context, outside int64, in wire.NewPush) (wire.Pushed, error),
) func(number string, devices []string) error {
	title := fs.String("title", "", "of the change that is opened; made up if left out")
	ticket := fs.String("ticket", "", "of the change that is opened")
	return func(number string, devices []string) error {
		outside, err := numbered("an outside change", number, "latch outside --all")
		if err != nil {
			return err
		}
		out, err := push(a.api(), a.ctx, outside, wire.NewPush{Title: *title, Ticket: *ticket, Devices: devices})
		if err != nil {
			return err
		}
		if a.asJSON {
			return a.json(a.exactly(), out)
		}
		return a.brought(wire.BroughtBack{Change: out.Change, Title: out.Title, Parts: out.Parts})
	}
}

func outsidePushBack(a *app, fs *flag.FlagSet) func([]string) error {
	push := pushing(a, fs, (*client.Client).PushBackOutside)
	return func(args []string) error { return push(args[0], nil) }
}

func outsideOpen(a *app, fs *flag.FlagSet) func([]string) error {
	push := pushing(a, fs, (*client.Client).OpenFromOutside)
	return func(args []string) error { return push(args[0], args[1:]) }
}

func outsideSilence(a *app, fs *flag.FlagSet) func([]string) error {
	device := fs.String("device", "", "on this device; on all if left out")
	note := fs.String("note", "", "why it moves")
	return func(args []string) error {
		s, err := a.api().AddSilence(a.ctx, wire.NewSilence{Device: *device, Path: args[0], Note: *note})
		if err != nil {
			return err
		}
		return a.show(s, func() {
			a.printf(
				"What is found changed at %s and below on %s, and nowhere else, needs no decision from now on; it "+
					"stays on record.\nTake that back: latch outside unsilence %d\n",
				s.Path, everywhere(s.Device), s.Number,
			)
		})
	}
}

func everywhere(device string) string {
	if device == "" {
		return "every device"
	}
	return device
}

func outsideSilences(a *app, _ *flag.FlagSet) func([]string) error {
	return func([]string) error {
		list, err := a.api().ListSilences(a.ctx)
		if err != nil {
			return err
		}
		return a.show(list, func() {
			rows := make([][]string, len(list))
			for i, s := range list {
				rows[i] = []string{
					fmt.Sprint(s.Number), s.Path, everywhere(s.Device), s.Actor, s.At.UTC().Format(time.DateOnly),
					clip.Line(s.Note, 60),
				}
			}
			a.table([]string{"NUMBER", "PATH", "ON", "BY", "SINCE", "NOTE"}, rows)
		})
	}
}

func outsideUnsilence(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		silence, err := numbered("a silence", args[0], "latch outside silences")
		if err != nil {
			return err
		}
		if err := a.api().DropSilence(a.ctx, silence); err != nil {
			return err
		}
		a.printf("It needs a decision again.\n")
		return nil
	}
}
