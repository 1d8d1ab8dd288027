// Package approval knows what is not committed without approval by others: the rules, who was asked and has
// agreed, and the commits that went without, in an emergency.
package approval

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"oakenlatch/core/advice"
	"oakenlatch/core/agree"
	"oakenlatch/core/ledger"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/fleet"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// MostNote is how long a note of somebody who asks, agrees or reviews may be, in characters.
const MostNote = 10_000

// Approvals keeps the rules, and what was agreed to.
type Approvals struct {
	store *store.Store
	log   *audit.Log
}

// New gives the approvals over a store.
func New(s *store.Store, log *audit.Log) *Approvals { return &Approvals{store: s, log: log} }

// Part is what a change does on a device, as a preview found it.
type Part struct {
	Device          store.Device
	Schema          *schema.Schema
	Running, Result *tree.Node // nil where it is not known
}

// Approval is how a change stands that others have to agree to.
type Approval struct {
	Needed    int                  // persons; 0 where no rule asks for any
	Rules     []store.ApprovalRule // that do
	Have      []store.Approval     // to what was previewed, by others than its authors
	Fallen    []store.Approval     // to something else, or by somebody who worked on it since
	Asked     *store.ApprovalAsk
	Digest    string // of what it is now
	Emergency bool   // a commit without them is possible, for a reason
}

// Missing is how many persons' approval is missing.
func (a Approval) Missing() int { return max(0, a.Needed-len(a.Have)) }

// Of tells how a change stands, with these parts, whose preview has this digest.
func (a *Approvals) Of(
	ctx context.Context, c store.Change, list []Part, digest string,
) (out Approval, err error) {
	rules, err := a.store.ApprovalRules(ctx)
	if err != nil {
		return out, err
	}
	out.Emergency, out.Digest = true, digest
	for _, r := range rules {
		if r.Scope == access.Administration {
			continue // about no change
		}
		if !slices.ContainsFunc(list, func(p Part) bool { return p.falls(r) }) {
			continue
		}
		out.Rules = append(out.Rules, r)
		out.Needed = max(out.Needed, r.Needed)
		out.Emergency = out.Emergency && r.Emergency
	}
	asks, err := a.store.ApprovalAsks(ctx, c.Number)
	if err != nil {
		return out, err
	}
	if len(asks) > 0 {
		out.Asked = &asks[0]
	}
	all, err := a.store.Approvals(ctx, c.Number)
	if err != nil {
		return out, err
	}
	f, err := a.approval(ctx, c.Number, digest)
	if err != nil {
		return out, err
	}
	for _, x := range all {
		if f.Counts(agree.Agreement{Who: x.Actor, Digest: x.Digest}) {
			out.Have = append(out.Have, x)
		} else {
			out.Fallen = append(out.Fallen, x)
		}
	}
	return out, nil
}

// approval gives what it rests on whose approval of a change counts.
func (a *Approvals) approval(ctx context.Context, number int64, digest string) (agree.Facts, error) {
	f := agree.Facts{Digest: digest}
	var err error
	if f.Workers, err = a.store.Workers(ctx, number); err != nil {
		return f, err
	}
	devices, err := a.store.ChangeDevices(ctx, store.Everything, number)
	if err != nil {
		return f, err
	}
	accounts, err := a.store.Accounts(ctx)
	f.May = func(who string) bool {
		return access.Holding(accounts, who, func(may access.Grants) bool {
			return !slices.ContainsFunc(devices, func(dev store.Device) bool { return !may.May(access.Approve, dev) })
		})
	}
	return f, err
}

// falls reports whether a rule is about what a part does: on such a device, and
// where a path is named, at it or below.
func (v Part) falls(r store.ApprovalRule) bool {
	if r.Scope != "" {
		s, err := access.ParseScope(r.Scope)
		if err != nil || !s.Has(v.Device) {
			return err != nil // a rule that cannot be read keeps everything back
		}
	}
	if r.Path == "" {
		return true
	}
	p, err := tree.ParsePath(v.Schema, r.Path)
	if err != nil {
		return false // the device has no such place
	}
	if v.Running == nil || v.Result == nil {
		return true
	}
	return !tree.Same(v.Running.Cut(p), v.Result.Cut(p))
}

