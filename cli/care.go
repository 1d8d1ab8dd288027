package cli

import (
	"flag"
	"fmt"
	"strings"
	"time"

	"oakenlatch/client"
	"oakenlatch/wire"
)

// betweenStores compares two of a device's configurations.
func (a *app) betweenStores(device, from, to string) (wire.Difference, error) {
	return a.api().DeviceDifference(a.ctx, device, client.DeviceDifferenceQuery{From: from, To: to})
}

func deviceSave(a *app, fs *flag.FlagSet) func([]string) error {
	yes := fs.Bool("yes", false, "do not ask")
	return func(args []string) error {
		d, err := a.betweenStores(args[0], "startup", "running")
		if err != nil {
			return err
		}
		if !a.asJSON {
			if d.Count == 0 {
				a.printf("The startup of %s holds what runs there already.\n", d.Device)
				return nil
			}
			a.printf("%s runs this, which is not in its startup and would be lost with a restart:\n", d.Device)
			a.difference(d.Lines)
		}
		if !*yes && a.ask && !a.agree("Save it to startup?") {
			return &exit{Refused, fmt.Errorf("nothing was saved on %s", d.Device)}
		}
		out, err := a.api().SaveDevice(a.ctx, args[0])
		if err != nil {
			return err
		}
		return a.show(
			out, func() { a.printf("Saved, and read back: the startup of %s holds what runs there.\n", out.Name) },
		)
	}
}

func deviceRestart(a *app, fs *flag.FlagSet) func([]string) error {
	yes := fs.Bool("yes", false, "do not ask")
	due := newScheduleFlags(fs, "restart it")
	return func(args []string) error {
		d, err := a.betweenStores(args[0], "running", "startup")
		if err != nil {
			return err
		}
		if !a.asJSON {
			a.lostByRestart(d)
		}
		question := fmt.Sprintf("Restart %s now?", args[0])
		if due.given() {
			question = fmt.Sprintf("Restart %s at %s?", args[0], due.at)
		}
		if !*yes && !a.agree(question) {
			return &exit{Refused, fmt.Errorf("%s was not restarted; without a terminal, give --yes", args[0])}
		}
		if !due.given() {
			if err := a.api().RestartDevice(a.ctx, args[0]); err != nil {
				return err
			}
			return a.show(
				struct{}{},
				func() { a.printf("%s restarts. See it come back: latch device show %s\n", args[0], args[0]) },
			)
		}
		in, err := due.due(time.Now())
		if err != nil {
			return err
		}
		out, err := a.api().ScheduleRestart(a.ctx, args[0], in)
		if err != nil {
			return err
		}
		return a.show(out, func() {
			a.printf("%s restarts at %s, in %s.\n", args[0], whenIn(out.At, out.Zone), spell(time.Until(out.At)))
			a.clocks(out.Clocks)
			a.printf("Take it off: latch unschedule %s\n", args[0])
		})
	}
}

func (a *app) lostByRestart(d wire.Difference) {
	if d.Count == 0 {
		a.printf("%s would come back as it is: its startup holds what runs there.\n", d.Device)
		return
	}
	a.printf("%s would come back with its startup, and differ from now like this:\n", d.Device)
	a.difference(d.Lines)
	a.printf("Save it instead: latch device save %s\n", d.Device)
}

func deviceSessions(a *app, fs *flag.FlagSet) func([]string) error {
	end := fs.String("end", "", "end the session of that number; its locks are free then")
	yes := fs.Bool("yes", false, "do not ask")
	return func(args []string) error {
		list, err := a.api().ListSessions(a.ctx, args[0])
		if err != nil {
			return err
		}
		if *end == "" || !a.asJSON {
			if err := a.show(list, func() { a.visitors(list) }); err != nil || *end == "" {
				return err
			}
		}
		if !*yes && !a.agree(
			fmt.Sprintf(
				"End session %s on %s? What it has uncommitted there may be gone with it; it goes on record first.",
				*end, args[0],
			),
		) {
			return &exit{
				Refused, fmt.Errorf("session %s on %s was not ended; without a terminal, give --yes", *end, args[0]),
			}
		}
		if err := a.api().EndSession(a.ctx, args[0], *end); err != nil {
			return err
		}
		return a.show(struct{}{}, func() { a.printf("Session %s on %s is ended.\n", *end, args[0]) })
	}
}

