package api

import (
	"errors"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"oakenlatch/core/diff"
	"oakenlatch/core/ledger"
	"oakenlatch/core/tree"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/desk"
	"oakenlatch/service/documents"
	"oakenlatch/service/fleet"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// settings changes a device's settings.
func (a *API) settings(c *call) (any, error) {
	d, err := a.deviceParam(c)
	if err != nil {
		return nil, err
	}
	var in wire.Settings
	if err := c.read(&in); err != nil {
		return nil, err
	}
	set := map[string][2]string{}
	if in.Save != nil {
		set["save"] = [2]string{strconv.FormatBool(!d.NoSave), strconv.FormatBool(*in.Save)}
	}
	now := d
	if in.SeenAs != nil {
		now.SeenAs = *in.SeenAs
		set["seen-as"] = [2]string{d.SeenAs, now.SeenAs}
	}
	if in.SeenFrom != nil {
		now.SeenFrom = *in.SeenFrom
		set["seen-from"] = [2]string{d.SeenFrom, now.SeenFrom}
	}
	if in.Via != nil {
		now.Via = strings.Join(*in.Via, ",")
		set["via"] = [2]string{d.Via, now.Via}
	}
	if err := a.seen(c, now); err != nil {
		return nil, err
	}
	if now, err = placed(c, now, in, set); err != nil {
		return nil, err
	}
	if was, is := access.PlaceOf(d), access.PlaceOf(now); was.String() != is.String() {
		if err := a.fresh(c); err != nil {
			return nil, err
		}
		guarded, err := a.Accounts.Guarded(c.ctx)
		if err != nil {
			return nil, err
		}
		if guarded > 0 {
			return a.proposePlace(c, d, in, is)
		}
	}
	err = a.Log.Write(c.ctx, func(tx *audit.Tx) error {
		if in.Save != nil {
			if err := tx.SetSave(d.ID, *in.Save); err != nil {
				return err
			}
		}
		if err := tx.SetSeen(d.ID, now.SeenAs, now.SeenFrom, now.Via); err != nil {
			return err
		}
		if err := errors.Join(tx.SetPlace(d.ID, now.Site, now.Role), tx.SetTags(d.ID, now.Tags)); err != nil {
			return err
		}
		for _, name := range slices.Sorted(maps.Keys(set)) {
			if err := tx.Record(
				ledger.Entry{
					Actor: c.person.Name, Action: "device.settings", Device: d.Name, Path: name, Before: set[name][0],
					After: set[name][1],
				},
			); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return a.redevice(c, d)
}

// proposePlace has others agree to another place of a device; what else was asked for is asked for by itself.
func (a *API) proposePlace(c *call, d store.Device, in wire.Settings, to access.Place) (any, error) {
	if in.Save != nil || in.SeenAs != nil || in.SeenFrom != nil || in.Via != nil {
		return nil, refusal.New(
			refusal.Invalid, "ask for one after the other", "a device's site, role and tags are proposed by themselves",
		)
	}
	p, err := a.Accounts.ProposePlace(c.ctx, c.person, d, to)
	if err != nil {
		return nil, err
	}
	doc, err := a.Documents.Device(c.ctx, d)
	return a.proposed(c, p, err, func(p *wire.Proposal) any {
		doc.Proposal = p
		return doc
	})
}

// placed takes over where a device stands and what it is. That says who may do
// what with it, so it is for who administers all.
func placed(c *call, d store.Device, in wire.Settings, set map[string][2]string) (store.Device, error) {
	now := d
	if in.Site != nil {
		now.Site = strings.TrimSpace(*in.Site)
		set["site"] = [2]string{d.Site, now.Site}
	}
	if in.Role != nil {
		now.Role = strings.TrimSpace(*in.Role)
		set["role"] = [2]string{d.Role, now.Role}
	}
	if in.Tags != nil {
		var err error
		if now.Tags, err = access.Tags(strings.Join(*in.Tags, " ")); err != nil {
			return d, err
		}
		set["tags"] = [2]string{strings.Join(d.Tags, " "), strings.Join(now.Tags, " ")}
	}
	if (in.Site != nil || in.Role != nil || in.Tags != nil) && !c.person.Administers() {
		return d, refusal.New(
			refusal.Forbidden, "ask an administrator of all devices",
			"a device's site, role and tags say who may do what with it: account %s may not change them", c.person.Name,
		)
	}
	return now, nil
}

// seen checks how a device's management is told to be seen.
func (a *API) seen(c *call, d store.Device) error {
	if _, _, err := desk.Endpoint(d.SeenAs); d.SeenAs != "" && err != nil {
		return refusal.New(
			refusal.Invalid, "write it as ADDRESS or ADDRESS:PORT, e.g. 192.0.2.11:830",
			"%q is no address as packets have it", d.SeenAs,
		)
	}
	if _, err := netip.ParseAddr(d.SeenFrom); d.SeenFrom != "" && err != nil {
		return refusal.New(refusal.Invalid, "write it like 198.51.100.10", "%q is no address", d.SeenFrom)
	}
	for _, name := range strings.FieldsFunc(d.Via, func(r rune) bool { return r == ',' }) {
		if name == d.Name {
			return refusal.New(refusal.Invalid, "", "the way to %s does not lead through itself", name)
		}
		if _, err := a.Store.Device(c.ctx, c.person.Reach(), name); errors.Is(err, store.ErrNotFound) {
			return refusal.NoDevice(name)
		}
	}
	return nil
}

func (a *API) redevice(c *call, d store.Device) (any, error) {
	d, err := a.Store.DeviceByID(c.ctx, c.person.Reach(), d.ID)
	if err != nil {
		return nil, err
	}
	return a.Documents.Device(c.ctx, d)
}

func (a *API) save(c *call) (any, error) {
	d, err := a.deviceParam(c)
	if err != nil {
		return nil, err
	}
	if err := a.Engine.Save(c.ctx, c.person.Name, d); err != nil {
		return nil, err
	}
	return a.redevice(c, d)
}

func (a *API) restart(c *call) (any, error) {
	d, err := a.deviceParam(c)
	if err != nil {
		return nil, err
	}
	return nil, a.Engine.Restart(c.ctx, c.person.Name, d, 0)
}

func (a *API) clearCandidate(c *call) (any, error) {
	d, err := a.deviceParam(c)
	if err != nil {
		return nil, err
	}
	return nil, a.Engine.ClearCandidate(c.ctx, c.person.Name, d)
}

func (a *API) visitors(c *call) (any, error) {
	d, err := a.deviceParam(c)
	if err != nil {
		return nil, err
	}
	s, err := a.Fleet.Dial(c.ctx, c.person.Reach(), d.Name)
	if err != nil {
		return nil, err
	}
	defer func() { _ = s.Close(c.ctx) }()
	list, err := s.Visitors(c.ctx)
	if err != nil {
		return nil, notTold(d, err)
	}
	out := []wire.Visitor{}
	for _, v := range list {
		doc := wire.Visitor{
			ID: v.ID, Account: v.Account, Source: v.Source, Transport: v.Transport, Since: v.Since,
			Own: v.Own || a.Fleet.Stands(d.Name, v.ID) || a.Engine.Owns(d.ID, v.ID),
		}
		for _, l := range v.Locks {
			doc.Locks = append(doc.Locks, wire.HeldLock(l))
		}
		out = append(out, doc)
	}
	return out, nil
}

func (a *API) endVisit(c *call) (any, error) {
	d, err := a.deviceParam(c)
	if err != nil {
		return nil, err
	}
	return nil, notTold(d, a.Engine.EndVisit(c.ctx, c.person.Name, d, c.Param("id")))
}

func (a *API) clock(c *call) (any, error) {
	d, err := a.deviceParam(c)
	if err != nil {
		return nil, err
	}
	clock, err := a.Engine.Clock(c.ctx, d)
	if err != nil {
		return nil, notTold(d, err)
	}
	return documents.Clock(d.Name, clock), nil
}

// difference compares two of a device's configurations.
func (a *API) difference(c *call) (any, error) {
	d, err := a.deviceParam(c)
	if err != nil {
		return nil, err
	}
	context, err := contextParam(c)
	if err != nil {
		return nil, err
	}
	out := wire.Difference{Device: d.Name, From: c.QueryParamOr("from", "startup"), To: c.QueryParamOr("to", "running")}
	var sides [2]*tree.Node
	for i, from := range []string{out.From, out.To} {
		r, err := a.Desk.From(c.ctx, c.person, d, from)
		if err != nil {
			return nil, err
		}
		sides[i] = a.page(c).Redactor(d).Tree(r.Running.WithoutDefaults())
	}
	df := diff.Compare(sides[0], sides[1])
	out.Count, out.Lines, out.Items = df.Count(), documents.Lines(df, context), documents.Items(df)
	return out, nil
}

// contextParam is the number of unchanged neighbours that are shown.
func contextParam(c *call) (int, error) {
	text := c.QueryParamOr("context", "1")
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 || n > 10000 {
		return 0, refusal.New(refusal.Invalid, "", "context is %q, a number from 0 to 10000 is needed", text)
	}
	return n, nil
}

// notTold says which device it is that does not tell.
func notTold(d store.Device, err error) error {
	if errors.Is(err, fleet.ErrNotTold) {
		return refusal.New(refusal.Conflict, "", "%s: %v", d.Name, err)
	}
	return err
}
