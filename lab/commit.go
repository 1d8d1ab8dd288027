package lab

import (
	"strconv"
	"time"

	"oakenlatch/core/markup"
	"oakenlatch/netconf"
)

// commit is RFC 6241 sections 8.3.4.1 and 8.4: plain, confirmed, confirming.
func (d *Device) commit(s *netconf.Session, op *markup.Element) ([]byte, error) {
	persist := op.Child(netconf.BaseNS, "persist").Value()
	persistID := op.Child(netconf.BaseNS, "persist-id").Value()
	confirmed := op.Child(netconf.BaseNS, "confirmed") != nil
	switch {
	case confirmed && !d.Spec.Kind.confirms():
		return nil, refuse("unknown-element", "<confirmed> is not known here")
	case persist+persistID != "" && !d.Spec.Kind.cancels():
		return nil, refuse("unknown-element", "<persist> is not known here")
	}
	timeout := 600 * time.Second
	if t := op.Child(netconf.BaseNS, "confirm-timeout"); t != nil {
		n, err := strconv.ParseUint(t.Value(), 10, 32)
		if err != nil || n == 0 {
			return nil, refuse("invalid-value", "confirm-timeout is %q, a number of seconds is needed", t.Value())
		}
		timeout = time.Duration(n) * time.Second
	}
	if err := d.mayCommit(s, persistID); err != nil {
		return nil, err
	}
	if err := d.free(s, netconf.Running); err != nil {
		return nil, err
	}
	if err := d.free(s, netconf.Candidate); err != nil {
		return nil, err
	}
	if d.candidate.Digest() != d.running.Digest() { // what runs was found valid before
		if err := d.valid(d.candidate); err != nil {
			return nil, err
		}
	}
	before, extended := d.running, d.pending != nil
	if d.pending != nil {
		before = d.pending.before
		if persist == "" {
			persist = d.pending.persist
		}
		d.endPending()
	}
	if d.candidate.Digest() != d.running.Digest() {
		d.setRunning(d.candidate)
		d.changed(s, netconf.Running)
	}
	d.dirty = false
	if !confirmed && extended {
		d.confirmation(s, "complete")
	}
	if confirmed {
		p := &pendingCommit{before: before, persist: persist, session: s.ID}
		p.timer = time.AfterFunc(timeout, func() {
			d.mu.Lock()
			defer d.mu.Unlock()
			if d.pending == p {
				d.confirmation(nil, "timeout")
				d.revert()
			}
		})
		d.pending = p
		d.confirmation(s, map[bool]string{true: "extend", false: "start"}[extended])
	}
	return nil, nil
}

// mayCommit checks a session's right to go on with a pending commit.
func (d *Device) mayCommit(s *netconf.Session, persistID string) error {
	switch {
	case d.pending == nil && persistID == "":
		return nil
	case d.pending == nil:
		return refuse("invalid-value", "no commit with persist-id %q is pending", persistID)
	case d.pending.persist != "" && persistID == d.pending.persist:
		return nil
	case d.pending.persist == "" && persistID == "" && d.pending.session == s.ID:
		return nil
	case persistID != "":
		return refuse("invalid-value", "persist-id %q does not match the pending commit", persistID)
	}
	return refuse("in-use", "a confirmed commit of session %d is pending", d.pending.session)
}

func (d *Device) cancelCommit(s *netconf.Session, op *markup.Element) ([]byte, error) {
	if d.pending == nil {
		return nil, refuse("operation-failed", "no confirmed commit is pending")
	}
	if err := d.mayCommit(s, op.Child(netconf.BaseNS, "persist-id").Value()); err != nil {
		return nil, err
	}
	d.confirmation(s, "cancel")
	d.revert()
	return nil, nil
}
