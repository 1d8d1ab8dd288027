package cli

import (
	"flag"
	"fmt"
	"maps"
	"slices"
	"strings"

	"oakenlatch/client"
	"oakenlatch/core/clip"
	"oakenlatch/wire"
)

// pairs are values given as NAME=VALUE.
type pairs map[string]string

func (p pairs) String() string { return "" }

func (p pairs) Set(text string) error {
	name, value, ok := strings.Cut(text, "=")
	if !ok || name == "" {
		return fmt.Errorf("%q: write NAME=VALUE", text)
	}
	p[name] = value
	return nil
}

func stencils(a *app, _ *flag.FlagSet) func([]string) error {
	return func([]string) error {
		list, err := a.api().ListStencils(a.ctx)
		if err != nil {
			return err
		}
		return a.show(list, func() {
			rows := make([][]string, len(list))
			for i, s := range list {
				rows[i] = []string{
					s.Name, fmt.Sprint(s.Version), blanksText(s.Blanks), count(len(s.Uses), "device", "devices"),
					s.Actor, when(s.At), clip.Line(s.Note, 40),
				}
			}
			a.table([]string{"STENCIL", "VERSION", "BLANKS", "USED BY", "SAVED BY", "AT", "NOTE"}, rows)
			if len(list) == 0 {
				a.printf("There are no stencils yet. Save one: latch stencil save NAME FILE\n")
			}
		})
	}
}

func blanksText(list []wire.Blank) string {
	var out []string
	for _, b := range list {
		name := b.Name
		if b.Shared {
			name = "@" + name
		}
		out = append(out, name)
	}
	return strings.Join(out, ", ")
}

func stencilShow(a *app, fs *flag.FlagSet) func([]string) error {
	device := fs.String("device", "", "tell what its blanks take on this device")
	version := fs.Int64("version", 0, "another version than the newest")
	return func(args []string) error {
		s, err := a.api().GetStencil(a.ctx, args[0], client.GetStencilQuery{Device: *device})
		if err != nil {
			return err
		}
		text := s.Text
		if *version != 0 {
			i := slices.IndexFunc(s.Versions, func(v wire.Version) bool { return v.Version == *version })
			if i < 0 {
				return wrongUse("stencil %s has no version %d", s.Name, *version)
			}
			text = s.Versions[i].Text
		}
		return a.show(s, func() {
			a.printf("%s\n", strings.TrimRight(text, "\n"))
			for _, b := range s.Blanks {
				a.blank(b)
			}
			for _, v := range s.Versions {
				a.printf(
					"%s\n",
					a.paint(dim, fmt.Sprintf("# version %d, %s, %s  %s", v.Version, v.Actor, when(v.At), v.Note)),
				)
			}
			a.uses(s.Uses)
		})
	}
}

func (a *app) blank(b wire.Blank) {
	what := "blank " + b.Name
	if b.Shared {
		what = "shared value " + b.Name
	}
	text := "# " + what
	if b.Type != "" {
		text += ": " + b.Type
	}
	if len(b.Values) > 0 {
		text += ", one of " + clip.Line(strings.Join(b.Values, ", "), 80)
	}
	a.printf("%s\n", a.paint(dim, text))
}

func (a *app) uses(list []wire.Use) {
	for _, u := range list {
		var values []string
		for _, k := range slices.Sorted(maps.Keys(u.Blanks)) {
			values = append(values, k+"="+u.Blanks[k])
		}
		note := ""
		if u.Version < u.Newest {
			note = fmt.Sprintf(", the newest is %d", u.Newest)
		}
		a.printf(
			"# %s uses version %d%s (change %d) %s\n", u.Device, u.Version, note, u.Change, strings.Join(values, " "),
		)
		for _, s := range u.Strayed {
			now := s.Now
			if s.Gone {
				now = "gone"
			}
			a.printf(
				"  %s %s: the stencil set %s, it is %s now\n", a.paint(alarm, "by hand since:"), s.Path,
				clip.Line(s.Set, 50), clip.Line(now, 50),
			)
		}
	}
}

