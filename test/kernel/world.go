package kernel

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"
)

// ManagementPath is how a device is managed: what a manager knows of it.
type ManagementPath struct {
	Us      netip.Addr // the manager
	Address netip.Addr // the device
	Port    int
	Account string
	Home    string       // the interface its packets come in by
	Gateway netip.Prefix // the gateway, on the subnet of that interface
	Link    netip.Addr   // the device on that subnet, where its address is another

	// Of a way through the device to a host behind it, whose address is Address then:
	// the interface that leads there, and the device on the subnet behind it.
	Beyond string
	Behind netip.Prefix
}

// through reports whether the way leads through the device.
func (w ManagementPath) through() bool { return w.Beyond != "" }

// near reports whether the manager is on the same subnet.
func (w ManagementPath) near() bool { return w.Gateway.Masked().Contains(w.Us) }

// end is the far end of a cable for the frames of one VLAN, 0 without a tag.
type end struct {
	port string
	vlan int
}

// ends are all that the cables of a configuration lead to, and those by which an
// interface's packets may come.
func ends(c *Config, home string) (all, candidates []end) {
	add := func(e end, ours bool) {
		if !slices.Contains(all, e) {
			all = append(all, e)
		}
		if ours && !slices.Contains(candidates, e) {
			candidates = append(candidates, e)
		}
	}
	h := c.named(home)
	if h == nil {
		return nil, nil
	}
	for _, p := range c.Interfaces {
		if !p.port() {
			continue
		}
		if !p.bridged() {
			add(end{p.Name, 0}, p == h)
		}
		if p.Bridge.Untagged != "" {
			add(end{p.Name, 0}, p.enabled() && h.VLAN == p.Bridge.Untagged && h.Parent == "")
		}
		for _, t := range p.Bridge.Tagged {
			v, _ := strconv.Atoi(t)
			add(end{p.Name, v}, p.enabled() && h.VLAN == t && h.Parent == "")
		}
		for _, i := range c.Interfaces {
			if i.Parent == p.Name {
				add(end{p.Name, i.vlan()}, i == h)
			}
		}
	}
	return all, candidates
}

// World is what the device's cables lead to, as it was wired before the change.
type World struct {
	way      ManagementPath
	six      bool
	home     end
	generous bool
	patience time.Duration
	tries    int
	manager  *space
	gateway  *space
	mgr      *tap
	legs     map[end]*tap
	known    []netip.Addr // who really is on the home segment
	readers  []func()     // of the hosts' devices: begun once everything is wired
	far      end          // of a way through the device: where the host behind it is
	host2    *space

	mu     sync.Mutex
	device *Device
	files  []io.Closer
}

// NewWorld wires the world: the gateway (and, near, the manager) at one end.
func NewWorld(before *Config, w ManagementPath, home, far end, generous bool) (*World, error) {
	x := &World{
		far: far, way: w, six: w.Us.Is6(), home: home, generous: generous, legs: map[end]*tap{},
		known: []netip.Addr{w.Gateway.Addr()},
	}
	if err := x.wire(before); err != nil {
		x.Close()
		return nil, err
	}
	for _, read := range x.readers {
		go read()
	}
	return x, nil
}

// wire puts the hosts up and connects them.
func (x *World) wire(before *Config) error {
	w, home, generous := x.way, x.home, x.generous
	var err error
	if x.manager, err = newSpace(); err != nil {
		return err
	}
	if x.gateway, err = newSpace(); err != nil {
		return err
	}
	quiet := []string{
		"ipv6/conf/default/accept_ra=0", "ipv6/conf/default/accept_dad=0", "ipv6/conf/default/dad_transmits=0",
		"ipv6/conf/default/router_solicitations=0", "ipv4/conf/all/rp_filter=0", "ipv4/conf/default/rp_filter=0",
		"ipv4/ip_forward=1", "ipv6/conf/all/forwarding=1", "ipv6/conf/default/forwarding=1",
	}
	if err := x.gateway.set(quiet...); err != nil {
		return err
	}
	if err := x.manager.set(quiet[:6]...); err != nil {
		return err
	}
	if x.mgr, err = x.host(x.manager, "manager"); err != nil {
		return err
	}
	leg, err := x.host(x.gateway, "leg0")
	if err != nil {
		return err
	}
	x.legs[home] = leg
	if err := x.address(x.gateway, leg, w.Gateway); err != nil {
		return err
	}
	if w.Link.IsValid() {
		if err := x.toward(x.gateway, netip.PrefixFrom(w.Address, w.Address.BitLen()), w.Link); err != nil {
			return err
		}
	}
	if w.near() {
		x.known = append(x.known, w.Us)
		if err := x.address(x.manager, x.mgr, netip.PrefixFrom(w.Us, w.Gateway.Bits())); err != nil {
			return err
		}
		x.readers = append(x.readers, func() { x.mgr.read(func(f []byte) { x.fromSegment(home, f, x.mgr) }) })
		x.readers = append(x.readers, func() { leg.read(func(f []byte) { x.fromSegment(home, f, leg) }) })
	} else if err := x.behind(leg); err != nil {
		return err
	}
	if w.through() {
		if err := x.beyond(); err != nil {
			return err
		}
	}
	if !generous {
		return nil
	}
	all, _ := ends(before, w.Home)
	for _, e := range all {
		if x.legs[e] != nil {
			continue
		}
		t, err := x.host(x.gateway, fmt.Sprintf("leg%d", len(x.legs)))
		if err != nil {
			return err
		}
		x.legs[e] = t
	}
	return nil
}

