package access

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"oakenlatch/core/advice"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Role is one thing that an account may do, on all devices or on some.
type Role string

// The roles. Whoever may stage, commit, approve, administer or see secrets may
// read, on the same devices; to audit is to read the record, not configurations.
const (
	Read       Role = "read"       // devices, their configurations and history, changes
	Stage      Role = "stage"      // prepare changes, reserve devices, name snapshots
	Commit     Role = "commit"     // put changes on devices, keep them, take them back
	Approve    Role = "approve"    // agree to others' changes, look at emergencies afterwards
	Audit      Role = "audit"      // search the ledger, export and verify it
	Administer Role = "administer" // devices; where on all of them, accounts, archives and receivers too
	Reveal     Role = "reveal"     // see secret values in configurations
)

// Roles are all of them.
var Roles = []Role{Read, Stage, Commit, Approve, Audit, Administer, Reveal}

// Grant gives a role on devices: all of them, or those of a site, a role in the
// network, a tag or a name.
type Grant struct {
	Role Role
	By   string // "" is all devices; site, role, tag or device
	Is   string
}

// String writes a grant as ParseGrants reads it: ROLE or ROLE@site=NAME.
func (g Grant) String() string {
	if g.By == "" {
		return string(g.Role)
	}
	return fmt.Sprintf("%s@%s=%s", g.Role, g.By, g.Is)
}

// on reports whether a grant is about a device.
func (g Grant) on(d store.Device) bool { return g.By == "" || Scope{g.By, g.Is}.Has(d) }

// Scope is some devices, by something that they have in common.
type Scope struct{ By, Is string }

// ParseScope reads site=NAME, role=NAME, tag=NAME or device=NAME.
func ParseScope(text string) (Scope, error) {
	by, is, ok := strings.Cut(text, "=")
	is = strings.TrimSpace(is)
	if !ok || is == "" || len(is) > 200 || !slices.Contains([]string{"site", "role", "tag", "device"}, by) {
		return Scope{}, refusal.New(
			refusal.Invalid, "write site=NAME, role=NAME, tag=NAME or device=NAME", "%q does not say which devices",
			text,
		)
	}
	return Scope{by, is}, nil
}

// String writes a scope as ParseScope reads it.
func (s Scope) String() string { return s.By + "=" + s.Is }

// Has reports whether a device is one of a scope.
func (s Scope) Has(d store.Device) bool {
	switch s.By {
	case "site":
		return d.Site == s.Is
	case "role":
		return d.Role == s.Is
	case "tag":
		return slices.Contains(d.Tags, s.Is)
	}
	return d.Name == s.Is
}

// Grants are what an account may do.
type Grants []Grant

// Everywhere gives roles on all devices.
func Everywhere(roles ...Role) (out Grants) {
	for _, r := range roles {
		out = append(out, Grant{Role: r})
	}
	return out
}

// ParseGrants reads texts like "read" or "stage,commit@site=Saltern".
func ParseGrants(texts []string) (Grants, error) {
	if texts == nil {
		return nil, nil
	}
	out := Grants{} // none at all is something else than nothing said
	var err error
	for _, text := range texts {
		roles, where, scoped := strings.Cut(strings.TrimSpace(text), "@")
		var s Scope
		if scoped {
			if s, err = ParseScope(where); err != nil {
				return nil, err
			}
		}
		for _, name := range strings.Split(roles, ",") {
			if !slices.Contains(Roles, Role(name)) {
				return nil, refusal.New(refusal.Invalid, "the roles are "+roleNames(), "%q is not a role", name)
			}
			if g := (Grant{Role(name), s.By, s.Is}); !slices.Contains(out, g) {
				out = append(out, g)
			}
		}
	}
	if len(out) > 100 {
		return nil, refusal.New(
			refusal.Invalid, "give devices a tag and name that", "an account has at most 100 grants",
		)
	}
	return out, nil
}

func roleNames() string {
	names := make([]string, len(Roles))
	for i, r := range Roles {
		names[i] = string(r)
	}
	return strings.Join(names, ", ")
}

// Texts writes grants as ParseGrants reads them.
func (g Grants) Texts() []string {
	out := make([]string, len(g))
	for i, one := range g {
		out[i] = one.String()
	}
	return out
}

// May reports whether a role is held on a device.
func (g Grants) May(r Role, d store.Device) bool {
	return slices.ContainsFunc(g, func(x Grant) bool { return x.covers(r) && x.on(d) })
}

// Everywhere reports whether a role is held on all devices, those to come
// included.
func (g Grants) Everywhere(r Role) bool {
	return slices.ContainsFunc(g, func(x Grant) bool { return x.covers(r) && x.By == "" })
}

// Somewhere reports whether a role is held on any device.
func (g Grants) Somewhere(r Role) bool {
	return slices.ContainsFunc(g, func(x Grant) bool { return x.covers(r) })
}

func (g Grant) covers(r Role) bool {
	return g.Role == r || r == Read && g.Role != Audit
}

// within gives what of grants is also in others: what a token may that was made
// for less than its account may, and whose account may less since.
func (g Grants) within(others Grants) (out Grants) {
	for _, x := range g {
		for _, y := range others {
			both := x
			switch {
			case !y.covers(x.Role):
				continue
			case x.By == "":
				both = Grant{x.Role, y.By, y.Is}
			case y.By != "" && (x.By != y.By || x.Is != y.Is):
				continue
			}
			if !slices.Contains(out, both) {
				out = append(out, both)
			}
		}
	}
	return out
}

