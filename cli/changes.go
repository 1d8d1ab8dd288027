package cli

import (
	"flag"
	"fmt"
	"strconv"
	"strings"

	"oakenlatch/wire"
)

// changeNumber reads the argument that names a change.
func changeNumber(text string) (int64, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 1 {
		return 0, wrongUse("%q is not a change number; list them with: latch changes", text)
	}
	return n, nil
}

func changePath(n int64) string { return fmt.Sprintf("/changes/%d", n) }

// fetch gets the change that an argument names.
func (a *app) fetch(arg string) (wire.Change, error) {
	var c wire.Change
	n, err := changeNumber(arg)
	if err != nil {
		return c, err
	}
	return c, a.call("GET", changePath(n), nil, &c)
}

func openChange(a *app, fs *flag.FlagSet) func([]string) error {
	ticket := fs.String("ticket", "", "the ticket it belongs to")
	return func(args []string) error {
		var c wire.Change
		if err := a.call("POST", "/changes", wire.NewChange{Title: args[0], Ticket: *ticket}, &c); err != nil {
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

func put(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		in := wire.NewEdit{Device: args[1], Op: "put", Path: args[2]}
		if len(args) == 4 {
			in.Value = &args[3]
		}
		return a.stage(args[0], in)
	}
}

func deletePath(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		return a.stage(args[0], wire.NewEdit{Device: args[1], Op: "delete", Path: args[2]})
	}
}

func (a *app) stage(change string, in wire.NewEdit) error {
	n, err := changeNumber(change)
	if err != nil {
		return err
	}
	var st wire.Staged
	if err := a.call("POST", changePath(n)+"/edits", in, &st); err != nil {
		return err
	}
	return a.show(st, func() {
		a.printf("Staged in change %d (edit %d), nothing sent:\n", n, st.Edit.ID)
		a.printf("  %s %s\n", st.Edit.Device, st.Edit.Path)
		switch {
		case st.Before == "" && st.After == "":
			a.printf("    %s\n", in.Op)
		case st.Before == st.After:
			a.value(" ", st.After)
		case st.Before == "":
			a.value("+", st.After)
		case st.After == "":
			a.value("−", st.Before)
		case strings.Contains(st.Before+st.After, "\n"):
			a.value("−", st.Before)
			a.value("+", st.After)
		default:
			a.printf("    %s\n", a.paint(markStyle["~"], "~ "+st.Before+" → "+st.After))
		}
		for _, note := range st.Notes {
			a.printf("  note: %s\n", note)
		}
		a.printf("Next: latch preview %d\n", n)
	})
}

func (a *app) value(mark, text string) {
	for _, l := range strings.Split(text, "\n") {
		a.printf("    %s\n", a.paint(markStyle[mark], mark+" "+l))
	}
}

func unstage(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		id, err := strconv.ParseInt(args[1], 10, 64)
		if err != nil {
			return wrongUse("%q is not the number of an edit; see latch preview %d", args[1], n)
		}
		if err := a.call("DELETE", fmt.Sprintf("%s/edits/%d", changePath(n), id), nil, nil); err != nil {
			return err
		}
		return a.show(struct{}{}, func() { a.printf("Edit %d is taken back.\n", id) })
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
		if !*yes && !a.agree(fmt.Sprintf("Abandon change %d, %q, with %s?", n, c.Title, count(c.Edits, "edit", "edits"))) {
			return &exit{Refused, fmt.Errorf("change %d was not dropped; without a terminal, give --yes", n)}
		}
		if err := a.call("POST", changePath(n)+"/drop", nil, nil); err != nil {
			return err
		}
		return a.show(struct{}{}, func() { a.printf("Change %d is dropped. It stays on record.\n", n) })
	}
}

func changes(a *app, _ *flag.FlagSet) func([]string) error {
	return func([]string) error {
		var list []wire.Change
		if err := a.call("GET", "/changes", nil, &list); err != nil {
			return err
		}
		return a.show(list, func() {
			rows := make([][]string, len(list))
			for i, c := range list {
				rows[i] = []string{fmt.Sprint(c.Number), c.State, c.Author, count(c.Edits, "edit", "edits"), clip(strings.Join(c.Devices, ", "), 40), when(c.Updated), clip(c.Title, 50)}
			}
			a.table([]string{"CHANGE", "STATE", "AUTHOR", "STAGED", "DEVICES", "UPDATED", "TITLE"}, rows)
			if len(list) == 0 {
				a.printf("There are no changes yet. Open one: latch open TITLE\n")
			}
		})
	}
}