// blanks are the flags that values for blanks are given with.
func (a *app) blanks(fs *flag.FlagSet, which string) func() (map[string]string, error) {
	values, files := pairs{}, pairs{}
	fs.Var(values, "set", "NAME=VALUE for "+which+"; may be given several times")
	fs.Var(files, "set-file", "NAME=FILE: its value stands in a file, - for standard input; for secrets")
	return func() (map[string]string, error) {
		for _, name := range slices.Sorted(maps.Keys(files)) {
			if _, twice := values[name]; twice {
				return nil, wrongUse("the value of %s is given twice, with --set and with --set-file", name)
			}
			var err error
			if values[name], err = a.secretFrom(files[name], "the value of "+name); err != nil {
				return nil, err
			}
		}
		return values, nil
	}
}

func stencilSave(a *app, fs *flag.FlagSet) func([]string) error {
	noted := fs.String("note", "", "what is new in it")
	blanks := a.blanks(fs, "a blank that is new, on the devices that use it")
	return func(args []string) error {
		text, err := a.read(args[1])
		if err != nil {
			return err
		}
		values, err := blanks()
		if err != nil {
			return err
		}
		s, err := a.api().SaveStencil(a.ctx, args[0], wire.NewStencil{Text: string(text), Note: *noted, Blanks: values})
		if err != nil {
			return err
		}
		return a.show(s, func() {
			a.printf("Stencil %s is saved as version %d.\n", args[0], s.Version)
			a.saved(s)
		})
	}
}

// saved tells what followed for the devices that use something.
func (a *app) saved(s wire.Saved) {
	if len(s.Same) > 0 {
		a.printf("These hold all of it already: %s\n", strings.Join(s.Same, ", "))
	}
	for _, n := range s.Notes {
		a.printf("  note: %s\n", n)
	}
	if s.Change != 0 {
		a.printf(
			"Change %d was opened with a part for %s.\nNext: latch preview %d\n", s.Change,
			strings.Join(s.Devices, ", "), s.Change,
		)
		return
	}
	a.printf("No device needs a change.\n")
}

func stencilBind(a *app, fs *flag.FlagSet) func([]string) error {
	blanks := a.blanks(fs, "a blank")
	return func(args []string) error {
		values, err := blanks()
		if err != nil {
			return err
		}
		return a.bind(args, wire.Bind{Blanks: values})
	}
}

func stencilUnbind(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error { return a.bind(args, wire.Bind{Off: true}) }
}

func (a *app) bind(args []string, in wire.Bind) error {
	n, err := changeNumber(args[1])
	if err != nil {
		return err
	}
	in.Change, in.Devices = n, names(args[2])
	list, err := a.api().BindStencil(a.ctx, args[0], in)
	if err != nil {
		return err
	}
	return a.loaded(n, list)
}

func sharedList(a *app, _ *flag.FlagSet) func([]string) error {
	return func([]string) error {
		list, err := a.api().ListSharedValues(a.ctx)
		if err != nil {
			return err
		}
		return a.show(list, func() {
			rows := make([][]string, len(list))
			for i, v := range list {
				rows[i] = []string{
					v.Name, fmt.Sprint(v.Version), clip.Line(strings.Join(v.Items, ", "), 60), v.Actor, when(v.At),
				}
			}
			a.table([]string{"SHARED VALUE", "VERSION", "ITEMS", "SAVED BY", "AT"}, rows)
			if len(list) == 0 {
				a.printf("There are no shared values yet. Save one: latch shared set NAME ITEM...\n")
			}
		})
	}
}

func sharedSet(a *app, fs *flag.FlagSet) func([]string) error {
	noted := fs.String("note", "", "why")
	file := fs.String("file", "", "one item of several lines, such as a banner, from this file")
	return func(args []string) error {
		items := args[1:]
		if *file != "" {
			text, err := a.read(*file)
			if err != nil {
				return err
			}
			items = append(items, strings.TrimRight(string(text), "\n"))
		}
		if len(items) == 0 {
			return wrongUse("which items? latch shared set %s ITEM...", args[0])
		}
		s, err := a.api().SaveSharedValue(a.ctx, args[0], wire.NewShared{Items: items, Note: *noted})
		if err != nil {
			return err
		}
		return a.show(s, func() {
			a.printf("Shared value %s is saved as version %d.\n", args[0], s.Version)
			a.saved(s)
		})
	}
}
