package api

import (
	"oakenlatch/service/approval"
	"oakenlatch/service/documents"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// approvalRoutes are those about what needs others' approval.
func (a *API) approvalRoutes() []route {
	return []route{
		{
			id: "listRules", method: "GET", path: "/rules", needs: toRead,
			summary: "What is not committed without the approval of others",
			out:     []wire.ApprovalRule{}, handle: a.rules,
		},
		{
			id: "addRule", method: "POST", path: "/rules", needs: toAdministerFresh,
			summary: "Make a rule",
			status:  201, in: wire.NewRule{}, out: wire.ApprovalRule{}, handle: a.addRule,
		},
		{
			id: "dropRule", method: "DELETE", path: "/rules/:id", needs: toAdministerFresh,
			summary: "Take a rule away",
			status:  204, waits: wire.Waits{}, handle: a.dropRule,
		},
		{
			id: "askForApproval", method: "POST", path: "/changes/:number/ask", about: aChange, needs: toStage,
			summary: "Ask others to agree to the change; those who may approve it see it from then on",
			status:  204, in: wire.NewNote{}, handle: a.askFor,
		},
		{
			id: "approveChange", method: "POST", path: "/changes/:number/approval", about: aChange, needs: toApprove,
			summary: "Agree to the change as a preview showed it; that falls when anything moves",
			status:  204, in: wire.Approve{}, handle: a.approve,
		},
		{
			id: "withdrawApproval", method: "DELETE", path: "/changes/:number/approval", about: aChange,
			needs: toApprove, summary: "Withdraw one's approval", status: 204, handle: a.unapprove,
		},
		{
			id: "listEmergencies", method: "GET", path: "/emergencies", needs: toRead,
			summary: "Commits without the approval they needed, that nobody looked at since; all=true has " +
				"the others too",
			out: []wire.Emergency{}, query: []string{"all"}, handle: a.emergencies,
		},
		{
			id: "reviewEmergency", method: "POST", path: "/emergencies/:id/review", needs: toApprove,
			summary: "Say what one found who looked at it",
			status:  204, in: wire.NewNote{}, handle: a.review,
		},
	}
}

func (a *API) rules(c *call) (any, error) {
	list, err := a.Store.ApprovalRules(c.ctx)
	out := make([]wire.ApprovalRule, 0, len(list))
	for _, r := range list {
		doc := documents.Rule(r)
		if doc.Idle, err = approval.Idle(c.ctx, a.Fleet, r); err != nil {
			return nil, err
		}
		out = append(out, doc)
	}
	return out, err
}

func (a *API) addRule(c *call) (any, error) {
	var in wire.NewRule
	if err := c.read(&in); err != nil {
		return nil, err
	}
	r, err := a.Approvals.AddRule(
		c.ctx, c.person,
		store.ApprovalRule{Scope: in.Scope, Path: in.Path, Needed: in.Needed, Emergency: in.Emergency, Note: in.Note},
	)
	if err != nil {
		return nil, err
	}
	doc := documents.Rule(r)
	doc.Idle, err = approval.Idle(c.ctx, a.Fleet, r)
	return doc, err
}

func (a *API) dropRule(c *call) (any, error) {
	id, err := numberIn(c, "id", "rule's number")
	if err != nil {
		return nil, err
	}
	guarded, err := a.Accounts.Guarded(c.ctx)
	if err != nil {
		return nil, err
	}
	if guarded > 0 {
		r, err := a.Approvals.Rule(c.ctx, id)
		if err != nil {
			return nil, err
		}
		p, err := a.Accounts.ProposeDrop(c.ctx, c.person, r, approval.RuleText(r))
		return a.proposed(c, p, err, func(p *wire.Proposal) any { return wire.Waits{Proposal: p} })
	}
	return nil, a.Approvals.DropRule(c.ctx, c.person, id)
}

func (a *API) askFor(c *call) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	var in wire.NewNote
	if err := c.read(&in); err != nil {
		return nil, err
	}
	return nil, a.Desk.AskFor(c.ctx, c.person, n, in.Text)
}

func (a *API) approve(c *call) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	var in wire.Approve
	if err := c.read(&in); err != nil {
		return nil, err
	}
	return nil, a.Desk.Approve(c.ctx, c.person, n, in.Digest, in.Note)
}

func (a *API) unapprove(c *call) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	return nil, a.Approvals.Unapprove(c.ctx, c.person, n)
}

func (a *API) emergencies(c *call) (any, error) {
	return a.Documents.Emergencies(c.ctx, c.person, nil, c.QueryParam("all") == "true")
}

func (a *API) review(c *call) (any, error) {
	id, err := numberIn(c, "id", "emergency's number")
	if err != nil {
		return nil, err
	}
	var in wire.NewNote
	if err := c.read(&in); err != nil {
		return nil, err
	}
	return nil, a.Approvals.Review(c.ctx, c.person, id, in.Text)
}
