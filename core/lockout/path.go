package lockout

import (
	"slices"

	"oakenlatch/core/flow"
	"oakenlatch/core/tree"
)

// attachment is where we may stand: packets come in by one wire and answers leave by
// one, which is mostly the same.
type attachment struct {
	in, out wire
	inside  string // the interface that the packets came to as things are
}

// roundTrip is the way to a device and back, as things are.
type roundTrip struct {
	d           *device
	w           ManagementPath
	exit        exit // to us
	holders     []string
	attachments []attachment
	space       *flow.Space
}

// newRoundTrip finds where we may stand, by the configuration as it is.
func newRoundTrip(before *tree.Node, w ManagementPath) (t *roundTrip, f found) {
	t = &roundTrip{d: newDevice(before, w.Us.Is4()), w: w, space: flow.NewSpace(flow.Limits{})}
	if t.holders, f = t.d.holder(w.Address); f.state != open {
		return t, f
	}
	if t.exit, f = t.d.exit(w.Us); f.state != open {
		return t, f
	}
	outs := t.d.wires(t.exit.out)
	if len(outs) == 0 {
		return t, is(shut, interfacePath(t.exit.out), "no cable leads to %s, by which answers would leave", t.exit.out)
	}
	for _, out := range outs {
		t.attachments = append(t.attachments, attachment{out, out, t.exit.out})
	}
	// What has the address may have its packets come to itself instead.
	for _, h := range t.holders {
		for _, in := range t.d.wires(h) {
			for n := 0; h != t.exit.out && n < len(outs); n++ {
				t.attachments = append(t.attachments, attachment{in, outs[n], h})
			}
		}
	}
	if len(t.attachments) > 1 {
		first := t.attachments[0]
		if t.attachments = slices.DeleteFunc(
			t.attachments, func(s attachment) bool { return !t.lets(s) },
		); len(t.attachments) == 0 {
			return t, t.refusal(first)
		}
	}
	return t, found{}
}

// legs are what has to pass filters for a session by a stand.
func (t *roundTrip) legs(d *device, w ManagementPath, s attachment, in, out string) []leg {
	list := []leg{
		{in, s.in, "ingress", there(w)},
		{out, s.out, "egress", back(w)},
	}
	if !w.Us.Is4() {
		list = append(list, discovery(in, s.in, t.targets(w, s.inside), t.exit.neighbour, t.exit.neighbour == w.Us)...)
	}
	return list
}

// targets are the addresses for which a neighbour asks at an interface.
func (t *roundTrip) targets(w ManagementPath, inside string) addresses {
	if slices.Contains(t.holders, inside) {
		return addresses{w.Address}
	}
	return t.d.byName[inside].own()
}

// lets reports whether filters let a session pass by a stand as things are.
func (t *roundTrip) lets(s attachment) bool {
	return !slices.ContainsFunc(t.legs(t.d, t.w, s, s.inside, t.exit.out), func(l leg) bool {
		return l.need.session && t.d.permitted(t.space, l).Empty() && t.space.Err() == nil
	})
}

// refusal says which filter does not.
func (t *roundTrip) refusal(s attachment) found {
	for _, l := range t.legs(t.d, t.w, s, s.inside, t.exit.out) {
		if l.need.session && t.d.permitted(t.space, l).Empty() {
			return t.d.dropped(t.space, l, l.need.set(t.space))
		}
	}
	return is(unsure, "/acls", "what the filters do with management packets cannot be told")
}

// passed are the interfaces that packets pass as things are.
func (t *roundTrip) passed() (out []string) {
	for _, s := range t.attachments {
		out = append(out, t.d.passing(s.inside, s.in)...)
		out = append(out, t.d.passing(t.exit.out, s.out)...)
	}
	return out
}

// same follows a session through another configuration, by every wire that may be
// ours.
func (t *roundTrip) same(after *tree.Node, w ManagementPath) found {
	a := newDevice(after, t.d.four)
	return every(t.attachments, func(s attachment) found { return t.by(a, w, s) })
}

