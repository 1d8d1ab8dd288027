package flow_test

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/flow"
	"oakenlatch/core/treetest"
	"oakenlatch/test/pace"
)

// wild makes rules of both families with everything that can be asked.
func wild(rnd *rand.Rand, n int) []flow.Rule {
	v6 := []netip.Prefix{
		netip.MustParsePrefix("2001:db8::/32"), netip.MustParsePrefix("2001:db8:1::/48"),
		netip.MustParsePrefix("2001:db8:1:2::/64"), netip.MustParsePrefix("::/0"),
		netip.MustParsePrefix("2001:db8:1:2::7/128"),
	}
	v4 := []netip.Prefix{
		netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("10.1.0.0/16"), netip.MustParsePrefix("10.1.2.0/24"),
		netip.MustParsePrefix("10.1.2.128/25"), netip.MustParsePrefix("0.0.0.0/0"),
		netip.MustParsePrefix("10.1.2.200/32"),
	}
	out := make([]flow.Rule, n)
	for i := range out {
		var m flow.Match
		nets := v4
		switch rnd.IntN(3) {
		case 0:
			m = m.In(flow.IPv4)
		case 1:
			m, nets = m.In(flow.IPv6), v6
		}
		if rnd.IntN(2) == 0 {
			m = m.Prefix(flow.Source, nets[rnd.IntN(len(nets))])
		}
		if rnd.IntN(2) == 0 {
			m = m.Prefix(flow.Destination, nets[rnd.IntN(len(nets))])
		}
		proto := []uint64{flow.TCP, flow.UDP, flow.ICMP, flow.ICMPv6, 89}[rnd.IntN(5)]
		if rnd.IntN(3) > 0 {
			m = m.Number(flow.Protocol, proto, proto)
		}
		switch rnd.IntN(6) {
		case 0:
			m = m.Number(flow.DestinationPort, uint64(rnd.IntN(6)), uint64(3+rnd.IntN(6)))
		case 1:
			m = m.Not(flow.DestinationPort, uint64(rnd.IntN(6)))
		case 2:
			m = m.Number(flow.SourcePort, 0, uint64(rnd.IntN(6)))
		case 3:
			m = m.Number(flow.ICMPType, uint64(rnd.IntN(4)), uint64(rnd.IntN(4))).Number(flow.DSCP, 46, 46)
		case 4:
			m = m.Number(flow.TTL, 200, 255)
		}
		out[i] = flow.Rule{Match: m, Action: flow.Action(rnd.IntN(3))}
		if rnd.IntN(5) == 0 {
			out[i].Facts = []string{[]string{"tcp ack", "tcp syn", "ipv4/ihl is 5"}[rnd.IntN(3)]}
		}
	}
	return out
}

// packet makes one that some rule may be about.
func packet(rnd *rand.Rand) flow.Packet {
	p := flow.Packet{
		Facts: map[string]bool{
			"tcp ack": rnd.IntN(2) == 0, "tcp syn": rnd.IntN(2) == 0, "ipv4/ihl is 5": rnd.IntN(2) == 0,
		},
	}
	ends := []string{"10.1.2.200", "10.1.2.3", "10.1.9.9", "10.9.9.9", "192.0.2.1"}
	if rnd.IntN(2) == 0 {
		p.Family = flow.IPv6
		ends = []string{"2001:db8:1:2::7", "2001:db8:1:2::8", "2001:db8:1::9", "2001:db8:ff::1", "::1"}
	}
	p.From, p.To = netip.MustParseAddr(ends[rnd.IntN(len(ends))]), netip.MustParseAddr(ends[rnd.IntN(len(ends))])
	p.Numbers[flow.Protocol] = []uint64{flow.TCP, flow.UDP, flow.ICMP, flow.ICMPv6, 89, 200}[rnd.IntN(6)]
	p.Numbers[flow.DestinationPort], p.Numbers[flow.SourcePort] = uint64(rnd.IntN(10)), uint64(rnd.IntN(10))
	p.Numbers[flow.ICMPType], p.Numbers[flow.DSCP] = uint64(rnd.IntN(4)), uint64(46*rnd.IntN(2))
	p.Numbers[flow.TTL] = uint64(150 + rnd.IntN(100))
	return p
}

