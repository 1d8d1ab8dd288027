package approval_test

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/advice"
	"oakenlatch/service/access"
	"oakenlatch/service/approval"
	"oakenlatch/service/desk"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/test/servicetest"
)

const (
	router = "northmole-harbour" // a router at Northmole
	quay   = "saltern-quay"      // a switch at Saltern

	contact = "/system/contact"
)

// office is a room, with people who may agree.
type office struct {
	*servicetest.Room
	t *testing.T
}

func newOffice(t *testing.T, people ...string) *office {
	t.Parallel()
	r := &office{servicetest.New(t, router, quay), t}
	r.Place(router, "Northmole", "router")
	r.Place(quay, "Saltern", "switch")
	for _, name := range people {
		require.NoError(t, r.Accounts.Add(t.Context(), "x", name, name+"'s password", servicetest.Operator))
	}
	require.NoError(t, r.Accounts.Add(t.Context(), "x", "abel", "abel's password", servicetest.Admin))
	return r
}

func as(name string) access.Person { return access.Person{Name: name, Grants: servicetest.Operator} }

func (r *office) rule(rule store.ApprovalRule) store.ApprovalRule {
	r.t.Helper()
	rule, err := r.Approvals.AddRule(r.t.Context(), access.Person{Name: "abel", Grants: servicetest.Admin}, rule)
	require.NoError(r.t, err)
	return rule
}

// staged opens a change of somebody's with values put: DEVICE PATH VALUE.
func (r *office) staged(by string, puts ...string) int64 {
	r.t.Helper()
	c, err := r.Desk.Open(r.t.Context(), as(by), "a change", "")
	require.NoError(r.t, err)
	for _, text := range puts {
		f := strings.Fields(text)
		_, err := r.Put(as(by), c.Number, f[0], f[1], f[2])
		require.NoError(r.t, err)
	}
	return c.Number
}

func (r *office) stands(change int64) approval.Approval {
	r.t.Helper()
	_, seen, err := r.Desk.Preview(r.t.Context(), servicetest.Mara, change, desk.Options{})
	require.NoError(r.t, err)
	return seen.Approval
}

// A rule asks for approval of what is on its devices, at its path or around or below it, and to nothing else. Of
// several the one that asks for most counts, and an emergency is possible where each of them lets it.
func TestWhatRulesFallOn(t *testing.T) {
	r := newOffice(t)
	const vlan = "/vlans/vlan=40/name"
	for _, c := range []struct {
		says      string
		rules     []store.ApprovalRule
		puts      []string
		needed    int
		emergency bool
	}{
		{"no rule", nil, []string{router + " " + contact + " x"}, 0, true},
		{"all devices", []store.ApprovalRule{{Needed: 2}}, []string{router + " " + contact + " x"}, 2, false},
		{
			"another site", []store.ApprovalRule{{Scope: "site=Saltern", Needed: 1}},
			[]string{router + " " + contact + " x"}, 0, true,
		},
		{
			"one of two devices", []store.ApprovalRule{{Scope: "site=Saltern", Needed: 1, Emergency: true}},
			[]string{router + " " + contact + " x", quay + " " + contact + " x"}, 1, true,
		},
		{
			"another path", []store.ApprovalRule{{Scope: "role=switch", Path: "/vlans", Needed: 1}},
			[]string{quay + " " + contact + " x"}, 0, true,
		},
		{
			"below its path", []store.ApprovalRule{{Scope: "role=switch", Path: "/vlans", Needed: 1}},
			[]string{quay + " " + vlan + " pier"}, 1, false,
		},
		{
			"a path the device has not", []store.ApprovalRule{{Path: "/no-such-place", Needed: 1}},
			[]string{quay + " " + contact + " x"}, 0, true,
		},
		{
			"the strictest of three",
			[]store.ApprovalRule{
				{Needed: 1, Emergency: true}, {Scope: "device=" + quay, Needed: 3}, {Path: "/acls", Needed: 5},
			},
			[]string{quay + " " + contact + " x"}, 3, false,
		},
	} {
		t.Run(c.says, func(t *testing.T) {
			var kept []store.ApprovalRule
			for _, rule := range c.rules {
				kept = append(kept, r.rule(rule))
			}
			a := r.stands(r.staged("mara", c.puts...))
			assert.Equal(t, c.needed, a.Needed)
			assert.Equal(t, c.needed, a.Missing())
			assert.Equal(t, c.emergency, a.Emergency)
			for _, rule := range kept {
				require.NoError(t, r.Approvals.DropRule(t.Context(), servicetest.Mara, rule.ID))
			}
		})
	}
	err := r.Approvals.DropRule(t.Context(), servicetest.Mara, 99)
	assert.ErrorContains(t, err, "there is no rule 99")
}

