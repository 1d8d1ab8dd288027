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
	s.Devices, s.Probes = slices.Clone(s.Devices), slices.Clone(s.Probes)
	m := machine{State: s, ev: e}
	m.step()
	m.Last = e.At
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

func (m *machine) again(kind ActionKind, device int) {
	m.actions = append(m.actions, Action{Kind: kind, Device: device, Again: true})
}

func (m *machine) every(standing Standing) bool {
	return !slices.ContainsFunc(m.Devices, func(d Device) bool { return d.Standing != standing })
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
		m.tick()
	case SayCommit, SayConfirm, SayRevert, SayUntil, SayAccept:
		if m.May(m.ev) == nil {
			m.word()
		}
	case Restarted:
		m.restarted()
	case ProbePassed, ProbeFailed:
		if m.ev.Probe >= 0 && m.ev.Probe < len(m.Probes) {
			m.probed(&m.Probes[m.ev.Probe])
		}
	default:
		if m.ev.Device >= 0 && m.ev.Device < len(m.Devices) {
			m.replied(&m.Devices[m.ev.Device], m.ev.Device)
		}
	}
}

// word carries out a person's word that may be taken.
func (m *machine) word() {
	switch m.ev.Kind {
	case SayCommit:
		m.begin()
	case SayConfirm:
		m.ask(m.ev.By)
	case SayRevert:
		m.revert("reverted by "+m.ev.By, m.ev.By)
	case SayUntil:
		m.until(m.ev.Until)
	case SayAccept:
		d := &m.Devices[m.ev.Device]
		said := "was not seen with its former configuration"
		if d.Odd {
			said = "holds neither the former nor the new configuration"
		}
		d.Standing, d.Said = IsAccepted, said+", and was accepted so by "+m.ev.By
		m.finish()
	}
}

// replied takes what came of an action on one device.
func (m *machine) replied(d *Device, i int) {
	switch m.ev.Kind {
	case Prepared, PrepareFailed, Lapsed:
		m.preparedOrNot(d, i)
	case Applied, CommitRefused, CommitUnknown:
		m.committed(d, i)
	case SessionLost:
		m.sessionLost(d)
	case Seen:
		if d.Unreachable {
			d.Unreachable, d.Said, d.LostAt = false, "", time.Time{}
		}
		m.seen(d, i)
	case NotReached:
		m.notReached(d, i)
	case TimerSet, TimerNotSet:
		m.timerSet(d)
	case ConfirmTaken:
		if d.Standing != Confirming {
			return
		}
		d.Taken = true
		if m.ev.Found == "" {
			m.readBack(i)
			return
		}
		m.seenConfirming(d, i)
	case ConfirmFailed:
		if d.Standing == Confirming {
			d.Said, d.Denied = m.ev.Err, d.Denied || m.ev.Refused
			m.lookAgain(i)
		}
	case CancelDone, RestoreDone:
		if d.Standing == IsReverting {
			switch {
			case m.ev.Kind != RestoreDone: // a cancel is refused where nothing is pending, too
			case m.ev.Refused:
				d.Refusals++
			case m.ev.Err == "":
				d.Refusals = 0
			}
			switch {
			// what is odd of it stays said
			case (d.Odd || d.Refusals > 0) && (m.ev.Err == "" || m.ev.Kind == CancelDone):
			case m.ev.Err != "":
				d.Said = m.ev.Err
			case m.ev.Kind == RestoreDone:
				d.Said = "its former configuration was written, and is to be read back"
			default:
				d.Said = "was told to cancel, and is to be read back"
			}
			m.do(DoLook, i)
		}
	case ReleaseDone:
		if d.Releasing {
			d.Releasing, d.Standing = false, IsUntouched
			m.finish()
		}
	case SettleDone:
		if d.Standing == IsConfirmed {
			d.Settled, d.Saved = true, m.ev.Saved
			if m.ev.Err != "" {
				d.Said = m.ev.Err
			}
			if m.ev.Found == FoundBase {
				d.Standing = IsReverted
				if m.Reason == "" {
					m.Reason = d.Name + " was read back with its former configuration after it had been " +
						"kept: it lost it"
				}
			}
			m.finish()
		}
	}
}

