package service

import (
	"fmt"
	"net"
	"net/netip"
	"sync"

	"oakenlatch/service/access"
	"oakenlatch/service/spare"
)

// bounded is a listener that has no more connections open than a number, and of
// one address no more than a part of that: what comes beyond is closed at once, so
// that nobody takes all there are. Addresses of this machine, behind which a proxy
// may stand, may have them all.
type bounded struct {
	net.Listener
	most, ofAddress int

	mu  sync.Mutex
	all int
	by  map[netip.Addr]int
}

func bound(l net.Listener, most int) *bounded {
	return &bounded{Listener: l, most: most, ofAddress: max(1, most/8), by: map[netip.Addr]int{}}
}

// Accept gives the next connection that there is room for.
func (b *bounded) Accept() (net.Conn, error) {
	for {
		conn, err := b.Listener.Accept()
		if err != nil {
			return nil, err
		}
		from := netip.Addr{}
		if a, ok := conn.RemoteAddr().(*net.TCPAddr); ok {
			from = a.AddrPort().Addr()
		}
		if !spare.Short() && b.enter(from) { // a file that is free now is for the devices
			return &counted{Conn: conn, leave: func() { b.leave(from) }}, nil
		}
		_ = conn.Close()
	}
}

func (b *bounded) enter(from netip.Addr) bool {
	from = access.Network(from)
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.all >= b.most || !from.IsLoopback() && b.by[from] >= b.ofAddress {
		return false
	}
	b.all++
	b.by[from]++
	return true
}

func (b *bounded) leave(from netip.Addr) {
	from = access.Network(from)
	b.mu.Lock()
	defer b.mu.Unlock()
	b.all--
	if b.by[from]--; b.by[from] == 0 {
		delete(b.by, from)
	}
}

// counted is a connection that is counted until it is closed.
type counted struct {
	net.Conn
	once  sync.Once
	leave func()
}

// Close closes it.
func (c *counted) Close() error {
	c.once.Do(c.leave)
	return c.Conn.Close()
}

// OnlyHere reports whether an address to listen on is of this machine alone.
func OnlyHere(addr string) (bool, error) {
	host, _, err := net.SplitHostPort(addr)
	if err != nil {
		return false, fmt.Errorf("%q is no address to listen on, write it like 192.0.2.5:8640: %w", addr, err)
	}
	if host == "localhost" {
		return true, nil
	}
	ip, err := netip.ParseAddr(host)
	return err == nil && ip.IsLoopback(), nil
}
