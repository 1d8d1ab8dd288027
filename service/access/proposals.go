package access

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"oakenlatch/core/advice"
	"oakenlatch/core/agree"
	"oakenlatch/core/ledger"
	"oakenlatch/service/audit"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Administration is what a rule is about that keeps the other rules: dropping one, and saying who may
// do what, are done only once others agree.
const Administration = "administration"

// act is something of that kind, as it waits.
type act struct {
	Rule      int64     `json:"rule,omitempty"`
	Account   string    `json:"account,omitempty"`
	May       *[]string `json:"may,omitempty"`
	Hash      string    `json:"hash,omitempty"` // of another password
	EndTokens bool      `json:"endTokens,omitempty"`
	Device    int64     `json:"device,omitempty"`
	Place     *Place    `json:"place,omitempty"`
}

// Place is what says who may do what with a device, and by which rules.
type Place struct {
	Site string   `json:"site"`
	Role string   `json:"role"`
	Tags []string `json:"tags"`
}

func (p Place) String() string {
	return fmt.Sprintf("site %q, role %q, tags %q", p.Site, p.Role, strings.Join(p.Tags, " "))
}

// PlaceOf gives a device's.
func PlaceOf(d store.Device) Place { return Place{d.Site, d.Role, d.Tags} }

// The kinds of acts.
const (
	dropRule    = "rule.drop"
	setMay      = "account.may"
	setPassword = "account.password"

	resetFactors = "account.factors"
	setPlace     = "device.settings"
)

// Guarded is how many others have to agree to an act of administration; 0 where no rule asks for any.
func (a *Accounts) Guarded(ctx context.Context) (int, error) {
	rules, err := a.store.ApprovalRules(ctx)
	needed := 0
	for _, r := range rules {
		if r.Scope == Administration {
			needed = max(needed, r.Needed)
		}
	}
	return needed, err
}

// ProposeMay proposes what an account may do.
func (a *Accounts) ProposeMay(ctx context.Context, by Person, name string, may Grants) (store.Proposal, error) {
	acc, err := a.get(ctx, name)
	if err != nil {
		return store.Proposal{}, err
	}
	texts := may.Texts()
	return a.propose(
		ctx, by, setMay, act{Account: name, May: &texts},
		fmt.Sprintf("account %s may %s; until now: %s", name, orNothing(texts), orNothing(acc.Grants)),
	)
}

func orNothing(texts []string) string {
	if len(texts) == 0 {
		return "nothing"
	}
	return strings.Join(texts, " ")
}

// ProposePassword proposes another password for somebody else's account: who gives one could agree in
// their place.
func (a *Accounts) ProposePassword(
	ctx context.Context, by Person, name, password string, tokensToo bool,
) (store.Proposal, error) {
	if _, err := a.get(ctx, name); err != nil {
		return store.Proposal{}, err
	}
	if err := sound(name, password); err != nil {
		return store.Proposal{}, err
	}
	hash, err := a.hashed(ctx, password)
	if err != nil {
		return store.Proposal{}, err
	}
	return a.propose(
		ctx, by, setPassword, act{Account: name, Hash: hash, EndTokens: tokensToo},
		fmt.Sprintf("account %s gets another password, from %s", name, by.Name),
	)
}

// ProposeDrop proposes that a rule is dropped; about is what it keeps, to people.
func (a *Accounts) ProposeDrop(
	ctx context.Context, by Person, r store.ApprovalRule, about string,
) (store.Proposal, error) {
	return a.propose(
		ctx, by, dropRule, act{Rule: r.ID},
		fmt.Sprintf("drop rule %d, by which changes of %s need the approval of %d", r.ID, about, r.Needed),
	)
}

// ProposePlace proposes another place of a device: moved out of what a rule is about, it is kept by that no more.
func (a *Accounts) ProposePlace(ctx context.Context, by Person, d store.Device, to Place) (store.Proposal, error) {
	return a.propose(
		ctx, by, setPlace, act{Device: d.ID, Place: &to},
		fmt.Sprintf("device %s gets %s; until now: %s", d.Name, to, PlaceOf(d)),
	)
}

func (a *Accounts) propose(ctx context.Context, by Person, kind string, what act, says string) (store.Proposal, error) {
	body, err := json.Marshal(what)
	if err != nil {
		return store.Proposal{}, err
	}
	p := store.Proposal{Kind: kind, Body: string(body), Says: says, Actor: by.Name, At: a.log.Now()}
	return p, a.log.Write(ctx, func(tx *audit.Tx) error {
		if p, err = tx.AddProposal(p); err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: by.Name, Action: "proposal.add", After: says,
				Note: fmt.Sprintf("proposal %d; it waits for the approval of others who administer", p.ID),
			},
		)
	})
}

// proposal gives one that waits.
func (a *Accounts) proposal(ctx context.Context, id int64) (store.Proposal, error) {
	list, err := a.store.Proposals(ctx)
	if err != nil {
		return store.Proposal{}, err
	}
	if i := slices.IndexFunc(list, func(p store.Proposal) bool { return p.ID == id }); i >= 0 {
		return list[i], nil
	}
	return store.Proposal{}, refusal.New(
		refusal.NotFound, "list them", "no proposal %d waits", id,
	).Do(advice.ListProposals)
}

// Holding reports whether somebody's account is open and may do something now.
func Holding(accounts []store.Account, who string, something func(Grants) bool) bool {
	i := slices.IndexFunc(accounts, func(acc store.Account) bool { return acc.Name == who })
	if i < 0 || !accounts[i].Closed.IsZero() {
		return false
	}
	may, err := ParseGrants(accounts[i].Grants)
	return err == nil && something(may)
}

