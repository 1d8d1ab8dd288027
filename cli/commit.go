package cli

import (
	"flag"
	"fmt"
	"strings"
	"time"

	"oakenlatch/core/guard"
	"oakenlatch/wire"
)

// glance is how often a commit is looked at while one waits for it.
const glance = 300 * time.Millisecond

func commit(a *app, fs *flag.FlagSet) func([]string) error {
	hold := fs.Duration("hold", 10*time.Minute, "how long it stays on trial, e.g. 90s, 10m, 2h")
	wait := fs.Bool("wait", false, "stay until it is decided")
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		var c wire.Change
		if err := a.call("POST", changePath(n)+"/commit", wire.NewCommit{HoldSeconds: int64(*hold / time.Second)}, &c); err != nil {
			return err
		}
		f := follower{a: a}
		c, err = f.until(n, func(c wire.Change) bool {
			return *wait && settled(c) || !*wait && (settled(c) || c.Commit.Phase == guard.Awaiting)
		})
		if err != nil {
			return err
		}
		return a.verdict(c)
	}
}

// settled reports whether a change's commit is decided for good.
func settled(c wire.Change) bool { return c.Commit == nil || c.Commit.Phase == guard.Done }

// verdict ends a command that followed a commit: what happened, what is next.
func (a *app) verdict(c wire.Change) error {
	if err := a.show(c, func() { a.verdictText(c) }); err != nil {
		return err
	}
	switch {
	case c.State == "reverted", c.Commit != nil && c.Commit.Phase == guard.Reverting:
		return &exit{status: WentBack}
	case c.State == "failed":
		return &exit{status: Refused}
	}
	return nil
}

func (a *app) verdictText(c wire.Change) {
	switch c.State {
	case "kept":
		a.printf("Change %d is %s, confirmed by %s.\n", c.Number, a.paint(strong, "kept"), c.Commit.By)
		for _, d := range c.Commit.Devices {
			a.printf("  %s: %s\n", d.Name, savedText(d))
		}
	case "reverted":
		a.printf("Change %d is %s: %s.\n", c.Number, a.paint(alarm, "reverted"), c.Reason)
		for _, d := range c.Commit.Devices {
			a.printf("  %s: read back, it holds its former configuration\n", d.Name)
		}
	case "failed":
		a.printf("Change %d %s: %s\nNothing of it is on any device. Mend it and commit again.\n", c.Number, a.paint(alarm, "failed"), c.Reason)
	case "holding":
		if c.Commit.Phase != guard.Awaiting {
			a.underWay(c)
			return
		}
		a.printf("Change %d is in effect, %s. The way in was proved by a new session.\n", c.Number, a.paint(strong, "on hold"))
		a.printf("It goes back by itself at %s (in %s).\n", when(c.Commit.Deadline), time.Duration(c.Commit.SecondsLeft)*time.Second)
		a.printf("Keep it: latch confirm %d    Go back now: latch revert %d\n", c.Number, c.Number)
	}
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
	a.printf("Follow it: latch watch %d\n", c.Number)
}

func savedText(d guard.Device) string {
	switch {
	case !d.Settled:
		return "kept, startup not saved yet"
	case d.Saved:
		return "kept, saved to startup"
	case d.Said != "":
		return "kept, but NOT saved to startup: " + d.Said
	}
	return "kept; it has no startup of its own to save to"
}

func standingText(d guard.Device) string {
	s := string(d.Standing)
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

// until looks at a change until it is as wanted.
func (f *follower) until(n int64, enough func(wire.Change) bool) (wire.Change, error) {
	for {
		var c wire.Change
		if err := f.a.call("GET", changePath(n), nil, &c); err != nil {
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
	guard.Preparing: "preparing: locking, writing and validating the candidate",
	guard.Applying:  "applying on trial",
	guard.Probing:   "in effect on trial; opening a new session to prove the way in",
	guard.Awaiting:  "on hold",
	guard.Asking:    "asking every device once more",
	guard.Keeping:   "confirming",
	guard.Settling:  "kept; saving to startup",
	guard.Reverting: "going back",
}

func (f *follower) progress(c wire.Change) {
	if c.Commit == nil || c.Commit.Phase == guard.Done {
		return
	}
	line := phaseText[c.Commit.Phase]
	var odd []string
	for _, d := range c.Commit.Devices {
		if d.Said != "" {
			odd = append(odd, d.Name+": "+d.Said)
		}
	}
	if len(odd) > 0 {
		line += "; " + strings.Join(odd, "; ")
	}
	if f.a.tty && c.Commit.Phase != guard.Preparing {
		left := ""
		if !c.Commit.Deadline.IsZero() && c.Commit.Phase != guard.Reverting {
			left = fmt.Sprintf("  %s left", time.Duration(c.Commit.SecondsLeft)*time.Second)
		}
		f.a.printf("\r\x1b[K%s%s", clip(line, 100), left)
		f.live = true
		return
	}
	if line != f.last {
		f.endLine()
		f.a.printf("%s\n", line)
		f.last = line
	}
}

func watch(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
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
			return &exit{Refused, fmt.Errorf("change %d is %s and has not been committed; next: latch commit %d --hold 10m", n, c.State, n)}
		}
		return a.verdict(c)
	}
}

func confirm(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		var c wire.Change
		if err := a.call("POST", changePath(n)+"/confirm", nil, &c); err != nil {
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
			var p wire.Preview
			if err := a.call("GET", changePath(n)+"/preview", nil, &p); err != nil {
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
		var c wire.Change
		if err := a.call("POST", changePath(n)+"/revert", nil, &c); err != nil {
			return err
		}
		err = a.verdict(c)
		if statusOf(err) == WentBack && c.State == "reverted" {
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
			a.printf("  by %s, opened %s, %s on %s\n", c.Author, when(c.Opened), count(c.Edits, "edit", "edits"), orNone(c.Devices))
			if c.Reason != "" {
				a.printf("  because: %s\n", c.Reason)
			}
			if c.Commit == nil {
				return
			}
			a.printf("  committed by %s at %s, hold %s\n", c.Commit.Actor, when(c.Commit.Started), time.Duration(c.Commit.HoldSeconds)*time.Second)
			for _, d := range c.Commit.Devices {
				text := standingText(d)
				if c.State == "kept" {
					text = savedText(d)
				}
				a.printf("    %-20s %s\n", d.Name, text)
			}
			if c.State == "holding" && c.Commit.Phase == guard.Awaiting {
				a.printf("  goes back by itself at %s (in %s)\n", when(c.Commit.Deadline), time.Duration(c.Commit.SecondsLeft)*time.Second)
			}
		})
	}
}

func orNone(list []string) string {
	if len(list) == 0 {
		return "no device"
	}
	return strings.Join(list, ", ")
}
