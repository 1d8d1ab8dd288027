// Package transplant takes a configuration from one device to another: what names
// or addresses the device itself must differ, and is told apart from all that
// may be the same.
package transplant

import (
	"slices"
	"strings"

	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// Own is a place that tells of the device itself.
type Own struct {
	Path tree.Path
	From string // what the one has there that it is carried from
	Kept string // what the other has there and keeps; "" where it has nothing there
	Why  string
}

// Own's reasons.
const (
	isName    = "it names the device"
	isAddress = "it is the device's own address"
	names     = "it holds the device's own name or address"
)

// named are leaves that name a device, or tell one from all others, wherever
// they stand: of RFC 7317 the host name, location and contact are per device,
// and a router's id is by RFC 8349.
var named = map[string]string{
	"hostname": isName, "host-name": isName, "router-id": isName, "location": "it tells where the device is",
	"phys-address": isAddress,
}

// Onto gives what a device would hold with another's configuration, both of one
// schema: with what is its own left as it is where it has any, and all places
// that must differ. What is carried although it holds the other's name or
// address, for nobody can say what it should be here, is listed with nothing
// kept.
func Onto(from, onto *tree.Node) (*tree.Node, []Own, error) {
	c := &carrying{from: from, onto: onto, result: from, own: map[string]bool{}}
	for _, l := range codec.Outline(from, nil) {
		c.gather(l)
	}
	for _, p := range c.places {
		if err := c.keep(p); err != nil {
			return nil, nil, err
		}
	}
	for _, l := range codec.Outline(c.result, nil) {
		c.mentions(l)
	}
	return c.result, c.out, nil
}

type carrying struct {
	from, onto, result *tree.Node
	places             []place
	own                map[string]bool // values that name or address the device
	out                []Own
}

// place is what a device keeps of its own: one node, or all entries of a list.
type place struct {
	path tree.Path
	why  string
}

// gather finds what of the one that is carried from is its own.
func (c *carrying) gather(l codec.OutlineLine) {
	s := l.Node.Schema()
	if s == nil || len(l.Path) == 0 {
		return
	}
	last := l.Path[len(l.Path)-1]
	switch {
	case s.Kind == schema.List && s.Name == "address" && s.Module.Name == "ietf-ip":
		c.own[strings.Join(last.Keys, " ")] = true
		all := slices.Clone(l.Path)
		all[len(all)-1].Keys = nil
		if !slices.ContainsFunc(c.places, func(p place) bool { return p.path.Full() == all.Full() }) {
			c.places = append(c.places, place{all, isAddress})
		}
	case s.Kind == schema.Leaf && named[s.Name] != "":
		if v := l.Node.Value(); named[s.Name] == isName && v != "" {
			c.own[v] = true
		}
		c.places = append(c.places, place{l.Path, named[s.Name]})
	}
}

// keep puts what the other has at a place there again.
func (c *carrying) keep(p place) error {
	last := p.path[len(p.path)-1]
	if last.Node.Kind == schema.List {
		list := entries(c.onto, p.path)
		if len(list) == 0 {
			c.note(p, "")
			return nil
		}
		next, err := tree.Apply(c.result, diff.PlaceAll(p.path, list), tree.None)
		if err != nil {
			return err
		}
		c.result = next
		c.note(p, texts(list))
		return nil
	}
	there := c.onto.At(p.path)
	if there == nil {
		c.note(p, "")
		return nil
	}
	next, err := tree.Apply(c.result, diff.Place(p.path, there), tree.None)
	if err == nil {
		c.result = next
		c.note(p, there.Value())
	}
	return err
}

func (c *carrying) note(p place, kept string) {
	from := texts(entries(c.from, p.path))
	if p.path.Last().Kind != schema.List {
		from = c.from.At(p.path).Value()
	}
	if from != kept {
		c.out = append(c.out, Own{p.path, from, kept, p.why})
	}
}

func entries(n *tree.Node, p tree.Path) []*tree.Node {
	if len(p) > 1 {
		n = n.At(p[:len(p)-1])
	}
	if n == nil {
		return nil
	}
	return n.All(p.Last())
}

func texts(list []*tree.Node) string {
	var out []string
	for _, n := range list {
		out = append(out, strings.Join(n.Keys(), " "))
	}
	return strings.Join(out, ", ")
}

// mentions tells of what else holds the name or an address of the one it is
// carried from.
func (c *carrying) mentions(l codec.OutlineLine) {
	s := l.Node.Schema()
	if s == nil || !s.IsLeaf() || named[s.Name] != "" {
		return
	}
	v := l.Node.Value()
	if c.own[v] || slices.ContainsFunc(
		strings.Fields(v), func(w string) bool { return c.own[strings.Trim(w, ".,;")] },
	) {
		c.out = append(c.out, Own{Path: l.Path, From: v, Why: names})
	}
}
