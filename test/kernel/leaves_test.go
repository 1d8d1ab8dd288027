package kernel

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"oakenlatch/core/lockout"
	"oakenlatch/core/tree"
	"oakenlatch/test/pace"
)

// harmlessLeaves are those of which a person says that no packet of a session
// depends on them: names, descriptions, clocks, who is asked for names.
var harmlessLeaves = []string{
	"/system/contact", "/system/hostname", "/system/location", "/system/clock/", "/system/ntp/",
	"/system/dns-resolver/", "/interfaces/interface/description", "/vlans/vlan/name", "/zones/zone/",
	"/routing/control-plane-protocols/control-plane-protocol/description",
	"/routing/control-plane-protocols/control-plane-protocol/static-routes/ipv4/route/description",
	"/routing/control-plane-protocols/control-plane-protocol/static-routes/ipv6/route/description",
}

func isHarmless(way string) bool {
	return slices.ContainsFunc(harmlessLeaves, func(h string) bool {
		return way == h || strings.HasSuffix(h, "/") && strings.HasPrefix(way+"/", h)
	})
}

// Of every leaf of all modules of the lab: either no packet depends on it, or the
// forecast reads it, which shows in some change of it alone that it does not call
// kept, or it says that it does not understand it. (Changes need not be valid: what
// is referred to cannot be taken away alone.)
func TestEveryLeafIsReadOrUnknown(t *testing.T) {
	pace.Long(t)
	s := yardSchema(t)
	base := outline(t, s, Yard)
	// The way through the yard to a host behind it, for what matters to that alone.
	through := []lockout.ManagementPath{
		{Us: netip.MustParseAddr("198.51.100.9"), Address: netip.MustParseAddr("10.64.60.9"), Port: 830},
		{Us: netip.MustParseAddr("2001:db8:51::9"), Address: netip.MustParseAddr("2001:db8:60::9"), Port: 830},
	}
	forwarding := base
	for _, at := range []string{"m1/ipv4", "m1/ipv6", "up2/ipv4", "up2/ipv6"} {
		p, err := tree.ParsePath(s, "/interfaces/interface="+at+"/forwarding")
		assert.NoError(t, err)
		next, err := tree.Apply(forwarding, tree.Fitted(forwarding, tree.Put(p, "true")), tree.None)
		assert.NoError(t, err)
		forwarding = next
	}
	var modules []string
	for _, n := range s.Roots() {
		modules = append(modules, n.Module.Name)
	}
	modules = append(modules, understood...)
	c := NewChanger(s, rand.New(rand.NewPCG(7, 7)), modules...)
	assert.Greater(t, len(c.leaves), 60)
	for _, leaf := range c.leaves {
		way := bareWay(leaf)
		seen := map[string]int{}
		for n := 0; n < 1500 && seen["confirmed"]*seen["other"] == 0 || n < 100; n++ {
			from, w := base, Ways()[n%len(Ways())]
			transit := n%3 == 2
			if transit {
				from = forwarding
			}
			c.way = w
			after, did := c.edit(from, leaf)
			if after == nil || tree.Same(after, from) || did == "" {
				continue
			}
			var v lockout.Verdict
			if transit {
				v = lockout.Transit(from, after, through[n/3%2])
			} else {
				v = lockout.Forecast(from, after, w.forecast())
			}
			switch {
			case strings.Contains(v.Because, "does not understand"):
				seen["foreign"]++
			case v.Answer == lockout.Keeps:
				seen["confirmed"]++
			default:
				seen["other"]++
			}
		}
		switch {
		case isHarmless(way):
			assert.Zero(t, seen["other"]+seen["foreign"], "%s: no packet depends on it: %v", way, seen)
			assert.NotZero(t, seen["confirmed"], way)
		case seen["foreign"] > 0:
		default:
			assert.NotZero(
				t, seen["other"], "%s is called followed, and no change of it made a difference: %v", way, seen,
			)
		}
	}
}
