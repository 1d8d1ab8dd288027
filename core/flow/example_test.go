package flow_test

import (
	"fmt"
	"net/netip"

	"oakenlatch/core/flow"
)

// Two filters are compared over all packets: what is told is every packet that is treated otherwise, and nothing else.
func ExampleDiffer() {
	ferry := netip.MustParsePrefix("198.51.100.0/24")
	tcp := flow.Match{}.In(flow.IPv4).Number(flow.Protocol, 6, 6)
	before := flow.Filter{Name: "harbour-in", Rules: []flow.Rule{
		{Name: "ssh", Match: tcp.Number(flow.DestinationPort, 22, 22), Action: flow.Accept},
	}}
	after := flow.Filter{Name: "harbour-in", Rules: []flow.Rule{
		{Name: "ssh", Match: tcp.Number(flow.DestinationPort, 22, 22).Prefix(flow.Source, ferry), Action: flow.Accept},
	}}
	c := flow.Differ(before, after)
	for _, m := range c.Denied {
		fmt.Println("newly denied:", m.Packets)
	}
	fmt.Println("newly permitted:", len(c.Permitted))
	fmt.Println("the same again has no effect:", flow.Differ(after, after).NoEffect)
	// Output:
	// newly denied: tcp from 0.0.0.0-198.51.99.255,198.51.101.0-255.255.255.255 port 22
	// newly permitted: 0
	// the same again has no effect: true
}