func (a *app) visitors(list []wire.Visitor) {
	rows := make([][]string, len(list))
	for i, v := range list {
		var locks []string
		for _, l := range v.Locks {
			text := l.Datastore
			if !l.Since.IsZero() {
				text += " since " + when(l.Since)
			}
			locks = append(locks, text)
		}
		own := ""
		if v.Own {
			own = "this service"
		}
		rows[i] = []string{v.ID, v.Account, v.Source, when(v.Since), strings.Join(locks, ", "), own}
	}
	a.table([]string{"SESSION", "ACCOUNT", "FROM", "SINCE (ITS CLOCK)", "LOCKS", ""}, rows)
}

func deviceClear(a *app, fs *flag.FlagSet) func([]string) error {
	yes := fs.Bool("yes", false, "do not ask")
	return func(args []string) error {
		d, err := a.betweenStores(args[0], "running", "candidate")
		if err != nil {
			return err
		}
		if d.Count == 0 {
			return a.show(d, func() { a.printf("The candidate of %s holds nothing but running.\n", d.Device) })
		}
		if !a.asJSON {
			a.printf("Somebody left this uncommitted in the candidate of %s:\n", d.Device)
			a.difference(d.Lines)
		}
		if !*yes && !a.agree("Discard it? It goes on record first.") {
			return &exit{
				Refused, fmt.Errorf("the candidate of %s was left as it is; without a terminal, give --yes", d.Device),
			}
		}
		if err := a.api().ClearCandidate(a.ctx, args[0]); err != nil {
			return err
		}
		return a.show(d, func() {
			a.printf("Discarded. What it was is on record: latch audit device:%s\n", d.Device)
		})
	}
}

func deviceSet(a *app, fs *flag.FlagSet) func([]string) error {
	save := fs.String("save", "", "save confirmed changes to its startup: yes or no")
	seenAs := fs.String(
		"seen-as", "",
		"its management address, perhaps with port, as packets have it in the network; - for the one that is "+
			"connected to",
	)
	seenFrom := fs.String("seen-from", "", "this service's address as the device sees it; - for what the device tells")
	site := fs.String("site", "", "where it stands; - for nowhere in particular")
	role := fs.String("role", "", "what it is in the network; - for nothing in particular")
	tags := fs.String("tags", "", "all its tags, with commas; - for none")
	via := fs.String(
		"via", "",
		"the devices on the way to it, nearest to it first, with commas; - for what their configurations tell",
	)
	return func(args []string) error {
		in := wire.Settings{SeenAs: given(*seenAs), SeenFrom: given(*seenFrom), Site: given(*site), Role: given(*role)}
		var err error
		if in.Save, err = yesOrNo("save", *save); err != nil {
			return err
		}
		if v := given(*via); v != nil {
			list := append([]string{}, names(*v)...)
			in.Via = &list
		}
		if v := given(*tags); v != nil {
			list := append([]string{}, names(*v)...)
			in.Tags = &list
		}
		if in == (wire.Settings{}) {
			return wrongUse("say what to set, e.g. latch device set %s --save no", args[0])
		}
		d, err := a.api().SetDevice(a.ctx, args[0], in)
		if err != nil {
			return err
		}
		return a.show(d, func() {
			a.printf("%s: %s\n", d.Name, saveText(d))
			if !a.waits(d.Proposal) && (in.Site != nil || in.Role != nil || in.Tags != nil) {
				a.printf(
					"  site %q, role %q, tags %q: what accounts may do here goes by these\n", d.Site, d.Role,
					strings.Join(d.Tags, " "),
				)
			}
			for _, line := range seenText(d) {
				a.printf("  %s\n", line)
			}
		})
	}
}

// given reads a flag that may be left out, and is - to empty what was set.
func given(text string) *string {
	if text == "" {
		return nil
	}
	text = strings.TrimPrefix(text, "-")
	return &text
}

// seenText tells how a device's management is seen from the network, where that
// was told.
func seenText(d wire.Device) []string {
	var out []string
	if d.SeenAs != "" {
		out = append(out, "in the network its management is at "+d.SeenAs)
	}
	if d.SeenFrom != "" {
		out = append(out, "it sees this service as "+d.SeenFrom)
	}
	if len(d.Via) > 0 {
		out = append(out, "the way to it leads through "+strings.Join(d.Via, ", "))
	}
	return out
}

func saveText(d wire.Device) string {
	if d.Save {
		return "confirmed changes are saved to its startup"
	}
	return "confirmed changes are NOT saved to its startup unless the commit says so"
}

func deviceClock(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		c, err := a.api().DeviceClock(a.ctx, args[0])
		if err != nil {
			return err
		}
		if err := a.show(c, func() { a.printf("The clock of %s is %s.\n", c.Device, clockText(c)) }); err != nil {
			return err
		}
		if c.Off {
			return &exit{status: AnswerNo}
		}
		return nil
	}
}