func (m *machine) preparedOrNot(d *Device, i int) {
	switch {
	case m.ev.Kind == Lapsed && d.Standing == Ready && m.Phase == AllReady:
		d.Said = m.ev.Err
		m.revert(fmt.Sprintf("what was prepared on %s has lapsed: %s", d.Name, m.ev.Err), "")
	case m.ev.Kind == PrepareFailed && d.Standing == InPrepare:
		d.Standing, d.Said = Ready, m.ev.Err
		m.revert(fmt.Sprintf("%s: %s", d.Name, m.ev.Err), "")
	case m.ev.Kind == Prepared && d.Standing == InPrepare:
		d.Standing = Ready
		switch {
		case m.Phase == Reverting:
			m.release(i)
		case m.Phase != Preparing || !m.every(Ready):
		case m.Ahead > 0:
			m.Phase, m.LapsesAt = AllReady, m.ev.At.Add(m.Ahead)
		default:
			m.begin()
		}
	}
}

// begin commits the first wave; the hold runs from here.
func (m *machine) begin() {
	m.Deadline = m.ev.At.Add(m.Hold)
	m.Wave = slices.MinFunc(m.Devices, func(a, b Device) int { return a.Wave - b.Wave }).Wave
	m.commitWave()
}

func (m *machine) commitWave() {
	m.Phase = Applying
	for i := range m.Devices {
		if m.Devices[i].Wave == m.Wave {
			m.Devices[i].Standing = Committing
			m.do(DoCommit, i)
		}
	}
}

func (m *machine) committed(d *Device, i int) {
	if d.Standing != Committing {
		return
	}
	switch m.ev.Kind {
	case CommitRefused:
		d.Standing, d.Said = Ready, m.ev.Err
		why := "could not be committed: "
		if m.ev.Refused {
			why = "refused the commit: "
		}
		m.revert(d.Name+" "+why+m.ev.Err, "")
		return
	case CommitUnknown:
		m.doubt(d)
		d.Standing, d.Said, d.Unreachable = Held, m.ev.Err, true
		m.revert(
			fmt.Sprintf("%s did not answer the commit, which may have cut management access: %s", d.Name, m.ev.Err), "",
		)
		return
	}
	d.Standing = Held
	if d.Keeper != ByService {
		d.Timer = m.DeviceTimeout()
		d.GoesBackBy = m.ev.At.Add(d.Timer)
	}
	switch {
	case m.Phase == Reverting:
		m.goBack(i)
	case !slices.ContainsFunc(m.Devices, func(d Device) bool { return d.Wave == m.Wave && d.Standing != Held }):
		m.Phase = Probing
		m.prove(func(d Device) bool { return d.Wave == m.Wave })
	}
}

// sessionLost takes the end of a session that was meant to stay.
func (m *machine) sessionLost(d *Device) {
	switch {
	case d.Standing == Ready && m.Phase == AllReady:
		m.revert(
			fmt.Sprintf("what was prepared on %s has lapsed: the session that held it ended: %s", d.Name, m.ev.Err), "",
		)
	case d.Standing == Held && d.Keeper == BySession:
		m.revert(fmt.Sprintf("the session that was the hold on %s ended: %s", d.Name, m.ev.Err), "")
	}
}

// prove asks devices that were just committed for the first time.
func (m *machine) prove(which func(Device) bool) {
	for i := range m.Devices {
		if which(m.Devices[i]) {
			m.Devices[i].Looked = false
			m.actions = append(
				m.actions, Action{Kind: DoLook, Device: i, Patient: true, Lock: m.Devices[i].Keeper != ByService},
			)
		}
	}
}

// lookAgain asks a device that was asked before; one that was to be confirmed
// also whether a commit is still pending.
func (m *machine) lookAgain(i int) {
	m.actions = append(
		m.actions, Action{Kind: DoLook, Device: i, Again: true, Lock: m.Devices[i].Standing == Confirming},
	)
}

// readBack asks a device what it holds after it took the confirm, and whether it
// still has a commit pending.
func (m *machine) readBack(i int) {
	m.actions = append(m.actions, Action{Kind: DoLook, Device: i, Lock: true})
}

// seen takes what a new session read from a device.
func (m *machine) seen(d *Device, i int) {
	switch d.Standing {
	case Held:
		m.seenHeld(d)
	case Confirming:
		m.seenConfirming(d, i)
	case IsReverting:
		m.seenGoingBack(d, i)
	}
}

// doubt notes that a commit was sent and not answered.
func (m *machine) doubt(d *Device) {
	d.UnsureUntil = m.ev.At.Add(unsure)
	if d.Keeper != ByService {
		d.Timer = max(d.Timer, m.DeviceTimeout())
		d.GoesBackBy = d.UnsureUntil.Add(d.Timer)
	}
}