// What a set says of a packet is what the rules say, one after another; and the
// algebra is that of sets.
func TestAgainstFirstMatch(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 1))
	for range pace.Rounds(300) {
		s := flow.NewSpace(flow.Limits{})
		a, b := wild(rnd, 1+rnd.IntN(14)), wild(rnd, 1+rnd.IntN(14))
		if rnd.IntN(2) == 0 {
			b = slices.Clone(a)
			i, j := rnd.IntN(len(b)), rnd.IntN(len(b))
			b[i], b[j] = b[j], wild(rnd, 1)[0]
		}
		pa, pb := s.Permitted(a), s.Permitted(b)
		e := s.Compare(a, b)
		place := rnd.IntN(len(a))
		decided := s.DecidedBy(a, place)
		fa, fb := flow.Filter{Rules: a}, flow.Filter{Rules: b}
		box := s.Matching(wild(rnd, 1)[0].Match)
		in := s.PermittedWithin(box, a)
		lines, all := e.Permitted.Lines(1000)
		index := flow.NewIndex(a)
		for range 300 {
			p := packet(rnd)
			da, ia := fa.Does(p)
			db, _ := fb.Does(p)
			require.Equal(t, da.Permits(), pa.Has(p), "%s", p)
			require.Equal(t, !da.Permits() && db.Permits(), e.Permitted.Has(p), "%s", p)
			require.Equal(t, da.Permits() && !db.Permits(), e.Denied.Has(p))
			require.Equal(t, !da.Permits() && !db.Permits() && da != db, e.Answered.Has(p))
			require.Equal(t, ia == place, decided.Has(p))
			require.Equal(t, ia, index.Find(a, p))
			require.Equal(t, box.Has(p) && da.Permits(), in.Has(p))
			require.Equal(t, pa.Has(p) || pb.Has(p), pa.Union(pb).Has(p))
			require.Equal(t, pa.Has(p) && pb.Has(p), pa.Both(pb).Has(p))
		}
		require.True(t, e.Permitted.Equal(pb.Minus(pa)))
		require.True(t, e.Denied.Equal(pa.Minus(pb)))
		require.True(t, pa.Minus(pb).Union(pa.Both(pb)).Equal(pa))
		require.True(t, s.All().Minus(s.All().Minus(pa)).Equal(pa))
		for _, set := range []flow.Set{pa, e.Permitted, e.Denied, decided} {
			if p, ok := set.Example(); ok {
				require.True(t, set.Has(p), "an example is in the set")
			} else {
				require.True(t, set.Empty())
			}
		}
		if all {
			for _, l := range lines {
				require.True(t, e.Permitted.Has(l.Example()), "%s", l)
			}
		}
		require.NoError(t, s.Err())
	}
}

// How rules stand is what taking each out comes to; what is cleaned away changes
// nothing.
func TestInspect(t *testing.T) {
	rnd := rand.New(rand.NewPCG(2, 1))
	counts := map[flow.Standing]int{}
	for range 150 {
		s := flow.NewSpace(flow.Limits{})
		rules := wild(rnd, 1+rnd.IntN(20))
		standing := s.Inspect(rules)
		for i := range rules {
			counts[standing[i]]++
			require.Equal(t, standing[i] == flow.Unreached, s.DecidedBy(rules, i).Empty(), "rule %d", i)
			end := flow.Rule{Facts: []string{"the end"}, Action: flow.Accept} // whatever becomes of what no rule fits
			without := append(slices.Delete(slices.Clone(rules), i, i+1), end)
			same := s.Compare(append(slices.Clone(rules), end), without).None()
			require.Equal(t, standing[i] != flow.Needed, same, "rule %d of %d", i, len(rules))
		}
		gone := s.Clean(rules)
		var left []flow.Rule
		for i := range rules {
			if !slices.Contains(gone, i) {
				left = append(left, rules[i])
			}
		}
		require.True(t, s.Compare(rules, left).None())
		for _, x := range s.Inspect(left) {
			require.Equal(t, flow.Needed, x)
		}
		require.NoError(t, s.Err())
	}
	assert.Greater(t, counts[flow.Unreached], 100)
	assert.Greater(t, counts[flow.Redundant], 15)
}