// Lacking says why a change is not committed yet for want of approval; nil where
// it is not.
func (a Approval) Lacking(number int64, reason string) error {
	if a.Missing() == 0 {
		return nil
	}
	var why []string
	for _, r := range a.Rules {
		why = append(why, fmt.Sprintf("%d: %s", r.ID, RuleText(r)))
	}
	next := advice.Words("ask for it").Do(advice.AskApproval, number)
	if a.Asked != nil {
		next = advice.Words("it was asked for; others can agree").Do(advice.ApproveChange, number)
	}
	fell := ""
	if len(a.Fallen) > 0 {
		last := a.Fallen[len(a.Fallen)-1]
		if fell = fmt.Sprintf("; %s agreed to what it was before", last.Actor); last.Digest == a.Digest {
			fell = fmt.Sprintf("; that of %s does not count: they worked on it, or may not agree any more", last.Actor)
		}
	}
	if reason != "" && !a.Emergency {
		return refusal.New(
			refusal.Forbidden, "", "change %d cannot be committed as an emergency: rule %s does not allow it", number,
			strings.Join(why, "; "),
		).With(next)
	}
	if reason == "" && a.Emergency {
		next = next.Or("in an emergency", advice.CommitEmergency, number)
	}
	if reason != "" {
		return nil
	}
	return refusal.New(
		refusal.Conflict, "",
		"change %d needs the approval of %d who did not work on it, and has that of %d (rule %s)%s", number, a.Needed,
		len(a.Have), strings.Join(why, "; "), fell,
	).With(next)
}

// RuleText tells a rule in a line.
func RuleText(r store.ApprovalRule) string {
	text := r.Scope
	if text == "" {
		text = "all devices"
	}
	if r.Path != "" {
		text += " " + r.Path
	}
	return text
}

// Idle says why a rule falls on nothing now; "" where it falls on something.
func Idle(ctx context.Context, f *fleet.Fleet, r store.ApprovalRule) (string, error) {
	among := func(store.Device) bool { return true }
	if r.Scope == access.Administration {
		return "", nil
	}
	if r.Scope != "" {
		s, err := access.ParseScope(r.Scope)
		if err != nil {
			return "", nil // it keeps everything back
		}
		among = s.Has
	}
	return f.Nowhere(ctx, among, r.Path)
}

// AddRule keeps a rule.
func (a *Approvals) AddRule(ctx context.Context, p access.Person, r store.ApprovalRule) (store.ApprovalRule, error) {
	keepsRules := r.Scope == access.Administration
	if r.Scope != "" && !keepsRules {
		if _, err := access.ParseScope(r.Scope); err != nil {
			return r, err
		}
	}
	switch {
	case keepsRules && (r.Path != "" || r.Emergency):
		return r, refusal.New(refusal.Invalid, "", "a rule about administration has no path, and no emergencies")
	case r.Needed < 1 || r.Needed > 5:
		return r, refusal.New(refusal.Invalid, "", "a rule asks for 1 to 5 persons, not %d", r.Needed)
	case r.Path != "" && (!strings.HasPrefix(r.Path, "/") || len(r.Path) > 500):
		return r, refusal.New(refusal.Invalid, "write it like /acls", "%q is no path", r.Path)
	case utf8.RuneCountInString(r.Note) > 500:
		return r, refusal.New(refusal.Invalid, "", "a rule's note has at most 500 characters")
	}
	if keepsRules { // or nobody could ever agree, to dropping this one neither
		accounts, err := a.store.Accounts(ctx)
		if err != nil {
			return r, err
		}
		administer := 0
		for _, acc := range accounts {
			if access.Holding(
				accounts, acc.Name, func(may access.Grants) bool { return may.Everywhere(access.Administer) },
			) {
				administer++
			}
		}
		if administer <= r.Needed {
			return r, refusal.New(
				refusal.Conflict, "make an account for each of them first",
				"%d may administer everything, and it takes one who proposes and %d who agree", administer, r.Needed,
			)
		}
	}
	r.Actor, r.At = p.Name, a.log.Now()
	return r, a.log.Write(ctx, func(tx *audit.Tx) (err error) {
		if r, err = tx.AddApprovalRule(r); err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: p.Name, Action: "rule.add", After: fmt.Sprintf("%s: %d", RuleText(r), r.Needed),
				Note: strings.TrimSpace(
					fmt.Sprintf(
						"rule %d %s%s", r.ID, map[bool]string{true: "emergencies allowed "}[r.Emergency], r.Note,
					),
				),
			},
		)
	})
}

// Rule gives a rule.
func (a *Approvals) Rule(ctx context.Context, id int64) (store.ApprovalRule, error) {
	rules, err := a.store.ApprovalRules(ctx)
	if err != nil {
		return store.ApprovalRule{}, err
	}
	if i := slices.IndexFunc(rules, func(r store.ApprovalRule) bool { return r.ID == id }); i >= 0 {
		return rules[i], nil
	}
	return store.ApprovalRule{}, refusal.New(
		refusal.NotFound, "list them", "there is no rule %d", id,
	).Do(advice.ListRules)
}

