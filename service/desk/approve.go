package desk

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"oakenlatch/core/agree"
	"oakenlatch/core/ledger"
	"oakenlatch/core/lifecycle"
	"oakenlatch/core/tree"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/fleet"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

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

// Missing is how many persons' agreement is missing.
func (a Approval) Missing() int { return max(0, a.Needed-len(a.Have)) }

// approval tells how a change stands whose preview has this digest.
func (d *Desk) approval(ctx context.Context, c store.Change, list []Verdict, digest string) (out Approval, err error) {
	rules, err := d.store.ApprovalRules(ctx)
	if err != nil {
		return out, err
	}
	out.Emergency, out.Digest = true, digest
	for _, r := range rules {
		if r.Scope == access.Administration {
			continue // about no change
		}
		if !slices.ContainsFunc(list, func(v Verdict) bool { return v.falls(r) }) {
			continue
		}
		out.Rules = append(out.Rules, r)
		out.Needed = max(out.Needed, r.Needed)
		out.Emergency = out.Emergency && r.Emergency
	}
	asks, err := d.store.ApprovalAsks(ctx, c.Number)
	if err != nil {
		return out, err
	}
	if len(asks) > 0 {
		out.Asked = &asks[0]
	}
	all, err := d.store.Approvals(ctx, c.Number)
	if err != nil {
		return out, err
	}
	f, err := d.agreement(ctx, c.Number, digest)
	if err != nil {
		return out, err
	}
	for _, a := range all {
		if f.Counts(agree.Agreement{Who: a.Actor, Digest: a.Digest}) {
			out.Have = append(out.Have, a)
		} else {
			out.Fallen = append(out.Fallen, a)
		}
	}
	return out, nil
}

// agreement gives what it rests on whose agreement to a change counts.
func (d *Desk) agreement(ctx context.Context, number int64, digest string) (agree.Facts, error) {
	f := agree.Facts{Digest: digest}
	var err error
	if f.Workers, err = d.store.Workers(ctx, number); err != nil {
		return f, err
	}
	devices, err := d.store.ChangeDevices(ctx, store.Everything, number)
	if err != nil {
		return f, err
	}
	accounts, err := d.store.Accounts(ctx)
	f.May = func(who string) bool {
		return access.Holding(accounts, who, func(may access.Grants) bool {
			return !slices.ContainsFunc(devices, func(dev store.Device) bool { return !may.May(access.Approve, dev) })
		})
	}
	return f, err
}

// falls reports whether a rule is about what a part does: on such a device, and
// where a path is named, at it or below.
func (v Verdict) falls(r store.ApprovalRule) bool {
	if r.Scope != "" {
		s, err := access.ParseScope(r.Scope)
		if err != nil || !s.Has(v.work.Device) {
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
	if v.running == nil || v.result == nil {
		return true
	}
	return !tree.Same(v.running.Cut(p), v.result.Cut(p))
}

// lacking says why a change is not committed yet for want of agreement; nil where
// it is not.
func (a Approval) lacking(number int64, reason string) error {
	if a.Missing() == 0 {
		return nil
	}
	var why []string
	for _, r := range a.Rules {
		why = append(why, fmt.Sprintf("%d: %s", r.ID, RuleText(r)))
	}
	next := fmt.Sprintf("ask for it with: latch ask %d", number)
	if a.Asked != nil {
		next = fmt.Sprintf("it was asked for; others agree with: latch approve %d", number)
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
			refusal.Forbidden, next, "change %d cannot be committed as an emergency: rule %s does not allow it", number,
			strings.Join(why, "; "),
		)
	}
	if reason == "" && a.Emergency {
		next += "; in an emergency: latch commit --emergency REASON"
	}
	if reason != "" {
		return nil
	}
	return refusal.New(
		refusal.Conflict, next,
		"change %d needs the agreement of %d who did not work on it, and has that of %d (rule %s)%s", number, a.Needed,
		len(a.Have), strings.Join(why, "; "), fell,
	)
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
func (d *Desk) AddRule(ctx context.Context, p access.Person, r store.ApprovalRule) (store.ApprovalRule, error) {
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
	case len(r.Note) > 500:
		return r, refusal.New(refusal.Invalid, "", "a rule's note has at most 500 characters")
	}
	if keepsRules { // or nobody could ever agree, to dropping this one neither
		accounts, err := d.store.Accounts(ctx)
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
	r.Actor, r.At = p.Name, d.log.Now()
	return r, d.log.Write(ctx, func(tx *audit.Tx) (err error) {
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
func (d *Desk) Rule(ctx context.Context, id int64) (store.ApprovalRule, error) {
	rules, err := d.store.ApprovalRules(ctx)
	if err != nil {
		return store.ApprovalRule{}, err
	}
	if i := slices.IndexFunc(rules, func(r store.ApprovalRule) bool { return r.ID == id }); i >= 0 {
		return rules[i], nil
	}
	return store.ApprovalRule{}, refusal.New(
		refusal.NotFound, "list them with: latch rule list", "there is no rule %d", id,
	)
}

// DropRule takes a rule away.
func (d *Desk) DropRule(ctx context.Context, p access.Person, id int64) error {
	rule, err := d.Rule(ctx, id)
	if err != nil {
		return err
	}
	return d.log.Write(ctx, func(tx *audit.Tx) error {
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

// AskFor asks others to agree to a change: those who may, see it from then on.
func (d *Desk) AskFor(ctx context.Context, p access.Person, number int64, note string) error {
	if _, err := d.Own(ctx, p, number); err != nil {
		return err
	}
	if len(note) > mostNote {
		return refusal.New(refusal.Invalid, "", "a note has at most %d characters", mostNote)
	}
	return d.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.AskApproval(
			store.ApprovalAsk{Change: number, Actor: p.Name, Note: note, At: d.log.Now()},
		); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: p.Name, Action: "approval.ask", Change: number, Note: note})
	})
}

// Approve agrees to a change as a preview showed it: to nothing else.
func (d *Desk) Approve(ctx context.Context, p access.Person, number int64, digest, note string) error {
	c, err := d.Get(ctx, p, number)
	if err != nil {
		return err
	}
	authors, err := d.store.Workers(ctx, number)
	switch {
	case err != nil:
		return err
	case p.Machine:
		return refusal.New(
			refusal.Forbidden, "sign in, and do it then", "a machine's token agrees to nothing: that is for a person",
		)
	case slices.Contains(authors, p.Name):
		return refusal.New(
			refusal.Forbidden, "ask somebody else", "%s worked on change %d, and others have to agree to it", p.Name,
			number,
		)
	case !c.State.Open() && c.State != lifecycle.Scheduled:
		return refusal.New(refusal.Conflict, "", "change %d is %s: there is nothing to agree to", number, c.State)
	case digest == "":
		return refusal.New(
			refusal.Invalid, fmt.Sprintf("see it with: latch preview %d", number),
			"which preview of change %d is agreed to is not said", number,
		)
	case len(note) > mostNote:
		return refusal.New(refusal.Invalid, "", "a note has at most %d characters", mostNote)
	}
	_, seen, err := d.Preview(ctx, p, number, Options{})
	if err != nil {
		return err
	}
	if seen.Digest != digest {
		return refusal.New(
			refusal.Moved, fmt.Sprintf("look at it again with: latch preview %d", number),
			"change %d is not what preview %s showed any more: it is %s now", number, digest, seen.Digest,
		)
	}
	return d.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.Approve(
			store.Approval{Change: number, Actor: p.Name, Digest: digest, Note: note, At: d.log.Now()},
		); err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{Actor: p.Name, Action: "approval.give", Change: number, After: digest, Note: note},
		)
	})
}

// Unapprove takes one's agreement back.
func (d *Desk) Unapprove(ctx context.Context, p access.Person, number int64) error {
	return d.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.Unapprove(number, p.Name); errors.Is(err, store.ErrNotFound) {
			return refusal.New(refusal.NotFound, "", "%s has not agreed to change %d", p.Name, number)
		} else if err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: p.Name, Action: "approval.withdraw", Change: number})
	})
}

