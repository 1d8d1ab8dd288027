package flow_test

import (
	"errors"
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/flow"
)

func rule(name string, a flow.Action, m flow.Match) flow.Rule {
	return flow.Rule{Name: name, Match: m, Action: a}
}

func prefix(text string) netip.Prefix { return netip.MustParsePrefix(text) }

// hall permits a network to manage a device, and nothing else.
func hall(from string) flow.Filter {
	m := flow.Match{}.Prefix(flow.Source, prefix(from)).Prefix(
		flow.Destination, prefix("192.0.2.13/32"),
	).Number(flow.Protocol, flow.TCP, flow.TCP)
	return flow.Filter{
		Name: "management-in",
		Rules: []flow.Rule{
			rule("room", flow.Accept, m.Number(flow.DestinationPort, 830, 830)), rule("rest", flow.Drop, flow.Match{}),
		},
	}
}

// The slip: a prefix a little too wide. What was expected is delivered, and what
// is beside it is named, with an address in it.
func TestSlip(t *testing.T) {
	e, err := flow.ParseExpectation("permit tcp from 198.51.100.0/25 to 192.0.2.13 port 830")
	require.NoError(t, err)
	before, wide, right := hall("198.51.100.128/25"), hall("198.51.100.0/24"), hall("198.51.100.0/25")
	through := func(before flow.Filter, after ...flow.Filter) flow.FilterChain {
		return flow.FilterChain{Before: []flow.Filter{before}, After: after}
	}
	a := flow.Ask(e, through(before, wide))
	assert.Equal(t, flow.Answer{Already: "not", Delivered: true}, a)
	before = hall("198.51.100.0/26")
	wide = hall("198.51.0.0/16")
	a = flow.Ask(e, through(before, wide))
	assert.Equal(
		t, []any{"partly", []string{"tcp from 198.51.100.0/26 to 192.0.2.13 port 830"}, true},
		[]any{a.Already, a.Part, a.Delivered},
	)
	beside, _ := flow.Beside(before, wide, []flow.Expectation{e})
	require.Len(t, beside.Permitted, 1)
	assert.Equal(
		t, "tcp from 198.51.0.0-198.51.99.255,198.51.100.128-198.51.255.255 to 192.0.2.13 port 830",
		beside.Permitted[0].Packets,
	)
	assert.Equal(t, "tcp from 198.51.0.1:50000 to 192.0.2.13:830", beside.Permitted[0].Example)
	assert.Equal(t, "drop by rule rest", beside.Permitted[0].Before.String())
	assert.Equal(t, "accept by rule room", beside.Permitted[0].After.String())
	beside, _ = flow.Beside(before, right, []flow.Expectation{e})
	assert.True(t, beside.NoEffect, "nothing is beside it")

	// What is missing is told with what stands in its way.
	a = flow.Ask(e, through(right, before))
	assert.Equal(t, "wholly", a.Already)
	require.Len(t, a.Missing, 1)
	assert.Equal(
		t,
		flow.Lack{
			Packets: "tcp from 198.51.100.64/26 to 192.0.2.13 port 830",
			Example: "tcp from 198.51.100.65:50000 to 192.0.2.13:830", Filter: "management-in",
			By: flow.Ruling{Rule: "rest", Action: "drop"},
		},
		a.Missing[0],
	)
	deny, err := flow.ParseExpectation("deny any from 203.0.113.0/24")
	require.NoError(t, err)
	a = flow.Ask(deny, through(right, right, hall("203.0.113.0/24")))
	assert.True(t, a.Delivered, "denied by one of them is denied")
	a = flow.Ask(deny, through(right, right), through(right, hall("203.0.113.0/24")))
	assert.Equal(
		t, []any{false, "tcp from 203.0.113.0/24 to 192.0.2.13 port 830", "accept by rule room"},
		[]any{a.Delivered, a.Missing[0].Packets, a.Missing[0].By.String()},
		"denied on one way is not denied on another",
	)
}

// What stands beside expectations is named whole, not by the lines it is told in.
func TestBesideDigest(t *testing.T) {
	_, none := flow.Beside(hall("198.51.100.0/24"), hall("198.51.100.0/24"), nil)
	opened := func(last int) (flow.Change, string) {
		after := flow.Filter{Name: "management-in"}
		for i := range 200 { // apart from each other, and in lines of their own
			port := uint64(1000 + 7*i)
			if i == 199 {
				port += uint64(last)
			}
			m := flow.Match{}.Prefix(
				flow.Source, netip.PrefixFrom(netip.AddrFrom4([4]byte{198, 51, 100, byte(i)}), 32),
			).Number(flow.Protocol, flow.TCP, flow.TCP)
			after.Rules = append(
				after.Rules, rule(fmt.Sprint(i), flow.Accept, m.Number(flow.DestinationPort, port, port)),
			)
		}
		return flow.Beside(flow.Filter{}, after, nil)
	}
	a, first := opened(0)
	b, again := opened(0)
	c, other := opened(1)
	assert.Equal(t, a, b)
	assert.Equal(t, a, c, "the lines that are told are the same")
	assert.True(t, a.More)
	assert.Equal(t, first, again)
	assert.NotEqual(t, first, other)
	assert.NotEqual(t, first, none)
}

