package cli

import (
	"flag"
	"fmt"
	"strings"

	"oakenlatch/client"
	"oakenlatch/core/clip"
	"oakenlatch/wire"
)

func snapshots(a *app, fs *flag.FlagSet) func([]string) error {
	device := fs.String("device", "", "those that hold this device")
	retired := fs.Bool("retired", false, "those that are retired too")
	own := fs.Bool("all", false, "those taken by themselves before commits too")
	return func([]string) error {
		list, err := a.api().ListSnapshots(a.ctx, client.ListSnapshotsQuery{Device: *device, Retired: *retired})
		if err != nil {
			return err
		}
		return a.show(list, func() {
			var rows [][]string
			hidden := 0
			for _, s := range list {
				if s.Change != 0 && !*own && !s.Protected {
					hidden++
					continue
				}
				rows = append(
					rows,
					[]string{
						fmt.Sprint(s.Number), when(s.At), s.Actor, count(s.Devices, "device", "devices"),
						snapshotStanding(s), clip.Line(s.Name, 70),
					},
				)
			}
			a.table([]string{"NUMBER", "TAKEN", "BY", "HOLDS", "", "NAME"}, rows)
			switch {
			case hidden > 0:
				a.printf("And %s taken before commits: --all shows them.\n", count(hidden, "snapshot", "snapshots"))
			case len(rows) == 0:
				a.printf(
					"There are no snapshots. Take one: latch snapshot take \"Before the winter timetable\" --all\n",
				)
			}
		})
	}
}

func snapshotStanding(s wire.Snapshot) string {
	var out []string
	if s.Protected {
		out = append(out, "protected")
	}
	if !s.Retired.IsZero() {
		out = append(out, "retired")
	}
	return strings.Join(out, ", ")
}

func snapshotTake(a *app, fs *flag.FlagSet) func([]string) error {
	note := fs.String("note", "", "what is worth knowing about it")
	site := fs.String("site", "", "the devices of this site")
	all := fs.Bool("all", false, "all devices")
	return func(args []string) error {
		in := wire.NewSnapshot{Name: args[0], Note: *note, Devices: args[1:], Site: *site, All: *all}
		s, err := a.api().TakeSnapshot(a.ctx, in)
		if err != nil {
			return err
		}
		return a.show(s, func() {
			a.printf("Snapshot %d, %q, of %s.\n", s.Number, s.Name, count(s.Devices, "device", "devices"))
			a.snapshotItems(s, true)
		})
	}
}

// snapshotItems lists what a snapshot holds; only those with something to say.
func (a *app) snapshotItems(s wire.Snapshot, unclean bool) {
	if s.Unclean {
		a.printf("%s\n", a.paint(alarm, "The moment was not clean:"))
	}
	for _, i := range s.Items {
		if unclean && len(i.Unclean) == 0 {
			continue
		}
		what := fmt.Sprintf("revision %d", i.Revision)
		if i.Revision == 0 {
			what = "what a commit made of it, on hold"
		}
		a.printf("  %s: %s, read %s\n", i.Device, what, when(i.At))
		for _, why := range i.Unclean {
			a.printf("      %s\n", why)
		}
	}
}

func snapshotShow(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		s, err := a.api().GetSnapshot(a.ctx, args[0])
		if err != nil {
			return err
		}
		return a.show(s, func() {
			a.printf("Snapshot %d: %s\ntaken %s by %s\n", s.Number, a.paint(strong, s.Name), when(s.At), s.Actor)
			if s.Change != 0 {
				a.printf("by itself, before the commit of change %d\n", s.Change)
			}
			if text := snapshotStanding(s); text != "" {
				a.printf("%s\n", text)
			}
			for _, l := range strings.FieldsFunc(s.Note, func(r rune) bool { return r == '\n' }) {
				a.printf("    %s\n", l)
			}
			a.snapshotItems(s, false)
			if len(s.Items) > 0 {
				a.printf(
					"Compare it with now: latch moved snapshot:%d\nBring one back: latch restore %s snapshot:%d\n",
					s.Number, s.Items[0].Device, s.Number,
				)
			}
		})
	}
}

func (a *app) relabel(ref string, in wire.Relabel, told string) error {
	s, err := a.api().RelabelSnapshot(a.ctx, ref, in)
	if err != nil {
		return err
	}
	return a.show(s, func() { a.printf("Snapshot %d, %q, %s.\n", s.Number, s.Name, told) })
}

func snapshotRename(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		return a.relabel(args[0], wire.Relabel{Name: &args[1]}, "is called so now")
	}
}

func snapshotNote(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error { return a.relabel(args[0], wire.Relabel{Note: &args[1]}, "has that note") }
}

func snapshotProtect(a *app, fs *flag.FlagSet) func([]string) error {
	off := fs.Bool("off", false, "take the protection off")
	return func(args []string) error {
		on := !*off
		told := "is protected: it cannot be retired"
		if *off {
			told = "is protected no more"
		}
		return a.relabel(args[0], wire.Relabel{Protected: &on}, told)
	}
}

func snapshotRetire(a *app, fs *flag.FlagSet) func([]string) error {
	back := fs.Bool("back", false, "put a retired one back; name it by its number")
	return func(args []string) error {
		gone := !*back
		told := "is retired; what it named stays on record"
		if *back {
			told = "is back in the list"
		}
		return a.relabel(args[0], wire.Relabel{Retired: &gone}, told)
	}
}
