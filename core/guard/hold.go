package guard

import (
	"fmt"
	"slices"
	"time"
)

const cutOff = "could not be reached after the commit, which probably cut management access"

// ByItsProbes is whose word it is where the probes confirm.
const ByItsProbes = "probes"

func (m *machine) tick() {
	now := m.ev.At
	switch m.Phase {
	case AllReady:
		if !now.Before(m.LapsesAt) {
			m.revert("it was prepared until "+stamp(m.LapsesAt)+" and not committed by then", "")
			return
		}
		for i := range m.Devices {
			m.actions = append(m.actions, Action{Kind: DoLook, Device: i, Watch: true})
		}
	case Applying, Probing, Awaiting, Asking:
		if !now.Before(m.Deadline) {
			m.revert("the hold ended at "+stamp(m.Deadline)+" without a confirm"+m.lost(), "")
			return
		}
		if m.Phase != Asking {
			m.watch()
		}
		if m.Phase == Awaiting {
			m.Warned = m.Warned || !now.Before(m.Deadline.Add(-Warning(m.Hold)))
			m.confirmByProbes()
		}
	}
}

// watch looks at devices and runs probes that were proved before, to notice
// what goes wrong meanwhile.
func (m *machine) watch() {
	for i, d := range m.Devices {
		if d.Standing == Held && d.Looked {
			m.actions = append(m.actions, Action{Kind: DoLook, Device: i, Watch: true})
		}
	}
	for i, p := range m.Probes {
		if p.Result != "" {
			m.actions = append(m.actions, Action{Kind: DoProbe, Device: -1, Probe: i, Watch: true})
		}
	}
}

// lost names the devices that stopped answering during the hold.
func (m *machine) lost() string {
	text := ""
	for _, d := range m.Devices {
		if m.Phase == Probing && d.Standing == Held && !d.Looked {
			text += "; " + d.Name + " " + cutOff
		} else if !d.LostAt.IsZero() {
			text += fmt.Sprintf("; %s could not be reached since %s: %s", d.Name, stamp(d.LostAt), d.Said)
		}
	}
	return text
}

func (m *machine) seenHeld(d *Device) {
	switch m.Phase {
	case Applying, Probing, Asking, Awaiting:
	default:
		return
	}
	if m.ev.Found != FoundResult {
		d.Said = "its running is not what was committed"
		if m.ev.Found == FoundBase {
			d.Standing, d.Said = IsReverted, "reverted before it was confirmed"
			if m.Phase == Probing && !d.Looked { // perhaps the commit never took effect
				d.Said = "does not hold the change: it was seen with its former configuration"
			}
		}
		m.revert(d.Name+" "+d.Said, "")
		return
	}
	d.Tells = d.Tells || m.ev.Pending == IsPending
	if d.Looked {
		return
	}
	d.Looked = true
	switch m.Phase {
	case Probing:
		if m.looked() {
			m.runProbes()
		}
	case Asking:
		if m.looked() {
			m.keep()
		}
	}
}

// looked reports whether every device in effect was seen with the result.
func (m *machine) looked() bool {
	return !slices.ContainsFunc(m.Devices, func(d Device) bool { return d.Standing == Held && !d.Looked })
}

// due reports whether a probe can be run after the wave begun last.
func (m *machine) due(p ProbeStanding) bool {
	return p.Device == "" || slices.ContainsFunc(
		m.Devices, func(d Device) bool { return d.Name == p.Device && d.Wave <= m.Wave },
	) ||
		!slices.ContainsFunc(m.Devices, func(d Device) bool { return d.Name == p.Device })
}

func (m *machine) runProbes() {
	for i := range m.Probes {
		if p := &m.Probes[i]; m.due(*p) {
			p.Result, p.Said, p.Since = "", "", time.Time{}
			m.actions = append(m.actions, Action{Kind: DoProbe, Device: -1, Probe: i, Patient: true})
		}
	}
	m.probesRun()
}

