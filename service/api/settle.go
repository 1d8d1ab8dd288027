package api

import (
	"strconv"

	"oakenlatch/core/guard"
	"oakenlatch/service/refusal"
	"oakenlatch/wire"
)

// holdsNames are what a device was found to hold, as the API names it.
var holdsNames = map[guard.Found]string{
	guard.FoundBase: "former", guard.FoundResult: "change", guard.FoundOther: "neither",
}

var pendingNames = map[guard.Pending]string{guard.IsPending: "yes", guard.NonePends: "no"}

func (a *API) unsettled(c *call) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	list, err := a.Commits.Unsettled(c.ctx, c.person, n)
	out := make([]wire.Unsettled, 0, len(list))
	for _, u := range list {
		doc := wire.Unsettled{
			Device: u.Device.Name, Address: u.Device.Address, Holds: holdsNames[u.Found],
			Pending: pendingNames[u.Pending],
		}
		if u.Err != nil {
			doc.Error = u.Err.Error()
		}
		if u.Settled != nil {
			doc.Settled, doc.By, doc.At = u.Settled.Standing, u.Settled.Actor, u.Settled.At
		}
		out = append(out, doc)
	}
	return out, err
}

func (a *API) settle(c *call) (any, error) {
	return inChange(a, c, func(number int64, in wire.Settle) error {
		return a.Commits.Settle(c.ctx, c.person, number, in.Devices)
	})
}

func (a *API) lookedAfter(c *call) (any, error) {
	n, err := strconv.ParseInt(c.Param("change"), 10, 64)
	if err != nil {
		return nil, refusal.New(refusal.Invalid, "", "%q is not a change number", c.Param("change"))
	}
	return nil, a.Engine.Looked(c.ctx, c.person.Name, n)
}
