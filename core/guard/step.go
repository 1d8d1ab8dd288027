package guard

import (
	"fmt"
	"slices"
	"time"
)

// Step gives the state after an event and what is to be done. Events that make
// no sense in a state (a late reply, a word that came too late) change nothing.
func Step(s State, e Event) (State, []Action) {
	if s.Phase == Done {
		return s, nil
	}
	s.Devices = slices.Clone(s.Devices)
	m := machine{State: s, ev: e}
	m.step()
	return m.State, m.actions
}

type machine struct {
	State
	ev      Event
	actions []Action
}

func (m *machine) do(kind ActionKind, device int) {
	m.actions = append(m.actions, Action{Kind: kind, Device: device})
}

func (m *machine) every(standing Standing) bool {
	for _, d := range m.Devices {
		if d.Standing != standing {
			return false
		}
	}
	return true
}

func (m *machine) step() {
	switch m.ev.Kind {
	case Start:
		if m.Phase == Idle {
			m.Phase = Preparing
			for i := range m.Devices {
				m.Devices[i].Standing = InPrepare
				m.do(DoPrepare, i)
			}
		}
	case Tick:
		if m.Phase != Keeping && m.Phase != Settling && m.Phase != Reverting && !m.Deadline.IsZero() && !m.ev.At.Before(m.Deadline) {
			m.revert("the hold ended at "+m.Deadline.UTC().Format(time.RFC3339)+" without a confirm"+m.lost(), "")
		} else if m.Phase == Awaiting {
			for i := range m.Devices {
				m.actions = append(m.actions, Action{Kind: DoLook, Device: i, Watch: true})
			}
		}
	case SayRevert:
		if m.May(SayRevert, m.ev.At) == nil {
			m.revert("reverted by "+m.ev.By, m.ev.By)
		}
	case SayConfirm:
		if m.May(SayConfirm, m.ev.At) == nil {
			m.Phase, m.By = Asking, m.ev.By
			m.lookAtAll(false)
		}
	case Restarted:
		m.restarted()
	default:
		if m.ev.Device >= 0 && m.ev.Device < len(m.Devices) {
			m.replied(&m.Devices[m.ev.Device], m.ev.Device)
		}
	}
}

const cutOff = "could not be reached after the commit, which probably cut the way in"

// lost names the devices that stopped answering during the hold.
func (m *machine) lost() string {
	text := ""
	for _, d := range m.Devices {
		if m.Phase == Probing && !d.Looked {
			text += "; " + d.Name + " " + cutOff
		} else if !d.LostAt.IsZero() {
			text += fmt.Sprintf("; %s could not be reached since %s: %s", d.Name, d.LostAt.UTC().Format(time.RFC3339), d.Said)
		}
	}
	return text
}

func (m *machine) lookAtAll(patient bool) {
	for i := range m.Devices {
		m.Devices[i].Looked = false
		m.actions = append(m.actions, Action{Kind: DoLook, Device: i, Patient: patient})
	}
}

// replied takes what came of an action on one device.
func (m *machine) replied(d *Device, i int) {
	switch m.ev.Kind {
	case Prepared:
		if d.Standing == InPrepare {
			d.Standing = Ready
			m.prepared(i)
		}
	case PrepareFailed:
		if d.Standing == InPrepare {
			d.Standing, d.Said = Ready, m.ev.Err
			m.revert(fmt.Sprintf("%s: %s", d.Name, m.ev.Err), "")
		}
	case Applied:
		m.applied(d, i)
	case CommitRefused:
		if d.Standing == Committing {
			d.Standing, d.Said = Ready, m.ev.Err
			m.revert(fmt.Sprintf("%s refused the commit: %s", d.Name, m.ev.Err), "")
		}
	case CommitUnknown:
		if d.Standing == Committing {
			m.doubt(d)
			d.Standing, d.Said, d.Unreachable = Held, m.ev.Err, true
			m.revert(fmt.Sprintf("%s did not answer the commit: %s", d.Name, m.ev.Err), "")
		}
	case Seen:
		if d.Unreachable {
			d.Unreachable, d.Said, d.LostAt = false, "", time.Time{}
		}
		m.seen(d, i)
	case NotReached:
		m.notReached(d, i)
	case ConfirmTaken:
		if d.Standing == Confirming {
			m.kept(d)
		}
	case ConfirmFailed:
		if d.Standing == Confirming {
			d.Said = m.ev.Err
			m.again(DoLook, i)
		}
	case CancelDone, RestoreDone:
		if d.Standing == GoingBack {
			if m.ev.Err != "" {
				d.Said = m.ev.Err
			}
			m.do(DoLook, i)
		}
	case ReleaseDone:
		if d.Releasing {
			d.Releasing, d.Standing = false, IsUntouched
			m.finish()
		}
	case SettleDone:
		if d.Standing == IsKept {
			d.Settled, d.Saved = true, m.ev.Saved
			if m.ev.Err != "" {
				d.Said = m.ev.Err
			}
			m.finish()
		}
	}
}

