package flow

import (
	"fmt"
	"strconv"
)

// Family is the version of IP of a packet.
type Family uint8

// The families.
const (
	IPv4 Family = iota
	IPv6
	families
)

func (f Family) String() string { return [...]string{"IPv4", "IPv6"}[f] }

func (f Family) bits() int { return [...]int{32, 128}[f] }

// Field is something a rule may ask of a packet. The fields from [Facts] on are
// facts: those that rules name, each of which holds or does not.
type Field uint8

// The fields, in the order in which diagrams ask for them.
const (
	Protocol Field = iota
	Destination
	Source
	DestinationPort
	SourcePort
	ICMPType
	ICMPCode
	DSCP
	ECN
	Length
	TTL
	Offset
	Identification
	FlowLabel
	Facts // the first of them
)

// mostFacts is how many facts there may be at once: a field is a bit of a word.
const mostFacts = 64 - int(Facts)

var fieldNames = [...]string{
	"protocol", "to", "from", "to port", "from port", "type", "code", "dscp", "ecn", "length", "ttl", "offset",
	"identification", "flow label",
}

// widths are the bits of the fields that are numbers.
var widths = [...]uint{8, 0, 0, 16, 16, 8, 8, 6, 2, 16, 8, 13, 16, 20}

// last is the largest value of a field.
func last(f Field, fam Family) value {
	switch {
	case f >= Facts:
		return num(1)
	case f == Source || f == Destination:
		if fam == IPv4 {
			return num(1<<32 - 1)
		}
		return value{^uint64(0), ^uint64(0)}
	}
	return num(1<<widths[f] - 1)
}

func whole(f Field, fam Family) span { return span{value{}, last(f, fam)} }

// Protocols that have a name here (IANA, protocol numbers).
const (
	ICMP   = 1
	TCP    = 6
	UDP    = 17
	ICMPv6 = 58
)

var protocolNames = map[uint64]string{
	ICMP: "icmp", 2: "igmp", TCP: "tcp", UDP: "udp", 47: "gre", 50: "esp", 51: "ah", ICMPv6: "icmpv6", 89: "ospf",
	112: "vrrp", 132: "sctp",
}

func protocolName(n uint64) string {
	if name := protocolNames[n]; name != "" {
		return name
	}
	return "protocol " + strconv.FormatUint(n, 10)
}

// protocolNumber reads a protocol by name or number.
func protocolNumber(text string) (uint64, error) {
	for n, name := range protocolNames {
		if name == text {
			return n, nil
		}
	}
	n, err := strconv.ParseUint(text, 10, 8)
	if err != nil {
		return 0, fmt.Errorf("%q is no protocol: give tcp, udp, icmp, icmpv6, any, or a number to 255", text)
	}
	return n, nil
}
