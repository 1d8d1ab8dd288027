// Package kernel realises a device's configuration in the Linux kernel, so that
// what the forecast and the packet sets say of it can be held against what
// happens to real packets.
//
// It is written from the standards (RFC 1122, 4861, 8343, 8344, 8349, 8519, IEEE
// 802.1Q) and the descriptions of the lab's modules. It reads configurations as
// XML by itself and shares no code with core/lockout, core/flow or the lab.
//
// A device is a network namespace: its interfaces are TAP devices, addresses and
// routes are the kernel's, filters are nftables rules, its service is a listener
// bound as the configuration says. What lies between its interfaces and its
// cables, the bridge of IEEE 802.1Q, is a small switch of frames here. The world
// outside stays as it was wired before the change: a manager, a gateway, and on
// every cable just what was spoken there.
//
// Where the standards leave something open the kernel is asked twice: a strict
// world, in which everything open goes against us, and a generous one, in which
// it goes in our favour. A forecast may say keeps only if the strict world keeps,
// and cuts only if the generous one cuts.
package kernel
