package lockout

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"oakenlatch/core/tree"
)

func itoa(port uint16) string { return strconv.Itoa(int(port)) }

// netconfPort is where a NETCONF service over SSH listens unless it is told another
// (RFC 6242 section 6).
const netconfPort = "830"

// listens says whether the NETCONF service listens at an address and a port: open
// where nothing is said of it.
func (d *device) listens(w ManagementPath) found {
	server := d.cfg.Known("netconf-server")
	if server == nil {
		return found{}
	}
	elsewhere := is(shut, "/netconf-server", "its NETCONF service does not listen on port %d", w.Port)
	for _, e := range server.Under("listen", "endpoints").Entries("endpoint") {
		path := "/netconf-server/listen/endpoints/endpoint=" + e.Text("name", "")
		for _, b := range e.Under("ssh", "tcp-server-parameters").Entries("local-bind") {
			if b.Text("local-port", netconfPort) != itoa(w.Port) {
				continue
			}
			a, err := netip.ParseAddr(b.Text("local-address", ""))
			switch {
			case err != nil:
				elsewhere = is(unsure, path, "the address on which its NETCONF service listens is not understood")
			case a == w.Address, a.IsUnspecified() && a.Is4() == w.Address.Is4():
				return found{}
			case a.IsUnspecified() && a.Is6():
				elsewhere = is(
					unsure, path,
					"its NETCONF service listens on ::, and whether on IPv4 as well cannot be told (RFC 3493 "+
						"section 5.3)",
				)
			case elsewhere.state == shut:
				elsewhere = is(shut, path, "its NETCONF service listens on %s, not on %s", a, w.Address)
			}
		}
	}
	return elsewhere
}

// served says whether the service is still where it was, w now where it was by the
// way was. What a configuration did not tell of it before cannot be missed in it
// after.
func (d *device) served(before *device, was, w ManagementPath) found {
	old, now := before.cfg.Known("netconf-server"), d.cfg.Known("netconf-server")
	switch {
	case tree.Same(old, now) && was.Address == w.Address, old == nil && now == nil:
		return found{}
	case now == nil:
		return is(shut, "/netconf-server", "its NETCONF service is set up no longer")
	}
	f := d.listens(w)
	if f.state == shut && (old == nil || before.listens(was).state != open) {
		f.state = unsure
		f.why += "; whether it still answers where it does now cannot be told"
	}
	return f
}

// account says whether the account we sign in with is still there as it was.
func account(before, after *tree.Node, w ManagementPath) found {
	if w.Account == "" {
		return found{}
	}
	users := func(cfg *tree.Node) []*tree.Node { return cfg.Under("system", "authentication").Entries("user") }
	ours := func(list []*tree.Node) *tree.Node {
		if i := slices.IndexFunc(list, func(u *tree.Node) bool { return u.Text("name", "") == w.Account }); i >= 0 {
			return list[i]
		}
		return nil
	}
	path := "/system/authentication/user=" + w.Account
	was, now := ours(users(before)), ours(users(after))
	switch {
	case tree.Same(was, now):
		if was == nil && len(users(before)) == 0 && len(users(after)) > 0 {
			return is(
				unsure, strings.TrimSuffix(path, "="+w.Account),
				"the device would have accounts of its own, and %s, with which this service signs in, is "+
					"not among them",
				w.Account,
			)
		}
		return found{}
	case now == nil && len(users(after)) == 0:
		return is(
			unsure, path,
			"account %s, with which this service signs in, is gone with all others; whether the device then lets "+
				"anybody in cannot be told",
			w.Account,
		)
	case now == nil:
		return is(
			shut, path, "account %s, with which this service signs in, is not among the device's accounts", w.Account,
		)
	}
	return is(
		unsure, path,
		"what account %s signs in with is changed; whether what this service keeps still fits cannot be told",
		w.Account,
	)
}
