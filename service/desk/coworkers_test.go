package desk_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/guard"
	"oakenlatch/core/lifecycle"
	"oakenlatch/core/markup"
	"oakenlatch/core/tree"
	"oakenlatch/lab"
	"oakenlatch/netconf"
	"oakenlatch/service/access"
	"oakenlatch/service/desk"
	"oakenlatch/service/order"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/test/servicetest"
)

func outlineOf(n *tree.Node) string { return codec.OutlineText(n) }

// A change is its author's and of those they add; each line tells whose it is,
// and one person's are looked at and taken back by themselves.
func TestCoworkers(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, quay)
	n := open(t, r, servicetest.Mara)
	require.NoError(t, r.Store.Write(t.Context(), func(tx *store.Tx) error {
		return tx.AddAccount(store.Account{Name: "wren", Grants: []string{"read"}, Created: time.Now()})
	}))
	_, err := r.Put(servicetest.Joss, n, quay, "/system/contact", "Joss")
	assert.Equal(t, refusal.Forbidden, kind(err))
	assert.Equal(t, refusal.Forbidden, kind(r.Desk.Share(t.Context(), servicetest.Joss, n, "joss")))
	assert.Equal(t, refusal.NotFound, kind(r.Desk.Share(t.Context(), servicetest.Mara, n, "nobody")))
	assert.Equal(
		t, refusal.Conflict, kind(r.Desk.Share(t.Context(), servicetest.Mara, n, "wren")), "a viewer stages nothing",
	)
	require.NoError(t, r.Desk.Share(t.Context(), servicetest.Mara, n, "joss"))
	assert.Equal(t, refusal.Conflict, kind(r.Desk.Share(t.Context(), servicetest.Mara, n, "joss")))
	_, err = r.Put(servicetest.Joss, n, quay, "/system/contact", "Joss")
	require.NoError(t, err)
	_, err = r.Put(servicetest.Mara, n, quay, "/system/location", "Mara")
	require.NoError(t, err)
	v := verdict(t, r, servicetest.Joss, n, quay)
	assert.Equal(t, int64(1), v.StagedBy("/system/contact"))
	assert.Equal(t, int64(2), v.StagedBy("/system/location"))
	alone, _, err := r.Desk.Preview(t.Context(), servicetest.Mara, n, desk.Options{By: "joss"})
	require.NoError(t, err)
	assert.Equal(t, 1, alone[0].Difference.Count())
	assert.Len(t, alone[0].Edits, 1)
	list, err := r.Desk.List(t.Context(), servicetest.Joss, store.ChangeQuery{})
	require.NoError(t, err)
	assert.Len(t, list, 1)
	assert.Equal(
		t, refusal.Forbidden, kind(r.Desk.Abandon(t.Context(), servicetest.Joss, n)), "only its author drops it",
	)
	_, err = r.Desk.Note(t.Context(), servicetest.Joss, n, "told the office")
	require.NoError(t, err)
	_, err = r.Desk.Drop(t.Context(), servicetest.Mara, n, desk.Which{By: "joss"})
	require.NoError(t, err)
	require.NoError(t, r.Desk.Unshare(t.Context(), servicetest.Mara, n, "joss"))
	_, err = r.Put(servicetest.Joss, n, quay, "/system/contact", "Joss")
	assert.Equal(t, refusal.Forbidden, kind(err))
	require.NoError(t, r.Desk.Rename(t.Context(), servicetest.Mara, n, "Another title", "TF-9"))
	entries := r.Found(50, "change:%v", n)
	var told []string
	for _, e := range entries {
		told = append(told, e.Actor+" "+e.Action)
	}
	for _, want := range []string{
		"mara change.share", "joss edit.put", "mara edit.drop", "mara change.unshare", "joss change.note",
		"mara change.rename",
	} {
		assert.Contains(t, told, want)
	}
}

