package lab

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/flow"
	"oakenlatch/core/tree"
)

// written makes a filter as somebody writes it down.
func written(t *testing.T, rnd *rand.Rand, rules int) *tree.Node {
	t.Helper()
	var b strings.Builder
	b.WriteString("acls\n  acl [f]\n    aces\n")
	pick := func(list ...string) string { return list[rnd.IntN(len(list))] }
	port := func(name string) {
		if rnd.IntN(2) > 0 {
			return
		}
		fmt.Fprintf(&b, "            %s\n", name)
		if rnd.IntN(2) == 0 {
			lo := rnd.IntN(30)
			fmt.Fprintf(&b, "              lower-port: %d\n              upper-port: %d\n", lo, lo+rnd.IntN(20))
		} else {
			fmt.Fprintf(
				&b, "              operator: %s\n              port: %d\n", pick("eq", "neq", "lte", "gte"),
				rnd.IntN(40),
			)
		}
	}
	for i := range rules {
		fmt.Fprintf(&b, "      ace [r%d]\n", i)
		six := rnd.IntN(3) == 0
		v, nets := "ipv4", []string{
			"10.0.0.0/8", "10.1.0.0/16", "10.1.2.0/24", "10.1.2.0/25", "0.0.0.0/0", "10.1.2.7/32",
		}
		if six {
			v, nets = "ipv6", []string{"2001:db8::/32", "2001:db8:1::/48", "::/0", "2001:db8:1::7/128"}
		}
		fmt.Fprintf(&b, "        matches\n")
		if rnd.IntN(6) > 0 {
			fmt.Fprintf(&b, "          %s\n", v)
			if rnd.IntN(3) > 0 {
				fmt.Fprintf(&b, "            source-%s-network: %s\n", v, pick(nets...))
			}
			if rnd.IntN(3) > 0 {
				fmt.Fprintf(&b, "            destination-%s-network: %s\n", v, pick(nets...))
			}
			if rnd.IntN(4) == 0 {
				fmt.Fprintf(&b, "            protocol: %s\n", pick("6", "17", "1", "58", "89"))
			}
		}
		switch rnd.IntN(4) {
		case 0, 1:
			fmt.Fprintf(&b, "          %s\n", pick("tcp", "udp"))
			port("source-port")
			port("destination-port")
		case 2:
			fmt.Fprintf(&b, "          icmp\n            type: %d\n", rnd.IntN(4))
			if rnd.IntN(2) == 0 {
				fmt.Fprintf(&b, "            code: %d\n", rnd.IntN(3))
			}
		}
		fmt.Fprintf(&b, "        actions\n          forwarding: %s\n", pick("accept", "drop", "reject", "accept"))
	}
	set, err := modules("ietf-access-control-list")
	require.NoError(t, err)
	n, err := codec.Decoder{Schema: set.schema}.ParseOutline(b.String())
	require.NoError(t, err, b.String())
	return n
}

func randomPacket(rnd *rand.Rand) Packet {
	ends := []string{"10.1.2.7", "10.1.2.200", "10.1.9.9", "10.200.0.1", "192.0.2.1"}
	p := Packet{
		Protocol: []uint8{6, 17, 1, 58, 89, 50}[rnd.IntN(6)], FromPort: uint16(rnd.IntN(50)),
		ToPort: uint16(rnd.IntN(50)), Type: uint8(rnd.IntN(5)), Code: uint8(rnd.IntN(4)),
	}
	if rnd.IntN(3) == 0 {
		ends = []string{"2001:db8:1::7", "2001:db8:1::8", "2001:db8:2::1", "2001:dba::1"}
	}
	p.From, p.To = netip.MustParseAddr(ends[rnd.IntN(len(ends))]), netip.MustParseAddr(ends[rnd.IntN(len(ends))])
	return p
}

func asFlow(p Packet) flow.Packet {
	out := flow.Packet{From: p.From, To: p.To}
	if p.From.Is6() {
		out.Family = flow.IPv6
	}
	for f, n := range map[flow.Field]uint64{
		flow.Protocol: uint64(p.Protocol), flow.SourcePort: uint64(p.FromPort), flow.DestinationPort: uint64(p.ToPort),
		flow.ICMPType: uint64(p.Type), flow.ICMPCode: uint64(p.Code),
	} {
		out.Numbers[f] = n
	}
	return out
}

// Millions of packets, one by one through the rules as the lab reads them, fare
// as the sets say that are worked out for all packets at once; and so do the
// effects of one filter taking another's place.
func TestSetsAgainstTheLab(t *testing.T) {
	t.Parallel()
	rnd := rand.New(rand.NewPCG(8, 8))
	filters, packets := 400, 6000
	if testing.Short() {
		filters = 40
	}
	differ := 0
	for range filters / 2 {
		before, after := written(t, rnd, 1+rnd.IntN(12)), written(t, rnd, 1+rnd.IntN(12))
		s := flow.NewSpace(flow.Limits{})
		x, _ := flow.Read(before).Filter("f")
		y, _ := flow.Read(after).Filter("f")
		px, py := s.Permitted(x.Rules), s.Permitted(y.Rules)
		e := s.Compare(x.Rules, y.Rules)
		require.NoError(t, s.Err())
		for range packets {
			p := randomPacket(rnd)
			a, b := Forwards(before, "f", p), Forwards(after, "f", p)
			q := asFlow(p)
			if px.Has(q) != a || py.Has(q) != b || e.Permitted.Has(q) != (!a && b) || e.Denied.Has(q) != (a && !b) {
				t.Fatalf(
					"%+v: before %t, after %t; the sets say %t and %t\n%s", p, a, b, px.Has(q), py.Has(q),
					codec.OutlineText(before),
				)
			}
			if a != b {
				differ++
			}
		}
	}
	assert.Greater(t, differ, filters*packets/50, "enough of them are treated otherwise for that to say something")
}
