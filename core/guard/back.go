package guard

import "time"

// revert turns the whole commit back, each device from where it stands. The
// first reason is the one that counts.
func (m *machine) revert(reason, by string) {
	if m.Phase != Reverting {
		m.Phase, m.Reason, m.By = Reverting, reason, by
		m.NewDeadline = time.Time{}
	}
	for i := range m.Devices {
		m.goBack(i)
	}
	m.finish()
}

// goBack sends one device back. Those with an answer outstanding that must be
// waited for follow when it comes.
func (m *machine) goBack(i int) {
	d := &m.Devices[i]
	switch d.Standing {
	case Waiting:
		d.Standing = IsUntouched
	case Ready:
		m.release(i)
	case Held:
		d.Standing = IsReverting
		m.sendBack(i, d.Keeper == ByService, false)
	case Confirming:
		d.Taken, d.Denied = false, false
		// Perhaps it is confirmed by now. A cancel tells nothing then, and what
		// is looked at afterwards makes it write the former configuration.
		d.Standing = IsReverting
		m.sendBack(i, false, false)
	case IsConfirmed:
		d.Standing = IsReverting
		m.sendBack(i, true, false)
	}
}

// sendBack has a device cancel, or write its former configuration.
func (m *machine) sendBack(i int, write, again bool) {
	kind := DoCancel
	if write {
		kind = DoRestore
	}
	m.Devices[i].Wrote, m.Devices[i].Extending = write, false
	m.actions = append(m.actions, Action{Kind: kind, Device: i, Again: again})
}

func (m *machine) seenGoingBack(d *Device, i int) {
	d.Odd = m.ev.Found == FoundOther && (d.Odd || d.Wrote)
	switch {
	case m.ev.Found == FoundBase && m.ev.At.Before(d.UnsureUntil):
		m.lookAgain(i)
	case m.ev.Found == FoundBase:
		d.Standing, d.Said = IsReverted, ""
		m.finish()
	default:
		// Perhaps a part of it was taken, or came back at another place: writing the
		// former one back mends that. Where it does not, somebody may have changed the
		// same: a person decides then, or it reverts after all.
		if m.ev.Found == FoundOther && d.Refusals == 0 && (!d.Odd || d.Said == "") {
			d.Said = "holds neither the former nor the new configuration at the places of this change"
		}
		// Cancelling fails where nothing is pending, writing fails where something
		// is: what did not help is followed by the other.
		m.sendBack(i, d.Keeper == ByService || !d.Wrote, true)
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
	if m.Phase != Settling && m.Phase != Reverting {
		return
	}
	count := map[Standing]int{}
	for _, d := range m.Devices {
		count[d.Standing]++
		switch {
		case m.Phase == Settling && d.Settled:
		case m.Phase == Reverting && (d.Standing == IsReverted || d.Standing == IsAccepted ||
			d.Standing == IsUntouched):
		default:
			return
		}
	}
	switch all := len(m.Devices); {
	case count[IsConfirmed] == all:
		m.Outcome = Confirmed
	case count[IsUntouched] == all:
		m.Outcome = Failed
	case count[IsReverted]+count[IsUntouched] == all:
		m.Outcome = Reverted
	default:
		m.Outcome = Partly
	}
	m.Phase = Done
	m.actions = append(m.actions, Action{Kind: Conclude, Device: -1})
}

// restarted goes on after a crash: all answers that were outstanding are lost,
// and so are all sessions; each device is asked where it stands.
func (m *machine) restarted() {
	switch m.Phase {
	case Idle, Preparing, AllReady:
		m.forget()
		m.revert("the service stopped before anything was committed", "")
		return
	case Applying:
		m.forget()
		m.revert("the service stopped while the commit was on its way", "")
		return
	case Probing, Awaiting, Asking:
		m.forget()
		m.resume()
		return
	}
	m.forget()
	for i := range m.Devices {
		d := &m.Devices[i]
		switch {
		case m.Phase == Settling && !d.Settled:
			m.do(DoSettle, i)
		case d.Standing == Confirming && d.Keeper == ByDevice && !d.Taken:
			m.do(DoConfirm, i)
		case d.Standing == Confirming, d.Standing == IsReverting:
			m.lookAgain(i)
		case m.Phase == Reverting:
			m.goBack(i)
		}
	}
	m.finish()
}

// resume goes on with a hold, as far as it outlived the service.
func (m *machine) resume() {
	// A clock that was set back while the service was down would lengthen the
	// hold. No more time is left than there was.
	if back := m.Last.Sub(m.ev.At); back > 0 {
		m.Deadline = m.Deadline.Add(-back)
	}
	if !m.ev.At.Before(m.Deadline) {
		m.revert("the hold ended at "+stamp(m.Deadline)+" while the service was down", "")
		return
	}
	for _, d := range m.Devices {
		if d.Keeper == BySession {
			m.revert("the service stopped, and with it the session that was the hold on "+d.Name, "")
			return
		}
		if d.Standing != Held {
			m.revert("the service stopped between two waves, before "+d.Name+" was committed", "")
			return
		}
	}
	m.Phase, m.By = Probing, ""
	m.prove(func(Device) bool { return true })
}

// forget turns outstanding answers into what is known without them.
func (m *machine) forget() {
	m.NewDeadline = time.Time{}
	for i := range m.Devices {
		d := &m.Devices[i]
		d.Releasing, d.Extending = false, false
		// The clock may have been set while the service was down: what a time alone
		// would prove begins anew.
		if !d.GoesBackBy.IsZero() {
			d.GoesBackBy = later(d.GoesBackBy, m.ev.At.Add(unsure+max(d.Timer, m.DeviceTimeout())))
		}
		if !d.UnsureUntil.IsZero() {
			d.UnsureUntil = later(d.UnsureUntil, m.ev.At.Add(unsure))
		}
		switch d.Standing {
		case InPrepare:
			d.Standing = Ready
		case Committing:
			d.Standing = Held
			m.doubt(d)
		}
	}
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}
