package desk

import (
	"fmt"
	"slices"
	"strings"

	"oakenlatch/core/check"
	"oakenlatch/core/guard"
	"oakenlatch/core/lockout"
)

// Level says in one word how a change stands.
type Level string

// The levels: nothing in it to commit; something must be mended first; it can be committed, but something needs a
// second look; it can be committed.
const (
	NothingToDo Level = "nothing"
	NotReady    Level = "not-ready"
	WithCare    Level = "with-care"
	AllReady    Level = "ready"
)

// Trouble is one thing that is wrong with a change.
type Trouble struct {
	Stops  bool   // it cannot be committed because of that
	Device string // "" where it is about the whole change
	Path   string // "" where it is about the whole device
	Text   string
}

// Summary is what a preview comes to, for somebody who has ten seconds.
type Summary struct {
	Level   Level
	Text    string // one line
	Trouble []Trouble
}

// Sum sums a preview up: what changes on how many devices, what reverts it if nobody confirms, what is wrong.
func Sum(list []Verdict, seen Seen) Summary {
	var s Summary
	var active []Verdict
	for _, v := range list {
		s.Trouble = append(s.Trouble, v.trouble()...)
		if !v.Idle || len(v.Conflicts) > 0 {
			active = append(active, v)
		}
	}
	s.Trouble = append(s.Trouble, beyondDevices(seen)...)
	slices.SortStableFunc(s.Trouble, func(a, b Trouble) int { return btoi(b.Stops) - btoi(a.Stops) })
	stops := 0
	for _, t := range s.Trouble {
		stops += btoi(t.Stops)
	}
	switch {
	case len(list) == 0:
		return Summary{Level: NothingToDo, Text: "The change is empty: nothing is staged."}
	case stops > 0:
		s.Level = NotReady
	case len(active) == 0:
		s.Level, s.Text = NothingToDo, "The change would change nothing: the devices hold all of it already."
		return s
	case len(s.Trouble) > 0:
		s.Level = WithCare
	default:
		s.Level = AllReady
	}
	head := headOf[s.Level]
	if seen.Digest == "" { // of a part there is nothing to commit
		head = "This part alone"
	}
	s.Text = fmt.Sprintf(
		"%s: %s. %s %s", head, sumOf(active), undoneBy(active), wrong(stops, len(s.Trouble)-stops),
	)
	return s
}

var headOf = map[Level]string{NotReady: "Not ready", WithCare: "Ready, with care", AllReady: "Ready"}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// sumOf tells what changes on how many devices.
func sumOf(list []Verdict) string {
	n := 0
	names := make([]string, len(list))
	for i, v := range list {
		n += v.Difference.Count()
		names[i] = v.Device
	}
	what := fmt.Sprintf("%d changes", n)
	if n == 1 {
		what = "1 change"
	}
	switch len(names) {
	case 0:
		return "nothing changes"
	case 1, 2:
		return what + " on " + strings.Join(names, " and ")
	}
	return fmt.Sprintf("%s on %d devices", what, len(names))
}

