package cli

import (
	"cmp"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"

	"oakenlatch/client"
	"oakenlatch/core/flow"
	"oakenlatch/wire"
)

// effects tells what becomes of traffic on a device.
func (a *app) effects(list []flow.Change) {
	for _, c := range list {
		what := "traffic, " + c.Where()
		if len(c.On) > 0 {
			what += " (on " + strings.Join(c.On, ", ") + ")"
		}
		switch {
		case c.Trouble != "":
			a.printf("  %s: %s\n", what, a.paint(alarm, c.Trouble))
			continue
		case c.NoEffect:
			a.printf("  %s: %s: every packet is treated as before, proved\n", what, a.paint("38;5;37", "no effect"))
			continue
		}
		a.printf("  %s:\n", what)
		a.moved(c)
	}
}

func (a *app) moved(c flow.Change) {
	for _, k := range []struct {
		name  string
		paint string
		list  []flow.Moved
	}{
		{"newly permitted", "38;5;32", c.Permitted}, {"newly denied", alarm, c.Denied},
		{"denied, and the sender is answered differently", dim, c.Answered},
	} {
		for _, m := range k.list {
			a.printf(
				"    %s: %s\n      e.g. %s: %s; before: %s\n", a.paint(k.paint, k.name), m.Packets, m.Example,
				m.After.String(), m.Before.String(),
			)
		}
	}
	if c.More {
		a.printf(
			"    and more than is listed here; ask about some of it: latch filter trace " +
				"DEVICE@change:N/FILTER PACKETS\n",
		)
	}
	for _, f := range c.DependsOn {
		a.printf("    %s %s\n", a.paint(alarm, "depends on:"), f)
	}
}

// traffic tells what was expected of a change, and what it does beside it.
func (a *app) traffic(p wire.Preview) {
	if len(p.Expected) > 0 {
		a.printf("\nExpected of the traffic:\n")
	}
	for _, e := range p.Expected {
		a.printf("  %d. %s%s\n", e.Number, e.Line, atPlace(e.Place))
		switch {
		case e.Trouble != "":
			a.printf("     %s\n", a.paint(alarm, "not known: "+e.Trouble))
			continue
		case e.Delivered:
			a.printf(
				"     %s%s\n", a.paint("38;5;37", "delivered"),
				map[string]string{
					"wholly": ", and it is so already",
					"partly": "; a part of it is so already: " + strings.Join(e.Part, "; "),
				}[e.Already],
			)
		default:
			a.printf("     %s\n", a.paint(alarm, "not delivered"))
		}
		for _, m := range e.Missing {
			a.printf(
				"     missing: %s\n       e.g. %s: %s in %s\n", m.Packets, m.Example, m.By.String(), m.Filter,
			)
		}
		for _, f := range e.DependsOn {
			a.printf("     %s %s\n", a.paint(alarm, "depends on:"), f)
		}
	}
	if len(p.Expected) > 0 && len(p.Beside) == 0 {
		a.printf("  all other packets are treated as before, proved\n")
	}
	for _, s := range p.Beside {
		head := a.paint(alarm, "Side effect")
		if s.AcceptedBy != "" {
			head = "Side effect, accepted by " + s.AcceptedBy + " " + when(s.AcceptedAt)
		}
		a.printf("  %s at %s of %s, which nobody expects:\n", head, s.Where(), s.Device)
		if s.Trouble != "" {
			a.printf("    %s\n", s.Trouble)
		}
		a.moved(s.Change)
	}
}

func atPlace(place string) string {
	if place == "" {
		return ""
	}
	return "  at " + place
}

// blocked tells what of the traffic stands in the way of a commit.
func (a *app) blocked(p wire.Preview) {
	for _, e := range p.Expected {
		if !e.Delivered {
			a.printf(
				"  expectation %d is not met; remove it with: latch expect drop %d %d\n", e.Number,
				p.Change.Number, e.Number,
			)
		}
	}
	for _, s := range p.Beside {
		if s.AcceptedBy == "" {
			a.printf(
				"  what it does at %s of %s is not expected; accept it by name with: latch expect accept %d %s %s\n",
				s.Where(), s.Device, p.Change.Number, s.Device, quoted(s.Name()),
			)
		}
	}
}