// The first to commit wins; the second cannot override by accident, but only
// by a decision that shows what it overwrites.
func TestBaseMoves(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, quay)
	second := open(t, r, servicetest.Mara)
	for path, value := range map[string]string{"/system/contact": "Mara's", "/system/location": "Mara's too"} {
		_, err := r.Put(servicetest.Mara, second, quay, path, value)
		require.NoError(t, err)
	}
	load(t, r, second, desk.Load{Mode: desk.Merge, Text: []byte("vlans\n  vlan [40]\n")}, quay)
	_, seen, err := r.Desk.Preview(t.Context(), servicetest.Mara, second, desk.Options{})
	require.NoError(t, err)
	first := open(t, r, servicetest.Joss)
	for path, value := range map[string]string{
		"/system/contact": "Joss's", "/system/location": "Joss's too", "/system/hostname": "quay",
	} {
		_, err := r.Put(servicetest.Joss, first, quay, path, value)
		require.NoError(t, err)
	}
	r.Keep(servicetest.Joss, first)

	_, err = r.Desk.Ready(t.Context(), store.Everything, second, "mara", order.Order{Preview: seen.Digest})
	assert.Equal(t, refusal.Moved, kind(err))
	require.ErrorContains(t, err, "saltern-quay moved on since revision 1, in 3 places")
	v := verdict(t, r, servicetest.Mara, second, quay)
	assert.True(t, v.Behind)
	require.Len(t, v.Since, 1)
	assert.Equal(t, first, v.Since[0].Change, "it is told whose it was")
	require.Len(t, v.Conflicts, 2)
	_, err = r.Desk.Rebase(t.Context(), servicetest.Mara, second, nil)
	require.ErrorContains(t, err, "changed here and on the device: 2 places")
	_, err = r.Desk.Decide(t.Context(), servicetest.Mara, second, quay, "/system/hostname", desk.Mine)
	require.ErrorContains(t, err, "there is to decide: /system/contact, /system/location")
	_, err = r.Desk.Decide(t.Context(), servicetest.Mara, second, quay, "/system/contact", desk.Mine)
	require.NoError(t, err)
	_, err = r.Desk.Decide(t.Context(), servicetest.Mara, second, quay, "/system/location", desk.Theirs)
	require.NoError(t, err)
	v = verdict(t, r, servicetest.Mara, second, quay)
	assert.Empty(t, v.Conflicts)
	assert.Empty(t, v.Blocker())
	assert.Contains(t, v.Difference.Text(0), "contact: Joss's → Mara's")
	assert.NotContains(t, v.Difference.Text(0), "location:")

	done, err := r.Desk.Rebase(t.Context(), servicetest.Mara, second, nil)
	require.NoError(t, err)
	require.Len(t, done, 1)
	require.Len(t, done[0].Dropped, 1, "what was given up is no edit any more")
	after := verdict(t, r, servicetest.Mara, second, quay)
	assert.False(t, after.Behind)
	assert.Equal(t, v.Difference.Text(0), after.Difference.Text(0), "rebased, it does what it did")
	entries := r.Found(50, "change:%v", second)
	told := ""
	for _, e := range entries {
		told += e.Action + " " + e.Before + " > " + e.After + " " + e.Note + "\n"
	}
	assert.Contains(
		t, told,
		"part.decide contact: Joss's > contact: Mara's keeps the change's and overwrites what the device has; before "+
			"both it was: contact: \"Harbour office, ext. 12\"",
	)
	_, _, err = r.Desk.Preview(t.Context(), servicetest.Mara, second, desk.Options{})
	require.NoError(t, err)
	r.Keep(servicetest.Mara, second)
	assert.Equal(t, "Mara's", r.Value(quay, "/system/contact"))
	assert.Equal(t, "Joss's too", r.Value(quay, "/system/location"))
}

// A decision holds for the values that were shown, and for no others.
func TestDecisionGoesStale(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, quay)
	n := open(t, r, servicetest.Mara)
	_, err := r.Put(servicetest.Mara, n, quay, "/system/contact", "mine")
	require.NoError(t, err)
	require.NoError(t, r.Devices[quay].Console("/system/contact", "theirs"))
	_, err = r.Desk.Decide(t.Context(), servicetest.Mara, n, quay, "/system/contact", desk.Mine)
	require.NoError(t, err)
	assert.Empty(t, verdict(t, r, servicetest.Mara, n, quay).Conflicts)
	require.NoError(t, r.Devices[quay].Console("/system/contact", "theirs again"))
	assert.Len(t, verdict(t, r, servicetest.Mara, n, quay).Conflicts, 1)
}

