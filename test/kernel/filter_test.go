package kernel

import (
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/flow"
)

// packet writes a packet of IP as it stands on a wire. Its checksums are not
// looked at by what filters it; the last bytes are its number.
func rawPacket(p flow.Packet, number uint32) []byte {
	proto := byte(p.Numbers[flow.Protocol])
	var l4 []byte
	switch proto {
	case flow.TCP:
		l4 = make([]byte, 20)
		l4[12] = 5 << 4
	case flow.UDP:
		l4 = make([]byte, 8)
		l4[5] = 12
	default:
		l4 = []byte{byte(p.Numbers[flow.ICMPType]), byte(p.Numbers[flow.ICMPCode]), 0, 0, 0, 0, 0, 0}
	}
	if proto == flow.TCP || proto == flow.UDP {
		binary.BigEndian.PutUint16(l4, uint16(p.Numbers[flow.SourcePort]))
		binary.BigEndian.PutUint16(l4[2:], uint16(p.Numbers[flow.DestinationPort]))
	}
	l4 = binary.BigEndian.AppendUint32(l4, number)
	frame := append([]byte{}, 2, 0x40, 0, 0, 0, 1, 2, 0x41, 0, 0, 0, 2)
	if p.Family == flow.IPv4 {
		frame = append(frame, 8, 0, 0x45, 0)
		frame = binary.BigEndian.AppendUint16(frame, uint16(20+len(l4)))
		frame = append(frame, 0, 0, 0, 0, 64, proto, 0, 0)
		frame = append(append(frame, p.From.AsSlice()...), p.To.AsSlice()...)
		binary.BigEndian.PutUint16(frame[24:], checksum(frame[14:34]))
	} else {
		frame = append(frame, 0x86, 0xdd, 0x60, 0, 0, 0)
		frame = binary.BigEndian.AppendUint16(frame, uint16(len(l4)))
		frame = append(frame, proto, 64)
		frame = append(append(frame, p.From.AsSlice()...), p.To.AsSlice()...)
	}
	return append(frame, l4...)
}

// somePacket gives one of those that filters of a yard may tell apart.
func somePacket(c *Changer) flow.Packet {
	p := flow.Packet{Family: flow.Family(c.Rnd.IntN(2))}
	six := p.Family == flow.IPv6
	p.From, p.To = netip.MustParseAddr(c.address(six)), netip.MustParseAddr(c.address(six))
	icmp := uint64(flow.ICMP)
	if six {
		icmp = flow.ICMPv6
	}
	p.Numbers[flow.Protocol] = []uint64{flow.TCP, flow.TCP, flow.UDP, icmp}[c.Rnd.IntN(4)]
	port := func() uint64 {
		n, _ := strconv.ParseUint(c.port(), 10, 16)
		return n + uint64(c.Rnd.IntN(3)) - 1
	}
	if p.Numbers[flow.Protocol] == icmp {
		p.Numbers[flow.ICMPType] = []uint64{0, 8, 134, 135, 136}[c.Rnd.IntN(5)]
		p.Numbers[flow.ICMPCode] = uint64(c.Rnd.IntN(2))
	} else {
		p.Numbers[flow.SourcePort], p.Numbers[flow.DestinationPort] = port(), port()
	}
	return p
}

// What core/flow says of a filter is what becomes of real packets that go through
// the kernel's rules for it.
func TestFiltersAgainstTheKernel(t *testing.T) {
	need(t)
	const each = 200
	filters, seed := int(number(t, "FILTERS", 60)), seed(t)
	s := yardSchema(t)
	base := outline(t, s, Yard)
	c := NewChanger(s, rand.New(rand.NewPCG(seed, 1)), "ietf-access-control-list")
	passed, stopped := 0, 0
	for n := range filters {
		cfg := base
		var did []string
		for range 1 + c.Rnd.IntN(12) {
			if next, what := c.Change(cfg, Ways()[n%len(Ways())]); valid(s, next) {
				cfg, did = next, append(did, what...)
			}
		}
		reading := flow.Read(cfg)
		if len(reading.Attached) == 0 {
			continue
		}
		at := reading.Attached[c.Rnd.IntN(len(reading.Attached))]
		filter := reading.Chain(at)
		got := throughKernel(t, config(t, s, cfg), at.Interface, at.Direction == "ingress", c, each)
		for _, g := range got {
			does, rule := filter.Does(g.packet)
			if g.passed {
				passed++
			} else {
				stopped++
			}
			if does.Permits() != g.passed {
				t.Errorf(
					"seed %d, %s %s: %s: the kernel passes it: %v; core/flow says %s by rule %d\n%s", seed,
					at.Interface, at.Direction, g.packet, g.passed, does, rule, strings.Join(did, "\n"),
				)
			}
		}
	}
	t.Logf("seed %d: %d filters, %d packets passed, %d did not", seed, filters, passed, stopped)
	assert.Greater(t, passed, filters*each/50)
	assert.Greater(t, stopped, filters*each/50)
}

type sent struct {
	packet flow.Packet
	passed bool
}

// throughKernel sends random packets through the filters on an interface. One that
// every filter lets pass, for it is no IP, is sent behind them: once it is there,
// what is not there yet was stopped.
func throughKernel(t *testing.T, cfg *Config, name string, ingress bool, c *Changer, count int) []sent {
	filters, err := newSpace()
	require.NoError(t, err)
	d := &Device{cfg: cfg, filters: filters}
	defer d.Close()
	require.NoError(t, filters.set("ipv6/conf/default/disable_ipv6=1"))
	out := make([]sent, count)
	var mu sync.Mutex
	done := make(chan bool)
	var once sync.Once
	b, err := d.box(func(accept, drop string) string {
		rules, _ := cfg.attached(name, ingress, accept, drop)
		return rules
	}, func(frame []byte) {
		if binary.BigEndian.Uint16(frame[12:]) == 0x0806 {
			once.Do(func() { close(done) })
			return
		}
		if len(frame) < 38 || frame[1] != 0x40 {
			return // the kernel's own
		}
		mu.Lock()
		defer mu.Unlock()
		n := binary.BigEndian.Uint32(frame[len(frame)-4:])
		if int(n) < len(out) {
			out[n].passed = true
		}
	})
	require.NoError(t, err)
	for n := range out {
		out[n].packet = somePacket(c)
		_, err := b.in.file.Write(rawPacket(out[n].packet, uint32(n)))
		require.NoError(t, err)
		if n%50 == 49 {
			time.Sleep(time.Millisecond) // a device's queue is finite
		}
	}
	end := append(append([]byte{}, 2, 0x40, 0, 0, 0, 1, 2, 0x41, 0, 0, 0, 2, 8, 6), make([]byte, 28)...)
	_, err = b.in.file.Write(end)
	require.NoError(t, err)
	select {
	case <-done:
	case <-time.After(time.Minute):
		require.Fail(t, fmt.Sprint("what no filter is asked of did not come through ", name))
	}
	mu.Lock()
	defer mu.Unlock()
	return out
}