func (m *machine) probed(p *ProbeStanding) {
	switch m.Phase {
	case Applying, Probing, Awaiting:
	default:
		return
	}
	result := Passed
	if m.ev.Kind == ProbeFailed {
		result = Missed
	}
	if p.Result != result || p.Said != m.ev.Err {
		if p.Result != result {
			p.Since = m.ev.At
		}
		p.Result, p.Said = result, m.ev.Err
	}
	switch {
	case result == Missed && m.RevertOnProbe:
		m.revert(fmt.Sprintf("probe %s failed: %s", p.Text, p.Said), ByItsProbes)
	case m.Phase == Probing:
		m.probesRun()
	case m.Phase == Awaiting:
		m.confirmByProbes()
	}
}

// probesRun goes on once every probe that is due has a result: to the next
// wave where all pass, and after the last wave to the person.
func (m *machine) probesRun() {
	last, next := true, 0
	for _, d := range m.Devices {
		if d.Wave > m.Wave && (last || d.Wave < next) {
			last, next = false, d.Wave
		}
	}
	for _, p := range m.Probes {
		if m.due(p) && (p.Result == "" || p.Result == Missed && !last) {
			return
		}
	}
	switch {
	case !m.looked():
	case !m.ev.At.Before(m.Deadline):
		m.revert("the hold ended while management access was being proved", "")
	case last:
		m.Phase = Awaiting
		m.confirmByProbes()
	default:
		m.Wave = next
		m.commitWave()
	}
}

// confirmByProbes confirms where the probes may, and all pass.
func (m *machine) confirmByProbes() {
	lost := slices.ContainsFunc(m.Devices, func(d Device) bool { return !d.LostAt.IsZero() })
	if m.ByProbes && !lost && m.May(Event{Kind: SayConfirm, At: m.ev.At}) == nil {
		m.ask(ByItsProbes)
	}
}

// ask begins a confirm: every device is asked once more.
func (m *machine) ask(by string) {
	m.Phase, m.By = Asking, by
	for i := range m.Devices {
		m.Devices[i].Looked = false
		m.actions = append(m.actions, Action{Kind: DoLook, Device: i, Asked: true})
	}
}

// keep confirms: every device was asked and holds the change. Where the
// service alone would have taken it back, there is nothing to be said to it.
func (m *machine) keep() {
	if !m.ev.At.Before(m.Deadline) {
		m.revert("the hold ended before every device had answered", "")
		return
	}
	m.Phase = ConfirmingAll
	for i := range m.Devices {
		d := &m.Devices[i]
		if d.Keeper == ByService {
			d.Standing = IsConfirmed
			continue
		}
		d.Standing, d.Taken, d.Denied = Confirming, false, false
		m.do(DoConfirm, i)
	}
	m.allKept()
}

// until moves the end of the hold. A later end holds once every device's timer
// is known to run longer; an earlier one at once, as we revert before them.
func (m *machine) until(end time.Time) {
	if end.Before(m.Deadline) {
		m.Deadline = end
	}
	m.NewDeadline = end
	for i := range m.Devices {
		d := &m.Devices[i]
		if d.Keeper == ByService {
			continue
		}
		d.Extending = true
		// Whether it is carried out or not, by then its timer has fired.
		d.Timer = max(d.Timer, m.TimeoutUntil(end, m.ev.At))
		if latest := m.ev.At.Add(unsure + m.TimeoutUntil(end, m.ev.At)); latest.After(d.GoesBackBy) {
			d.GoesBackBy = latest
		}
		m.actions = append(m.actions, Action{Kind: DoExtend, Device: i, Until: end})
	}
	m.extended()
}

func (m *machine) timerSet(d *Device) {
	if !d.Extending {
		return
	}
	d.Extending = false
	if m.ev.Kind == TimerNotSet {
		d.Said = "its timer could not be set: " + m.ev.Err
		m.NewDeadline = time.Time{}
	}
	m.extended()
}