func (m *machine) again(kind ActionKind, i int) {
	m.actions = append(m.actions, Action{Kind: kind, Device: i, Again: true})
}

func (m *machine) prepared(i int) {
	if m.Phase == Reverting {
		m.release(i)
		return
	}
	if m.Phase != Preparing || !m.every(Ready) {
		return
	}
	m.Phase = Applying
	m.Deadline = m.ev.At.Add(m.Hold)
	for i := range m.Devices {
		m.Devices[i].Standing = Committing
		m.do(DoCommit, i)
	}
}

func (m *machine) applied(d *Device, i int) {
	if d.Standing != Committing {
		return
	}
	d.Standing, d.GoesBackBy = Held, m.ev.At.Add(m.DeviceTimeout())
	switch {
	case m.Phase == Reverting:
		m.goBack(i)
	case m.every(Held):
		m.Phase = Probing
		m.lookAtAll(true)
	}
}

// seen takes what a new session read from a device.
func (m *machine) seen(d *Device, i int) {
	switch d.Standing {
	case Held:
		m.seenHeld(d, i)
	case Confirming:
		m.seenConfirming(d, i)
	case GoingBack:
		m.seenGoingBack(d, i)
	}
}

func (m *machine) seenHeld(d *Device, i int) {
	if m.Phase != Probing && m.Phase != Asking && m.Phase != Awaiting {
		return
	}
	if m.ev.Found != FoundResult {
		d.Said = "its running is not what was committed"
		if m.ev.Found == FoundBase {
			d.Standing, d.Said = IsReverted, "went back before it was confirmed"
			if m.Phase == Probing { // perhaps the commit never took effect
				d.Said = "does not hold the change: it was seen with its former configuration"
			}
		}
		m.revert(d.Name+" "+d.Said, "")
		return
	}
	d.Looked = true
	if m.Phase == Awaiting {
		return
	}
	if slices.ContainsFunc(m.Devices, func(d Device) bool { return !d.Looked }) {
		return
	}
	if m.Phase == Probing {
		m.Phase = Awaiting
		if !m.ev.At.Before(m.Deadline) {
			m.revert("the hold ended while the way in was being proved", "")
		}
		return
	}
	if !m.ev.At.Before(m.Deadline) {
		m.revert("the hold ended before every device had answered", "")
		return
	}
	m.Phase = Keeping
	for i := range m.Devices {
		m.Devices[i].Standing = Confirming
		m.do(DoConfirm, i)
	}
}

// seenConfirming decides a confirm that was refused or never answered. While
// the device's own timer may still be running, what it holds proves nothing.
func (m *machine) seenConfirming(d *Device, i int) {
	switch {
	case m.ev.Found == FoundBase:
		d.Standing, d.Said = IsReverted, "had gone back when it was to be confirmed"
		m.revert(d.Name+" "+d.Said, "")
		m.finish()
	case m.ev.At.After(d.GoesBackBy) && m.ev.Found == FoundResult:
		m.kept(d) // its timer is over and it did not go back: it took the confirm
	case m.ev.At.After(d.GoesBackBy):
		m.again(DoLook, i)
	case m.Phase == Keeping:
		m.again(DoConfirm, i)
	default:
		m.again(DoLook, i)
	}
}

func (m *machine) seenGoingBack(d *Device, i int) {
	switch {
	case m.ev.Found == FoundBase && m.ev.At.Before(d.UnsureUntil):
		m.again(DoLook, i)
	case m.ev.Found == FoundBase:
		d.Standing = IsReverted
		d.Said = ""
		m.finish()
	case m.ev.Found == FoundResult && m.ev.At.After(d.GoesBackBy):
		// Its timer is over and nothing has gone back: that is up to us now.
		m.again(DoRestore, i)
	case m.ev.Found == FoundResult:
		m.again(DoCancel, i)
	default:
		d.Said = "holds neither the former nor the new configuration at the places of this change"
		m.again(DoLook, i)
	}
}