func preview(a *app, fs *flag.FlagSet) func([]string) error {
	context := fs.Int("context", 1, "unchanged neighbours shown around each change")
	whole := fs.Bool("whole", false, "every line, also of a very large difference")
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		var p wire.Preview
		if err := a.call("GET", fmt.Sprintf("%s/preview?context=%d", changePath(n), *context), nil, &p); err != nil {
			return err
		}
		if err := a.show(p, func() { a.previewText(p, *whole) }); err != nil {
			return err
		}
		if p.Against == "running" && !p.Ready {
			return &exit{status: AnswerNo}
		}
		return nil
	}
}

func (a *app) previewText(p wire.Preview, whole bool) {
	c := p.Change
	ticket := ""
	if c.Ticket != "" {
		ticket = ", " + c.Ticket
	}
	a.printf("%s  %s, by %s%s\n", a.paint(strong, fmt.Sprintf("Change %d  %s", c.Number, c.Title)), c.State, c.Author, ticket)
	offered := 0
	for _, part := range p.Parts {
		a.partText(part, p.Against, c.Number, &offered, whole)
	}
	switch {
	case p.Against == "record":
		a.printf("\nThis is what it did, from the record. How it stands: latch show %d\n", c.Number)
	case len(p.Parts) == 0:
		a.printf("\nThe change is empty: nothing is staged.\nNext: latch put %d DEVICE PATH VALUE\n", c.Number)
	case p.Empty:
		a.printf("\nThe change would change nothing: the devices hold all of it already.\n")
	case p.Ready:
		a.printf("\nReady. Next: latch commit %d --hold 10m\n", c.Number)
	default:
		a.printf("\n%s\n", a.paint(alarm, "Not ready: see above what must be mended first."))
	}
}

func (a *app) partText(p wire.PartPreview, against string, change int64, offered *int, whole bool) {
	where := "against running as just read"
	switch {
	case against == "record":
		where = "as committed"
	case !p.Read:
		where = fmt.Sprintf("against what was last known (revision %d)", p.Base)
	}
	a.printf("\n%s  %s\n", a.paint(strong, p.Device), where)
	if len(p.Groups) > 0 && !whole {
		a.groups(p.Groups)
		a.printf("  %s; line by line: latch preview %d --whole\n", count(p.Count, "change", "changes"), change)
	} else {
		a.difference(p.Lines)
	}
	switch {
	case p.Count == 0 && against == "record":
		a.printf("  nothing was sent to it yet\n")
	case p.Count == 0:
		a.printf("  nothing would change here\n")
	}
	for _, e := range p.Edits {
		value := e.Value
		if value != "" {
			value = " " + value
		}
		a.printf("  %s\n", a.paint(dim, fmt.Sprintf("edit %d: %s %s%s (%s, %s)", e.ID, e.Op, e.Path, value, e.Actor, when(e.At))))
	}
	if !p.Read {
		a.printf("  %s %s\n", a.paint(alarm, "not reached:"), p.Trouble)
	}
	if p.Behind {
		a.printf("  behind: the device moved on since revision %d, where this started:\n", p.Base)
		a.difference(p.Moved)
	}
	for _, x := range p.Conflicts {
		a.printf("  %s %s: %s\n    was     %s\n    here    %s\n    device  %s\n", a.paint(alarm, "conflict"), x.Path, x.Why, clip(x.Base, 70), clip(x.Mine, 70), clip(x.Theirs, 70))
	}
	for _, f := range p.Findings {
		a.finding(f)
		if f.Fix != nil {
			*offered++
			a.printf("    %s (stage it: latch mend %d %d)\n", fixText(f.Fix), change, *offered)
		}
	}
	if against == "record" {
		return
	}
	if p.Unchecked > 0 {
		a.printf("  left to the device's own validate: %s\n", count(p.Unchecked, "condition", "conditions"))
		for _, why := range p.Reasons {
			a.printf("    %s\n", a.paint(dim, why))
		}
	}
	if p.Unsaved {
		a.printf("  note: running here is not saved to startup; see it with: latch device save %s\n", p.Device)
	}
	a.printf("  guard: %s\n", guardText(p.Guard))
}
