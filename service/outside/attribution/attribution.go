// Package attribution works out who changed a device, from what the device itself told and nothing else.
package attribution

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"oakenlatch/netconf"
	"oakenlatch/service/fleet"
	"oakenlatch/service/store"
)

// Evidence is what is known of who changed a device, and when. It is what was
// read and what the device told, and nothing is made up beside it.
type Evidence struct {
	Since     time.Time     // the device was last read to be as before, by our clock
	Found     time.Time     // and now it is not
	Tells     bool          // the device tells of its events at all
	Listening time.Time     // listened to without a gap from then on; zero where it is not
	Clock     *store.Clock  // the device's, nil where it is not known
	Told      []fleet.Heard // since then, oldest first
	Datastore netconf.Datastore
}

// Attribution is what evidence comes to.
type Attribution struct {
	Account, Session, Address string    // as the device names them; "" where it does not
	At                        time.Time // by the device's clock; zero where it does not tell
	ClockOff                  bool
	Who                       string   // in words
	Told                      []string // what the device told, in words
}

// ClockTolerance is how far a device's clock may be off before its times are
// marked.
const ClockTolerance = 5 * time.Second

// Of tells who changed a device, as far as the device itself told.
func Of(e Evidence) Attribution {
	var a Attribution
	a.ClockOff = e.Clock != nil && e.Clock.Ahead.Abs() > ClockTolerance
	var named []fleet.Heard
	var own, itself, nameless bool
	for _, h := range e.Told {
		if h.Own {
			own = own || h.Event.Name == "config-change" && h.Event.Datastore == string(e.Datastore)
			continue
		}
		a.Told = append(a.Told, h.String())
		if h.Event.Name != "config-change" || h.Event.Datastore != string(e.Datastore) {
			continue
		}
		switch {
		case h.Event.Account != "":
			named = append(named, h)
		case h.Event.ByServer:
			itself = true
		default:
			nameless = true
		}
		a.At = h.At
	}
	if len(named) > 0 {
		a.name(named)
		a.At = named[len(named)-1].At
		a.endings(e.Told, named)
		return a
	}
	a.Who = "not named by the device: " + e.reason(own, itself, nameless)
	return a
}

// name fills in whom the device names; several, where it names several.
func (a *Attribution) name(named []fleet.Heard) {
	var who []string
	for _, h := range named {
		ev := h.Event
		for _, x := range []struct {
			into *string
			is   string
		}{{&a.Account, ev.Account}, {&a.Session, ev.SessionID}, {&a.Address, ev.Source}} {
			if x.is != "" && !slices.Contains(strings.Split(*x.into, ", "), x.is) {
				*x.into = strings.TrimPrefix(*x.into+", "+x.is, ", ")
			}
		}
		text := ev.Account
		if ev.Source != "" {
			text += " from " + ev.Source
		}
		if ev.SessionID != "" {
			text += " in session " + ev.SessionID
		}
		if !slices.Contains(who, text) {
			who = append(who, text)
		}
	}
	a.Who = "named by the device: " + strings.Join(who, "; ")
	if len(who) > 1 {
		a.Who += "; which of them set which line, it does not tell"
	}
}

// endings adds how the sessions ended that changed something, where they did
// not end as they should.
func (a *Attribution) endings(told, named []fleet.Heard) {
	for _, h := range told {
		if h.Event.Name != "session-end" || h.Event.What == "closed" || h.Own {
			continue
		}
		if slices.ContainsFunc(
			named,
			func(n fleet.Heard) bool { return n.Event.SessionID != "" && n.Event.SessionID == h.Event.SessionID },
		) {
			a.Who += fmt.Sprintf("; session %s was cut off afterwards (%s)", h.Event.SessionID, h.Event.What)
		}
	}
}

// reason says why a device may name nobody.
func (e Evidence) reason(own, itself, nameless bool) string {
	gap := e.Listening.IsZero() || e.Listening.After(e.Since)
	switch {
	case itself:
		return "it says that it did it itself (a console without sign-in, a timer, a restart)"
	case nameless:
		return "it told of the change and of nobody; perhaps at a console line that takes no sign-in"
	case !e.Tells:
		return "it does not tell of its events"
	case e.Listening.IsZero():
		return "it was not listened to at that time"
	case gap:
		return "it was not listened to before " + e.Listening.UTC().Format(time.RFC3339)
	case own:
		return "it told of our own sessions' changes alone, and this is none of them"
	}
	return "it was listened to without a gap and told of no change: it was made where it tells nothing, or what it " +
		"noted was cleared"
}