func expect(a *app, fs *flag.FlagSet) func([]string) error {
	place := fs.String(
		"at", "",
		"where: DEVICE, DEVICE/FILTER or 'DEVICE/INTERFACE ingress', several filters on the way with commas; each "+
			"place that the change touches if left out",
	)
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		line := strings.Join(args[1:], " ")
		e, err := a.api().AddExpectation(a.ctx, n, wire.NewExpectation{Line: line, Place: *place})
		if err != nil {
			return a.pointed(line, err)
		}
		return a.show(e, func() {
			a.printf(
				"Expectation %d of change %s: %s%s\nNext: latch preview %s\n", e.Number, args[0], e.Line,
				atPlace(e.Place), args[0],
			)
		})
	}
}

func expectList(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		list, err := a.api().ListExpectations(a.ctx, n)
		if err != nil {
			return err
		}
		return a.show(list, func() {
			rows := make([][]string, len(list))
			for i, e := range list {
				rows[i] = []string{fmt.Sprint(e.Number), e.Line, e.Place, e.Actor, when(e.At)}
			}
			a.table([]string{"NUMBER", "EXPECTED", "AT", "BY", "SINCE"}, rows)
			a.printf("Whether it is delivered: latch preview %s\n", args[0])
		})
	}
}

func expectDrop(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		expectation, err := numbered("an expectation", args[1], "latch expect list "+args[0])
		if err != nil {
			return err
		}
		if err := a.api().DropExpectation(a.ctx, n, expectation); err != nil {
			return err
		}
		a.printf("Expectation %s of change %s is removed.\n", args[1], args[0])
		return nil
	}
}

func expectAccept(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		change, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		if err := a.api().AcceptEffect(a.ctx, change, wire.AcceptEffect{Device: args[1], Place: args[2]}); err != nil {
			return err
		}
		a.printf(
			"What change %s does beside its expectations at %s of %s is accepted, as it is now.\n", args[0], args[2],
			args[1],
		)
		return nil
	}
}

// filterSource is where the client finds filters: what the service knows of
// devices, or files that it reads itself.
type filterSource struct {
	a *app
	y *yang
}

func (a *app) filterSource(fs *flag.FlagSet) filterSource { return filterSource{a, a.yangFlags(fs)} }

