// Package flow works out, over all packets and not samples, what a packet filter
// does: which packets it permits, how two filters differ, which rule decides
// which packets, which rules decide none.
//
// A [Filter] is an ordered list of rules of which the first that fits a packet
// decides (RFC 8519). A [Set] is an exact set of packets. Sets are decision
// diagrams: a node asks for one field of the packet and has a branch for each
// stretch of its values; equal diagrams are one diagram, so that two sets are
// equal where they are the same diagram, and what nothing depends on is not
// asked.
//
// Packets are those of IPv4 and IPv6, told apart by protocol, addresses, ports,
// ICMP type and code, and the other header fields that RFC 8519 names. What a
// rule asks beside these is a fact that may hold or not, of which nothing else is
// known: it is carried soundly, and said to be depended on.
package flow
