package api

import (
	"oakenlatch/service/documents"
	"oakenlatch/service/notify"
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

func (a *API) receivers(c *call) (any, error) { return a.Documents.Receivers(c.ctx) }

func (a *API) addReceiver(c *call) (any, error) {
	var in wire.NewReceiver
	if err := c.read(&in); err != nil {
		return nil, err
	}
	r, err := a.Notifier.Add(c.ctx, c.person.Name, notify.Wanted{
		Name: in.Name, Kind: in.Kind, Place: in.Place, Line: in.Line, Secret: in.Secret,
		Settings: notify.Settings{Authority: in.Authority, From: in.From, To: in.To, Account: in.Account, Gather: in.Gather},
	})
	return documents.Receiver(r, 0), err
}

func (a *API) setReceiver(c *call) (any, error) {
	var in wire.ReceiverLine
	if err := c.read(&in); err != nil {
		return nil, err
	}
	r, err := a.Notifier.Set(c.ctx, c.person.Name, c.Param("name"), in.Line)
	return documents.Receiver(r, 0), err
}

func (a *API) tryReceiver(c *call) (any, error) {
	return nil, a.Notifier.Try(c.ctx, c.person.Name, c.Param("name"))
}

func (a *API) retireReceiver(c *call) (any, error) {
	return nil, a.Notifier.Retire(c.ctx, c.person.Name, c.Param("name"))
}