// DropRule takes a rule away.
func (a *Approvals) DropRule(ctx context.Context, p access.Person, id int64) error {
	rule, err := a.Rule(ctx, id)
	if err != nil {
		return err
	}
	return a.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.DropApprovalRule(id); err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: p.Name, Action: "rule.drop", Before: fmt.Sprintf("%s: %d", RuleText(rule), rule.Needed),
				Note: fmt.Sprintf("rule %d", id),
			},
		)
	})
}

// Unapprove withdraws one's approval.
func (a *Approvals) Unapprove(ctx context.Context, p access.Person, number int64) error {
	return a.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.Unapprove(number, p.Name); errors.Is(err, store.ErrNotFound) {
			return refusal.New(refusal.NotFound, "", "%s has not agreed to change %d", p.Name, number)
		} else if err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: p.Name, Action: "approval.withdraw", Change: number})
	})
}

// Asked reports whether a person may see a draft because they are asked to agree
// to it.
func (a *Approvals) Asked(ctx context.Context, p access.Person, number int64) (bool, error) {
	if !p.Grants.Somewhere(access.Approve) {
		return false, nil
	}
	asks, err := a.store.ApprovalAsks(ctx, number)
	if err != nil || len(asks) == 0 {
		return false, err
	}
	devices, err := a.store.ChangeDevices(ctx, store.Everything, number)
	return !slices.ContainsFunc(devices, func(dev store.Device) bool { return !p.Grants.May(access.Approve, dev) }), err
}

// ToApprove lists the changes that a person is asked to agree to, and has not.
func (a *Approvals) ToApprove(ctx context.Context, p access.Person) (out []store.Change, err error) {
	if !p.Grants.Somewhere(access.Approve) {
		return nil, nil
	}
	asks, err := a.store.ApprovalAsks(ctx, 0)
	if err != nil || len(asks) == 0 {
		return nil, err
	}
	numbers := make([]int64, len(asks))
	for i, x := range asks {
		numbers[i] = x.Change
	}
	changes, err := a.store.ChangesNow(ctx, numbers)
	if err != nil {
		return nil, err
	}
	devices, err := a.store.DevicesOfChanges(ctx, numbers)
	if err != nil {
		return nil, err
	}
	workers, err := a.store.WorkersOfChanges(ctx, numbers)
	if err != nil {
		return nil, err
	}
	have, err := a.store.ApprovalsOfChanges(ctx, numbers)
	if err != nil {
		return nil, err
	}
	sight := p.Sight()
	for _, x := range changes {
		c := x.Change
		beyond := slices.ContainsFunc(
			devices[c.Number],
			func(dev store.Device) bool { return !p.Grants.May(access.Approve, dev) || sight.Check(dev) != nil },
		)
		done := slices.ContainsFunc(
			have[c.Number], func(x store.Approval) bool { return x.Actor == p.Name && x.At.After(c.Updated) },
		)
		if !beyond && !done && !slices.Contains(workers[c.Number], p.Name) {
			out = append(out, c)
		}
	}
	return out, nil
}

// Review enters what somebody else found who looked at an emergency.
func (a *Approvals) Review(ctx context.Context, p access.Person, id int64, note string) error {
	list, err := a.store.Emergencies(ctx, true)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(list, func(e store.Emergency) bool { return e.ID == id })
	if i < 0 {
		return refusal.New(refusal.NotFound, "list them", "there is no emergency %d", id).Do(advice.ListEmergencies)
	}
	e := list[i]
	devices, err := a.store.ChangeDevices(ctx, store.Everything, e.Change)
	if err != nil {
		return err
	}
	for _, dev := range devices {
		if err := p.Check(access.Approve, dev); err != nil {
			return err
		}
	}
	workers, err := a.store.Workers(ctx, e.Change)
	if err != nil {
		return err
	}
	note = strings.TrimSpace(note)
	switch {
	case p.Machine:
		return refusal.New(
			refusal.Forbidden, "sign in, and do it then",
			"a machine's token looks at no emergency: that is for a person",
		)
	case e.Actor == p.Name:
		return refusal.New(refusal.Forbidden, "ask somebody else", "emergency %d was %s's own", id, p.Name)
	case slices.Contains(workers, p.Name):
		return refusal.New(
			refusal.Forbidden, "ask somebody else", "%s worked on change %d, and others have to look at its emergency",
			p.Name, e.Change,
		)
	case note == "" || utf8.RuneCountInString(note) > MostNote:
		return refusal.New(refusal.Invalid, "", "say what you found, in 1 to %d characters", MostNote)
	}
	return a.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.ReviewEmergency(id, p.Name, note, a.log.Now()); errors.Is(err, store.ErrNotFound) {
			return refusal.New(refusal.Conflict, "", "emergency %d was looked at already, by %s", id, e.ReviewedBy)
		} else if err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: p.Name, Action: "emergency.review", Change: e.Change,
				Note: fmt.Sprintf("emergency %d: %s", id, note),
			},
		)
	})
}
