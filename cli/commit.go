package cli

import (
	"flag"
	"fmt"
	"strings"
	"time"

	"oakenlatch/client"
	"oakenlatch/core/clip"
	"oakenlatch/core/guard"
	"oakenlatch/core/lifecycle"
	"oakenlatch/wire"
)

// glance is how often a commit is looked at while one waits for it.
const glance = 300 * time.Millisecond

func commit(a *app, fs *flag.FlagSet) func([]string) error {
	o := newOrderFlags(fs)
	wait := fs.Bool("wait", false, "stay until it is decided")
	due := newScheduleFlags(fs, "commit")
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		in, err := o.order()
		if err != nil {
			return err
		}
		enough := func(c wire.Change) bool { return settled(c) || !*wait && c.Commit.Phase == guard.Awaiting }
		switch c, err := a.api().GetChange(a.ctx, n); {
		case err != nil:
			return err
		case c.Commit != nil && c.Commit.Phase == guard.AllReady:
			return a.begin(n, o, due, enough)
		case due.given():
			return a.scheduleCommit(n, in, due)
		}
		return a.start(n, in, enough)
	}
}

// begin commits what was prepared: how is settled already.
func (a *app) begin(n int64, o *orderFlags, due *scheduleFlags, enough func(wire.Change) bool) error {
	given := o.given()
	if due.given() {
		given = append(given, "--at")
	}
	if len(given) > 0 {
		return wrongUse(
			"change %d is prepared, and how it is committed was settled with that: leave out %s, or give it up with "+
				"latch revert %d and commit again",
			n, strings.Join(given, ", "), n,
		)
	}
	if _, err := a.api().BeginCommit(a.ctx, n); err != nil {
		return err
	}
	return a.follow(n, enough)
}

// settled reports whether a change's commit is decided for good.
func settled(c wire.Change) bool {
	return c.Commit == nil || c.Commit.Phase == guard.Done && c.State != lifecycle.Holding &&
		c.State != lifecycle.Applying
}

// verdict ends a command that followed a commit: what happened, what is next.
func (a *app) verdict(c wire.Change) error {
	if err := a.show(c, func() { a.verdictText(c) }); err != nil {
		return err
	}
	switch {
	case c.State == lifecycle.Reverted, c.State == lifecycle.Partly, c.Commit != nil &&
		c.Commit.Phase == guard.Reverting:
		return &exit{status: WentBack}
	case c.State == lifecycle.Failed:
		return &exit{status: Refused}
	}
	return nil
}

func (a *app) verdictText(c wire.Change) {
	defer a.meanwhile(c)
	switch c.State {
	case "confirmed":
		a.printf("Change %d is %s by %s.\n", c.Number, a.paint(strong, "confirmed"), c.Commit.By)
		for _, d := range c.Commit.Devices {
			a.printf("  %s: %s\n", d.Name, savedText(d))
		}
		a.probes(c.Commit.Probes)
	case "reverted":
		a.printf("Change %d is %s: %s.\n", c.Number, a.paint(alarm, "reverted"), c.Reason)
		for _, d := range c.Commit.Devices {
			a.printf("  %s: %s\n", d.Name, backText(d))
		}
	case "partly":
		a.printf(
			"Change %d is %s on its devices, which do not all hold the same: %s.\n", c.Number, a.paint(alarm, "partly"),
			c.Reason,
		)
		for _, d := range c.Commit.Devices {
			a.printf("  %s: %s\n", d.Name, partText(d))
		}
		a.printf(
			"See what each holds against it: latch compare DEVICE change:%d\nUndo what of it was confirmed: "+
				"latch undo %d\n",
			c.Number, c.Number,
		)
	case "unsettled":
		a.printf("Change %d is %s: %s.\n", c.Number, a.paint(alarm, "unsettled"), c.Reason)
	case "failed":
		a.printf(
			"Change %d %s: %s\nNothing of it is on any device. See how it would go now: latch preview %d\n", c.Number,
			a.paint(alarm, "failed"), c.Reason, c.Number,
		)
	case "holding", "applying":
		switch {
		case c.Commit == nil || c.Commit.Phase == guard.Done:
		case c.Commit.Phase == guard.AllReady:
			a.printf(
				"Change %d is %s on %s: only the commit itself is missing, nothing is active.\n", c.Number,
				a.paint(strong, "prepared"), orNone(c.Devices),
			)
			a.printf(
				"It lapses at %s, or when a device moves on; the devices are locked for others until then.\n",
				when(c.Commit.LapsesAt),
			)
			a.printf("Commit it: latch commit %d    Give it up: latch revert %d\n", c.Number, c.Number)
		case c.Commit.Phase == guard.Awaiting:
			a.holdText(c)
		default:
			a.underWay(c)
		}
	}
}

