package lab

import (
	"time"

	"oakenlatch/core/markup"
	"oakenlatch/netconf"
)

// Fault is what is to go wrong with one operation. The zero value is nothing.
type Fault struct {
	Delay       time.Duration // before anything else
	Refuse      error         // answered instead of carrying it out
	RefuseAfter error         // answered although it was carried out
	Skip        bool          // answered with ok, and not carried out
	// Instead is carried out in place of what was asked, unless it is nil.
	Instead *markup.Element

	DropBefore bool // the session ends before it is carried out
	DropAfter  bool // the session ends when it was carried out, before the reply
}

// OnOperation orders faults: f is asked about each operation before it is
// carried out. nil orders none.
func (d *Device) OnOperation(f func(op *markup.Element) Fault) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.faults = f
}

func (d *Device) faulty(
	s *netconf.Session, op *markup.Element, operate func(*netconf.Session, *markup.Element) ([]byte, error),
) ([]byte, error) {
	d.mu.Lock()
	ask := d.faults
	d.mu.Unlock()
	if ask == nil {
		return operate(s, op)
	}
	f := ask(op)
	time.Sleep(f.Delay)
	if f.Instead != nil {
		op = f.Instead
	}
	switch {
	case f.DropBefore:
		s.Drop()
		return nil, refuse("operation-failed", "the session is gone")
	case f.Refuse != nil:
		return nil, f.Refuse
	case f.Skip:
		return nil, nil
	}
	content, err := operate(s, op)
	if f.DropAfter {
		s.Drop()
	}
	if f.RefuseAfter != nil {
		return nil, f.RefuseAfter
	}
	return content, err
}
