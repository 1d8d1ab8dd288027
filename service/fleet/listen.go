package fleet

import (
	"context"
	"slices"
	"sync"
	"time"

	"oakenlatch/netconf"
	"oakenlatch/service/store"
)

// Listening hears what devices tell of their events (RFC 5277, RFC 6470): on
// the session that stands to them where that takes both, else on one of its
// own.

// Heard is an event that a device told of.
type Heard struct {
	Device store.Device
	At     time.Time // by the device's clock; zero where it does not tell
	Heard  time.Time // by ours
	Event  netconf.Event
	Own    bool // it is about a session of this service
}

// String is for people: what was told, and when by the device's clock.
func (h Heard) String() string {
	at := "at a time it does not tell"
	if !h.At.IsZero() {
		at = h.At.Format(time.RFC3339) + " by its clock"
	}
	return h.Event.String() + ", " + at
}

// listeners is what is known of the devices that are listened to.
type listeners struct {
	mu   sync.Mutex
	own  map[string][]ownSession // sessions of ours, by device
	on   map[string]listening    // the last that was listened on, by device
	told map[string][]Heard      // the last that it told, oldest first
	hear func(Heard)

	stands func(device string)
}

// listening is a session on which a device tells of its events.
type listening struct {
	since time.Time
	done  <-chan struct{}
}

// ownSession is a session of ours. It does not hold what the session holds.
type ownSession struct {
	id   string
	done <-chan struct{}
	gone time.Time // it was found to have ended
}

func over(done <-chan struct{}) bool {
	select {
	case <-done:
		return true
	default:
		return false
	}
}

// The last events of a device are remembered: so many.
const remembered = 256

// OnEvent sets who hears of events. They come one after another for a device,
// and must not be held up.
func (f *Fleet) OnEvent(hear func(Heard)) {
	f.listeners.mu.Lock()
	defer f.listeners.mu.Unlock()
	f.listeners.hear = hear
}

// Listening tells from when on a device is listened to without a gap; ok is
// false where it is not.
func (f *Fleet) Listening(device string) (since time.Time, ok bool) {
	f.listeners.mu.Lock()
	defer f.listeners.mu.Unlock()
	l, ok := f.listeners.on[device]
	return l.since, ok && !over(l.done)
}

// Told gives what a device told since a time, by our clock, oldest first.
func (f *Fleet) Told(device string, since time.Time) []Heard {
	f.listeners.mu.Lock()
	defer f.listeners.mu.Unlock()
	var out []Heard
	for _, h := range f.listeners.told[device] {
		if !h.Heard.Before(since) {
			out = append(out, h)
		}
	}
	return out
}

// ownFor is how long a session that ended is still known as ours: what is told
// of it may be late. Then its number may be somebody else's, for those of a
// device that restarted begin anew.
const ownFor = 20 * time.Second

// opened remembers a session as ours.
func (f *Fleet) opened(s *Session) {
	f.listeners.mu.Lock()
	defer f.listeners.mu.Unlock()
	f.listeners.own[s.Device.Name] = append(
		f.listeners.ours(s.Device.Name, f.log.Now()), ownSession{id: s.SessionID, done: s.Done()},
	)
}

// ours gives our sessions on a device, and forgets those that ended a while ago.
func (e *listeners) ours(device string, now time.Time) []ownSession {
	list := e.own[device]
	for i := range list {
		if list[i].gone.IsZero() && over(list[i].done) {
			list[i].gone = now
		}
	}
	e.own[device] = slices.DeleteFunc(
		list, func(o ownSession) bool { return !o.gone.IsZero() && now.Sub(o.gone) > ownFor },
	)
	return e.own[device]
}

// heard gives an event of a device to whoever listens.
func (f *Fleet) heard(d store.Device, n netconf.Notification) {
	ev, ok := netconf.ReadEvent(n.Event)
	if !ok {
		return
	}
	h := Heard{Device: d, At: n.At, Heard: f.log.Now(), Event: ev}
	f.listeners.mu.Lock()
	h.Own = (ev.Account == "" || ev.Account == d.Account) && ev.SessionID != "" && slices.ContainsFunc(
		f.listeners.ours(d.Name, h.Heard), func(o ownSession) bool { return o.id == ev.SessionID },
	)
	if !h.Own || ev.Name == "config-change" {
		list := append(f.listeners.told[d.Name], h)
		f.listeners.told[d.Name] = list[max(0, len(list)-remembered):]
	}
	hear := f.listeners.hear
	f.listeners.mu.Unlock()
	if hear != nil {
		hear(h)
	}
}

// subscribeTime bounds how long a device may take to agree to tell.
const subscribeTime = 15 * time.Second

// listen has a device tell of its events, on the session that stands to it or,
// where that would take nothing else then, on one of its own; ear is that one,
// nil for none. A device that does not tell is read at times instead.
func (f *Fleet) listen(ctx context.Context, s *Session) (ear *Session) {
	tells, interleaves := netconf.Tells(s.Capabilities)
	if !tells {
		return nil
	}
	on, name := s, s.Device.Name
	if !interleaves {
		var err error
		if ear, err = f.open(ctx, store.Everything, name, sign); err != nil {
			return nil
		}
		on = ear
	}
	ctx, cancel := context.WithTimeout(ctx, subscribeTime)
	defer cancel()
	if err := on.Subscribe(ctx); err != nil {
		return ear
	}
	f.listeners.mu.Lock()
	defer f.listeners.mu.Unlock()
	f.listeners.on[name] = listening{f.log.Now(), on.Done()}
	return ear
}