func (a *app) holdText(c wire.Change) {
	a.printf(
		"Change %d is active, %s. A new session to each device was answered.\n", c.Number, a.paint(strong, "on hold"),
	)
	a.probes(c.Commit.Probes)
	a.printf(
		"It is reverted at %s (in %s) unless you confirm%s.\n", when(c.Commit.Deadline),
		spell(time.Duration(c.Commit.SecondsLeft)*time.Second), reverter(c.Commit.Devices),
	)
	if c.Commit.ByProbes {
		a.printf("It is confirmed by itself once every probe passes.\n")
	}
	a.printf(
		"Confirm: latch confirm %d    More time: latch extend %d 20m    Revert now: latch revert %d\n", c.Number,
		c.Number, c.Number,
	)
}

// reverter says who reverts the devices when the hold ends, "" where each does it by itself.
func reverter(devices []guard.Device) string {
	var weak []string
	for _, d := range devices {
		if d.Keeper == guard.ByService {
			weak = append(weak, d.Name)
		}
	}
	switch len(weak) {
	case 0:
		return ""
	case len(devices):
		return "; by this service alone"
	}
	return "; on " + strings.Join(weak, ", ") + " by this service alone"
}

func (a *app) probes(list []wire.ProbeResult) {
	for _, p := range list {
		result := string(p.Result)
		switch p.Result {
		case "":
			result = "not run yet"
		case guard.Missed:
			result = a.paint(alarm, result)
		}
		since := ""
		if !p.Since.IsZero() {
			since = ", since " + when(p.Since)
		}
		a.printf("  probe %s: %s: %s%s\n", p.Probe, result, p.Said, since)
	}
}

// keeperText says what stands behind a hold on a device, "" for the best there
// is.
func keeperText(k guard.Keeper) string {
	switch k {
	case guard.BySession:
		return "it reverts by itself, and also when this service stops or its session to the device breaks"
	case guard.ByService:
		return "only this service can revert it: if it stops or cannot reach the device, the change stays until " +
			"it can again"
	}
	return ""
}

// partText tells how a device stands where not all stand alike.
func partText(d guard.Device) string {
	if d.Standing == guard.IsConfirmed {
		return savedText(d)
	}
	return backText(d)
}

func backText(d guard.Device) string {
	if d.Standing == guard.IsReverted {
		return "read back, it holds its former configuration"
	}
	return standingText(d)
}

// meanwhile tells what somebody else changed on the devices during the hold.
func (a *app) meanwhile(c wire.Change) {
	for _, o := range c.Meanwhile {
		a.printf(
			"While it was on hold, %s changed by somebody else: %s (outside change %d).\n", places(o.Places, o.Device),
			o.Who, o.Number,
		)
		if o.State == "open" {
			went := ""
			if c.State == lifecycle.Reverted || c.State == lifecycle.Partly {
				went = "It may have been lost when the change was reverted. "
			}
			a.printf(
				"  %sSee it: latch outside show %d    Stage it again: latch outside open %d %s\n", went, o.Number,
				o.Number, o.Device,
			)
		}
	}
}

func places(n int, device string) string {
	if n == 1 {
		return "1 place of " + device + " was"
	}
	return fmt.Sprintf("%d places of %s were", n, device)
}

// underWay tells of a change that is neither on hold nor decided: what is
// being done, and where each device stands.
func (a *app) underWay(c wire.Change) {
	what := phaseText[c.Commit.Phase]
	if c.Reason != "" {
		what += ": " + c.Reason
	}
	a.printf("Change %d is not decided yet, %s\n", c.Number, what)
	for _, d := range c.Commit.Devices {
		a.printf("  %s: %s\n", d.Name, standingText(d))
	}
	a.stuck(c)
	a.printf("Follow it: latch watch %d\n", c.Number)
}

