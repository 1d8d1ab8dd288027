package cli

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"time"

	"oakenlatch/core/lifecycle"
	"oakenlatch/wire"
)

// list is a flag that may be given several times.
type list []string

// Set is flag.Value's.
func (l *list) Set(text string) error { *l = append(*l, text); return nil }

// String is flag.Value's.
func (l *list) String() string { return strings.Join(*l, "; ") }

// orderFlags say how a commit is wanted.
type orderFlags struct {
	fs                 *flag.FlagSet
	hold               span
	first              list
	probes             list
	within             span
	confirm            string
	failedProbe        string
	save               string
	preview, emergency string
	cutOff             list
}

func newOrderFlags(fs *flag.FlagSet) *orderFlags {
	o := &orderFlags{fs: fs, hold: span(10 * time.Minute), within: span(10 * time.Second)}
	fs.Var(&o.hold, "hold", "how long it stays on hold, 10s to 7d, e.g. 90s, 10m, 2h, 1d")
	fs.Var(&o.first, "first", "devices that go first, e.g. a,b; again for the wave after them; all others follow last")
	fs.Var(
		&o.probes,
		"probe",
		`a check during the hold: "tcp HOST:PORT", "state DEVICE PATH VALUE" or "program NAME [ARGUMENT...]"; may be given again`,
	)
	fs.Var(&o.within, "probe-within", "how long a probe may fail after the commit before that counts")
	fs.StringVar(&o.confirm, "confirm", "hand", "who confirms: hand, or probes once every one of them passes")
	fs.StringVar(&o.failedProbe, "failed-probe", "wait", "what a failing probe does: wait, or revert at once")
	fs.StringVar(&o.save, "save", "", "save to startup once confirmed: yes or no; left out, each device's setting")
	fs.StringVar(
		&o.preview, "preview", "", "the digest of the preview it rests on; left out, the last one you were shown",
	)
	fs.StringVar(
		&o.emergency, "emergency", "",
		"why the approval of others, where a rule asks for it, is not waited for; it stands out until somebody "+
			"looked at it",
	)
	fs.Var(
		&o.cutOff, "cut-off",
		"commit though this device would be cut off with nobody left to revert it; may be given again",
	)
	return o
}

// orderNames are the flags that say how a commit is wanted.
var orderNames = []string{
	"hold", "first", "probe", "probe-within", "confirm", "failed-probe", "save", "preview", "cut-off", "emergency",
}

// given names those of the flags that were given.
func (o *orderFlags) given() (names []string) {
	o.fs.Visit(func(f *flag.Flag) {
		for _, n := range orderNames {
			if f.Name == n {
				names = append(names, "--"+n)
			}
		}
	})
	return names
}

func (o *orderFlags) order() (wire.NewCommit, error) {
	in := wire.NewCommit{
		HoldSeconds: o.hold.seconds(), Probes: o.probes, ProbeWithinSeconds: o.within.seconds(), Preview: o.preview,
		CutOff: o.cutOff, Emergency: o.emergency,
	}
	for _, names := range o.first {
		wave := strings.FieldsFunc(names, func(r rune) bool { return r == ',' || r == ' ' })
		if len(wave) == 0 {
			return in, wrongUse("--first names no device")
		}
		in.Waves = append(in.Waves, wave)
	}
	switch o.confirm {
	case "hand":
	case "probes":
		in.ByProbes = true
	default:
		return in, wrongUse("--confirm is hand or probes, not %q", o.confirm)
	}
	switch o.failedProbe {
	case "wait":
	case "revert":
		in.RevertOnProbe = true
	default:
		return in, wrongUse("--failed-probe is wait or revert, not %q", o.failedProbe)
	}
	var err error
	in.Save, err = yesOrNo("save", o.save)
	return in, err
}

// yesOrNo reads a flag that is yes, no, or left out.
func yesOrNo(name, text string) (*bool, error) {
	yes := text == "yes"
	switch text {
	case "":
		return nil, nil
	case "yes", "no":
		return &yes, nil
	}
	return nil, wrongUse("--%s is yes or no, not %q", name, text)
}

// scheduleFlags say when something is to be done.
type scheduleFlags struct {
	at, zone string
	in       span // from now on
	late     span
}

// given reports whether it is not to be done at once.
func (d *scheduleFlags) given() bool { return d.at != "" || d.in != 0 }

func newScheduleFlags(fs *flag.FlagSet, doing string) *scheduleFlags {
	d := &scheduleFlags{late: span(time.Minute)}
	fs.StringVar(&d.at, "at", "", doing+` at a time: 02:00, "2026-11-24 02:00" or 2026-11-24T02:00:00Z`)
	fs.Var(&d.in, "in", "the same, counted from now: 90s, 10m, 2h, 1d")
	fs.StringVar(&d.zone, "zone", "", "the time's zone, e.g. Europe/Paris; this machine's if left out")
	fs.Var(&d.late, "late", "how late it may begin if the service was down then; later than that it is missed")
	return d
}

