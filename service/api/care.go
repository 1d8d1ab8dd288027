package api

import (
	"errors"
	"strconv"

	"oakenlatch/core/diff"
	"oakenlatch/core/ledger"
	"oakenlatch/core/tree"
	"oakenlatch/service/audit"
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
	if in.Save != nil {
		err := a.Log.Write(c.ctx, func(tx *audit.Tx) error {
			if err := tx.SetSave(d.ID, *in.Save); err != nil {
				return err
			}
			return tx.Record(ledger.Entry{Actor: c.person.Name, Action: "device.settings", Device: d.Name, Path: "save", Before: strconv.FormatBool(!d.NoSave), After: strconv.FormatBool(*in.Save)})
		})
		if err != nil {
			return nil, err
		}
	}
	return a.redevice(c, d)
}

func (a *API) redevice(c *call, d store.Device) (any, error) {
	d, err := a.Store.DeviceByID(c.ctx, d.ID)
	if err != nil {
		return nil, err
	}
	return a.deviceDoc(c, d)
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
	return nil, a.Engine.Restart(c.ctx, c.person.Name, d)
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
	s, err := a.Fleet.Dial(c.ctx, d.Name)
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
		doc := wire.Visitor{ID: v.ID, Account: v.Account, Source: v.Source, Transport: v.Transport, Since: v.Since, Own: v.Own || a.Fleet.Stands(d.Name, v.ID) || a.Engine.Owns(d.ID, v.ID)}
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
	return clockDoc(d.Name, clock), nil
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
		var doc wire.Config
		r, err := a.reading(c, d, from, &doc)
		if err != nil {
			return nil, err
		}
		sides[i] = r.Running.WithoutDefaults()
	}
	df := diff.Compare(sides[0], sides[1])
	out.Count, out.Lines, out.Items = df.Count(), lines(df, context), items(df)
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