// filters gives those that are asked for; files are read with the modules of a
// device beside them, where no flag names others.
func (f filterSource) filters(args []string) ([]flow.Filter, error) {
	some := ""
	for _, arg := range args {
		if where, _, ok := strings.Cut(arg, "/"); ok && !isInFile(arg) && some == "" {
			some = deviceSide(where).device
		}
	}
	out := make([]flow.Filter, len(args))
	for i, arg := range args {
		var err error
		if out[i], err = f.filter(arg, some); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// inFile takes FILE:FILTER apart; of a folder, or nothing that is there, it is
// none.
func inFile(arg string) (file, filter string, ok bool) {
	i := strings.LastIndexByte(arg, ':')
	if i < 0 {
		return "", "", false
	}
	return arg[:i], arg[i+1:], isFile(arg[:i])
}

func isInFile(arg string) bool {
	_, _, ok := inFile(arg)
	return ok
}

func isFile(name string) bool {
	at, err := os.Stat(name)
	return name == "-" || err == nil && !at.IsDir()
}

// reading reads the filters of a file.
func (f filterSource) reading(file, some string) (flow.Reading, error) {
	s, err := f.y.schema(some)
	if err != nil {
		return flow.Reading{}, err
	}
	doc, err := f.a.document(s, file)
	if err != nil {
		return flow.Reading{}, err
	}
	return flow.Read(doc.Content), nil
}

// filter gives a filter of a file, or of a device as DEVICE/FILTER or
// DEVICE@PLACE/FILTER, by the name that was asked for.
func (f filterSource) filter(arg, some string) (flow.Filter, error) {
	var r flow.Reading
	where, name, ok := inFile(arg)
	if ok {
		var err error
		if r, err = f.reading(where, some); err != nil {
			return flow.Filter{}, err
		}
	} else {
		if where, name, ok = strings.Cut(arg, "/"); !ok {
			return flow.Filter{}, wrongUse(
				"%q names no filter: write DEVICE/FILTER, DEVICE@PLACE/FILTER, or FILE:FILTER", arg,
			)
		}
		x := deviceSide(where)
		s, err := (&yang{app: f.a, device: &x.device, folder: new(""), features: new("")}).schema("")
		if err != nil {
			return flow.Filter{}, err
		}
		cfg, err := f.a.load(s, x)
		if err != nil {
			return flow.Filter{}, err
		}
		r = flow.Read(cfg)
	}
	out, has := r.Filter(name)
	if !has {
		return out, wrongUse(
			"there is no filter %q in %s: it has %s", name, where, cmp.Or(strings.Join(r.Names(), ", "), "none"),
		)
	}
	out.Name = arg
	return out, nil
}

func filterList(a *app, fs *flag.FlagSet) func([]string) error {
	from := fs.String("from", "", "running (left out), startup, rev:3, snapshot:NAME, change:7")
	source := a.filterSource(fs)
	return func(args []string) error {
		var out wire.Filters
		var err error
		if isFile(args[0]) {
			r, err := source.reading(args[0], "")
			if err != nil {
				return err
			}
			out = wire.NewFilters(args[0], "file", r)
		} else if out, err = a.api().ListFilters(a.ctx, args[0], client.ListFiltersQuery{From: *from}); err != nil {
			return err
		}
		return a.show(out, func() {
			var rows [][]string
			for _, f := range out.Filters {
				var where []string
				for _, at := range out.Attached {
					if slices.Contains(at.Filters, f.Name) {
						where = append(where, at.Interface+" "+at.Direction)
					}
				}
				rows = append(rows, []string{f.Name, count(f.Count, "rule", "rules"), attachedTo(where)})
			}
			a.table([]string{"FILTER", "RULES", "WORKS ON"}, rows)
			if len(rows) == 0 {
				a.printf("%s has no filters.\n", out.Device)
			}
		})
	}
}

func attachedTo(list []string) string {
	if len(list) == 0 {
		return "nothing: it is attached nowhere"
	}
	return strings.Join(list, ", ")
}

func filterShow(a *app, fs *flag.FlagSet) func([]string) error {
	from := fs.String("from", "", "running (left out), startup, rev:3, snapshot:NAME, change:7")
	widest := fs.Bool("widest", false, "the widest openings first, and only those that permit")
	source := a.filterSource(fs)
	return func(args []string) error {
		var f flow.Sheet
		var err error
		device, name, named := strings.Cut(args[0], "/")
		if _, _, ok := inFile(args[0]); ok {
			one, err := source.filter(args[0], "")
			if err != nil {
				return err
			}
			f = one.Sheet()
		} else if !named {
			return wrongUse("write DEVICE/FILTER, or FILE:FILTER")
		} else if f, err = a.api().GetFilter(a.ctx, device, name, client.GetFilterQuery{From: *from}); err != nil {
			return err
		}
		if *widest {
			f.Rules = slices.DeleteFunc(f.Rules, func(r flow.SheetRule) bool { return r.Action != "accept" })
			slices.SortStableFunc(f.Rules, func(x, y flow.SheetRule) int { return int(100*y.Bits) - int(100*x.Bits) })
		}
		return a.show(f, func() { a.filter(f) })
	}
}

func (a *app) filter(f flow.Sheet) {
	a.printf(
		"%s  %s, what no rule fits is dropped\n", a.paint(strong, "Filter "+f.Name),
		count(f.Count, "rule", "rules"),
	)
	if f.Trouble != "" {
		a.printf("  %s\n", f.Trouble)
	}
	for i, r := range f.Rules {
		mark := ""
		switch r.Standing {
		case "never-reached":
			mark = "  " + a.paint(alarm, "never reached: rules before it decide all it is about")
		case "redundant":
			mark = "  " + a.paint(alarm, "redundant: without it all would be done alike")
		}
		a.printf("  %d. %s  %s%s\n", i+1, r.Name, r.Action, mark)
		for _, l := range r.Fits {
			a.printf("       fits     %s\n", l)
		}
		if !slices.Equal(r.Fits, r.Decides) && r.Standing != "never-reached" {
			for _, l := range r.Decides {
				a.printf("       decides  %s\n", l)
			}
		}
		if r.More {
			a.printf("       …\n")
		}
	}
	for _, c := range f.Clashes {
		a.printf(
			"  rules %s and %s treat the same packets differently: %s; the first decides\n", c.First,
			c.Second,
			c.Example,
		)
	}
	if len(f.Clean) > 0 {
		a.printf(
			"  These can all go, and every packet is treated as before, proved: %s\n",
			strings.Join(f.Clean, ", "),
		)
		for _, r := range f.Rules {
			if slices.Contains(f.Clean, r.Name) {
				a.printf("    latch delete CHANGE DEVICE %s\n", r.Path)
			}
		}
	}
	if f.CleanUnknown != "" {
		a.printf("  %s\n", f.CleanUnknown)
	}
}

func filterTrace(a *app, fs *flag.FlagSet) func([]string) error {
	source := a.filterSource(fs)
	return func(args []string) error {
		packets := strings.Join(args[1:], " ")
		var t flow.Traced
		var err error
		way := strings.FieldsFunc(args[0], func(r rune) bool { return r == ',' })
		if slices.ContainsFunc(way, isInFile) {
			e, err := flow.ParsePackets(packets)
			if err != nil {
				return wrongUse("the packets go wrong at %v", err)
			}
			filters, err := source.filters(way)
			if err != nil {
				return err
			}
			t = flow.Trace(e, filters)
		} else if t, err = a.api().TracePacket(
			a.ctx, client.TracePacketQuery{Way: args[0], Packets: packets},
		); err != nil {
			return a.pointed(packets, err)
		}
		if err := a.show(t, func() { a.traced(t) }); err != nil {
			return err
		}
		if t.Answer != "permitted" {
			return &exit{status: AnswerNo}
		}
		return nil
	}
}

func (a *app) traced(t flow.Traced) {
	if t.Trouble != "" {
		a.printf("%s\n", t.Trouble)
		return
	}
	a.printf(
		"%s: %s\n", t.Packets,
		a.paint(
			strong,
			map[string]string{
				"permitted": "permitted, all of it", "denied": "denied, all of it",
				"partly": "some of it is permitted, some is denied",
			}[t.Answer],
		),
	)
	for _, p := range t.Parts {
		verdict := "denied"
		if p.Permitted {
			verdict = "permitted"
		}
		a.printf("  %s: %s\n    e.g. %s\n", verdict, p.Packets, p.Example)
		for _, s := range p.Way {
			a.printf("      %s: %s\n", s.Filter, s.By.String())
			for _, m := range s.Not {
				a.printf("        not %s: %s\n", m.Rule, m.Why)
			}
		}
	}
	if t.More {
		a.printf("  and more parts than are listed\n")
	}
}

func filterCompare(a *app, fs *flag.FlagSet) func([]string) error {
	source := a.filterSource(fs)
	return func(args []string) error {
		var c wire.FilterComparison
		var err error
		if slices.ContainsFunc(args, isInFile) {
			sides, err := source.filters(args)
			if err != nil {
				return err
			}
			c = wire.CompareFilters(sides[0], sides[1])
		} else if c, err = a.api().CompareFilters(
			a.ctx, client.CompareFiltersQuery{A: args[0], B: args[1]},
		); err != nil {
			return err
		}
		if err := a.show(c, func() {
			if c.NoEffect {
				a.printf("%s and %s treat every packet alike, proved.\n", c.A, c.B)
				return
			}
			a.printf("%s against %s:\n", c.B, c.A)
			a.moved(c.Change)
			if c.Trouble != "" {
				a.printf("  %s\n", c.Trouble)
			}
		}); err != nil {
			return err
		}
		if !c.NoEffect {
			return &exit{status: AnswerNo}
		}
		return nil
	}
}