// A device that moves on between the word and the work is refused, not merged:
// what is committed is what was previewed.
func TestMovesOnAfterTheWord(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, quay)
	n := open(t, r, servicetest.Mara)
	_, err := r.Put(servicetest.Mara, n, quay, "/system/contact", "mine")
	require.NoError(t, err)
	_, seen, err := r.Desk.Preview(t.Context(), servicetest.Mara, n, desk.Options{})
	require.NoError(t, err)
	ready, err := r.Desk.Ready(t.Context(), store.Everything, n, "mara", order.Order{Preview: seen.Digest})
	require.NoError(t, err)
	assert.Equal(t, seen.Digest, ready.Digest)
	require.NoError(t, r.Devices[quay].Console("/system/location", "elsewhere"))
	require.NoError(t, r.Begin("mara", n, order.Order{Hold: time.Minute}, ready.Works))
	r.Until(n, guard.Done)
	c, err := r.Store.Change(t.Context(), n)
	require.NoError(t, err)
	assert.EqualValues(t, "failed", c.State)
	assert.Contains(t, c.Reason, "moved on since the change was previewed")
	_, err = r.Put(servicetest.Mara, n, quay, "/system/location", "elsewhere else")
	require.NoError(t, err)
	_, err = r.Desk.Ready(t.Context(), store.Everything, n, "mara", order.Order{})
	require.ErrorContains(t, err, "what was previewed", "the last preview counts, also unnamed")
	_, err = r.Desk.Ready(t.Context(), store.Everything, n, "mara", order.Order{Preview: "none"})
	require.ErrorContains(t, err, `no preview "none"`)
}

func refuseValidate(d *lab.Device) {
	d.OnOperation(func(op *markup.Element) lab.Fault {
		if op.Name.Local == "validate" {
			return lab.Fault{
				Refuse: netconf.RPCError{
					Type: "application", Tag: "operation-failed", Severity: "error",
					Message: "no frames of that size here",
				},
			}
		}
		return lab.Fault{}
	})
}

// The device's own word on the result, asked for without committing anything.
func TestTryOut(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, router)
	n := open(t, r, servicetest.Mara)
	_, err := r.Put(servicetest.Mara, n, router, mtu, "9000")
	require.NoError(t, err)
	ask := func() desk.Verdict {
		list, _, err := r.Desk.Preview(t.Context(), servicetest.Mara, n, desk.Options{TryOut: true})
		require.NoError(t, err)
		return list[0]
	}
	v := ask()
	assert.True(t, v.Tried)
	assert.Empty(t, v.Said)
	refuseValidate(r.Devices[router])
	v = ask()
	assert.True(t, v.Tried)
	assert.Contains(t, v.Said, "frames of that size")
	assert.Contains(t, v.Blocker(), "finds the result invalid")
	r.Devices[router].OnOperation(nil)
	assert.Equal(t, "1500", r.Value(router, mtu))
	assert.Empty(t, ask().Said, "nothing stayed in its candidate, and no lock")
	assert.True(t, strings.HasPrefix(ask().Guard.Name(), "device"))
}

// What a hold makes of a device is nobody's outside change: reading it then, as
// a preview of another change does, makes no revision.
func TestPreviewDuringAHold(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, quay)
	first, second := open(t, r, servicetest.Mara), open(t, r, servicetest.Joss)
	_, err := r.Put(servicetest.Mara, first, quay, "/system/contact", "on hold")
	require.NoError(t, err)
	_, err = r.Put(servicetest.Joss, second, quay, "/system/location", "elsewhere")
	require.NoError(t, err)
	works := r.Ready("mara", first)
	for _, word := range []guard.EventKind{guard.SayRevert, guard.SayConfirm} {
		require.Eventually(t, func() bool { // the one before may be about to leave
			return r.Begin("mara", first, order.Order{Hold: time.Minute}, works) == nil
		}, 90*time.Second, 50*time.Millisecond)
		r.Until(first, guard.Awaiting)
		v := verdict(t, r, servicetest.Joss, second, quay)
		assert.Equal(t, first, v.HeldBy)
		assert.True(t, v.Behind)
		assert.Empty(t, v.Since, "it is on hold, not made")
		require.NoError(t, r.Engine.Say(t.Context(), first, guard.Event{Kind: word, By: "mara"}))
		r.Until(first, guard.Done)
	}
	all, err := r.Store.Revisions(t.Context(), 1)
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, lifecycle.ByChange, all[0].Source)
	assert.Equal(t, first, all[0].Change)
	assert.Equal(t, first, verdict(t, r, servicetest.Joss, second, quay).Since[0].Change)
}