func (m *machine) notReached(d *Device, i int) {
	d.Unreachable, d.Said = true, m.ev.Err
	switch {
	case d.Standing == GoingBack:
		m.again(DoLook, i)
	case d.Standing == Confirming:
		m.again(DoLook, i)
	case d.Standing == Held && m.Phase == Probing:
		m.revert(fmt.Sprintf("%s %s: %s", d.Name, cutOff, m.ev.Err), "")
	case d.Standing == Held && m.Phase == Asking:
		// Nothing was confirmed anywhere; the hold goes on and may be confirmed again.
		m.Phase, m.By = Awaiting, ""
	case d.Standing == Held && m.Phase == Awaiting && d.LostAt.IsZero():
		d.LostAt = m.ev.At
	}
}

func (m *machine) kept(d *Device) {
	d.Standing, d.Said, d.Unreachable = IsKept, "", false
	d.GoesBackBy = time.Time{} // confirmed: no timer of its own runs any more
	if m.Phase == Reverting {
		// It took the confirm, but another device did not: take it back.
		d.Standing = GoingBack
		for i := range m.Devices {
			if &m.Devices[i] == d {
				m.do(DoRestore, i)
			}
		}
		return
	}
	if m.every(IsKept) {
		m.Phase, m.Outcome = Settling, Kept
		for i := range m.Devices {
			m.do(DoSettle, i)
		}
	}
}

// revert turns the whole commit back, each device from where it stands. The
// first reason is the one that counts.
func (m *machine) revert(reason, by string) {
	if m.Phase != Reverting {
		m.Phase, m.Reason, m.By = Reverting, reason, by
	}
	for i := range m.Devices {
		m.goBack(i)
	}
	m.finish()
}

// goBack sends one device back. Those with an answer outstanding follow when
// it comes.
func (m *machine) goBack(i int) {
	d := &m.Devices[i]
	switch d.Standing {
	case Waiting:
		d.Standing = IsUntouched
	case Ready:
		m.release(i)
	case Held:
		d.Standing = GoingBack
		m.do(DoCancel, i)
	case IsKept:
		d.Standing = GoingBack
		m.do(DoRestore, i)
	}
}

func (m *machine) release(i int) {
	if !m.Devices[i].Releasing {
		m.Devices[i].Releasing = true
		m.do(DoRelease, i)
	}
}

// finish concludes when nothing is left to be done.
func (m *machine) finish() {
	touched := false
	for _, d := range m.Devices {
		switch {
		case m.Phase == Settling && d.Settled:
		case m.Phase == Reverting && d.Standing == IsReverted:
			touched = true
		case m.Phase == Reverting && d.Standing == IsUntouched:
		default:
			return
		}
	}
	if m.Phase == Reverting {
		m.Outcome = Failed
		if touched {
			m.Outcome = Reverted
		}
	}
	m.Phase = Done
	m.actions = append(m.actions, Action{Kind: Conclude, Device: -1})
}

// restarted goes on after a crash: all answers that were outstanding are lost,
// so each device is asked where it stands.
func (m *machine) restarted() {
	switch m.Phase {
	case Idle, Preparing:
		m.forget()
		m.revert("the service stopped before anything was committed", "")
		return
	case Applying:
		m.forget()
		m.revert("the service stopped while the commit was on its way", "")
		return
	case Probing, Awaiting, Asking:
		m.Phase, m.By = Probing, ""
		if !m.ev.At.Before(m.Deadline) {
			m.revert("the hold ended at "+m.Deadline.UTC().Format(time.RFC3339)+" while the service was down", "")
			return
		}
		m.lookAtAll(true)
		return
	}
	m.forget()
	for i := range m.Devices {
		d := &m.Devices[i]
		switch {
		case m.Phase == Settling && !d.Settled:
			m.do(DoSettle, i)
		case d.Standing == Confirming && m.Phase == Keeping:
			m.do(DoConfirm, i)
		case d.Standing == Confirming, d.Standing == GoingBack:
			m.do(DoLook, i)
		case m.Phase == Reverting:
			m.goBack(i)
		}
	}
	m.finish()
}

// forget turns outstanding answers into what is known without them.
func (m *machine) forget() {
	for i := range m.Devices {
		d := &m.Devices[i]
		d.Releasing = false
		switch d.Standing {
		case InPrepare:
			d.Standing = Ready
		case Committing:
			d.Standing = Held
			m.doubt(d)
		}
	}
}

// doubt notes that a commit was sent and not answered.
func (m *machine) doubt(d *Device) {
	d.UnsureUntil = m.ev.At.Add(unsure)
	d.GoesBackBy = d.UnsureUntil.Add(m.DeviceTimeout())
}
