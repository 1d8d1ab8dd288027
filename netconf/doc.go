// Package netconf speaks NETCONF (RFC 6241) over SSH (RFC 6242), both sides.
//
// A [Client] is one session with a device. Its calls may be made from several
// goroutines; each takes a context, and a call whose context ends before the
// reply came gives a [NoReplyError]: whether the device carried it out is then
// not known. What a device refuses is an [RPCErrors], kept whole.
//
// A [Server] is the other side, for the simulated devices of the lab.
package netconf
