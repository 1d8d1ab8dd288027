package api

import (
	"encoding/json"

	"oakenlatch/service/notify"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// receiverRoutes are those about who is told of what.
func (a *API) receiverRoutes() []route {
	return []route{
		{"GET", "/receivers", "Who is told of entries of the ledger", toAudit, 200, nil, []wire.Receiver{}, nil, a.receivers},
		{"POST", "/receivers", "Add a receiver: syslog, a webhook, or mail", toAdministerAll, 201, wire.NewReceiver{}, wire.Receiver{}, nil, a.addReceiver},
		{"PATCH", "/receivers/:name", "Change what a receiver is told of", toAdministerAll, 200, wire.ReceiverLine{}, wire.Receiver{}, nil, a.setReceiver},
		{"POST", "/receivers/:name/try", "Tell a receiver something now, and say what came of it", toAdministerAll, 204, nil, nil, nil, a.tryReceiver},
		{"DELETE", "/receivers/:name", "Tell a receiver nothing any more", toAdministerAll, 204, nil, nil, nil, a.retireReceiver},
	}
}

func (a *API) receiverDoc(r store.Receiver, last int64) wire.Receiver {
	out := wire.Receiver{Name: r.Name, Kind: r.Kind, Place: r.Place, Line: r.Line, Added: r.Added, AddedBy: r.AddedBy, Last: r.Last, Told: r.Told, Trouble: r.Trouble, Since: r.TroubleAt}
	var s notify.Settings
	if json.Unmarshal([]byte(r.Settings), &s) == nil {
		out.From, out.To, out.Account, out.Gather, out.Private = s.From, s.To, s.Account, s.Gather, s.Authority != ""
	}
	if r.Trouble != "" {
		out.Behind = max(0, last-r.Position)
	}
	return out
}

func (a *API) receiverDocs(c *call) ([]wire.Receiver, error) {
	list, err := a.Store.Receivers(c.ctx)
	if err != nil {
		return nil, err
	}
	last, err := a.Store.LastEntry(c.ctx)
	out := make([]wire.Receiver, 0, len(list))
	for _, r := range list {
		out = append(out, a.receiverDoc(r, last))
	}
	return out, err
}

func (a *API) receivers(c *call) (any, error) { return a.receiverDocs(c) }

func (a *API) addReceiver(c *call) (any, error) {
	var in wire.NewReceiver
	if err := c.read(&in); err != nil {
		return nil, err
	}
	r, err := a.Notifier.Add(c.ctx, c.person.Name, notify.Wanted{
		Name: in.Name, Kind: in.Kind, Place: in.Place, Line: in.Line, Secret: in.Secret,
		Settings: notify.Settings{Authority: in.Authority, From: in.From, To: in.To, Account: in.Account, Gather: in.Gather},
	})
	return a.receiverDoc(r, 0), err
}

func (a *API) setReceiver(c *call) (any, error) {
	var in wire.ReceiverLine
	if err := c.read(&in); err != nil {
		return nil, err
	}
	r, err := a.Notifier.Set(c.ctx, c.person.Name, c.Param("name"), in.Line)
	return a.receiverDoc(r, 0), err
}

func (a *API) tryReceiver(c *call) (any, error) {
	return nil, a.Notifier.Try(c.ctx, c.person.Name, c.Param("name"))
}

func (a *API) retireReceiver(c *call) (any, error) {
	return nil, a.Notifier.Retire(c.ctx, c.person.Name, c.Param("name"))
}
