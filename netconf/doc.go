// Package netconf speaks NETCONF (RFC 6241) over SSH (RFC 6242), both sides.
//
// # Sessions
//
// A [Client] is one session with a device: [Dial] makes one over SSH, [NewClient] over any connection. Both sides say
// what they can do in their hellos, which a client has as [Client].Capabilities; messages are framed in chunks where
// both speak base:1.1, else by the old end mark. Its calls may be made from several goroutines, and go out one after
// another.
//
// # What a call may come to
//
// Every call takes a context, and comes to one of these:
//
//   - nil: the device answered ok, or gave what was asked for;
//   - [RPCErrors]: the device refused it; each error is kept whole, with its tag (RFC 6241 appendix A), its path and
//     what the device says, cut where that is long;
//   - [*NoReplyError]: it was sent, and no answer came before the context, or the session, ended. Whether the device
//     carried it out is then not known: nothing may be built on either;
//   - any other error: it was not sent.
//
// The third is why a commit that must hold is confirmed by looking: see [Client.CommitConfirmed], and package guard for
// what is made of it.
//
// # Safety
//
// A device is not trusted with our memory: a message is bounded (DefaultMaxMessage), document types are not read, and
// an element that nests without end ends the session.
//
// A [Server] is the other side, for the simulated devices of the lab.
package netconf
