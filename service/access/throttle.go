package access

import (
	"net/netip"
	"sync"
	"time"
)

// throttle makes guessing slow. What fails is held against the account and the
// address together, so that nobody can lock out somebody who is elsewhere; an
// address that fails with many accounts is slowed too, but for accounts that have
// a session from there.
type throttle struct {
	now func() time.Time

	mu        sync.Mutex
	pairs     map[[2]string]*attempts
	addresses map[string]*attempts
}

type attempts struct {
	failed   int
	unlooked int // that came too soon
	until    time.Time
	last     time.Time
}

// Network gives an address as those who have it are told apart: an IPv6 one by the
// first 64 bits, for whoever has one has all of those (RFC 6177 section 2).
func Network(a netip.Addr) netip.Addr {
	a = a.Unmap().WithZone("")
	if a.Is6() {
		if p, err := a.Prefix(64); err == nil {
			return p.Addr()
		}
	}
	return a
}

// network is the same for a text; what is no address is left as it is.
func network(address string) string {
	if a, err := netip.ParseAddr(address); err == nil {
		return Network(a).String()
	}
	return address
}

// How often something may fail before it is slowed, how long it then takes at
// most, and after what time all is forgotten.
const (
	freePair, mostPair       = 3, 5 * time.Minute
	freeAddress, mostAddress = 20, time.Minute
	forgotten                = 30 * time.Minute
	mostTries                = 20_000 // kept of each kind
)

func newThrottle(now func() time.Time) *throttle {
	return &throttle{now: now, pairs: map[[2]string]*attempts{}, addresses: map[string]*attempts{}}
}

// wait tells how long sign-in is not to be tried.
func (s *throttle) wait(account, address string, familiar bool) time.Duration {
	address = network(address)
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.now()
	most := time.Duration(0)
	if t := s.pairs[[2]string{account, address}]; t != nil {
		if w := t.until.Sub(now); w > 0 {
			t.unlooked++
			most = w
		}
	}
	if t := s.addresses[address]; t != nil && !familiar {
		most = max(most, t.until.Sub(now))
	}
	return most
}

// failed counts a try that was wrong; it gives how many came too soon before it.
func (s *throttle) failed(account, address string) (unlooked int) {
	address = network(address)
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.now()
	pair := count(s.pairs, [2]string{account, address}, now, freePair, mostPair)
	count(s.addresses, address, now, freeAddress, mostAddress)
	unlooked, pair.unlooked = pair.unlooked, 0
	return unlooked
}

func (s *throttle) passed(account, address string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.pairs, [2]string{account, network(address)})
}

// count counts a failure: after some that are free, each doubles the wait.
func count[K comparable](m map[K]*attempts, key K, now time.Time, free int, most time.Duration) *attempts {
	t := m[key]
	if t == nil || now.Sub(t.last) > forgotten {
		if len(m) >= mostTries {
			forget(m, now)
		}
		t = &attempts{}
		m[key] = t
	}
	t.failed++
	t.last = now
	if over := t.failed - free; over >= 0 {
		t.until = now.Add(min(most, time.Second<<min(over, 20)))
	}
	return t
}

// forget makes room: what is over goes, and where that is not enough, anything.
func forget[K comparable](m map[K]*attempts, now time.Time) {
	for k, t := range m {
		if now.Sub(t.last) > forgotten {
			delete(m, k)
		}
	}
	for k := range m {
		if len(m) < mostTries {
			return
		}
		delete(m, k)
	}
}