// asked reports whether a person may see a draft because they are asked to agree
// to it.
func (d *Desk) asked(ctx context.Context, p access.Person, number int64) (bool, error) {
	if !p.Grants.Somewhere(access.Approve) {
		return false, nil
	}
	asks, err := d.store.ApprovalAsks(ctx, number)
	if err != nil || len(asks) == 0 {
		return false, err
	}
	devices, err := d.store.ChangeDevices(ctx, store.Everything, number)
	return !slices.ContainsFunc(devices, func(dev store.Device) bool { return !p.Grants.May(access.Approve, dev) }), err
}

// ToApprove lists the changes that a person is asked to agree to, and has not.
func (d *Desk) ToApprove(ctx context.Context, p access.Person) (out []store.Change, err error) {
	if !p.Grants.Somewhere(access.Approve) {
		return nil, nil
	}
	asks, err := d.store.ApprovalAsks(ctx, 0)
	if err != nil || len(asks) == 0 {
		return nil, err
	}
	numbers := make([]int64, len(asks))
	for i, a := range asks {
		numbers[i] = a.Change
	}
	changes, err := d.store.ChangesNow(ctx, numbers)
	if err != nil {
		return nil, err
	}
	devices, err := d.store.DevicesOfChanges(ctx, numbers)
	if err != nil {
		return nil, err
	}
	workers, err := d.store.WorkersOfChanges(ctx, numbers)
	if err != nil {
		return nil, err
	}
	have, err := d.store.ApprovalsOfChanges(ctx, numbers)
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
func (d *Desk) Review(ctx context.Context, p access.Person, id int64, note string) error {
	list, err := d.store.Emergencies(ctx, true)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(list, func(e store.Emergency) bool { return e.ID == id })
	if i < 0 {
		return refusal.New(refusal.NotFound, "list them with: latch emergency list", "there is no emergency %d", id)
	}
	e := list[i]
	devices, err := d.store.ChangeDevices(ctx, store.Everything, e.Change)
	if err != nil {
		return err
	}
	for _, dev := range devices {
		if err := p.Check(access.Approve, dev); err != nil {
			return err
		}
	}
	workers, err := d.store.Workers(ctx, e.Change)
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
	case note == "" || len(note) > mostNote:
		return refusal.New(refusal.Invalid, "", "say what you found, in 1 to %d characters", mostNote)
	}
	return d.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.ReviewEmergency(id, p.Name, note, d.log.Now()); errors.Is(err, store.ErrNotFound) {
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