func (d *scheduleFlags) due(now time.Time) (wire.NewSchedule, error) {
	zone, name := time.Local, d.zone
	if name != "" {
		var err error
		if zone, err = time.LoadLocation(name); err != nil {
			return wire.NewSchedule{}, wrongUse("--zone: there is no zone %q; give one like Europe/Paris or UTC", name)
		}
	} else if name = zone.String(); name == "Local" {
		name = localZone(now)
	}
	if d.in != 0 {
		if d.at != "" || d.in < 0 {
			return wire.NewSchedule{}, wrongUse("--at or --in, one of them, and --in is a time to come")
		}
		at := now.Add(time.Duration(d.in)).Truncate(time.Second)
		return wire.NewSchedule{At: at, Zone: name, LatenessSeconds: d.late.seconds()}, nil
	}
	at, err := moment(d.at, zone, now)
	if err != nil {
		return wire.NewSchedule{}, wrongUse("--at: %v", err)
	}
	return wire.NewSchedule{At: at, Zone: name, LatenessSeconds: d.late.seconds()}, nil
}

// localZone names this machine's zone as well as it is known.
func localZone(now time.Time) string {
	if tz := os.Getenv("TZ"); tz != "" {
		return strings.TrimPrefix(tz, ":")
	}
	if to, err := os.Readlink("/etc/localtime"); err == nil {
		if _, name, ok := strings.Cut(to, "zoneinfo/"); ok {
			return strings.TrimPrefix(name, "posix/")
		}
	}
	return now.Local().Format("-07:00")
}

// prepareAhead is latch prepare.
func prepareAhead(a *app, fs *flag.FlagSet) func([]string) error {
	o := newOrderFlags(fs)
	keep := span(2 * time.Hour)
	fs.Var(&keep, "for", "how long it stays prepared; its devices are locked for others meanwhile")
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		in, err := o.order()
		if err != nil {
			return err
		}
		in.AheadSeconds = keep.seconds()
		return a.start(n, in, func(c wire.Change) bool { return settled(c) || c.Commit.Phase == "prepared" })
	}
}

// start orders a commit and follows it until that is enough.
func (a *app) start(n int64, in wire.NewCommit, enough func(wire.Change) bool) error {
	c, err := a.api().CommitChange(a.ctx, n, in)
	if err != nil {
		return err
	}
	a.weakGuards(c)
	return a.follow(n, enough)
}

// weakGuards names the devices that do not revert all by themselves.
func (a *app) weakGuards(c wire.Change) {
	if c.Commit == nil || a.asJSON {
		return
	}
	for _, d := range c.Commit.Devices {
		if text := keeperText(d.Keeper); text != "" {
			a.printf("%s %s: %s\n", a.paint(alarm, "guard"), d.Name, text)
		}
	}
}

func extend(a *app, fs *flag.FlagSet) func([]string) error {
	until := fs.String("until", "", "when the hold is to end, e.g. 02:30")
	zone := fs.String("zone", "", "the zone of --until; this machine's if left out")
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		var in wire.NewHold
		switch {
		case len(args) == 2 && *until == "":
			d, err := parseSpan(args[1])
			if err != nil {
				return wrongUse("%v", err)
			}
			in.AddSeconds = int64(d / time.Second)
		case len(args) == 1 && *until != "":
			due, err := (&scheduleFlags{at: *until, zone: *zone}).due(time.Now())
			if err != nil {
				return err
			}
			in.Until = due.At
		default:
			return wrongUse("say how much more time, like latch extend %d 20m (less: -5m), or --until TIME", n)
		}
		c, err := a.api().ExtendHold(a.ctx, n, in)
		if err != nil {
			return err
		}
		return a.show(c, func() {
			if !c.Commit.NewDeadline.IsZero() {
				a.printf(
					"The devices' timers are still being set for a hold until %s; until that is done it ends at %s.\n",
					when(c.Commit.NewDeadline), when(c.Commit.Deadline),
				)
				return
			}
			a.printf(
				"The hold of change %d ends at %s (in %s) unless it is confirmed.\n", n, when(c.Commit.Deadline),
				spell(time.Duration(c.Commit.SecondsLeft)*time.Second),
			)
		})
	}
}

func accept(a *app, fs *flag.FlagSet) func([]string) error {
	yes := fs.Bool("yes", false, "do not ask")
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		if !*yes && !a.agree(
			fmt.Sprintf(
				"Accept %s as it is? What it holds then stays: the change is told as partly on its devices, and "+
					"change %d is decided.",
				args[1], n,
			),
		) {
			return &exit{Refused, fmt.Errorf("%s was not accepted; without a terminal, give --yes", args[1])}
		}
		c, err := a.api().AcceptDevice(a.ctx, n, wire.Accept{Device: args[1]})
		if err != nil {
			return err
		}
		err = a.verdict(c)
		if statusOf(err) == WentBack && (c.State == lifecycle.Reverted || c.State == lifecycle.Partly) {
			return nil // that is what was asked for
		}
		return err
	}
}