// What somebody stages while the word is being given is not left behind: the
// commit is refused, nothing of it begun, and the next is of the whole.
func TestStagedAtThatMoment(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, quay)
	n := open(t, r, servicetest.Mara)
	require.NoError(t, r.Desk.Share(t.Context(), servicetest.Mara, n, "joss"))
	first, err := r.Put(servicetest.Mara, n, quay, "/system/contact", "mine")
	require.NoError(t, err)
	for what, meanwhile := range map[string]func() error{
		"staged": func() error {
			_, err := r.Put(servicetest.Joss, n, quay, "/system/location", "by joss")
			return err
		},
		"taken back": func() error {
			_, err := r.Put(servicetest.Joss, n, quay, "/system/hostname", "quay")
			require.NoError(t, err)
			_, err = r.Desk.Drop(t.Context(), servicetest.Mara, n, desk.Which{ID: first.Edit.ID})
			return err
		},
		"moved": func() error {
			return r.Desk.Readdress(t.Context(), servicetest.Joss, n, quay, "192.0.2.9:830", "")
		},
	} {
		works := r.Ready("mara", n)
		require.NoError(t, meanwhile(), what)
		err := r.Begin("mara", n, order.Order{Hold: time.Minute}, works)
		assert.Equal(t, refusal.Moved, kind(err), what)
		require.ErrorContains(t, err, "was edited at this very moment", what)
		c, err := r.Store.Change(t.Context(), n)
		require.NoError(t, err)
		assert.EqualValues(t, "draft", c.State, what)
		_, _, err = r.Engine.Last(t.Context(), n)
		require.Error(t, err, "no commit was begun")
	}
	require.NoError(t, r.Desk.Readdress(t.Context(), servicetest.Joss, n, quay, "", ""))
	r.Keep(servicetest.Mara, n)
	assert.Equal(t, "by joss", r.Value(quay, "/system/location"))
	assert.Equal(t, "quay", r.Value(quay, "/system/hostname"))
	assert.Equal(t, "Harbour office, ext. 12", r.Value(quay, "/system/contact"))
}

// What is staged while another's change is on hold rests on what the device
// reverts to if it fails, and nothing is decided on what may not last.
func TestNothingRestsOnATrial(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, quay, slip)
	first, earlier := open(t, r, servicetest.Mara), open(t, r, servicetest.Joss)
	_, err := r.Put(servicetest.Mara, first, quay, "/system/contact", "on hold")
	require.NoError(t, err)
	_, err = r.Put(servicetest.Joss, earlier, quay, "/system/contact", "earlier")
	require.NoError(t, err)
	whole := outline(t, r, first, slip) // of another device, as a file from a shelf
	works := r.Ready("mara", first)
	require.NoError(t, r.Begin("mara", first, order.Order{Hold: time.Minute}, works))
	r.Until(first, guard.Awaiting)
	require.Equal(t, "on hold", r.Value(quay, "/system/contact"))

	_, err = r.Desk.Rebase(t.Context(), servicetest.Joss, earlier, nil)
	assert.Equal(t, refusal.Conflict, kind(err))
	require.ErrorContains(t, err, quay+" has a change on hold, which may be reverted")
	_, err = r.Desk.Decide(t.Context(), servicetest.Joss, earlier, quay, "/system/contact", desk.Mine)
	assert.Equal(t, refusal.Conflict, kind(err))
	later, loaded := open(t, r, servicetest.Joss), open(t, r, servicetest.Mara)
	st, err := r.Put(servicetest.Joss, later, quay, "/system/location", "later")
	require.NoError(t, err)
	assert.Equal(t, "Saltern terminal, quay cabinet 3", st.Before)
	load(t, r, loaded, desk.Load{Mode: desk.Replace, Text: []byte(whole)}, quay)
	for _, n := range []int64{later, loaded} {
		w, err := r.Desk.Part(
			t.Context(), map[int64]access.Person{later: servicetest.Joss, loaded: servicetest.Mara}[n], n, quay,
		)
		require.NoError(t, err)
		assert.Contains(t, outlineOf(w.Former), "contact: \"Harbour office, ext. 12\"", "it starts from what is kept")
	}

	require.NoError(t, r.Engine.Say(t.Context(), first, guard.Event{Kind: guard.SayRevert, By: "mara"}))
	r.Until(first, guard.Done)
	v := verdict(t, r, servicetest.Joss, later, quay)
	assert.False(t, v.Behind)
	assert.Equal(t, 1, v.Difference.Count(), v.Difference.Text(0))
	_, err = r.Desk.Rebase(t.Context(), servicetest.Joss, earlier, nil)
	require.NoError(t, err, "there is nothing to put it on")
	assert.Equal(t, whole, outline(t, r, loaded, quay), "what a file replaces is as the file has it")
	r.Keep(servicetest.Joss, later)
	assert.Equal(t, "later", r.Value(quay, "/system/location"))
	assert.Equal(t, "Harbour office, ext. 12", r.Value(quay, "/system/contact"), "the trial left nothing")
}
