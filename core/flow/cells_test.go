package flow_test

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/flow"
)

// cell is a rule over numbers, of which every packet is looked at.
type cell struct {
	lo, hi [4]int // protocol, to, from, to port
	accept bool
}

const edges = 8 // values of each field that a rule can tell apart

// asRule writes a cell's rule for the product: its values are spread over the
// whole field, so that between two of them nothing changes.
func (c cell) asRule() flow.Rule {
	at := func(n int) netip.Addr {
		return netip.AddrFrom4([4]byte{byte(n * 32), 0, 0, 0})
	}
	before := func(n int) netip.Addr {
		if n >= edges {
			return netip.AddrFrom4([4]byte{255, 255, 255, 255})
		}
		return at(n).Prev()
	}
	m := flow.Match{}.In(flow.IPv4)
	number := func(f flow.Field, k, step int, most uint64) {
		hi := uint64((c.hi[k]+1)*step) - 1
		if c.hi[k] == edges-1 {
			hi = most
		}
		m = m.Number(f, uint64(c.lo[k]*step), hi)
	}
	number(flow.Protocol, 0, 32, 255)
	m = m.Range(flow.Destination, at(c.lo[1]), before(c.hi[1]+1)).Range(flow.Source, at(c.lo[2]), before(c.hi[2]+1))
	number(flow.DestinationPort, 3, 8000, 65535)
	r := flow.Rule{Match: m, Action: flow.Drop}
	if c.accept {
		r.Action = flow.Accept
	}
	return r
}

func cells(rnd *rand.Rand) []cell {
	out := make([]cell, 1+rnd.IntN(7))
	for i := range out {
		for k := range 4 {
			a, b := rnd.IntN(edges), rnd.IntN(edges)
			if rnd.IntN(3) == 0 {
				a, b = 0, edges-1
			}
			out[i].lo[k], out[i].hi[k] = min(a, b), max(a, b)
		}
		out[i].accept = rnd.IntN(2) == 0
	}
	return out
}

func first(list []cell, at [4]int) bool {
	for _, c := range list {
		fits := true
		for k := range 4 {
			fits = fits && c.lo[k] <= at[k] && at[k] <= c.hi[k]
		}
		if fits {
			return c.accept
		}
	}
	return false
}

// Another exact method: every combination of stretches that any rule can tell
// apart, one by one, for thousands of pairs of filters. Emptiness and difference
// agree, and so does how much there is of it.
func TestAgainstEveryCell(t *testing.T) {
	rnd := rand.New(rand.NewPCG(6, 1))
	pairs, empty := 2000, 0
	if testing.Short() {
		pairs = 300
	}
	for range pairs {
		a, b := cells(rnd), cells(rnd)
		if rnd.IntN(3) == 0 {
			b = slices.Clone(a)
			i, j := rnd.IntN(len(b)), rnd.IntN(len(b))
			b[i], b[j] = b[j], b[i]
		}
		var ra, rb []flow.Rule
		for _, c := range a {
			ra = append(ra, c.asRule())
		}
		for _, c := range b {
			rb = append(rb, c.asRule())
		}
		s := flow.NewSpace(flow.Limits{})
		e := s.Compare(ra, rb)
		more, less := false, false
		for n := range edges * edges * edges * edges {
			at := [4]int{n % edges, n / edges % edges, n / edges / edges % edges, n / edges / edges / edges}
			x, y := first(a, at), first(b, at)
			if x == y && n%7 > 0 {
				continue // those that differ all, and some of the others
			}
			p := flow.Packet{
				From: netip.AddrFrom4([4]byte{byte(at[2] * 32), 0, 0, byte(rnd.IntN(256))}),
				To:   netip.AddrFrom4([4]byte{byte(at[1] * 32), 9, 9, 9}),
			}
			p.Numbers[flow.Protocol], p.Numbers[flow.DestinationPort] = uint64(at[0]*32), uint64(at[3]*8000)
			require.Equal(t, y && !x, e.Permitted.Has(p))
			require.Equal(t, x && !y, e.Denied.Has(p))
			more, less = more || y && !x, less || x && !y
		}
		require.Equal(t, !more, e.Permitted.Empty())
		require.Equal(t, !less, e.Denied.Empty())
		if !more && !less {
			empty++
		}
	}
	assert.Greater(t, empty, pairs/20)
}
