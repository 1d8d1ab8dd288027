package kernel

import (
	"encoding/binary"
	"strconv"
)

// Between a device's interfaces and its cables: IEEE 802.1Q, without learning
// (every frame goes to every port of its VLAN) and without spanning tree.

const tagged = 0x8100

// tagOf gives the VLAN of a frame's tag, 0 where it has none.
func tagOf(frame []byte) int {
	if len(frame) < 18 || binary.BigEndian.Uint16(frame[12:]) != tagged {
		return 0
	}
	return int(binary.BigEndian.Uint16(frame[14:]) & 0xfff)
}

func untag(frame []byte) []byte {
	if tagOf(frame) == 0 {
		return frame
	}
	return append(append([]byte{}, frame[:12]...), frame[16:]...)
}

func tag(frame []byte, vlan int) []byte {
	if vlan == 0 {
		return frame
	}
	out := append(append([]byte{}, frame[:12]...), 0x81, 0, byte(vlan>>8), byte(vlan))
	return append(out, frame[12:]...)
}

// through has a frame pass the filters of an interface below the one that has the
// address, if there are any.
func (d *Device) through(name string, ingress bool, key string, frame []byte, next func([]byte)) {
	accept := func(accept, drop string) string {
		rules, _ := d.cfg.attached(name, ingress, accept, drop)
		return rules
	}
	if _, ok := d.cfg.attached(name, ingress, "", ""); !ok {
		next(frame)
		return
	}
	key = name + strconv.FormatBool(ingress) + key
	d.mu.Lock()
	b := d.onWay[key]
	if b == nil && !d.closed {
		var err error
		if b, err = d.box(accept, next); err != nil {
			b = nil
			trouble(err)
		}
		d.onWay[key] = b
	}
	d.mu.Unlock()
	if b != nil {
		_, _ = b.in.file.Write(frame)
	}
}

// Receive takes a frame from a cable.
func (d *Device) Receive(port string, frame []byte) {
	p := d.cfg.named(port)
	if p == nil || !p.enabled() || !(p.port() || d.kind.generous && d.kind.types[port]) {
		return
	}
	vlan := tagOf(frame)
	inner := untag(frame)
	// The bridge.
	member := ""
	switch v := strconv.Itoa(vlan); {
	case vlan == 0:
		member = p.Bridge.Untagged
	case contains(p.Bridge.Tagged, v) || d.kind.generous && p.Bridge.Untagged == v:
		member = v
	}
	if member != "" {
		d.through(port, true, "bridge"+member, inner, func(f []byte) {
			for _, i := range d.cfg.Interfaces {
				switch {
				case i.VLAN == member && i.Parent == "":
					d.deliver(i, f)
				case i.Name != port && i.port() && i.carries(member):
					d.out(i, member, f)
				}
			}
		})
	}
	// The port's own address, and interfaces that stand on it.
	if vlan == 0 && (!p.bridged() || d.kind.generous) {
		d.deliver(p, inner)
	}
	for _, i := range d.cfg.Interfaces {
		d.rise(p, i, vlan, inner)
	}
}

// rise takes a frame up to an interface that stands on another, and those on it.
func (d *Device) rise(below, i *Interface, vlan int, frame []byte) {
	if i.Parent != below.Name || i.vlan() != vlan || !d.cfg.up(i, 0) {
		return
	}
	d.through(below.Name, true, "to "+i.Name, frame, func(f []byte) {
		d.deliver(i, f)
		for _, on := range d.cfg.Interfaces {
			d.rise(i, on, 0, f)
		}
	})
}

func (i *Interface) vlan() int {
	n, _ := strconv.Atoi(i.VLAN)
	return n
}

func contains(list []string, v string) bool {
	for _, have := range list {
		if have == v {
			return true
		}
	}
	return false
}

// deliver hands a frame to the interface itself, if the family runs on it.
func (d *Device) deliver(i *Interface, frame []byte) {
	if t := d.taps[i.Name]; t != nil && i.ip(d.six) != nil && d.cfg.up(i, 0) {
		_, _ = t.file.Write(frame)
	}
}

// out sends a frame of a VLAN out of a port of the bridge.
func (d *Device) out(p *Interface, vlan string, frame []byte) {
	if !p.enabled() || !p.port() {
		return
	}
	d.through(p.Name, false, "bridge"+vlan, frame, func(f []byte) {
		n, _ := strconv.Atoi(vlan)
		if p.Bridge.Untagged == vlan {
			d.emit(p.Name, f)
		}
		if contains(p.Bridge.Tagged, vlan) && (p.Bridge.Untagged != vlan || d.kind.generous) {
			d.emit(p.Name, tag(f, n))
		}
	})
}

// send takes a frame from an interface's own address to the cables.
func (d *Device) send(i *Interface, frame []byte, vlan int) {
	switch {
	case i == nil || !d.cfg.up(i, 0):
	case i.Parent != "":
		below := d.cfg.named(i.Parent)
		if below == nil {
			return
		}
		if i.VLAN != "" {
			if vlan != 0 {
				return // a tag within a tag
			}
			vlan = i.vlan()
		}
		d.through(
			below.Name, false, "from "+i.Name+strconv.Itoa(vlan), frame, func(f []byte) { d.send(below, f, vlan) },
		)
	case i.VLAN != "":
		if vlan != 0 {
			return
		}
		for _, p := range d.cfg.Interfaces {
			if p.VLAN == i.VLAN && p.Parent == "" && p != i {
				d.deliver(p, frame)
			}
			if p.port() && p.carries(i.VLAN) {
				d.out(p, i.VLAN, frame)
			}
		}
	case i.port() || d.kind.generous && d.kind.types[i.Name]:
		if vlan == 0 && i.bridged() && !d.kind.generous {
			return
		}
		d.emit(i.Name, tag(frame, vlan))
	}
}