// every puts together what was found at each wire that may be ours.
func every[S any](stands []S, look func(S) found) found {
	counts := map[state]int{}
	first := map[state]found{}
	for _, s := range stands {
		f := look(s)
		if counts[f.state]++; counts[f.state] == 1 {
			first[f.state] = f
		}
	}
	switch len(stands) {
	case counts[open]:
		return found{}
	case counts[shut]:
		return first[shut]
	}
	if counts[unsure] > 0 {
		return first[unsure]
	}
	f := first[shut]
	return is(unsure, f.path, "%s; whether our packets come that way or another that stays open cannot be told", f.why)
}

// by follows a session by one stand.
func (t *roundTrip) by(a *device, w ManagementPath, s attachment) found {
	if f := kinds(
		t.d, a, slices.Concat(t.holders, t.d.passing(s.inside, s.in), t.d.passing(t.exit.out, s.out)),
	); f.state != open {
		return f
	}
	in, f := a.inside(s.in, s.inside, w.Address)
	if f.state != open {
		return f
	}
	e, f := a.exit(w.Us)
	if f.state == shut {
		return f
	}
	doubts := []found{f, a.taken(t.d, t.exit.neighbour), t.held(a, w, s, in)}
	if f.state == open {
		doubts = append(doubts, leaving(a, s.out, t.exit, e))
	}
	doubts = append(doubts, a.served(t.d, t.w, w), sizes(t.d, a, s.inside, in))
	if f.state == open {
		doubts = append(doubts, sizes(t.d, a, t.exit.out, e.out))
	}
	if f = worst(doubts...); f.state == shut {
		return f
	}
	out, elsewhere := e.out, false
	if out == "" || !slices.Contains(a.wires(out), s.out) {
		out, elsewhere = in, true
	}
	moved := w.Address != t.w.Address
	was, now := t.legs(t.d, t.w, s, s.inside, t.exit.out), t.legs(a, w, s, in, out)
	for n := range now {
		if elsewhere && now[n].need.leaving {
			continue // it does not meet the filters of this wire
		}
		doubts = append(doubts, through(t.space, t.d, a, was[n], now[n], moved))
	}
	return worst(doubts...)
}

// taken says whether a neighbour's address becomes the device's own: then what the
// neighbour asks looks as if the device had asked it, and is dropped.
func (d *device) taken(before *device, neighbour addr) found {
	if had, _ := before.holder(neighbour); len(had) > 0 {
		return found{}
	}
	if has, _ := d.holder(neighbour); len(has) > 0 {
		return d.own(neighbour, has[0])
	}
	return found{}
}

// held says whether the device still takes for its own what is sent to its
// address, at the interface it comes to.
func (t *roundTrip) held(a *device, w ManagementPath, s attachment, in string) found {
	now, f := a.holder(w.Address)
	if f.state != open {
		return f
	}
	if len(now) > 1 && !slices.Equal(now, t.holders) {
		return is(
			unsure, interfacePath(now[1])+"/"+a.family()+"/address="+w.Address.String(),
			"%s would be on %s and on %s: devices differ in what they do with that", w.Address, now[0], now[1],
		)
	}
	if !slices.Contains(t.holders, s.inside) {
		// The address stands elsewhere on the device: whoever sends to it here sends to
		// a neighbour, which is one of the addresses of this interface.
		for _, own := range t.d.byName[s.inside].addresses {
			if !slices.Contains(a.byName[in].own(), own.Addr()) {
				return is(
					unsure, interfacePath(in)+"/"+a.family(),
					"%s has the address %s no longer, to which what is for %s may be sent", in, own.Addr(), w.Address,
				)
			}
		}
		if slices.ContainsFunc(now, func(name string) bool { return slices.Contains(t.holders, name) }) {
			return found{}
		}
	}
	if slices.Contains(now, in) {
		return found{}
	}
	return is(
		unsure, interfacePath(now[0]),
		"%s would be on %s, and its packets come to %s: devices differ in whether they take them then", w.Address,
		now[0], in,
	)
}

