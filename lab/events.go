package lab

import (
	"fmt"
	"net"
	"time"

	"oakenlatch/core/tree"
	"oakenlatch/netconf"
)

// tell sends an event to every session that has a subscription (RFC 5277), by
// the device's own clock.
func (d *Device) tell(e netconf.Event) {
	if d.Spec.Silent {
		return
	}
	msg := e.Write(d.now())
	tell := func() {
		for _, s := range d.server.Sessions() {
			s.Tell(msg)
		}
	}
	if d.Spec.TellsLate > 0 {
		time.AfterFunc(d.Spec.TellsLate, tell)
		return
	}
	tell()
}

// by fills in who did something; nobody, where it was the device itself.
func by(s *netconf.Session, e netconf.Event) netconf.Event {
	if s == nil {
		e.ByServer = true
		return e
	}
	e.Account, e.SessionID, e.Source = s.User, fmt.Sprint(s.ID), s.Remote
	if host, _, err := net.SplitHostPort(s.Remote); err == nil {
		e.Source = host
	}
	return e
}

// changed tells that a datastore was changed (RFC 6470).
func (d *Device) changed(s *netconf.Session, ds netconf.Datastore) {
	d.tell(by(s, netconf.Event{Name: "config-change", Datastore: string(ds)}))
}

// saved puts a configuration into startup.
func (d *Device) saved(s *netconf.Session, n *tree.Node) error {
	err := d.saveStartup(n)
	if err == nil {
		d.changed(s, netconf.Startup)
	}
	return err
}

// confirmation tells what becomes of a confirmed commit.
func (d *Device) confirmation(s *netconf.Session, what string) {
	d.tell(by(s, netconf.Event{Name: "confirmed-commit", What: what}))
}

// Opened tells that somebody signed in.
func (d *Device) Opened(s *netconf.Session) {
	d.tell(by(s, netconf.Event{Name: "session-start"}))
}
