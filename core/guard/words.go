package guard

import (
	"fmt"
	"strings"
	"time"
)

// Refused says why a person's word was not taken. The state is unchanged.
type Refused struct{ Why string }

func (r *Refused) Error() string { return r.Why }

func refused(format string, args ...any) error { return &Refused{fmt.Sprintf(format, args...)} }

// May reports whether a person's word, an event of a Say kind, would be taken
// now, and why not.
func (s State) May(e Event) error {
	switch {
	case s.Phase == Done || s.Outcome == Confirmed:
		return refused("it is already %s%s", s.Outcome, because(s.Reason))
	case e.Kind == SayAccept:
		return s.mayLeave(e.Device)
	case s.Phase == Reverting:
		return refused("it is already reverting%s", because(s.Reason))
	case e.Kind == SayRevert: // also while it is being confirmed: one of two words comes later
		return nil
	case s.Phase == Asking || s.Phase == ConfirmingAll:
		return refused("it is being confirmed at this moment")
	case e.Kind == SayCommit && s.Phase != AllReady:
		return refused("it is not waiting for that, it is %s", s.Phase)
	case e.Kind == SayCommit:
		return nil
	case s.Phase == AllReady:
		return refused("it is prepared and not committed yet")
	case s.Phase != Awaiting && s.Phase != Probing:
		return refused("it is not active yet, wait until it is holding")
	case !e.At.Before(s.Deadline):
		return refused("the hold ended at %s, the devices are reverting", stamp(s.Deadline))
	case s.Phase == Probing:
		return refused("management access and the probes have not been proved yet, wait for it")
	case !s.NewDeadline.IsZero():
		return refused("the devices' timers are being set for a hold until %s, wait for it", stamp(s.NewDeadline))
	case e.Kind == SayUntil && !e.Until.After(e.At.Add(time.Second)):
		return refused("a hold cannot end in the past; to end it now, revert")
	case e.Kind == SayConfirm && !e.Despite:
		return s.probesPass()
	}
	return nil
}

func (s State) mayLeave(device int) error {
	if device < 0 || device >= len(s.Devices) {
		return refused("it has no such device")
	}
	if d := s.Devices[device]; s.Phase != Reverting || !d.Stuck() {
		return refused("%s is not stuck while reverting, it is %s", d.Name, d.Standing)
	}
	return nil
}

// probesPass says which probes do not pass.
func (s State) probesPass() error {
	var failing []string
	for _, p := range s.Probes {
		if p.Result != Passed {
			failing = append(failing, fmt.Sprintf("%s: %s", p.Text, p.Said))
		}
	}
	if len(failing) > 0 {
		return refused(
			"probes fail (%s); revert, wait until they pass, or confirm in spite of them", strings.Join(failing, "; "),
		)
	}
	return nil
}

func stamp(t time.Time) string { return t.UTC().Format(time.RFC3339) }

func because(reason string) string {
	if reason == "" {
		return ""
	}
	return ": " + reason
}