// stuck tells what can be done about devices that do not revert.
func (a *app) stuck(c wire.Change) {
	for _, d := range c.Commit.Devices {
		if d.Stuck() {
			a.printf(
				"%s does not revert; this is tried again. What would have to be sent to it: latch compare %s "+
					"%s@before:%d --as edit-config\n",
				d.Name, d.Name, d.Name, c.Number,
			)
			a.printf("  Accept it as it is: latch accept %d %s\n", c.Number, d.Name)
		}
	}
}

func savedText(d guard.Device) string {
	switch {
	case !d.Settled:
		return "confirmed; not saved to startup yet"
	case d.Saved:
		return "confirmed and saved to startup"
	case d.NoSave && d.Said == "":
		return "confirmed; NOT saved to startup, as was asked: save it with latch device save " + d.Name
	case d.Said != "":
		return "confirmed, but NOT saved to startup: " + d.Said
	}
	return "confirmed; it has no startup to save to"
}

func standingText(d guard.Device) string {
	s := string(d.Standing)
	if d.Keeper != guard.ByDevice && d.Standing == guard.Held {
		s += " (guard: " + string(d.Keeper) + ")"
	}
	if d.Unreachable {
		s += ", unreachable"
	}
	if d.Said != "" {
		s += ": " + d.Said
	}
	return s
}

// follower prints what happens to a commit while one waits.
type follower struct {
	a    *app
	last string
	live bool // a countdown stands on the last line
}

// follow follows a commit until that is enough, and ends with the verdict.
func (a *app) follow(n int64, enough func(wire.Change) bool) error {
	f := follower{a: a}
	c, err := f.until(n, enough)
	if err != nil {
		return err
	}
	return a.verdict(c)
}

// until looks at a change until it is as wanted.
func (f *follower) until(n int64, enough func(wire.Change) bool) (wire.Change, error) {
	for {
		c, err := f.a.api().GetChange(f.a.ctx, n)
		if err != nil {
			return c, err
		}
		if !f.a.asJSON {
			f.progress(c)
		}
		if enough(c) {
			f.endLine()
			return c, nil
		}
		select {
		case <-f.a.ctx.Done():
			f.endLine()
			return c, &exit{Refused, fmt.Errorf("stopped watching; change %d goes on without you: latch show %d", n, n)}
		case <-time.After(glance):
		}
	}
}

func (f *follower) endLine() {
	if f.live {
		f.a.printf("\n")
		f.live = false
	}
}

var phaseText = map[guard.Phase]string{
	guard.Idle:          "about to begin",
	guard.Preparing:     "preparing: locking, writing and validating the candidate",
	guard.AllReady:      "prepared: only the commit is left",
	guard.Applying:      "applying",
	guard.Probing:       "active; opening a new session to each device, running the probes",
	guard.Awaiting:      "on hold",
	guard.Asking:        "asking every device once more",
	guard.ConfirmingAll: "confirming",
	guard.Settling:      "confirmed; saving to startup",
	guard.Reverting:     "reverting",
}

func (f *follower) progress(c wire.Change) {
	if c.Commit == nil || c.Commit.Phase == guard.Done {
		return
	}
	line := phaseText[c.Commit.Phase] + steps(c.Commit.Devices)
	var odd []string
	for _, d := range c.Commit.Devices {
		if d.Said != "" {
			odd = append(odd, d.Name+": "+d.Said)
		}
	}
	for _, p := range c.Commit.Probes {
		if p.Result == guard.Missed {
			odd = append(odd, "probe "+p.Probe+" fails: "+p.Said)
		}
	}
	if len(odd) > 0 {
		line += "; " + strings.Join(odd, "; ")
	}
	if f.a.tty && c.Commit.Phase != guard.Preparing {
		left := ""
		if !c.Commit.Deadline.IsZero() && c.Commit.Phase != guard.Reverting {
			left = fmt.Sprintf("  %s left", spell(time.Duration(c.Commit.SecondsLeft)*time.Second))
		}
		f.a.printf("%s%s%s", toStart, clip.Line(line, 100), left)
		f.live = true
		return
	}
	if line != f.last {
		f.endLine()
		f.a.printf("%s\n", line)
		f.last = line
	}
}

