package api

import (
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// proposalRoutes are those about acts of administration that wait for others.
func (a *API) proposalRoutes() []route {
	return []route{
		{
			id: "listProposals", method: "GET", path: "/proposals", needs: toAdministerAll,
			summary: "Acts of administration that wait until others agree",
			out:     []wire.Proposal{}, handle: a.proposals,
		},
		{
			id: "agreeToProposal", method: "POST", path: "/proposals/:id/agreement", needs: toAdministerFresh,
			summary: "Agree to one that somebody else proposed; with the last approval it is done",
			out:     wire.Agreed{}, handle: a.agreeTo,
		},
		{
			id: "dropProposal", method: "DELETE", path: "/proposals/:id", needs: toAdministerAll,
			summary: "Drop one",
			status:  204, handle: a.dropProposal,
		},
	}
}

// accepted is an answer that something was taken in, and waits (202).
type accepted struct{ doc any }

// proposed answers that something waits for others; doc takes the proposal along.
func (a *API) proposed(c *call, p store.Proposal, err error, doc func(*wire.Proposal) any) (any, error) {
	if err != nil {
		return nil, err
	}
	out, err := a.Documents.Proposal(c.ctx, p)
	return accepted{doc(&out)}, err
}

func (a *API) proposals(c *call) (any, error) { return a.Documents.Proposals(c.ctx, c.person) }

func (a *API) agreeTo(c *call) (any, error) {
	id, err := numberIn(c, "id", "proposal's number")
	if err != nil {
		return nil, err
	}
	missing, err := a.Accounts.AgreeTo(c.ctx, c.person, id)
	return wire.Agreed{Done: missing == 0, Missing: missing}, err
}

func (a *API) dropProposal(c *call) (any, error) {
	id, err := numberIn(c, "id", "proposal's number")
	if err != nil {
		return nil, err
	}
	return nil, a.Accounts.Withdraw(c.ctx, c.person, id)
}
