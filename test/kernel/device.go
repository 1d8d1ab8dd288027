package kernel

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"
)

// Device is a configuration in effect.
type Device struct {
	cfg     *Config
	six     bool
	kind    kind
	space   *space // where its interfaces are
	filters *space // where frames pass filters below them
	taps    map[string]*tap
	emit    func(port string, frame []byte) // to the cable

	readers []func() // of the interfaces: begun once everything is in place

	mu     sync.Mutex
	closed bool
	onWay  map[string]*box
	boxes  int
	files  []io.Closer
}

// kind is how what the standards leave open is taken.
type kind struct {
	generous bool
	home     string          // the interface that comes first where two are alike
	types    map[string]bool // generous: what had a cable keeps it
	notOurs  map[netip.Addr]bool
}

// Realise puts a configuration into effect, for one family.
func Realise(
	cfg *Config, six bool, k kind, server bool, port int, login func(name string) bool, emit func(string, []byte),
) (d *Device, err error) {
	d = &Device{cfg: cfg, six: six, kind: k, taps: map[string]*tap{}, emit: emit, onWay: map[string]*box{}}
	defer func() {
		if err != nil {
			d.Close()
		}
	}()
	if d.space, err = newSpace(); err != nil {
		return d, err
	}
	if d.filters, err = newSpace(); err != nil {
		return d, err
	}
	if err = d.filters.set("ipv6/conf/default/disable_ipv6=1"); err != nil {
		return d, err
	}
	settings := []string{
		"ipv6/conf/default/accept_ra=0", "ipv6/conf/default/accept_dad=0", "ipv6/conf/default/dad_transmits=0",
		"ipv6/conf/default/router_solicitations=0", "ipv4/conf/all/rp_filter=0", "ipv4/conf/default/rp_filter=0",
		"ipv6/conf/default/disable_ipv6=1",
	}
	if !k.generous {
		settings = append(settings, "ipv4/conf/all/arp_ignore=1") // RFC 1122 section 3.3.4.2: a strong host
	}
	if err = d.space.set(settings...); err != nil {
		return d, err
	}
	order := slices.Clone(cfg.Interfaces)
	slices.SortStableFunc(order, func(a, b *Interface) int {
		rank := func(i *Interface) int {
			if (i.Name == k.home) == k.generous {
				return 0
			}
			return 1
		}
		return rank(a) - rank(b)
	})
	if err = d.links(order); err != nil {
		return d, err
	}
	if err = d.guardStrongHost(); err != nil {
		return d, err
	}
	if err = d.attach(); err != nil {
		return d, err
	}
	if err = d.forward(); err != nil {
		return d, err
	}
	d.route()
	if err = d.serve(server, port, login); err != nil {
		return d, err
	}
	for _, read := range d.readers {
		go read()
	}
	return d, nil
}

// Close takes the device away.
func (d *Device) Close() {
	d.mu.Lock()
	d.closed = true
	files := d.files
	d.files = nil
	d.mu.Unlock()
	for _, f := range files {
		f.Close()
	}
	for _, s := range []*space{d.space, d.filters} {
		if s != nil {
			s.close()
		}
	}
}

// links makes the interfaces that are up, with their addresses.
func (d *Device) links(order []*Interface) error {
	for n, i := range order {
		t, err := d.space.tap(fmt.Sprintf("o%d", n))
		if err != nil {
			return err
		}
		d.files = append(d.files, t.file)
		d.taps[i.Name] = t
		if err := d.space.nl.LinkSetHardwareAddr(t.link, mac(i.Name)); err != nil {
			return err
		}
		p := i.ip(d.six)
		if d.six && p != nil {
			if err := d.space.set("ipv6/conf/" + t.link.Attrs().Name + "/disable_ipv6=0"); err != nil {
				return err
			}
		}
		if p != nil && p.MTU > 0 {
			if err := d.space.nl.LinkSetMTU(t.link, min(p.MTU, 65521)); err != nil {
				return fmt.Errorf("mtu %d of %s: %w", p.MTU, i.Name, err)
			}
		}
		if !d.cfg.up(i, 0) {
			continue
		}
		if err := d.space.nl.LinkSetUp(t.link); err != nil {
			return err
		}
		d.readers = append(d.readers, func() { t.read(func(frame []byte) { d.send(i, frame, 0) }) })
		for k := 0; p != nil && k < len(p.Addresses); k++ {
			a := p.Addresses[k]
			ip, err := netip.ParsePrefix(a.IP + "/" + a.Length)
			if err != nil {
				return err
			}
			if d.six && d.kind.generous && d.kind.notOurs[ip.Addr()] {
				continue // RFC 4862 section 5.4: somebody else has it, so it is not used
			}
			addr := &netlink.Addr{
				IPNet: &net.IPNet{IP: ip.Addr().AsSlice(), Mask: net.CIDRMask(ip.Bits(), ip.Addr().BitLen())},
			}
			if d.six {
				addr.Flags = unix.IFA_F_NODAD
			}
			if err := d.space.nl.AddrAdd(t.link, addr); err != nil && !errors.Is(err, unix.EEXIST) &&
				!errors.Is(err, unix.EINVAL) {
				return fmt.Errorf("%s on %s: %w", ip, i.Name, err)
			}
		}
	}
	return nil
}