// beyond puts a host with the service behind the device.
func (x *World) beyond() (err error) {
	if x.host2, err = newSpace(); err != nil {
		return err
	}
	if err := x.host2.set(
		"ipv6/conf/default/accept_dad=0", "ipv6/conf/default/dad_transmits=0", "ipv6/conf/default/accept_ra=0",
	); err != nil {
		return err
	}
	t, err := x.host(x.host2, "beyond")
	if err != nil {
		return err
	}
	x.legs[x.far] = t
	if err := x.address(x.host2, t, netip.PrefixFrom(x.way.Address, x.way.Behind.Bits())); err != nil {
		return err
	}
	if err := x.toward(x.host2, netip.PrefixFrom(x.way.Us, x.way.Us.BitLen()), x.way.Behind.Addr()); err != nil {
		return err
	}
	if x.way.near() {
		if err := x.toward(x.manager, netip.PrefixFrom(x.way.Address, x.way.Address.BitLen()), x.way.Link); err != nil {
			return err
		}
	}
	l, err := listen(
		x.host2, "tcp", netip.AddrPortFrom(x.way.Address, uint16(x.way.Port)).String(),
		func(string) bool { return true },
	)
	if err != nil {
		return err
	}
	x.files = append(x.files, l)
	x.readers = append(x.readers, func() { t.read(func(f []byte) { x.fromSegment(x.far, f, t) }) })
	return nil
}

// behind puts the manager behind the gateway.
func (x *World) behind(leg *tap) error {
	inner, err := x.host(x.gateway, "inner")
	if err != nil {
		return err
	}
	bits := 24
	if x.six {
		bits = 64
	}
	next := netip.PrefixFrom(x.way.Us.Next(), bits)
	if err := x.address(x.gateway, inner, next); err != nil {
		return err
	}
	if err := x.address(x.manager, x.mgr, netip.PrefixFrom(x.way.Us, bits)); err != nil {
		return err
	}
	if err := x.toward(x.manager, netip.PrefixFrom(x.way.Address, 0).Masked(), next.Addr()); err != nil {
		return err
	}
	x.readers = append(x.readers, func() { x.mgr.read(func(f []byte) { _, _ = inner.file.Write(f) }) })
	x.readers = append(x.readers, func() { inner.read(func(f []byte) { _, _ = x.mgr.file.Write(f) }) })
	x.readers = append(x.readers, func() { leg.read(func(f []byte) { x.fromSegment(x.home, f, leg) }) })
	return nil
}

func (x *World) host(s *space, name string) (*tap, error) {
	t, err := s.tap(name)
	if err != nil {
		return nil, err
	}
	x.files = append(x.files, t.file)
	if err := s.nl.LinkSetHardwareAddr(t.link, outside(name)); err != nil {
		return nil, err
	}
	// The manager and the gateway would take more than the wire does, and trust the
	// device to take less. Behind it nobody says so.
	if !x.way.through() {
		if err := s.nl.LinkSetMTU(t.link, 9216); err != nil {
			return nil, err
		}
	}
	return t, s.nl.LinkSetUp(t.link)
}

func (x *World) address(s *space, t *tap, p netip.Prefix) error {
	addr := &netlink.Addr{IPNet: &net.IPNet{IP: p.Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}}
	if x.six {
		addr.Flags = unix.IFA_F_NODAD
	}
	return s.nl.AddrAdd(t.link, addr)
}

func (x *World) toward(s *space, to netip.Prefix, via netip.Addr) error {
	r := &netlink.Route{
		Dst: &net.IPNet{IP: to.Addr().AsSlice(), Mask: net.CIDRMask(to.Bits(), to.Addr().BitLen())}, Gw: via.AsSlice(),
	}
	return s.nl.RouteAdd(r)
}

// fromSegment takes a frame of a host at an end to the others there and the device.
func (x *World) fromSegment(e end, frame []byte, from *tap) {
	if e == x.home && x.way.near() {
		for _, t := range []*tap{x.mgr, x.legs[e]} {
			if t != from {
				_, _ = t.file.Write(frame)
			}
		}
	}
	x.mu.Lock()
	d := x.device
	x.mu.Unlock()
	if d != nil && len(frame) <= x.widest() {
		d.Receive(e.port, tag(frame, e.vlan))
	}
}

// widest is the longest frame that a cable takes, without a tag.
func (x *World) widest() int {
	if x.generous {
		return 1 << 16
	}
	return 1514
}