// Agreement counts to what was previewed, of those who did not work on it and may still agree.
func TestWhoseAgreementCounts(t *testing.T) {
	r := newOffice(t, "otto", "nell")
	r.rule(store.ApprovalRule{Needed: 2, Note: "four eyes"})
	n := r.staged("mara", quay+" "+contact+" x")
	ctx := t.Context()
	counts := func(have, fallen string) approval.Approval {
		t.Helper()
		a := r.stands(n)
		names := func(list []store.Approval) string {
			var out []string
			for _, x := range list {
				out = append(out, x.Actor)
			}
			return strings.Join(out, " ")
		}
		assert.Equal(t, []string{have, fallen}, []string{names(a.Have), names(a.Fallen)})
		return a
	}
	step := func(err error) advice.Step {
		t.Helper()
		var no *refusal.Error
		require.True(t, errors.As(err, &no), "%v", err)
		require.NotEmpty(t, no.Steps)
		return no.Steps[0]
	}
	a := counts("", "")
	err := a.Lacking(n, "")
	require.ErrorContains(t, err, "needs the approval of 2 who did not work on it, and has that of 0")
	assert.Equal(t, advice.AskApproval, step(err).Action)
	require.ErrorContains(t, a.Lacking(n, "the pier is on fire"), "rule 1: all devices does not allow it")

	require.NoError(t, r.Desk.AskFor(ctx, as("mara"), n, "please"))
	a = r.stands(n)
	assert.Equal(t, advice.ApproveChange, step(a.Lacking(n, "")).Action)
	asked, err := r.Approvals.ToApprove(ctx, as("otto"))
	require.NoError(t, err)
	assert.Len(t, asked, 1)
	may, err := r.Approvals.Asked(ctx, as("otto"), n)
	require.NoError(t, err)
	assert.True(t, may)
	may, err = r.Approvals.Asked(ctx, access.Person{Name: "vera", Grants: servicetest.Viewer}, n)
	require.NoError(t, err)
	assert.False(t, may, "who may not agree is not asked")

	require.NoError(t, r.Desk.Approve(ctx, as("otto"), n, a.Digest, "fine"))
	require.NoError(t, r.Desk.Approve(ctx, as("nell"), n, a.Digest, ""))
	a = counts("otto nell", "")
	assert.Zero(t, a.Missing())
	require.NoError(t, a.Lacking(n, ""))
	asked, err = r.Approvals.ToApprove(ctx, as("otto"))
	require.NoError(t, err)
	assert.Empty(t, asked, "who agreed is not asked again")
	require.Error(t, r.Desk.Approve(ctx, as("mara"), n, a.Digest, ""), "one's own work")

	// One word more, and it is not what they saw.
	_, err = r.Put(as("mara"), n, quay, contact, "y")
	require.NoError(t, err)
	a = counts("", "otto nell")
	require.ErrorContains(t, a.Lacking(n, ""), "nell agreed to what it was before")
	require.NoError(t, r.Desk.Approve(ctx, as("otto"), n, a.Digest, ""))
	require.NoError(t, r.Desk.Approve(ctx, as("nell"), n, a.Digest, ""))
	counts("otto nell", "")

	// Who may not agree any more, or takes it back, does not count.
	require.NoError(t, r.Accounts.Close(ctx, "x", "nell"))
	a = counts("otto", "nell")
	require.ErrorContains(t, a.Lacking(n, ""), "that of nell does not count")
	require.NoError(t, r.Approvals.Unapprove(ctx, as("otto"), n))
	counts("", "nell")
	require.ErrorContains(t, r.Approvals.Unapprove(ctx, as("otto"), n), "otto has not agreed")
	require.ErrorContains(t, r.Desk.Approve(ctx, as("otto"), n, "0123", ""), "is not what preview 0123 showed")
}

func TestWrongRules(t *testing.T) {
	r := newOffice(t)
	for says, rule := range map[string]store.ApprovalRule{
		"1 to 5 persons, not 0":             {},
		"1 to 5 persons, not 6":             {Needed: 6},
		"is no path":                        {Needed: 1, Path: "vlans"},
		"does not say which devices":        {Needed: 1, Scope: "planet=earth"},
		"has no path, and no emergencies":   {Needed: 1, Scope: access.Administration, Path: "/x"},
		"1 may administer everything":       {Needed: 1, Scope: access.Administration},
		"a rule's note has at most 500 cha": {Needed: 1, Note: strings.Repeat("é", 501)},
	} {
		_, err := r.Approvals.AddRule(t.Context(), servicetest.Mara, rule)
		assert.ErrorContains(t, err, says)
	}
	list, err := r.Store.ApprovalRules(t.Context())
	require.NoError(t, err)
	assert.Empty(t, list)
	kept := r.rule(store.ApprovalRule{Needed: 1, Note: strings.Repeat("é", 500)})
	assert.Equal(t, "all devices", approval.RuleText(kept))
	assert.Equal(t, "site=Saltern /vlans", approval.RuleText(store.ApprovalRule{Scope: "site=Saltern", Path: "/vlans"}))
	r.staged("mara", quay+" "+contact+" x", router+" "+contact+" x") // they are read for it
	for says, rule := range map[string]store.ApprovalRule{
		"":                    {},
		"no device is such a": {Scope: "site=Atlantis"},
		"none of those devic": {Scope: "role=switch", Path: "/no-such-place"},
	} {
		idle, err := approval.Idle(t.Context(), r.Fleet, rule)
		require.NoError(t, err)
		assert.True(t, strings.HasPrefix(idle, says) && (idle == "") == (says == ""), "%q, wanted %q", idle, says)
	}
}