// Laws that hold whatever the rules are.
func TestLaws(t *testing.T) {
	rnd := rand.New(rand.NewPCG(3, 1))
	nets := treetest.Networks(rnd, 40)
	for range 60 {
		s := flow.NewSpace(flow.Limits{})
		rules := treetest.Filter(rnd, nets, 5+rnd.IntN(120))
		require.True(
			t, s.Compare(rules, treetest.Rewritten(rnd, rules)).None(),
			"cut in two, and with rules nobody gets to, it does the same",
		)
		other := treetest.Touched(rnd, nets, rules, 1+rnd.IntN(4))
		e := s.Compare(rules, other)
		back := s.Compare(other, rules)
		require.True(t, e.Permitted.Equal(back.Denied))
		require.True(t, e.Denied.Equal(back.Permitted))
		require.True(
			t, e.Permitted.Equal(s.Permitted(other).Minus(s.Permitted(rules))),
			"what is looked at rule by rule is what the whole comes to",
		)
		require.NoError(t, s.Err())
	}
}

// Beyond its limits it stops, and says so.
func TestLimits(t *testing.T) {
	rnd := rand.New(rand.NewPCG(4, 1))
	rules := treetest.Filter(rnd, treetest.Networks(rnd, 100), 500)
	for _, l := range []flow.Limits{{Nodes: 50}, {Steps: 500}} {
		s := flow.NewSpace(l)
		s.Permitted(rules)
		require.ErrorIs(t, s.Err(), flow.ErrTooLarge)
	}
}

// Rules whose every address and port is another: the index stays small, and right;
// what is too much is said to be.
func TestRulesThatOverlapAnyhow(t *testing.T) {
	rnd := rand.New(rand.NewPCG(5, 11))
	pair := func(most uint64) (lo, hi uint64) {
		a, b := rnd.Uint64N(most), rnd.Uint64N(most)
		return min(a, b), max(a, b)
	}
	address := func(n uint64) netip.Addr {
		return netip.AddrFrom4([4]byte{byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)})
	}
	rules := make([]flow.Rule, 20_000)
	for i := range rules {
		from, to := pair(1 << 32)
		low, high := pair(1 << 16)
		rules[i] = flow.Rule{
			Action: flow.Accept * flow.Action(rnd.IntN(2)),
			Match: flow.Match{}.Range(
				flow.Source, address(from), address(to),
			).Number(flow.Protocol, 6, 6).Number(flow.DestinationPort, low, high),
		}
		if i < 19_000 {
			rules[i].Match = rules[i].Match.Range(flow.Destination, address(uint64(i)<<8), address(uint64(i)<<8+250))
		}
	}
	index, plain := flow.NewIndex(rules), flow.Filter{Rules: rules}
	for range 40 {
		p := flow.Packet{From: address(rnd.Uint64N(1 << 32)), To: address(rnd.Uint64N(20_000) << 8)}
		p.Numbers[flow.Protocol], p.Numbers[flow.DestinationPort] = 6, rnd.Uint64N(1<<16)
		assert.Equal(t, plain.Decides(p), index.Find(rules, p), "%v", p)
	}
	s := flow.NewSpace(flow.Limits{Steps: 100_000})
	s.Clean(rules[:3000])
	assert.ErrorIs(t, s.Err(), flow.ErrTooLarge)
}
