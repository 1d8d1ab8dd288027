package api

import (
	"strconv"
	"strings"

	"oakenlatch/core/lifecycle"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// visible gives the change in the path, if the person may see it.
func (a *API) visible(c *call) (store.Change, error) {
	n, err := numberParam(c)
	if err != nil {
		return store.Change{}, err
	}
	return a.Desk.Get(c.ctx, c.person, n)
}

// changeQuery reads which changes are asked for.
func changeQuery(c *call) (q store.ChangeQuery, err error) {
	limit := int64(200)
	if err := c.numbers(map[string]*int64{"before": &q.Before, "limit": &limit}); err != nil {
		return q, err
	}
	if limit > 500 {
		return q, refusal.New(
			refusal.Invalid, "ask again with before, the number of the last one that was given",
			"limit is %d, at most 500 are given at once", limit,
		)
	}
	q.Limit, q.Author = int(limit), c.QueryParam("author")
	q.Text, q.Number = c.QueryParam("text"), c.QueryParam("number")
	for text := range strings.SplitSeq(c.QueryParam("state"), ",") {
		state := lifecycle.State(text)
		switch {
		case state == "":
		case !state.Known():
			return q, refusal.New(
				refusal.Invalid, "the states are "+strings.Join(lifecycle.Names(lifecycle.States()...), ", "),
				"%q is no state of a change", text,
			)
		default:
			q.States = append(q.States, state)
		}
	}
	return q, nil
}

func (a *API) changes(c *call) (any, error) {
	q, err := changeQuery(c)
	if err != nil {
		return nil, err
	}
	if c.QueryParam("count") == "true" {
		n, err := a.Desk.Count(c.ctx, c.person, q)
		if err != nil {
			return nil, err
		}
		c.Response().Header().Set(wire.CountHeader, strconv.Itoa(n))
	}
	return a.Documents.List(c.ctx, c.person, q)
}

func (a *API) open(c *call) (any, error) {
	var in wire.NewChange
	if err := c.read(&in); err != nil {
		return nil, err
	}
	ch, err := a.Desk.Open(c.ctx, c.person, in.Title, in.Ticket)
	if err != nil {
		return nil, err
	}
	return a.Documents.Change(c.ctx, c.person, ch.Number)
}

func (a *API) change(c *call) (any, error) {
	ch, err := a.visible(c)
	if err != nil {
		return nil, err
	}
	return a.Documents.Change(c.ctx, c.person, ch.Number)
}

func (a *API) drop(c *call) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	return nil, a.Desk.Abandon(c.ctx, c.person, n)
}

// reload gives a change as it stands now.
func (a *API) reload(c *call, n int64) (any, error) { return a.Documents.Change(c.ctx, c.person, n) }