// Each line means what it says, or is pointed at.
func TestParseExpectation(t *testing.T) {
	for line, want := range map[string]string{
		"permit tcp,udp from 10.0.0.0/8,2001:db8::/32 port 53": "tcp,udp from 10.0.0.0/8 port 53; tcp,udp from " +
			"2001:db8::/32 port 53",
		"deny any":                               "any IPv4; any IPv6",
		"permit icmp type 8 code 0 to 192.0.2.1": "icmp to 192.0.2.1 type 8 code 0",
		"permit icmp to 2001:db8::1":             "icmpv6 to 2001:db8::1",
		"permit 89 from 192.0.2.10-192.0.2.20":   "ospf from 192.0.2.10-192.0.2.20",
		" permit  tcp  from-port 1024-65535 port 80,443,8080-8082 ": "tcp IPv4 from-port 1024-65535 port " +
			"80,443,8080-8082; tcp IPv6 from-port 1024-65535 port 80,443,8080-8082",
	} {
		e, err := flow.ParseExpectation(line)
		require.NoError(t, err, line)
		s := flow.NewSpace(flow.Limits{})
		lines, all := s.Set(e).Lines(10)
		require.True(t, all)
		text := ""
		for i, l := range lines {
			if i > 0 {
				text += "; "
			}
			text += l.String()
		}
		assert.Equal(t, want, text, line)
		// What is told of a set can be said again, and is the same set.
		again := s.Nothing()
		for _, l := range lines {
			if x, err := flow.ParseExpectation("permit " + l.String()); err == nil {
				again = again.Union(s.Set(x))
			}
		}
		if len(e.Text) > 0 && line != "deny any" && !again.Empty() {
			assert.True(t, s.Set(e).Equal(again) || line[0] == ' ', line)
		}
	}
	for line, want := range map[string]string{
		"":           "column 1: it begins with permit or deny",
		"allow tcp":  "column 1: \"allow\"",
		"permit":     "column 7: which protocols?",
		"permit tcq": "column 8: \"tcq\" is no protocol",
		"permit tcp from 10.0.0.1/8": "column 17: 10.0.0.1/8 has bits behind its length: is 10.0.0.0/8 meant, " +
			"or 10.0.0.1?",
		"permit tcp from 10.0.0.0/8,x": "column 28: \"x\" is no prefix",
		"permit tcp port 80-70":        "column 17: \"80-70\" is no number or range up to 65535",
		"permit tcp port 70000":        "column 17", "permit tcp to": "column 14: to what?",
		"permit tcp over 10.0.0.0/8":         "column 12: \"over\": from, from-port, to, port, type or code",
		"permit tcp port 80 port 81":         "column 20: port stands twice",
		"permit any port 80":                 "ports are those of tcp",
		"permit tcp type 8":                  "types and codes are those of icmp",
		"permit tcp from 10.0.0.0/8 to ::/0": "no packet is from an address of one family",
		"permit tcp port 80,":                "column 20: something is missing beside a comma",
		"permit tcp from 10.0.0.9-10.0.0.1":  "is no range of addresses",
		"permit tcp from fe80::1%eth0":       "is no prefix",
	} {
		_, err := flow.ParseExpectation(line)
		var e *flow.SyntaxError
		require.True(t, errors.As(err, &e), line)
		assert.Contains(t, err.Error(), want, line)
	}
}

func FuzzParseExpectation(f *testing.F) {
	f.Add("permit tcp,udp from 10.0.0.0/8,2001:db8::/32 from-port 1-2 to any port 53 ")
	f.Add("deny icmp type 8 code 0")
	f.Fuzz(func(t *testing.T, line string) {
		e, err := flow.ParseExpectation(line)
		var bad *flow.SyntaxError
		if err != nil {
			if !errors.As(err, &bad) || bad.Column() < 1 {
				t.Fatal(err)
			}
			return
		}
		again, err := flow.ParseExpectation(e.Text)
		if err != nil {
			t.Fatalf("%q: %v", e.Text, err)
		}
		if again.Text != e.Text {
			t.Fatalf("%q comes back as %q", e.Text, again.Text)
		}
	})
}

// What packets are asked about is read as it is written, and an error points into the line.
func FuzzParsePackets(f *testing.F) {
	for _, line := range []string{
		"tcp from 192.0.2.0/24 to 10.0.0.1 port 443", "udp from any to any", "icmp from 2001:db8::/32 to any", "",
		"tcp", "from", "tcp from 1.2.3.4/99 to any", "permit tcp from any to any",
	} {
		f.Add(line)
	}
	f.Fuzz(func(t *testing.T, line string) {
		e, err := flow.ParsePackets(line)
		if bad, ok := errors.AsType[*flow.SyntaxError](err); ok {
			if bad.At < 0 || bad.At > len(line) {
				t.Fatalf("%q: the error points to %d", line, bad.At)
			}
		}
		if err != nil {
			return
		}
		again, err := flow.ParsePackets(e.Text)
		if err != nil {
			t.Fatalf("%q: %v", e.Text, err)
		}
		if again.Text != e.Text {
			t.Fatalf("%q comes back as %q", e.Text, again.Text)
		}
	})
}