func (m *machine) extended() {
	if m.NewDeadline.IsZero() || slices.ContainsFunc(m.Devices, func(d Device) bool { return d.Extending }) {
		return
	}
	m.Deadline, m.NewDeadline = m.NewDeadline, time.Time{}
	m.Warned = !m.ev.At.Before(m.Deadline.Add(-Warning(m.Hold)))
	for i := range m.Devices {
		if d := &m.Devices[i]; d.LostAt.IsZero() {
			d.Said = ""
		}
	}
}

// seenConfirming decides a confirm by what was read after it. An answer proves
// nothing, and neither does the time alone: what counts is that the device holds
// the change and nothing is pending that would take it away. That is so
//   - where the device tells by its lock that a commit pends, and now tells that none
//     does;
//   - where the session was the hold, it was ended in good form after the confirm
//     (which is part of a confirm that was taken), and the change is still there;
//   - elsewhere once the device's own timer must be over, and it answered the confirm
//     one way or the other.
//
// Where it cannot be told it is taken back: that can be proved.
func (m *machine) seenConfirming(d *Device, i int) {
	pends := m.ev.Pending == IsPending
	told := !pends && (d.Tells && m.ev.Pending == NonePends || d.Keeper == BySession && d.Taken)
	over := !pends && m.ev.At.After(d.GoesBackBy) && (d.Taken || d.Denied)
	lost := d.Keeper == BySession && !d.Taken && !d.Tells // the session is gone, and nothing else could tell
	switch {
	case m.ev.Found == FoundBase:
		d.Standing, d.Said = IsReverted, "had reverted when it was to be confirmed"
		m.revert(d.Name+" "+d.Said, "")
	case !told && lost && m.ev.At.After(d.GoesBackBy):
		m.revert(d.Name+" did not answer the confirm, and does not tell whether it carried it out", "")
	case !told && !over:
		switch {
		case d.Taken && pends:
			d.Said = "answered ok to the confirm, and still has the commit pending: it is asked again"
		case d.Taken:
			d.Said = "answered ok to the confirm, and does not tell whether a commit is still pending: it counts as " +
				"kept if it still holds the change at " + stamp(d.GoesBackBy) + ", when its own timer must be over"
		}
		if d.Keeper == ByDevice && (pends || !d.Taken) {
			m.again(DoConfirm, i)
			return
		}
		m.lookAgain(i) // only the session that is gone could confirm; or there is nothing to do but wait
	case m.ev.Found == FoundResult:
		m.kept(d)
	default:
		m.revert(
			d.Name+" holds neither the former nor the new configuration, and it is not known whether it was "+
				"confirmed before that",
			"",
		)
	}
}

func (m *machine) notReached(d *Device, i int) {
	d.Unreachable, d.Said = true, m.ev.Err
	switch {
	case d.Standing == IsReverting, d.Standing == Confirming:
		m.lookAgain(i)
	case d.Standing != Held:
	case m.Phase == Probing && !d.Looked:
		m.revert(fmt.Sprintf("%s %s: %s", d.Name, cutOff, m.ev.Err), "")
	case m.Phase == Asking:
		// Nothing was confirmed anywhere; the hold goes on and may be confirmed again.
		m.Phase, m.By = Awaiting, ""
		for i := range m.Devices {
			m.Devices[i].Looked = true
		}
	case d.LostAt.IsZero():
		d.LostAt = m.ev.At
	}
}

func (m *machine) kept(d *Device) {
	d.Standing, d.Said, d.Unreachable = IsConfirmed, "", false
	d.GoesBackBy = time.Time{} // confirmed: no timer of its own runs any more
	m.allKept()
}

func (m *machine) allKept() {
	if m.Phase == ConfirmingAll && m.every(IsConfirmed) {
		m.Phase, m.Outcome = Settling, Confirmed
		for i := range m.Devices {
			m.do(DoSettle, i)
		}
	}
}