// leaving says whether answers still leave by a wire and to a neighbour.
func leaving(a *device, out wire, was, now exit) found {
	switch {
	case !slices.Contains(a.wires(now.out), out):
		if a.byName[now.out].loopback() {
			return is(shut, interfacePath(now.out), "the answer would go to %s, behind which there is no wire", now.out)
		}
		if now.out != was.out {
			return is(
				unsure, interfacePath(now.out),
				"the answer would leave by %s instead of %s; whether that way leads back to us, the configuration "+
					"does not tell",
				now.out, was.out,
			)
		}
		if p := a.up(out.port); p.state == shut {
			return p
		}
		return is(
			shut, interfacePath(out.port), "%s of %s would not leave by %s any more", wording(out), now.out, out.port,
		)
	case now.neighbour != was.neighbour:
		return is(
			unsure, interfacePath(now.out),
			"the answer would go to the neighbour %s instead of %s; whether that one leads back to us, the "+
				"configuration does not tell",
			now.neighbour, was.neighbour,
		)
	}
	return a.shared(now.out, out)
}

func wording(w wire) string {
	if w.tag == "" {
		return "frames without a tag"
	}
	return "frames with the tag " + w.tag
}

// inside finds the interface that what comes in by a wire gets to: the one it did
// before, if that may be, or the one with the address.
func (d *device) inside(w wire, was string, address addr) (string, found) {
	p := d.byName[w.port]
	switch {
	case p == nil:
		return "", is(shut, interfacePath(w.port), "interface %s is gone", w.port)
	case !p.enabled:
		return "", is(shut, interfacePath(w.port)+"/enabled", "interface %s is shut down", w.port)
	}
	var names []string
	for _, i := range d.list {
		if i.ip && slices.Contains(d.wires(i.name), w) {
			names = append(names, i.name)
		}
	}
	if len(names) == 0 {
		i := d.byName[was]
		switch {
		case i == nil:
			return "", is(shut, interfacePath(was), "interface %s is gone", was)
		case !i.ip:
			return "", is(shut, interfacePath(was)+"/"+d.family(), "%s does not run on %s any more", d.family(), was)
		case d.up(was).state != open:
			return "", d.up(was)
		}
		return "", is(
			shut, interfacePath(w.port), "%s that come in by %s would not get to %s any more", wording(w), w.port, was,
		)
	}
	best := names[0]
	for _, name := range names {
		if d.byName[name].has(address) {
			best = name
		}
	}
	if slices.Contains(names, was) {
		best = was
	}
	var doubts []found
	for _, name := range names {
		doubts = append(doubts, d.shared(name, w))
	}
	return best, worst(doubts...)
}

// kinds says whether interfaces are still of the kinds that they were.
func kinds(before, after *device, names []string) found {
	for _, name := range names {
		b, a := before.byName[name], after.byName[name]
		if b != nil && a != nil && b.kind != a.kind {
			return is(
				unsure, interfacePath(name)+"/type", "%s would be of another kind; what comes of it cannot be told",
				name,
			)
		}
	}
	return found{}
}

// usual is what an Ethernet takes where nothing else is said (RFC 894, RFC 2464).
const usual = 1500

// sizes says whether an interface takes packets of the sizes that it took.
func sizes(before, after *device, was, now string) found {
	least := 576 // RFC 791 section 3.2: what every host takes
	if !after.four {
		least = 1280 // RFC 8200 section 5
	}
	b, a := before.byName[was].mtu, after.byName[now].mtu
	path := interfacePath(now) + "/" + after.family() + "/mtu"
	switch {
	case a == b:
	case a == 0 && b < usual, a > max(b, usual):
		return is(
			unsure, path,
			"larger packets than now would be sent by %s; whether the way takes them, the configuration does not tell",
			now,
		)
	case a != 0 && a < least:
		return is(
			unsure, path,
			"packets of %d bytes are fewer than a host must take (%d); how a session fares with them cannot be told", a,
			least,
		)
	}
	return found{}
}