// MissingTo is how many persons' approval a proposal still wants.
func (a *Accounts) MissingTo(ctx context.Context, p store.Proposal) (int, error) {
	needed, err := a.Guarded(ctx)
	if err != nil {
		return 0, err
	}
	accounts, err := a.store.Accounts(ctx)
	f := agree.Facts{Needed: max(1, needed), Workers: []string{p.Actor}, May: func(who string) bool {
		return Holding(accounts, who, func(may Grants) bool { return may.Everywhere(Administer) })
	}}
	for _, who := range p.Agreed {
		f.Agreed = append(f.Agreed, agree.Agreement{Who: who})
	}
	return f.Missing(), err
}

// AgreeTo agrees to a proposal; with the last approval it is done, in the name of who proposed it. It
// gives how many are missing yet.
func (a *Accounts) AgreeTo(ctx context.Context, by Person, id int64) (int, error) {
	p, err := a.proposal(ctx, id)
	if err != nil {
		return 0, err
	}
	switch {
	case by.Machine:
		return 0, refusal.New(
			refusal.Forbidden, "sign in, and do it then", "a machine's token agrees to nothing: that is for a person",
		)
	case p.Actor == by.Name:
		return 0, refusal.New(
			refusal.Forbidden, "ask somebody else who administers", "proposal %d is %s's own", id, by.Name,
		)
	}
	err = a.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.AgreeToProposal(id, by.Name, a.log.Now()); err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: by.Name, Action: "proposal.agree",
				Note: fmt.Sprintf("proposal %d of %s: %s", id, p.Actor, p.Says),
			},
		)
	})
	if err != nil {
		return 0, err
	}
	if p, err = a.proposal(ctx, id); err != nil {
		return 0, err
	}
	missing, err := a.MissingTo(ctx, p)
	if err != nil || missing > 0 {
		return missing, err
	}
	return 0, a.perform(ctx, p)
}

// perform does what was proposed, once.
func (a *Accounts) perform(ctx context.Context, p store.Proposal) error {
	var what act
	if err := json.Unmarshal([]byte(p.Body), &what); err != nil {
		return err
	}
	note := fmt.Sprintf("proposal %d, agreed to by %s", p.ID, strings.Join(p.Agreed, ", "))
	end := func(tx *audit.Tx) error {
		err := tx.EndProposal(p.ID, "done", a.log.Now())
		if errors.Is(err, store.ErrNotFound) {
			return refusal.New(refusal.Conflict, "", "proposal %d was done or dropped just now", p.ID)
		}
		return err
	}
	switch p.Kind {
	case dropRule:
		return a.log.Write(ctx, func(tx *audit.Tx) error {
			if err := end(tx); err != nil {
				return err
			}
			if err := tx.DropApprovalRule(what.Rule); err != nil && !errors.Is(err, store.ErrNotFound) {
				return err
			}
			return tx.Record(ledger.Entry{Actor: p.Actor, Action: dropRule, Before: p.Says, Note: note})
		})
	case setMay:
		acc, err := a.get(ctx, what.Account)
		if err != nil {
			return err
		}
		if what.May == nil {
			return fmt.Errorf("proposal %d does not say what account %s may", p.ID, acc.Name)
		}
		return a.change(ctx, acc, func(tx *audit.Tx) error {
			if err := end(tx); err != nil {
				return err
			}
			if err := tx.SetGrants(acc.Name, *what.May); err != nil {
				return err
			}
			return tx.Record(
				ledger.Entry{
					Actor: p.Actor, Action: setMay, Before: strings.Join(acc.Grants, " "),
					After: strings.Join(*what.May, " "), Note: acc.Name + "; " + note,
				},
			)
		})
	case setPassword:
		return a.log.Write(ctx, func(tx *audit.Tx) error {
			if err := end(tx); err != nil {
				return err
			}
			return a.replacePassword(tx, p.Actor, what.Account, what.Hash, "", what.EndTokens, "; "+note)
		})
	case setPlace:
		d, err := a.store.DeviceByID(ctx, store.Everything, what.Device)
		if err != nil {
			return err
		}
		if what.Place == nil {
			return fmt.Errorf("proposal %d does not say where device %s stands", p.ID, d.Name)
		}
		return a.log.Write(ctx, func(tx *audit.Tx) error {
			if err := errors.Join(
				end(tx), tx.SetPlace(d.ID, what.Place.Site, what.Place.Role), tx.SetTags(d.ID, what.Place.Tags),
			); err != nil {
				return err
			}
			return tx.Record(
				ledger.Entry{
					Actor: p.Actor, Action: setPlace, Device: d.Name, Before: PlaceOf(d).String(),
					After: what.Place.String(), Note: note,
				},
			)
		})
	case resetFactors:
		return a.log.Write(ctx, func(tx *audit.Tx) error {
			if err := end(tx); err != nil {
				return err
			}
			return a.resetFactors(tx, p.Actor, what.Account, "; "+note)
		})
	}
	return fmt.Errorf("proposal %d is of kind %q, which this release does not know", p.ID, p.Kind)
}

// Withdraw takes a proposal back: one's own, or as somebody who could agree to it.
func (a *Accounts) Withdraw(ctx context.Context, by Person, id int64) error {
	p, err := a.proposal(ctx, id)
	if err != nil {
		return err
	}
	return a.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.EndProposal(id, "dropped", a.log.Now()); err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: by.Name, Action: "proposal.drop", Before: p.Says,
				Note: fmt.Sprintf("proposal %d of %s", id, p.Actor),
			},
		)
	})
}