// fromDevice takes a frame from a port's cable to whom it was wired to.
func (x *World) fromDevice(port string, frame []byte) {
	e := end{port, tagOf(frame)}
	leg := x.legs[e]
	frame = untag(frame)
	if leg == nil || len(frame) < 14 || len(frame) > x.widest() {
		return
	}
	if e == x.home && x.way.near() {
		_, _ = x.mgr.file.Write(frame)
	}
	_, _ = leg.file.Write(frame)
	if x.generous && isDevice(frame[6:12]) {
		if reply := x.claim(e, frame); reply != nil {
			x.fromSegment(e, reply, leg)
		}
	}
}

// outside gives a host of the world its hardware address, which tells it from the
// device's.
func outside(name string) net.HardwareAddr {
	m := mac(name)
	m[1] = 0x41
	return m
}

func isDevice(address []byte) bool { return address[0] == 2 && address[1] == 0x40 }

// isThere reports whether an address is somebody's at an end. The host behind the
// device is in one place alone.
func (x *World) isThere(e end, a netip.Addr) bool {
	return e == x.home && slices.Contains(x.known, a) || x.way.through() && a == x.way.Address
}

// claim answers for anybody whom nobody is, in the generous world: every neighbour
// that the device asks for is there, and knows the way to us.
func (x *World) claim(e end, f []byte) []byte {
	us := outside(x.legs[e].link.Attrs().Name)
	switch {
	// RFC 826
	case !x.six && len(f) >= 42 && binary.BigEndian.Uint16(f[12:]) == 0x0806 && binary.BigEndian.Uint16(f[20:]) == 1:
		target := netip.AddrFrom4([4]byte(f[38:42]))
		if x.isThere(e, target) || bytes.Equal(f[28:32], f[38:42]) {
			return nil
		}
		out := slices.Concat(f[6:12], us, []byte{8, 6, 0, 1, 8, 0, 6, 4, 0, 2}, us, f[38:42], f[22:28], f[28:32])
		return out
	// RFC 4861 section 4.3
	case x.six && len(f) >= 78 && binary.BigEndian.Uint16(f[12:]) == 0x86dd && f[20] == 58 && f[54] == 135:
		target := netip.AddrFrom16([16]byte(f[62:78]))
		if x.isThere(e, target) || netip.AddrFrom16([16]byte(f[22:38])).IsUnspecified() {
			return nil
		}
		icmp := slices.Concat([]byte{136, 0, 0, 0, 0x60, 0, 0, 0}, f[62:78], []byte{2, 1}, us)
		sum := checksum(slices.Concat(f[62:78], f[22:38], []byte{0, 0, 0, byte(len(icmp)), 0, 0, 0, 58}, icmp))
		binary.BigEndian.PutUint16(icmp[2:], sum)
		return slices.Concat(
			f[6:12], us, []byte{0x86, 0xdd, 0x60, 0, 0, 0, 0, byte(len(icmp)), 58, 255}, f[62:78], f[22:38], icmp,
		)
	}
	return nil
}

// checksum is that of RFC 1071.
func checksum(b []byte) uint16 {
	var sum uint32
	for n := 0; n < len(b); n += 2 {
		if n+1 < len(b) {
			sum += uint32(b[n])<<8 | uint32(b[n+1])
		} else {
			sum += uint32(b[n]) << 8
		}
	}
	for sum > 0xffff {
		sum = sum>>16 + sum&0xffff
	}
	return ^uint16(sum)
}

// Reaches puts a configuration into effect and reports whether the manager gets
// through to the device's service. known says whether the configuration is where
// the service is set up, before the change or after it.
func (x *World) Reaches(before, after *Config) (bool, error) {
	had, known := before.account(x.way.Account)
	login := func(name string) bool {
		has, ok := after.account(name)
		// Another password may still be ours, and a device that is told of no account
		// may have one of its own.
		return !known || has == had || x.generous && (ok || len(after.Accounts) == 0)
	}
	k := kind{
		generous: x.generous, home: x.way.Home, types: map[string]bool{},
		notOurs: map[netip.Addr]bool{x.way.Us: true, x.way.Gateway.Addr(): true},
	}
	for _, p := range before.Interfaces {
		k.types[p.Name] = p.port()
	}
	if !x.generous {
		after = after.matched(before)
	}
	port := x.way.Port
	if x.way.through() {
		port = 0
	}
	d, err := Realise(
		after, x.six, k, before.Server != nil || after.Server != nil && !x.generous, port, login, x.fromDevice,
	)
	if err != nil {
		return false, err
	}
	defer d.Close()
	x.mu.Lock()
	x.device = d
	x.mu.Unlock()
	defer func() { x.mu.Lock(); x.device = nil; x.mu.Unlock() }()
	for n := 1; ; n++ {
		if ok, err := x.connect(); ok || err != nil || n >= x.tries {
			return ok, err
		}
		time.Sleep(time.Second)
	}
}

// Close takes the world away.
func (x *World) Close() {
	for _, f := range x.files {
		f.Close()
	}
	for _, s := range []*space{x.manager, x.gateway, x.host2} {
		if s != nil {
			s.close()
		}
	}
}