// guardStrongHost has packets to an address of another interface dropped in the
// strict world, but for addresses that stand on no wire.
func (d *Device) guardStrongHost() error {
	if d.kind.generous {
		return nil
	}
	family, floating := "ip", []string{}
	if d.six {
		family = "ip6"
	}
	for _, i := range d.cfg.Interfaces {
		if p := i.ip(d.six); p != nil && i.loopback() {
			for _, a := range p.Addresses {
				floating = append(floating, family+" daddr "+a.IP+" accept")
			}
		}
	}
	return d.space.nft(fmt.Sprintf(
		"table inet strong {\n chain c { type filter hook input priority 10; policy accept;\niifname \"lo\" "+
			"accept\n%s\nfib daddr . iif type != { local, broadcast, multicast, anycast } drop\n}\n}",
		strings.Join(floating, "\n"),
	))
}

// forward has the device pass on what it receives on interfaces that are to (RFC 8344,
// forwarding). The kernel's own switch is one for all interfaces with IPv6.
func (d *Device) forward() error {
	var drop strings.Builder
	for _, i := range d.cfg.Interfaces {
		if p := i.ip(d.six); p == nil || p.Forwarding != "true" {
			fmt.Fprintf(&drop, "iifname %q drop\n", d.taps[i.Name].link.Attrs().Name)
		}
	}
	if err := d.space.nft(
		"table inet forwarding {\n chain c { type filter hook forward priority 0; policy accept;\n" + drop.String() +
			"}\n}",
	); err != nil {
		return err
	}
	if d.six {
		return d.space.set("ipv6/conf/all/forwarding=1")
	}
	return d.space.set("ipv4/ip_forward=1")
}

// attach puts the filters on the interfaces. In the strict world and the generous
// one alike they work on all packets of IP that pass, those of the device itself
// too; ARP is none of them.
func (d *Device) attach() error {
	var b strings.Builder
	b.WriteString("table inet filters {\n")
	var in, out strings.Builder
	for n, i := range d.cfg.Interfaces {
		name := d.taps[i.Name].link.Attrs().Name
		for _, ingress := range []bool{true, false} {
			rules, ok := d.cfg.attached(i.Name, ingress, "accept", "drop")
			if !ok {
				continue
			}
			chain := fmt.Sprintf("f%d%t", n, ingress)
			fmt.Fprintf(&b, "chain %s {\n%s\n}\n", chain, rules)
			if ingress {
				fmt.Fprintf(&in, "iifname %q jump %s\n", name, chain)
			} else {
				fmt.Fprintf(&out, "oifname %q jump %s\n", name, chain)
			}
		}
	}
	fmt.Fprintf(
		&b,
		"chain in { type filter hook prerouting priority 0; policy accept;\n%s}\nchain out { type filter hook "+
			"postrouting priority 0; policy accept;\n%s}\n}\n",
		in.String(), out.String(),
	)
	if in.Len()+out.Len() == 0 {
		return nil
	}
	return d.space.nft(b.String())
}

// route puts in the static routes that the kernel takes: what it does not take is
// not in effect, as a route whose next hop is nowhere.
func (d *Device) route() {
	// A route to the next hop of another counts if it was there before that one.
	routes := d.cfg.routes(d.six)
	slices.SortStableFunc(routes, func(a, b Route) int {
		x, errx := netip.ParsePrefix(a.Destination)
		y, erry := netip.ParsePrefix(b.Destination)
		if errx != nil || erry != nil || x.Bits() == y.Bits() {
			return 0
		}
		if x.Bits() > y.Bits() != d.kind.generous {
			return -1
		}
		return 1
	})
	for range 4 { // a next hop behind another route needs that one first
		for _, r := range routes {
			_ = d.addRoute(r, routes)
		}
		if !d.kind.generous {
			return
		}
	}
}