// inside reports whether all of grants is also given by others.
func (g Grants) inside(others Grants) bool {
	return !slices.ContainsFunc(g, func(x Grant) bool {
		return !slices.ContainsFunc(
			others, func(y Grant) bool { return y.covers(x.Role) && (y.By == "" || y.By == x.By && y.Is == x.Is) },
		)
	})
}

// Need is what a request asks of whoever makes it: a role, on the devices that it
// is about, or on all of them.
type Need struct {
	Role       Role // "" is any account
	Everywhere bool
	Open       bool // nobody needs to be signed in
	Fresh      bool // a second factor is to be shown again, by whoever has one
	Lacking    bool // also for whoever still has to set one up
	Looks      bool // it ends when who asked has gone, whatever its method: nothing is half done by that
}

// String is for people and the API's description.
func (n Need) String() string {
	text := string(n.Role)
	switch {
	case n.Open:
		text = "nothing"
	case n.Role == "":
		text = "an account"
	case n.Everywhere:
		text += ", on all devices"
	}
	if n.Fresh {
		text += "; a second factor shown again, by who has one"
	}
	return text
}

// Person is who is asking.
type Person struct {
	Name    string
	Grants  Grants
	Machine bool // asking with a token, not in a session

	Factors   int  // second factors that the account has
	Elsewhere bool // it signs in elsewhere
	Lacks     bool // it has to have a second factor, and has none

	acts   Role      // as which they ask, see Acting
	proven time.Time // when they showed a second factor last
}

// Acting gives a person who asks for what needs a role.
func (p Person) Acting(r Role) Person {
	p.acts = r
	return p
}

// Reach is the devices that a person may use as they ask to; of one that they may only look at,
// the refusal says so.
func (p Person) Reach() store.Reach {
	return store.Reaching(func(d store.Device) error { return p.Check(p.acts, d) })
}

// Sight is the devices that a person may read, for what a request only looks at: what it copies
// from, compares with, leads through.
func (p Person) Sight() store.Reach { return p.Acting(Read).Reach() }

// Administers reports whether a person may do what otherwise only owners may.
func (p Person) Administers() bool { return p.Grants.Everywhere(Administer) }

// Fits says why a person may not make a request, whatever it is about: nil where
// they may, on some device at least.
func (p Person) Fits(n Need) error {
	switch {
	case n.Open:
	case p.Lacks && !n.Lacking:
		return refusal.New(
			refusal.Forbidden, "set one up", "account %s has to have a second factor, and has none yet", p.Name,
		).Do(advice.AddFactor)
	case n.Role == "":
	case n.Everywhere && !p.Grants.Everywhere(n.Role):
		return refusal.New(
			refusal.Forbidden, askAdministrator, "account %s may not %s on all devices, which this needs", p.Name,
			n.Role,
		).Do(advice.AllowRole, p.Name, n.Role)
	case !p.Grants.Somewhere(n.Role):
		return refusal.New(
			refusal.Forbidden, askAdministrator, "account %s may not %s", p.Name, n.Role,
		).Do(advice.AllowRole, p.Name, n.Role)
	}
	return nil
}

// Check says why a person may not do something on a device. A device that they
// may not even read is not there for them.
func (p Person) Check(r Role, d store.Device) error {
	switch {
	case !p.Grants.May(Read, d) && !p.Grants.May(r, d):
		return store.ErrNotFound
	case r != "" && !p.Grants.May(r, d):
		return refusal.New(
			refusal.Forbidden, askAdministrator, "account %s may not %s on %s", p.Name, r, describe(d),
		).Do(advice.AllowRole, p.Name, r)
	}
	return nil
}

const askAdministrator = "ask an administrator, who can allow it"

func describe(d store.Device) string {
	if d.Site == "" {
		return d.Name
	}
	return fmt.Sprintf("%s (site %s)", d.Name, d.Site)
}

// Bound leaves out of what is asked of the ledger what is not a person's to see:
// drafts of others, and devices on which they have not the role.
func (p Person) Bound(ctx context.Context, s *store.Store, r Role, q *store.LedgerQuery) error {
	if !p.Administers() {
		q.Reader = p.Name
	}
	if p.Grants.Everywhere(r) {
		return nil
	}
	devices, err := s.Devices(ctx, p.Acting(r).Reach())
	q.Self, q.Devices = p.Name, []string{}
	for _, d := range devices {
		q.Devices = append(q.Devices, d.Name)
	}
	return err
}

var tagName = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,31}$`)

// Tags reads a device's tags: words with spaces or commas between them.
func Tags(text string) ([]string, error) {
	list := strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == ',' })
	for _, t := range list {
		if !tagName.MatchString(t) {
			return nil, refusal.New(
				refusal.Invalid, "use 1 to 32 of a-z, 0-9, dot, dash, underscore", "%q is no tag", t,
			)
		}
	}
	slices.Sort(list)
	if list = slices.Compact(list); len(list) > 20 {
		return nil, refusal.New(refusal.Invalid, "", "a device has at most 20 tags")
	}
	return list, nil
}
