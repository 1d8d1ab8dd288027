// Package reach forecasts whether a change cuts the way by which a device is
// managed: it follows the management packet into the device and the answer out
// of it, through the configuration as it is and as it would be.
//
// The forecast says keeps or cuts only where it understands all that the change
// touches; anything else is unknown, and says why. The device was read just
// now, so the way is open as things are: where the configuration, as this
// package understands it, says otherwise, its understanding falls short and it
// does not forecast from it.
package reach

import (
	"fmt"
	"net/netip"

	"oakenlatch/core/diff"
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

// Way is how management packets go between us and a device.
type Way struct {
	Us      netip.Addr // our address as the device sees it
	Address netip.Addr // the device's, as packets have it
	Port    uint16     // TCP port of its NETCONF service
	Account string     // the one we sign in with

	// Moved is the device's new address where the change moves it on purpose.
	Moved netip.Addr
}

// Forecast says whether a change of a device's configuration keeps the way to
// the device itself.
func Forecast(before, after *tree.Node, w Way) Verdict {
	touched := judge(before, after)
	if touched.idle() {
		return Verdict{Answer: Keeps, Because: "nothing that the way in rests on is touched"}
	}
	if !w.Us.IsValid() || !w.Address.IsValid() || w.Us.Is4() != w.Address.Is4() {
		return Verdict{Answer: Unknown, Because: "it is not known by which addresses the device is managed; tell them with: latch device set NAME --seen-as ADDRESS --seen-from ADDRESS"}
	}
	was := follow(before, w, nil)
	if was.state != open {
		why := "by its configuration as it is the device would not answer, though it does, so its way in is not understood: " + was.why
		if was.path == "/interfaces" {
			why += "; where it is managed by another address in the network, tell that with: latch device set NAME --seen-as ADDRESS"
		}
		return Verdict{Unknown, was.path, why}
	}
	now := w
	if w.Moved.IsValid() {
		now.Address = w.Moved
	}
	f := follow(after, now, &was)
	if f.state == open && !tree.Same(user(before, w), user(after, w)) {
		f = f.at(unsure, "/system/authentication/user="+w.Account, "what account %s signs in with is changed; whether what this service keeps still fits cannot be told", w.Account)
	}
	return decide(f, touched.on(was), "the device")
}

// user gives the account we sign in with, nil where it is not told of.
func user(cfg *tree.Node, w Way) *tree.Node {
	for _, u := range list(below(cfg, "system", "authentication"), "user") {
		if leaf(u, "name", "") == w.Account {
			return u
		}
	}
	return nil
}

// Transit says whether a change of a device's configuration keeps the way to
// another device behind it.
func Transit(before, after *tree.Node, w Way) Verdict {
	touched := judge(before, after)
	if touched.idle() {
		return Verdict{Answer: Keeps, Because: "nothing that the way through it rests on is touched"}
	}
	if !w.Us.IsValid() || !w.Address.IsValid() || w.Us.Is4() != w.Address.Is4() {
		return Verdict{Answer: Unknown, Because: "it is not known by which addresses that device is managed"}
	}
	was := pass(before, w, nil)
	if was.state != open {
		return Verdict{Unknown, was.path, "by its configuration as it is nothing would pass to that address, though it does, so the way through it is not understood: " + was.why}
	}
	return decide(pass(after, w, &was), touched.on(was), w.Address.String())
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
	shut
	unsure
)

// found is what following a packet came to, and by which interfaces it went.
type found struct {
	state   state
	path    string
	why     string
	in, out string // interfaces
}

func (f found) at(s state, path, format string, args ...any) found {
	f.state, f.path, f.why = s, path, fmt.Sprintf(format, args...)
	return f
}

// follow takes the management packet into a device and the answer out of it.
// was is what that came to as things are, nil while that is being found out:
// the wires stay where they are, so packets arrive where they did.
func follow(cfg *tree.Node, w Way, was *found) found {
	d := device{cfg, w.Us.Is4()}
	f := d.home(w.Address)
	if f.state != open {
		return f
	}
	out, f := d.route(w.Us)
	if f.state != open {
		return f
	}
	in := out
	if was != nil {
		in = was.in
		if out != was.out {
			return found{}.at(unsure, interfacePath(out), "the answer would leave by %s instead of %s; whether that way leads back to us, the configuration does not tell", out, was.out)
		}
		if f = d.up(in); f.state != open {
			return f
		}
	}
	there := packet{from: w.Us, to: w.Address, port: w.Port, far: true}
	if f = d.filters(in, "ingress", there); f.state != open {
		return f
	}
	if f = d.filters(out, "egress", there.answer()); f.state != open {
		return f
	}
	if f = d.service(w); f.state != open {
		return f
	}
	return found{in: in, out: out}
}

// pass takes the packet through a device to another one, and the answer back.
func pass(cfg *tree.Node, w Way, was *found) found {
	d := device{cfg, w.Us.Is4()}
	near, f := d.route(w.Us)
	if f.state != open {
		return f
	}
	far, f := d.route(w.Address)
	if f.state != open {
		return f
	}
	if was != nil && (near != was.in || far != was.out) {
		return found{}.at(unsure, "", "packets would go from %s to %s instead of from %s to %s; whether those ways lead there, the configuration does not tell", near, far, was.in, was.out)
	}
	for _, name := range []string{near, far} {
		if f = d.forwards(name); f.state != open {
			return f
		}
	}
	there := packet{from: w.Us, to: w.Address, port: w.Port, far: true}
	for _, leg := range []struct {
		name, side string
		p          packet
	}{{near, "ingress", there}, {far, "egress", there}, {far, "ingress", there.answer()}, {near, "egress", there.answer()}} {
		if f = d.filters(leg.name, leg.side, leg.p); f.state != open {
			return f
		}
	}
	return found{in: near, out: far}
}

// NextHop gives the neighbour to which a device sends what goes to us, where
// its static routes tell: the zero address otherwise.
func NextHop(cfg *tree.Node, us netip.Addr) netip.Addr {
	d := device{cfg, us.Is4()}
	if d.connected(us) != "" {
		return netip.Addr{}
	}
	r := d.best(us)
	return r.hop
}

// Addresses lists the addresses on a device's interfaces.
func Addresses(cfg *tree.Node) []netip.Addr {
	var out []netip.Addr
	for _, four := range []bool{true, false} {
		d := device{cfg, four}
		for _, i := range list(cfg.Known("interfaces"), "interface") {
			for _, a := range d.addresses(i) {
				out = append(out, a.prefix.Addr())
			}
		}
	}
	return out
}

// touched is what a change touches: nothing that matters, what is understood,
// or something foreign, of which it names the first.
type touched struct {
	matters bool
	foreign string
	beside  map[string]string // by interface, what matters if packets pass it
}

func (t touched) idle() bool { return !t.matters && t.foreign == "" && len(t.beside) == 0 }

// on adds what is touched on the interfaces that packets pass.
func (t touched) on(f found) touched {
	for _, name := range []string{f.in, f.out} {
		if p, ok := t.beside[name]; ok {
			t.outside(p)
		}
	}
	return t
}

// judge sorts the places of a change by what is known of them.
func judge(before, after *tree.Node) touched {
	var out touched
	diff.Compare(before.WithoutDefaults(), after.WithoutDefaults()).Walk(func(c *diff.Change) {
		out.note(c.Path(), c.Old, c.New)
	})
	return out
}

// note judges one changed node with all below it.
func (t *touched) note(p tree.Path, old, now *tree.Node) {
	switch known(p) {
	case harmless:
	case understood:
		t.matters = true
	case onWay:
		if t.beside == nil {
			t.beside = map[string]string{}
		}
		t.beside[p[1].Keys[0]] = p.String()
	case through:
		some := now
		if some == nil {
			some = old
		}
		if some == nil || some.Opaque() != nil {
			t.outside(p.String())
			return
		}
		t.matters = true
		for _, n := range []*tree.Node{old, now} {
			if n == nil {
				continue
			}
			for c := range n.Each() {
				if c.Schema() == nil || c.Schema().KeyIndex() < 0 {
					t.note(p.Down(c), nil, c)
				}
			}
		}
	default:
		t.outside(p.String())
	}
}

func (t *touched) outside(path string) {
	if t.foreign == "" {
		t.foreign = path
	}
}
