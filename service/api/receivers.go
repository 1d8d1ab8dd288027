package api

import (
	"oakenlatch/service/documents"
	"oakenlatch/service/notify"
	"oakenlatch/wire"
)

// receiverRoutes are those about who is told of what.
func (a *API) receiverRoutes() []route {
	return []route{
		{
			id: "listReceivers", method: "GET", path: "/receivers", needs: toAudit,
			summary: "Who is told of entries of the ledger",
			out:     []wire.Receiver{}, handle: a.receivers,
		},
		{
			id: "addReceiver", method: "POST", path: "/receivers", needs: toAdministerAll,
			summary: "Add a receiver: syslog, a webhook, or mail",
			status:  201, in: wire.NewReceiver{}, out: wire.Receiver{}, handle: a.addReceiver,
		},
		{
			id: "setReceiver", method: "PATCH", path: "/receivers/:name", needs: toAdministerAll,
			summary: "Change what a receiver is told of",
			in:      wire.ReceiverLine{}, out: wire.Receiver{}, handle: a.setReceiver,
		},
		{
			id: "tryReceiver", method: "POST", path: "/receivers/:name/try", needs: toAdministerAll,
			summary: "Tell a receiver something now, and say what came of it",
			status:  204, handle: a.tryReceiver,
		},
		{
			id: "retireReceiver", method: "DELETE", path: "/receivers/:name", needs: toAdministerAll,
			summary: "Tell a receiver nothing any more",
			status:  204, handle: a.retireReceiver,
		},
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
		Settings: notify.Settings{
			Authority: in.Authority, From: in.From, To: in.To, Account: in.Account, Gather: in.Gather,
		},
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
