package netconf

import (
	"context"
	"fmt"
	"strings"
	"time"

	"oakenlatch/core/markup"
)

// Capabilities of event notifications (RFC 5277).
const (
	CapNotification = "urn:ietf:params:netconf:capability:notification:1.0"
	CapInterleave   = "urn:ietf:params:netconf:capability:interleave:1.0"
)

// NotificationNS is the namespace of create-subscription and notification (RFC
// 5277 section 4), EventsNS that of the base notifications (RFC 6470).
const (
	NotificationNS = "urn:ietf:params:xml:ns:netconf:notification:1.0"
	EventsNS       = "urn:ietf:params:xml:ns:yang:ietf-netconf-notifications"
)

// Notification is an event that a device tells of (RFC 5277 section 2.2.1).
type Notification struct {
	At    time.Time // by the device's clock; zero where it cannot be read
	Event *markup.Element
}

// notificationIn reads a notification element; ok is false where it is none, or
// has no event.
func notificationIn(el *markup.Element) (n Notification, ok bool) {
	if el.Name != (markup.Name{Space: NotificationNS, Local: "notification"}) {
		return n, false
	}
	for _, c := range el.Children {
		if c.Name.Local == "eventTime" && c.Name.Space == NotificationNS {
			if at, err := time.Parse(time.RFC3339Nano, strings.TrimSpace(c.Text)); err == nil {
				n.At = at.UTC()
			}
		} else {
			n.Event = c
		}
	}
	return n, n.Event != nil
}

// Subscribe asks the device to tell of its events from now on (RFC 5277 section
// 2.1.1), which ClientOptions.Notify hears. Where the device does not have
// :interleave, it may take nothing else on this session afterwards but
// close-session.
func (c *Client) Subscribe(ctx context.Context) error {
	w := &markup.Writer{}
	w.Start(markup.Name{Space: NotificationNS, Local: "create-subscription"})
	w.End()
	_, err := c.Call(ctx, "create-subscription", w.Bytes())
	return err
}

// Event is one of the base notifications (RFC 6470), as far as it is known
// here. What a device leaves out is empty.
type Event struct {
	Name      string // without netconf-: config-change, session-start, session-end, confirmed-commit, capability-change
	Account   string // who; empty where the device names nobody, as for its own server
	SessionID string
	Source    string // the address of the other end
	ByServer  bool   // the device says that it did it itself
	Datastore string // of config-change: running or startup
	Targets   []string
	// of confirmed-commit: start, cancel, timeout, extend, complete; of session-end: closed, killed, dropped,
	// timeout, bad-hello, other
	What     string
	KilledBy string // of session-end
}

// ReadEvent reads a base notification; ok is false for any other.
func ReadEvent(el *markup.Element) (e Event, ok bool) {
	name, ok := strings.CutPrefix(el.Name.Local, "netconf-")
	if !ok || el.Name.Space != EventsNS {
		return e, false
	}
	e.Name = name
	who := el
	if by := el.Child(EventsNS, "changed-by"); by != nil {
		who = by
	}
	text := func(of *markup.Element, local string) string {
		return strings.TrimSpace(of.Child(EventsNS, local).Value())
	}
	e.Account, e.SessionID, e.Source = text(who, "username"), text(who, "session-id"), text(who, "source-host")
	e.ByServer = who.Child(EventsNS, "server") != nil
	e.What, e.KilledBy = text(el, "termination-reason"), text(el, "killed-by")
	if w := text(el, "confirm-event"); w != "" {
		e.What = w
	}
	if name == "config-change" {
		if e.Datastore = text(el, "datastore"); e.Datastore == "" {
			e.Datastore = string(Running) // the default
		}
	}
	for _, c := range el.Children {
		if c.Name == (markup.Name{Space: EventsNS, Local: "edit"}) && len(e.Targets) < 100 {
			e.Targets = append(e.Targets, strings.TrimSpace(c.Child(EventsNS, "target").Value()))
		}
	}
	return e, true
}

// Write gives the notification that tells of an event, as a device sends it.
func (e Event) Write(at time.Time) []byte {
	w := &markup.Writer{}
	w.Start(markup.Name{Space: NotificationNS, Local: "notification"})
	w.Leaf(markup.Name{Space: NotificationNS, Local: "eventTime"}, at.UTC().Format(time.RFC3339Nano))
	ev := func(local string) markup.Name { return markup.Name{Space: EventsNS, Local: local} }
	leaf := func(local, value string) {
		if value != "" {
			w.Leaf(ev(local), value)
		}
	}
	w.Start(ev("netconf-" + e.Name))
	if e.Name == "config-change" {
		w.Start(ev("changed-by"))
	}
	if e.ByServer {
		w.Leaf(ev("server"), "")
	}
	leaf("username", e.Account)
	leaf("session-id", e.SessionID)
	leaf("source-host", e.Source)
	switch e.Name {
	case "config-change":
		w.End()
		leaf("datastore", e.Datastore)
		for _, t := range e.Targets {
			w.Start(ev("edit"))
			leaf("target", t)
			w.End()
		}
	case "confirmed-commit":
		leaf("confirm-event", e.What)
	case "session-end":
		leaf("killed-by", e.KilledBy)
		leaf("termination-reason", e.What)
	}
	w.End()
	w.End()
	return w.Bytes()
}

// errSubscribed is given to a client that subscribes twice.
var errSubscribed = RPCErrors{
	{Type: "protocol", Tag: "operation-failed", Message: "this session has a subscription already"},
}

// Subscribed marks a session as one that is told of events. A device's handler
// calls it for create-subscription.
func (s *Session) Subscribed() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.subscribed != nil {
		return errSubscribed
	}
	queue := make(chan []byte, tellable)
	s.subscribed = queue
	go func() {
		for msg := range queue {
			if s.frames.write(msg) != nil {
				s.Drop()
				return
			}
		}
	}()
	return nil
}

// tellable is how many events wait for a slow client before it is dropped.
const tellable = 256

// Tell sends an event to the session if it has a subscription. It does not wait.
func (s *Session) Tell(msg []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.subscribed == nil || s.ended {
		return
	}
	select {
	case s.subscribed <- msg:
	default:
		s.Drop()
	}
}

// over ends what is told to a session.
func (s *Session) over() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.ended = true
	if s.subscribed != nil {
		close(s.subscribed)
	}
}

// Tells reports whether a device tells of its events, and whether it takes
// other operations on a session that hears them.
func Tells(caps Capabilities) (tells, interleaves bool) {
	return caps.Has(CapNotification), caps.Has(CapInterleave)
}

// String is for people.
func (e Event) String() string {
	who := e.Account
	switch {
	case who == "" && e.ByServer:
		who = "the device itself"
	case who == "":
		who = "nobody named"
	}
	if e.Source != "" {
		who += " from " + e.Source
	}
	if e.SessionID != "" && e.SessionID != "0" {
		who += ", session " + e.SessionID
	}
	what := map[string]string{
		"config-change": e.Datastore + " was changed", "session-start": "signed in",
		"session-end": "session ended (" + e.What + ")", "confirmed-commit": "confirmed commit: " + e.What,
	}[e.Name]
	if what == "" {
		what = e.Name
	}
	return fmt.Sprintf("%s: %s", what, who)
}
