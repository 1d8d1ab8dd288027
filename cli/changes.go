package cli

import (
	"flag"
	"fmt"
	"strings"

	"oakenlatch/client"
	"oakenlatch/core/clip"
	"oakenlatch/core/lifecycle"
	"oakenlatch/wire"
)

// changeNumber reads the argument that names a change.
func changeNumber(text string) (int64, error) { return numbered("a change", text, "latch changes") }

// fetch gets the change that an argument names.
func (a *app) fetch(arg string) (wire.Change, error) {
	n, err := changeNumber(arg)
	if err != nil {
		return wire.Change{}, err
	}
	return a.api().GetChange(a.ctx, n)
}

func openChange(a *app, fs *flag.FlagSet) func([]string) error {
	ticket := fs.String("ticket", "", "the ticket it belongs to")
	return func(args []string) error {
		c, err := a.api().OpenChange(a.ctx, wire.NewChange{Title: args[0], Ticket: *ticket})
		if err != nil {
			return err
		}
		return a.show(c, func() {
			if !a.tty {
				a.printf("%d\n", c.Number)
				return
			}
			a.printf("Change %d is open: %s\nNext: latch put %d DEVICE PATH VALUE\n", c.Number, c.Title, c.Number)
		})
	}
}

func drop(a *app, fs *flag.FlagSet) func([]string) error {
	yes := fs.Bool("yes", false, "do not ask")
	return func(args []string) error {
		c, err := a.fetch(args[0])
		if err != nil {
			return err
		}
		n := c.Number
		if !*yes && !a.agree(
			fmt.Sprintf("Abandon change %d, %q, with %s?", n, c.Title, count(c.Edits, "edit", "edits")),
		) {
			return &exit{Refused, fmt.Errorf("change %d was not dropped; without a terminal, give --yes", n)}
		}
		if err := a.api().DropChange(a.ctx, n); err != nil {
			return err
		}
		return a.show(struct{}{}, func() { a.printf("Change %d is dropped. It stays on record.\n", n) })
	}
}

func changes(a *app, fs *flag.FlagSet) func([]string) error {
	before := fs.Int64("before", 0, "those before this change")
	limit := fs.Int("limit", 200, "how many, 500 at most")
	state := fs.String(
		"state", "",
		"in this state, or in one of several with commas between: "+strings.Join(
			lifecycle.Names(lifecycle.States()...), ", ",
		),
	)
	author := fs.String("author", "", "of this person")
	text := fs.String("text", "", "with this in the title or the ticket")
	return func([]string) error {
		if *limit < 1 {
			return wrongUse("--limit is from 1 to 500")
		}
		list, err := a.api().ListChanges(a.ctx, client.ListChangesQuery{
			Limit: int64(*limit), State: *state, Author: *author, Text: *text, Before: *before,
		})
		if err != nil {
			return err
		}
		again := ""
		for _, x := range [][2]string{{"state", *state}, {"author", *author}, {"text", *text}} {
			if x[1] != "" {
				again += " --" + x[0] + shellWord(x[1])
			}
		}
		return a.show(list, func() {
			rows := make([][]string, len(list))
			for i, c := range list {
				who := c.Author
				if len(c.Coworkers) > 0 {
					who += " +" + strings.Join(c.Coworkers, ", ")
				}
				rows[i] = []string{
					fmt.Sprint(c.Number), string(c.State), clip.Line(who, 30), count(c.Edits, "edit", "edits"),
					clip.Line(strings.Join(c.Devices, ", "), 40), when(c.Updated), clip.Line(c.Title, 50),
				}
			}
			a.table([]string{"CHANGE", "STATE", "AUTHOR", "STAGED", "DEVICES", "UPDATED", "TITLE"}, rows)
			switch {
			case len(list) == 0 && *before > 0:
				a.printf("There are no older ones.\n")
			case len(list) == 0 && again != "":
				a.printf("There are no such changes. All of them: latch changes\n")
			case len(list) == 0:
				a.printf("There are no changes yet. Open one: latch open TITLE\n")
			case len(list) == *limit:
				a.printf("Older ones: latch changes%s --before %d\n", again, list[len(list)-1].Number)
			}
		})
	}
}
