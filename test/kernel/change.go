package kernel

import (
	"fmt"
	"math/rand/v2"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// Changer makes random changes of configurations: every leaf of its modules comes
// up as often as any other, with values that matter to the way as often as not.
type Changer struct {
	Rnd    *rand.Rand
	schema *schema.Schema
	leaves []*schema.Node
	Tried  map[string]int // by schema path
	way    ManagementPath
}

// NewChanger makes one for the modules of these names.
func NewChanger(s *schema.Schema, rnd *rand.Rand, modules ...string) *Changer {
	c := &Changer{Rnd: rnd, schema: s, Tried: map[string]int{}}
	s.Walk(func(n *schema.Node) {
		if n.Config && n.IsLeaf() && slices.Contains(modules, n.Module.Name) {
			c.leaves = append(c.leaves, n)
			c.Tried[n.Path()] = 0
		}
	})
	return c
}

// Without takes leaves below some nodes out of what is changed.
func (c *Changer) Without(ways ...string) *Changer {
	c.leaves = slices.DeleteFunc(c.leaves, func(n *schema.Node) bool {
		out := slices.ContainsFunc(ways, func(w string) bool { return strings.HasPrefix(bareWay(n), w) })
		if out {
			delete(c.Tried, n.Path())
		}
		return out
	})
	return c
}

// Change gives a configuration that differs from another in a place or a few, and
// what was done. It may not be valid.
func (c *Changer) Change(cfg *tree.Node, w ManagementPath) (*tree.Node, []string) {
	c.way = w
	var did []string
	out := cfg
	for range []int{1, 1, 1, 2, 3}[c.Rnd.IntN(5)] {
		leaf := c.leaves[c.Rnd.IntN(len(c.leaves))]
		next, what := c.edit(out, leaf)
		if next != nil && !tree.Same(next, out) {
			out, did = next, append(did, what)
			c.Tried[leaf.Path()]++
		}
	}
	return out, did
}

// edit changes one leaf somewhere: sets it, takes it away, or, where it is a key,
// makes or takes away an entry, or moves one.
func (c *Changer) edit(cfg *tree.Node, leaf *schema.Node) (*tree.Node, string) {
	at := leaf
	if leaf.KeyIndex() >= 0 {
		at = leaf.DataParent()
	}
	path, fresh, ok := c.path(cfg, at)
	if !ok {
		return nil, ""
	}
	if at.Kind == schema.List || leaf.Kind == schema.LeafList {
		switch {
		case fresh && at.Kind == schema.List:
			return c.entry(cfg, at, path)
		case fresh:
			return c.apply(cfg, path, false, "")
		case at.UserOrdered && c.Rnd.IntN(2) == 0:
			return c.move(cfg, path)
		}
		return c.apply(cfg, path, true, "")
	}
	if !leaf.Mandatory && c.Rnd.IntN(4) == 0 {
		return c.apply(cfg, path, true, "")
	}
	next, what := c.apply(cfg, path, false, c.value(leaf, cfg))
	if next == nil {
		return nil, ""
	}
	// The other leaf of a pair that goes together only.
	if pair := map[string]string{
		"lower-port": "upper-port", "upper-port": "lower-port", "operator": "port",
	}[leaf.Name]; pair != "" && strings.Contains(path, leaf.Name) {
		other := strings.TrimSuffix(path, leaf.Name) + pair
		if p, err := tree.ParsePath(c.schema, other); err == nil && next.At(p) == nil {
			next, _ = c.apply(next, other, false, c.value(leaf.DataParent().Named(pair)[0], cfg))
		}
	}
	return next, what
}

// path chooses an instance: entries that are there, or, now and then, a new one.
func (c *Changer) path(cfg *tree.Node, leaf *schema.Node) (text string, fresh, ok bool) {
	var chain []*schema.Node
	for n := leaf; n != nil; n = n.DataParent() {
		chain = append(chain, n)
	}
	slices.Reverse(chain)
	at := cfg
	for _, n := range chain {
		text += "/" + n.Module.Name + ":" + n.Name
		var have []*tree.Node
		if at != nil {
			have = at.All(n)
		}
		last := n == leaf
		switch n.Kind {
		case schema.List:
			if len(have) > 0 && (!last && c.Rnd.IntN(12) > 0 || last && c.Rnd.IntN(2) == 0) {
				at = have[c.Rnd.IntN(len(have))]
				text += "=" + keys(at.Keys())
				continue
			}
			if !last {
				return "", false, false // what stands in an entry that is not there
			}
			var values []string
			for _, k := range n.Keys {
				values = append(values, c.value(n.Named(k)[0], cfg))
			}
			text += "=" + keys(values)
			return text, true, true
		case schema.LeafList:
			if len(have) > 0 && c.Rnd.IntN(2) == 0 {
				return text + "=" + keys([]string{have[c.Rnd.IntN(len(have))].Value()}), false, true
			}
			return text + "=" + keys([]string{c.value(n, cfg)}), true, true
		default:
			if at = nil; len(have) > 0 {
				at = have[0]
			}
		}
	}
	return text, false, true
}

func keys(values []string) string {
	var out []string
	for _, v := range values {
		out = append(
			out, strings.NewReplacer(",", "%2C", ":", "%3A", "=", "%3D", "&", "%26").Replace(url.PathEscape(v)),
		)
	}
	return strings.Join(out, ",")
}

// needed are what a new entry must have.
var needed = map[string][]string{
	"interface": {"type"}, "address": {"prefix-length"}, "ace": {"actions/forwarding"},
}

// entry makes a new entry with what it must have, and often with what gives it a
// meaning.
func (c *Changer) entry(cfg *tree.Node, list *schema.Node, path string) (*tree.Node, string) {
	if p, err := tree.ParsePath(c.schema, path); err != nil || cfg.At(p) != nil {
		return nil, ""
	}
	next, what := c.apply(cfg, path, false, "")
	put := func(rest string, value string) {
		if next == nil {
			return
		}
		if with, did := c.apply(next, path+"/"+rest, false, value); with != nil {
			next, what = with, what+"; "+strings.TrimPrefix(did, "put ")
		}
	}
	for _, rest := range needed[list.Name] {
		if list.Named(strings.Split(rest, "/")[0]) == nil {
			continue
		}
		n := list
		for _, name := range strings.Split(rest, "/") {
			n = n.Named(name)[0]
		}
		put(rest, c.value(n, cfg))
	}
	switch list.Name {
	case "route":
		hop := list.Named("next-hop")[0]
		kind := []string{"next-hop-address", "outgoing-interface", "special-next-hop"}[c.Rnd.IntN(3)]
		put("next-hop/"+kind, c.value(hop.Named(kind)[0], cfg))
	case "ace":
		fam := []string{"ipv4", "ipv6"}[c.Rnd.IntN(2)]
		if c.Rnd.IntN(2) == 0 {
			put("matches/"+fam+"/source-"+fam+"-network", c.prefix(fam == "ipv6"))
		}
		if c.Rnd.IntN(3) == 0 {
			put("matches/tcp/"+[]string{"source-port", "destination-port"}[c.Rnd.IntN(2)]+"/port", c.port())
		}
		if c.Rnd.IntN(2) == 0 {
			next, _ = c.move(next, path)
			what += "; moved first"
		}
	case "interface":
		if list.Module.Name == "ietf-interfaces" {
			if c.Rnd.IntN(2) == 0 {
				fam := []string{"ipv4", "ipv6"}[c.Rnd.IntN(2)]
				put(
					"ietf-ip:"+fam+"/address="+keys([]string{c.address(fam == "ipv6")})+"/prefix-length",
					c.length(fam == "ipv6"),
				)
			}
			if c.Rnd.IntN(2) == 0 {
				put("oaken-lab-vlans:bridge-port/untagged", c.vlan(cfg))
			}
		} else {
			put([]string{"ingress", "egress"}[c.Rnd.IntN(2)]+"/acl-sets/acl-set="+c.one("in", "out", "pass", "six"), "")
		}
	}
	return next, what
}

func (c *Changer) move(cfg *tree.Node, path string) (*tree.Node, string) {
	p, err := tree.ParsePath(c.schema, path)
	if err != nil || cfg == nil {
		return cfg, ""
	}
	where := c.one("first", "last")
	next, err := tree.Apply(cfg, tree.Fitted(cfg, tree.MoveTo(p, where, nil)), tree.None)
	if err != nil {
		return cfg, ""
	}
	return next, "move " + p.String() + " " + where
}

func (c *Changer) apply(cfg *tree.Node, path string, remove bool, value string) (*tree.Node, string) {
	p, err := tree.ParsePath(c.schema, path)
	if err != nil {
		return nil, ""
	}
	e, what := tree.Put(p, value), fmt.Sprintf("put %s %s", p, value)
	if remove {
		e, what = tree.DeleteAt(p), "delete "+p.String()
	}
	next, err := tree.Apply(cfg, tree.Fitted(cfg, e), tree.None)
	if err != nil {
		return nil, ""
	}
	return next, what
}

func (c *Changer) one(of ...string) string { return of[c.Rnd.IntN(len(of))] }

// value gives a value for a leaf, of those that may matter.
func (c *Changer) value(n *schema.Node, cfg *tree.Node) string {
	six := strings.Contains(n.Module.Name, "ipv6") || strings.Contains(n.Path(), "ipv6")
	switch n.Name {
	case "ip", "next-hop-address":
		return c.address(six)
	case "local-address":
		return c.one("0.0.0.0", "::", c.way.Address.String(), c.address(false), c.address(true))
	case "destination-prefix":
		return c.prefix(six)
	case "prefix-length":
		return c.length(six)
	case "local-port", "port", "lower-port", "upper-port":
		return c.port()
	case "interface-id", "outgoing-interface", "parent-interface":
		return c.existing(cfg, "/interfaces/interface")
	case "vlan", "untagged", "tagged", "id":
		return c.vlan(cfg)
	case "protocol":
		return c.one("1", "6", "17", "58")
	case "mtu":
		if six {
			return c.one("1280", "1400", "1500", "9000")
		}
		return c.one("68", "128", "576", "1280", "1500", "9000")
	case "name":
		parent := n.DataParent()
		switch {
		case parent.Module.Name == "ietf-interfaces":
			return c.one("new0", "new1")
		case parent.Name == "acl-set":
			return c.one("in", "out", "pass", "six", "new")
		case parent.Name == "acl":
			return c.one("new", "other")
		case parent.Name == "control-plane-protocol":
			return c.one("second", "third")
		case parent.Name == "user":
			return c.one(c.way.Account, "wren", "tern")
		}
		return c.one("new", "other", "third")
	}
	if strings.HasSuffix(n.Name, "-network") {
		return c.prefix(six)
	}
	t := n.Type
	switch t.Base {
	case schema.Boolean:
		return c.one("true", "false")
	case schema.IdentityRef:
		if n.Module.Name == "ietf-interfaces" {
			return c.one(
				"iana-if-type:ethernetCsmacd", "iana-if-type:l3ipvlan", "iana-if-type:l2vlan",
				"iana-if-type:softwareLoopback",
			)
		}
		list := c.schema.Identities(t)
		return list[c.Rnd.IntN(len(list))]
	case schema.Enumeration:
		return t.Enums[c.Rnd.IntN(len(t.Enums))].Name
	case schema.Uint8:
		return c.one("0", "8", "134", "135", "136")
	}
	if n.Name == "timezone-utc-offset" {
		return strconv.Itoa(c.Rnd.IntN(1000))
	}
	if n.Name == "address" {
		return c.address(false)
	}
	return c.one("changed.example", "other.example")
}

func (c *Changer) vlan(cfg *tree.Node) string {
	if c.Rnd.IntN(6) == 0 {
		return strconv.Itoa(90 + c.Rnd.IntN(3))
	}
	return c.existing(cfg, "/vlans/vlan")
}

// existing gives the key of an entry that is there, of /CONTAINER/LIST.
func (c *Changer) existing(cfg *tree.Node, list string) string {
	names := strings.Split(list, "/")
	if at := cfg.Known(names[1]); at != nil {
		if entries := at.Entries(names[2]); len(entries) > 0 {
			return entries[c.Rnd.IntN(len(entries))].Keys()[0]
		}
	}
	return "none"
}

func (c *Changer) port() string { return c.one("22", "830", "831", "829", "1024", "32768", "61000") }

// address gives one that is somewhere on the way, or near it.
func (c *Changer) address(six bool) string {
	w := c.way
	pool := []string{
		"192.0.2.77", "10.64.40.9", "10.64.60.254", "10.64.70.7", "198.51.100.1", "10.64.99.1", "192.0.2.1",
	}
	if six {
		pool = []string{"2001:db8:2::77", "2001:db8:40::9", "2001:db8:70::7", "2001:db8:51::1", "2001:db8:99::1"}
	}
	if w.Us.Is6() == six {
		pool = append(
			pool, w.Us.String(), w.Address.String(), w.Gateway.Addr().String(), w.Gateway.Addr().Prev().String(),
			w.Us.Next().String(),
		)
	}
	return pool[c.Rnd.IntN(len(pool))]
}

func (c *Changer) length(six bool) string {
	if six {
		return c.one("48", "56", "64", "64", "96", "120", "127", "128", "0")
	}
	return c.one("8", "16", "23", "24", "25", "26", "27", "28", "30", "31", "32", "0")
}

func (c *Changer) prefix(six bool) string {
	bits, _ := strconv.Atoi(c.length(six))
	return masked(c.address(six), bits)
}

// bareWay takes the modules out of a schema path.
func bareWay(n *schema.Node) string {
	var names []string
	for ; n != nil; n = n.DataParent() {
		names = append(names, n.Name)
	}
	slices.Reverse(names)
	return "/" + strings.Join(names, "/")
}
