// Package lockout forecasts whether a change cuts the way by which a device is
// managed.
//
// It goes by what is sure: the way is open as things are, and the wires outside
// the device stay where they are. So it looks at every wire that we may stand
// behind (a cable, and the VLAN that is spoken on it) and follows the packets of a
// management session by it, into the device and out of it, link by link, through
// the configuration as it is: wires by which that would not go are not ours. Then
// it follows them by the same wires, to the same neighbour, through the
// configuration as it would be. The way is kept if that goes by every wire that
// may be ours, and cut if it goes by none; where it goes by some, or where the
// standards leave open what a device does, the answer is unknown, and says why.
//
// What a filter does with packets is asked of core/flow. What a change touches is
// held against the leaves that are followed here (leaves.go): another leaf may
// mean anything, and so is unknown.
package lockout

import (
	"fmt"
	"net/netip"

	"oakenlatch/core/tree"
)

// Answer is what the forecast comes to.
type Answer string

// The answers.
const (
	Keeps   Answer = "keeps"
	Cuts    Answer = "cuts"
	Unknown Answer = "unknown"
)

// Verdict is an answer with the path that decides it, in words.
type Verdict struct {
	Answer  Answer `json:"answer"`
	Path    string `json:"path,omitempty"` // RFC 8040; empty where no single one decides
	Because string `json:"because"`
}

// ManagementPath is how management packets go between us and a device.
type ManagementPath struct {
	Us      netip.Addr // our address as the device sees it
	Address netip.Addr // the device's, as packets have it
	Port    uint16     // TCP port of its NETCONF service
	Account string     // the one we sign in with

	// Moved is the device's new address where the change moves it on purpose.
	Moved netip.Addr
}

// known reports whether both ends of the way are.
func (w ManagementPath) known() bool {
	return w.Us.IsValid() && w.Address.IsValid() && w.Us.Is4() == w.Address.Is4()
}

// Forecast says whether a change of a device's configuration keeps the way to
// the device itself.
func Forecast(before, after *tree.Node, w ManagementPath) Verdict {
	touched := look(before, after)
	if touched.idle() {
		return Verdict{Answer: Keeps, Because: "nothing that management access rests on is touched"}
	}
	if !w.known() {
		return Verdict{
			Answer: Unknown,
			Because: "it is not known how the device is managed: set its address in the network, and the " +
				"address it is managed from",
		}
	}
	was, f := newRoundTrip(before, w)
	if f.state != open {
		why := "by its configuration as it is the device would not answer, though it does, so its management " +
			"access is not " +
			"understood: " + f.why
		if f.path == "/interfaces" {
			why += "; if it has another address in the network, set that"
		}
		return Verdict{Unknown, f.path, why}
	}
	if w.Moved.IsValid() {
		w.Address = w.Moved
	}
	f = was.same(after, w)
	if f.state == open {
		f = account(before, after, w)
	}
	return decide(f, touched.on(was.passed()), "the device")
}

// Transit says whether a change of a device's configuration keeps the way to
// another device behind it.
func Transit(before, after *tree.Node, w ManagementPath) Verdict {
	touched := look(before, after)
	if touched.idle() {
		return Verdict{Answer: Keeps, Because: "nothing that the way through it rests on is touched"}
	}
	if !w.known() {
		return Verdict{Answer: Unknown, Because: "it is not known by which addresses that device is managed"}
	}
	was, f := newPassage(before, w)
	if f.state != open {
		return Verdict{
			Unknown, f.path,
			"by its configuration as it is nothing would pass to that address, though it does, so the way through it " +
				"is not understood: " + f.why,
		}
	}
	return decide(was.same(after, w), touched.on(was.passed()), w.Address.String())
}

func decide(f found, touched touched, what string) Verdict {
	foreign := ""
	if touched.foreign != "" {
		foreign = fmt.Sprintf("it touches %s, which this forecast does not understand", touched.foreign)
	}
	switch {
	case f.state == shut && foreign == "":
		return Verdict{Cuts, f.path, f.why}
	case f.state == shut:
		return Verdict{Unknown, f.path, fmt.Sprintf("it looks cut: %s; but %s", f.why, foreign)}
	case f.state == unsure:
		return Verdict{Unknown, f.path, f.why}
	case foreign != "":
		return Verdict{Unknown, touched.foreign, foreign}
	}
	return Verdict{Answer: Keeps, Because: fmt.Sprintf("the way to %s and back was followed through the result", what)}
}

type state int

const (
	open state = iota
	unsure
	shut
)

// found is what a look at one thing on the way came to. The zero value is open.
type found struct {
	state state
	path  string
	why   string
}

func is(s state, path, format string, args ...any) found {
	return found{s, path, fmt.Sprintf(format, args...)}
}

// worst gives the first of the worst.
func worst(list ...found) (out found) {
	for _, f := range list {
		if f.state > out.state {
			out = f
		}
	}
	return out
}

// NextHop gives the neighbour to which a device sends what goes to us, where
// its static routes tell: the zero address otherwise.
func NextHop(cfg *tree.Node, us netip.Addr) netip.Addr {
	e, f := newDevice(cfg, us.Is4()).exit(us)
	if f.state != open || e.neighbour == us {
		return netip.Addr{}
	}
	return e.neighbour
}

// Addresses lists the addresses on a device's interfaces.
func Addresses(cfg *tree.Node) []netip.Addr {
	var out []netip.Addr
	for _, four := range []bool{true, false} {
		for _, i := range newDevice(cfg, four).list {
			for _, a := range i.addresses {
				out = append(out, a.Addr())
			}
		}
	}
	return out
}