// steps counts the devices at each step, where they are several.
func steps(devices []guard.Device) string {
	if len(devices) < 2 {
		return ""
	}
	var names []string
	number := map[string]int{}
	for _, d := range devices {
		name := string(d.Standing)
		if number[name]++; number[name] == 1 {
			names = append(names, name)
		}
	}
	for i, name := range names {
		names[i] = fmt.Sprintf("%d %s", number[name], name)
	}
	return " (" + strings.Join(names, ", ") + ")"
}

func watch(a *app, fs *flag.FlagSet) func([]string) error {
	all := fs.Bool("all", false, "instead of one commit: everything that happens, as it happens")
	return func(args []string) error {
		if *all && len(args) == 0 {
			return a.watchAll()
		}
		if *all || len(args) == 0 {
			return wrongUse("give one: the number of a change, or --all")
		}
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		f := follower{a: a}
		c, err := f.until(n, settled)
		if err != nil {
			return err
		}
		if c.Commit == nil {
			return &exit{
				Refused,
				fmt.Errorf(
					"change %d is %s and has not been committed; next: latch commit %d --hold 10m", n, c.State, n,
				),
			}
		}
		return a.verdict(c)
	}
}

func confirm(a *app, fs *flag.FlagSet) func([]string) error {
	despite := fs.Bool("despite-probes", false, "confirm it though a probe fails")
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		c, err := a.api().ConfirmChange(a.ctx, n, wire.Confirm{Despite: *despite})
		if err != nil {
			return err
		}
		return a.verdict(c)
	}
}

func revert(a *app, fs *flag.FlagSet) func([]string) error {
	yes := fs.Bool("yes", false, "do not ask")
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		if !*yes && a.ask {
			p, err := a.api().PreviewChange(a.ctx, n, client.PreviewChangeQuery{})
			if err != nil {
				return err
			}
			for _, part := range p.Parts {
				a.printf("%s\n", a.paint(strong, part.Device))
				a.difference(part.Lines)
			}
			if !a.agree(fmt.Sprintf("Take this back out of %s?", strings.Join(p.Change.Devices, ", "))) {
				return &exit{Refused, fmt.Errorf("change %d was not reverted", n)}
			}
		}
		c, err := a.api().RevertChange(a.ctx, n)
		if err != nil {
			return err
		}
		err = a.verdict(c)
		if statusOf(err) == WentBack && c.State == lifecycle.Reverted {
			return nil // that was asked for
		}
		return err
	}
}

func showChange(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		c, err := a.fetch(args[0])
		if err != nil {
			return err
		}
		return a.show(c, func() {
			a.printf("%s  %s\n", a.paint(strong, fmt.Sprintf("Change %d  %s", c.Number, c.Title)), c.State)
			a.printf(
				"  by %s, opened %s, %s on %s\n", c.Author, when(c.Opened), count(c.Edits, "edit", "edits"),
				orNone(c.Devices),
			)
			if c.Reason != "" {
				a.printf("  because: %s\n", c.Reason)
			}
			if c.Scheduled != nil {
				at := whenIn(c.Scheduled.At, c.Scheduled.Zone)
				a.printf("  on the schedule: goes on hold at %s, by %s\n", at, c.Scheduled.Actor)
			}
			if c.Commit == nil {
				return
			}
			a.printf(
				"  committed by %s at %s, hold %s\n", c.Commit.Actor, when(c.Commit.Started),
				spell(time.Duration(c.Commit.HoldSeconds)*time.Second),
			)
			for _, d := range c.Commit.Devices {
				text := standingText(d)
				if c.State == lifecycle.Confirmed {
					text = savedText(d)
				}
				a.printf("    %-20s %s\n", d.Name, text)
			}
			a.probes(c.Commit.Probes)
			if c.State == lifecycle.Holding && c.Commit.Phase == guard.Awaiting {
				a.printf(
					"  active, reverted at %s (in %s) unless you confirm%s\n", when(c.Commit.Deadline),
					spell(time.Duration(c.Commit.SecondsLeft)*time.Second), reverter(c.Commit.Devices),
				)
			}
			if c.Commit.Phase == guard.AllReady {
				a.printf("  prepared, only the commit is left; lapses at %s\n", when(c.Commit.LapsesAt))
			}
			a.stuck(c)
			a.meanwhile(c)
		})
	}
}

func orNone(list []string) string {
	if len(list) == 0 {
		return "no device"
	}
	return strings.Join(list, ", ")
}