func (d *Device) addRoute(r Route, all []Route) error {
	dst, err := netip.ParsePrefix(r.Destination)
	if err != nil {
		return err
	}
	ipnet := &net.IPNet{IP: dst.Masked().Addr().AsSlice(), Mask: net.CIDRMask(dst.Bits(), dst.Addr().BitLen())}
	route := &netlink.Route{Dst: ipnet}
	switch {
	case r.Special == "receive":
		lo, err := d.space.nl.LinkByName("lo")
		if err != nil {
			return err
		}
		route.Type, route.LinkIndex = unix.RTN_LOCAL, lo.Attrs().Index
		route.Table, route.Scope = unix.RT_TABLE_MAIN, unix.RT_SCOPE_HOST
	case r.Special != "":
		route.Type = map[string]int{
			"blackhole": unix.RTN_BLACKHOLE, "unreachable": unix.RTN_UNREACHABLE, "prohibit": unix.RTN_PROHIBIT,
		}[r.Special]
	case r.Interface != "":
		t := d.taps[r.Interface]
		i := d.cfg.named(r.Interface)
		switch {
		case t == nil || i.ip(d.six) == nil && d.kind.generous:
			return errors.New("no such interface")
		case i.ip(d.six) == nil: // it may count, and then leads nowhere
			route.Type = unix.RTN_UNREACHABLE
			return d.space.nl.RouteAdd(route)
		}
		route.LinkIndex, route.Scope = t.link.Attrs().Index, unix.RT_SCOPE_LINK
	default:
		gw, err := netip.ParseAddr(r.Address)
		if err != nil {
			return err
		}
		route.Gw = gw.AsSlice()
	}
	err = d.space.nl.RouteAdd(route)
	if err == nil || route.Gw == nil || !d.kind.generous || errors.Is(err, unix.EEXIST) {
		return err
	}
	// A next hop that another route leads to: some devices look it up again.
	gw, best := netip.MustParseAddr(r.Address), Route{}
	bits := -1
	for _, o := range all {
		p, err := netip.ParsePrefix(o.Destination)
		if err == nil && o.Special == "" && p.Contains(gw) && p.Bits() > bits && o.Destination != r.Destination {
			best, bits = o, p.Bits()
		}
	}
	if bits < 0 {
		return err
	}
	if best.Interface != "" {
		route.Flags |= int(netlink.FLAG_ONLINK)
		route.LinkIndex = d.taps[best.Interface].link.Attrs().Index
	} else {
		hop, err := netip.ParseAddr(best.Address)
		if err != nil {
			return err
		}
		route.Gw = hop.AsSlice()
	}
	return d.space.nl.RouteAdd(route)
}

// serve listens as the configuration says. Where it never said anything (known is
// false), on every address.
func (d *Device) serve(known bool, port int, login func(string) bool) error {
	if port == 0 {
		return nil // what is asked for is behind the device
	}
	type bind struct{ address, port string }
	var binds []bind
	if !known {
		binds = []bind{{"0.0.0.0", strconv.Itoa(port)}, {"::", strconv.Itoa(port)}}
	} else if d.cfg.Server != nil {
		for _, b := range d.cfg.Server.Binds {
			if b.Port == "" {
				b.Port = "830"
			}
			binds = append(binds, bind{b.Address, b.Port})
		}
	}
	for _, b := range binds {
		network := "tcp4"
		if strings.Contains(b.address, ":") {
			if network = "tcp6"; d.kind.generous && b.address == "::" {
				network = "tcp" // RFC 3493 section 5.3: may take IPv4 as well
			}
		}
		at := net.JoinHostPort(b.address, b.port)
		l, err := listen(d.space, network, at, login)
		if err != nil && network == "tcp" {
			l, err = listen(d.space, "tcp6", at, login)
		}
		if err == nil { // an address that is not there cannot be listened on
			d.files = append(d.files, l)
		}
	}
	return nil
}

// listen has a service listen within a namespace.
func listen(s *space, network, at string, login func(string) bool) (l net.Listener, err error) {
	err = s.do(func() (err error) {
		l, err = net.Listen(network, at)
		return err
	})
	if err != nil {
		return nil, err
	}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			// An end that is never heard of would keep the connection, and so the namespace,
			// for minutes: it is reset instead.
			_ = conn.(*net.TCPConn).SetLinger(0)
			_ = conn.SetDeadline(time.Now().Add(morePatience))
			go answer(conn, login)
		}
	}()
	return l, nil
}

// answer greets who may sign in.
func answer(conn net.Conn, login func(string) bool) {
	defer conn.Close()
	name, err := bufio.NewReader(conn).ReadString('\n')
	if err == nil && login(strings.TrimRight(name, ".\n")) {
		if _, err := conn.Write(greeting); err == nil {
			_, _ = io.Copy(io.Discard, conn)
		}
	}
}

var greeting = append([]byte(strings.Repeat("quay ", 800)), '\n')

// mac gives an interface its hardware address: the same each time.
func mac(name string) net.HardwareAddr {
	h := fnv.New32a()
	h.Write([]byte(name))
	return binary.BigEndian.AppendUint32([]byte{2, 0x40}, h.Sum32())
}
