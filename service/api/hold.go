package api

import (
	"time"

	"oakenlatch/core/guard"
	"oakenlatch/service/commit"
	"oakenlatch/service/order"
	"oakenlatch/service/refusal"
	"oakenlatch/wire"
)

// seconds reads a number of seconds; what is too large for a duration stays
// too large for every limit.
func seconds(n int64) time.Duration {
	const most = int64(10 * 366 * 24 * time.Hour / time.Second)
	return time.Duration(max(min(n, most), -most)) * time.Second
}

// orderOf reads how a commit is wanted.
func orderOf(in wire.NewCommit) (order.Order, error) {
	o := order.Order{
		Hold: seconds(in.HoldSeconds), Waves: in.Waves, ByProbes: in.ByProbes, RevertOnProbe: in.RevertOnProbe,
		Save: in.Save, Ahead: seconds(in.AheadSeconds), Preview: in.Preview, CutOff: in.CutOff, Emergency: in.Emergency,
	}
	for _, line := range in.Probes {
		p, err := guard.ParseProbe(line)
		if err != nil {
			return o, refusal.New(refusal.Invalid, "", "%v", err)
		}
		p.Grace = seconds(in.ProbeWithinSeconds)
		o.Probes = append(o.Probes, p)
	}
	return o, nil
}

// ofChange answers a request about the change in the path with how the change stands once that was done.
func (a *API) ofChange(c *call, do func(number int64) error) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	if err := do(n); err != nil {
		return nil, err
	}
	return a.reload(c, n)
}

func (a *API) commit(c *call) (any, error) {
	var in wire.NewCommit
	return a.ofChange(c, func(number int64) error {
		if err := c.read(&in); err != nil {
			return err
		}
		o, err := orderOf(in)
		if err != nil {
			return err
		}
		return a.Commits.Commit(c.ctx, c.person, commit.Session{Token: c.token, Site: a.site(c)}, number, o)
	})
}

// begin commits what is prepared.
func (a *API) begin(c *call) (any, error) {
	return a.ofChange(c, func(number int64) error { return a.Commits.Begin(c.ctx, c.person, number) })
}

func (a *API) confirm(c *call) (any, error) {
	var in wire.Confirm
	return a.ofChange(c, func(number int64) error {
		if c.Request().ContentLength != 0 {
			if err := c.read(&in); err != nil {
				return err
			}
		}
		return a.Commits.Confirm(c.ctx, c.person, number, in.Despite)
	})
}

func (a *API) revert(c *call) (any, error) {
	return a.ofChange(c, func(number int64) error { return a.Commits.Revert(c.ctx, c.person, number) })
}

// hold moves the end of a hold.
func (a *API) hold(c *call) (any, error) {
	return inChange(a, c, func(number int64, in wire.NewHold) error {
		return a.Commits.Extend(c.ctx, c.person, number, in.Until, seconds(in.AddSeconds))
	})
}

// leave settles a device that holds neither configuration.
func (a *API) accept(c *call) (any, error) {
	return inChange(a, c, func(number int64, in wire.Accept) error {
		return a.Commits.Accept(c.ctx, c.person, number, in.Device)
	})
}