// undoneBy tells who reverts it if nobody confirms.
func undoneBy(list []Verdict) string {
	by := map[guard.Keeper][]string{}
	for _, v := range list {
		by[v.Guard.Keeper] = append(by[v.Guard.Keeper], v.Device)
	}
	delete(by, "") // cannot be changed at all, which is told as trouble
	parts := make([]string, 0, len(by))
	who := "the device reverts it"
	if len(list) > 1 && len(by) == 1 {
		who = "each device reverts it"
	}
	for _, k := range []struct {
		keeper guard.Keeper
		says   string
	}{
		{guard.ByDevice, who + " by itself"}, {guard.BySession, who + " when the session ends"},
		{guard.ByService, "only this service can revert it"},
	} {
		names := by[k.keeper]
		switch {
		case len(names) == 0:
			continue
		case len(by) > 1 && len(names) < 4:
			parts = append(parts, k.says+" on "+strings.Join(names, ", "))
		case len(by) > 1:
			parts = append(parts, fmt.Sprintf("%s on %d devices", k.says, len(names)))
		default:
			parts = append(parts, k.says)
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return "Unless you confirm, " + strings.Join(parts, "; ") + "."
}

// wrong counts what is wrong.
func wrong(stops, care int) string {
	switch {
	case stops+care == 0:
		return "Nothing wrong was found."
	case care == 0:
		return fmt.Sprintf("%s a commit.", standsIn(stops))
	case stops == 0:
		return fmt.Sprintf("%s a second look.", needs(care))
	}
	return fmt.Sprintf("%s a commit, %s a second look.", standsIn(stops), strings.ToLower(needs(care)))
}

func standsIn(n int) string {
	if n == 1 {
		return "1 thing stops"
	}
	return fmt.Sprintf("%d things stop", n)
}

func needs(n int) string {
	if n == 1 {
		return "1 needs"
	}
	return fmt.Sprintf("%d need", n)
}

// trouble tells what is wrong with a part: what stops a commit, then what needs care.
func (v Verdict) trouble() (out []Trouble) {
	add := func(stops bool, path, format string, args ...any) {
		out = append(out, Trouble{Stops: stops, Device: v.Device, Path: path, Text: fmt.Sprintf(format, args...)})
	}
	if !v.Read {
		add(true, "", "could not be read: %s", v.Trouble)
	}
	if v.Guard.Keeper == "" {
		add(true, "", "cannot be changed: %s", v.Guard.Why)
	}
	if v.Reserved != nil {
		add(true, "", "reserved by %s: %s", v.Reserved.Holder, v.Reserved.Reason)
	}
	if v.HeldBy != 0 {
		add(true, "", "the commit of change %d is not decided yet", v.HeldBy)
	}
	for _, c := range v.Conflicts {
		add(true, c.Path.String(), "conflict: %s", c.Why)
	}
	if v.Tried && v.Said != "" {
		add(true, "", "the device itself finds the result invalid: %s", v.Said)
	}
	for _, f := range v.Check.Findings {
		if f.Severity == check.Error {
			add(true, f.Path, "%s", f.Message)
		}
	}
	if v.Idle {
		return out
	}
	for i, f := range v.Forecasts {
		switch {
		case f.Answer == lockout.Keeps:
		case f.Answer == lockout.Unknown && i == 0:
			add(false, f.Path, "whether it keeps management access is not known: %s", f.Because)
		case f.Answer == lockout.Unknown:
			add(false, f.Path, "whether %s stays reachable is not known: %s", f.Device, f.Because)
		case i == 0 && v.Helpless():
			add(false, f.Path, "it would be cut off, and nobody could revert it: %s", f.Because)
		case i == 0:
			add(false, f.Path, "it would be cut off: %s", f.Because)
		default:
			add(false, f.Path, "it would cut off %s: %s", f.Device, f.Because)
		}
	}
	if v.Guard.Untried != "" {
		add(false, "", "reverting it is not tested: %s", v.Guard.Untried)
	}
	if !v.Tried && v.Said != "" {
		add(false, "", "the device %s", v.Said)
	}
	for _, f := range v.Check.Findings {
		if f.Severity == check.Warning {
			add(false, f.Path, "%s", f.Message)
		}
	}
	return out
}

// beyondDevices tells what is wrong beside the devices: what others have to say, and what becomes of traffic.
func beyondDevices(seen Seen) (out []Trouble) {
	if n := seen.Approval.Missing(); n > 0 {
		text := "1 approval is missing"
		if n > 1 {
			text = fmt.Sprintf("%d approvals are missing", n)
		}
		out = append(out, Trouble{Stops: true, Text: text})
	}
	for _, e := range seen.Traffic.Expected {
		switch {
		case e.Trouble != "":
			text := fmt.Sprintf("expectation %d is not known to be met: %s", e.ID, e.Trouble)
			out = append(out, Trouble{Stops: true, Text: text})
		case !e.Delivered:
			out = append(out, Trouble{Stops: true, Text: fmt.Sprintf("expectation %d is not met: %s", e.ID, e.Line)})
		}
	}
	for _, s := range seen.Traffic.Beside {
		if s.Accepted == nil {
			text := "at " + s.Where() + " it does to traffic what nobody expects"
			out = append(out, Trouble{Stops: true, Device: s.Device, Text: text})
		}
	}
	return out
}
