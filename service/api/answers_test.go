package api

import (
	"bytes"
	"crypto/ed25519"
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/guard"
	"oakenlatch/core/ledger"
	"oakenlatch/core/lifecycle"
	"oakenlatch/lab"
	"oakenlatch/netconf"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/folder"
	"oakenlatch/service/order"
	"oakenlatch/service/store"
	"oakenlatch/test/servicetest"
	"oakenlatch/wire"
)

// What follows asks for what no other test of this package asks for, so that every operation is answered once as it is
// described (TestMain).

// A device from being added to being replaced.
func TestAnswersOfDevices(t *testing.T) {
	t.Parallel()
	d := newCounter(t, "northmole-harbour")
	const router = "northmole-harbour"
	box := d.Devices[router]
	var dev wire.Device
	d.ok("abel", "POST", "/devices", wire.NewDevice{
		Name: "twin", Address: box.Address, Account: lab.User, Password: lab.Password, Site: "Saltern",
	}, &dev)
	assert.Equal(t, []any{"twin", false}, []any{dev.Name, dev.Trusted})
	var key wire.HostKey
	d.ok("abel", "GET", "/devices/twin/host-key", nil, &key)
	assert.Empty(t, key.Accepted)
	d.ok("abel", "POST", "/devices/twin/trust", wire.Trust{Fingerprint: key.Fingerprint}, &key)
	d.ok("abel", "GET", "/devices/twin/config", nil, nil)
	var modules wire.Modules
	d.ok("vera", "GET", "/devices/twin/modules", nil, &modules)
	assert.NotEmpty(t, modules)
	var read wire.TextRead
	text := wire.NewText{Text: "system\n  contact: Mara\nvlans\n", As: "json"}
	status, problem, _ := d.do("abel", "POST", "/devices/twin/text", text, nil)
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, problem.Detail, "vlans", "there are none on a router")
	text.Text = "system\n  contact: Mara\n"
	d.ok("abel", "POST", "/devices/twin/text", text, &read)
	assert.Equal(t, []any{codec.FormatOutline, 1}, []any{read.Format, read.Values})
	assert.JSONEq(t, `{"ietf-system:system":{"contact":"Mara"}}`, read.Text)
	text.As = "pdf"
	status, _, _ = d.do("abel", "POST", "/devices/twin/text", text, nil)
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	d.ok("abel", "POST", "/devices/twin/replace", wire.NewDevice{
		Address: box.Address, Account: lab.User, Password: lab.Password,
	}, &dev)
	assert.False(t, dev.Trusted, "it is another box")

	stranger, err := netconf.Dial(t.Context(), box.Address, netconf.DialOptions{Client: servicetest.Login(box)})
	require.NoError(t, err)
	require.NoError(t, stranger.EditConfig(t.Context(), netconf.EditConfig{
		Target: netconf.Candidate,
		Config: []byte(`<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><location>theirs</location></system>`),
	}))
	d.ok("abel", "DELETE", "/devices/"+router+"/candidate", nil, nil)
	d.ok("abel", "DELETE", fmt.Sprintf("/devices/%s/sessions/%s", router, stranger.SessionID), nil, nil)
	require.Eventually(t, func() bool { return stranger.Err() != nil }, 10*time.Second, 10*time.Millisecond)
	booted := box.Booted()
	d.ok("abel", "POST", "/devices/"+router+"/restart", nil, nil)
	require.Eventually(t, func() bool { return box.Booted().After(booted) }, 20*time.Second, 10*time.Millisecond)
	page := d.page("vera", "/openapi.json").Body.String()
	assert.Contains(t, page, `"openapi":"3.1.0"`)
}

// What is done to a change between its first edit and its commit, and what is made of it afterwards.
func TestAnswersOfChanges(t *testing.T) {
	t.Parallel()
	d := newCounter(t, "saltern-quay")
	const quay, contact = "saltern-quay", "/system/contact"
	put := func(change, value string) {
		t.Helper()
		d.ok(
			"nell", "POST", "/changes/"+change+"/edits",
			wire.NewEdit{Devices: []string{quay}, Op: "put", Path: contact, Value: &value}, nil,
		)
	}
	var c wire.Change
	d.ok("nell", "POST", "/changes", wire.NewChange{Title: "Lamps"}, &c)
	put("1", "mine")
	d.ok("nell", "PATCH", "/changes/1", wire.NewChange{Title: "More lamps", Ticket: "TF-9"}, &c)
	assert.Equal(t, "More lamps", c.Title)
	require.NoError(t, d.Devices[quay].Console(contact, "theirs"))
	var conflict wire.Conflict
	d.ok("nell", "POST", "/changes/1/decide", wire.Decide{Device: quay, Path: contact, Keep: "mine"}, &conflict)
	assert.Equal(t, []string{"mine", "nell"}, []string{conflict.Keep, conflict.Actor})
	var rebased []wire.Rebased
	d.ok("nell", "POST", "/changes/1/rebase", wire.Rebase{}, &rebased)
	require.Len(t, rebased, 1)
	assert.Greater(t, rebased[0].To, rebased[0].From)
	d.ok("nell", "POST", "/changes/1/readdress", wire.Readdress{Device: quay, Address: "192.0.2.99:830"}, nil)
	d.ok("nell", "POST", "/changes/1/readdress", wire.Readdress{Device: quay, Address: ""}, nil)

	var due wire.Scheduled
	d.ok("nell", "POST", "/changes/1/schedule", wire.NewSchedule{
		At: time.Now().Add(time.Hour), Commit: &wire.NewCommit{HoldSeconds: 60},
	}, &due)
	assert.Equal(t, lifecycle.Waiting, due.State)
	d.ok("nell", "DELETE", fmt.Sprintf("/schedule/%d", due.ID), nil, nil)
	d.ok("nell", "POST", "/changes/1/commit", wire.NewCommit{HoldSeconds: 60, AheadSeconds: 600}, &c)
	d.Until(1, guard.AllReady)
	d.ok("nell", "POST", "/changes/1/begin", nil, &c)
	d.Until(1, guard.Awaiting)
	d.ok("nell", "POST", "/changes/1/confirm", nil, &c)
	assert.Equal(t, lifecycle.Confirmed, c.State)

	d.ok("nell", "POST", "/changes", wire.NewChange{Title: "Not meant"}, nil)
	put("2", "wrong")
	var edits []wire.Edit
	d.ok("nell", "GET", "/changes/2/edits", nil, &edits)
	require.Len(t, edits, 1)
	d.ok("nell", "DELETE", fmt.Sprintf("/changes/2/edits/%d", edits[0].ID), nil, nil)
	var brought wire.BroughtBack
	d.ok("nell", "POST", "/restore", wire.NewRestore{From: "rev:1", Devices: []string{quay}}, &brought)
	assert.Equal(t, 1, brought.Parts[0].Count)
	d.ok("nell", "POST", "/undo", wire.NewUndo{Change: 1}, &brought)
	assert.NotZero(t, brought.Change)

	// A bundle there and back.
	bundle := d.page("nell", "/export").Body.Bytes()
	req := httptest.NewRequest("POST", prefix+"/import/bundle", bytes.NewReader(bundle))
	req.Header.Set("Content-Type", "application/x-tar")
	req.Header.Set("Authorization", "Bearer "+d.tokens["nell"])
	rec := httptest.NewRecorder()
	d.h.ServeHTTP(rec, req)
	judge(t, "POST", "/import/bundle", rec)
	require.Equal(t, http.StatusCreated, rec.Code, rec.Body)
	name := "that night"
	var revisions []wire.Revision
	d.ok("vera", "GET", "/devices/"+quay+"/revisions", nil, &revisions)
	assert.Equal(t, lifecycle.ByChange, revisions[0].Source)
	d.ok("nell", "POST", "/snapshots", wire.NewSnapshot{Name: "tonight", All: true}, nil)
	var snapshot wire.Snapshot
	d.ok("nell", "PATCH", "/snapshots/tonight", wire.Relabel{Name: &name}, &snapshot)
	assert.Equal(t, name, snapshot.Name)
}

// A device that does not revert is left as it is by a word.
func TestAnswersOfWhatIsStuck(t *testing.T) {
	t.Parallel()
	const quay, contact = "saltern-quay", "/system/contact"
	d := counterOf(t, servicetest.NewWith(t, func(s *lab.Spec) { s.Kind = lab.NoConfirm }, quay))
	d.ok("nell", "POST", "/changes", wire.NewChange{Title: "Lamps"}, nil)
	value := "new"
	d.ok(
		"nell", "POST", "/changes/1/edits",
		wire.NewEdit{Devices: []string{quay}, Op: "put", Path: contact, Value: &value}, nil,
	)
	d.ok("nell", "POST", "/changes/1/commit", wire.NewCommit{HoldSeconds: 60}, nil)
	d.Until(1, guard.Awaiting)
	require.NoError(t, d.Devices[quay].Console(contact, "stranger"))
	var c wire.Change
	require.Eventually(t, func() bool {
		d.ok("nell", "GET", "/changes/1", nil, &c)
		return c.Commit.Phase == guard.Reverting && c.Commit.Devices[0].Odd
	}, 60*time.Second, 50*time.Millisecond)
	d.ok("nell", "POST", "/changes/1/accept-device", wire.Accept{Device: quay}, nil)
	d.Until(1, guard.Done)
	assert.Equal(t, "stranger", d.Value(quay, contact))

	require.NoError(t, d.Notes.Add(folder.Hold{Change: 77, Title: "lost", By: "nell", Began: time.Now()}))
	_, err := d.Notes.Unknown(func(folder.Hold) (over, lost bool) { return false, true })
	require.NoError(t, err)
	d.ok("abel", "DELETE", "/lost-holds/77", nil, nil)
}

// What was under way when the backup was taken that the records come from is settled by what its devices hold.
func TestAnswersOfWhatIsUnsettled(t *testing.T) {
	t.Parallel()
	const quay, contact = "saltern-quay", "/system/contact"
	r := servicetest.NewWith(t, func(s *lab.Spec) { s.Kind = lab.NoConfirm }, quay)
	c, err := r.Desk.Open(t.Context(), servicetest.Mara, "Lamps", "")
	require.NoError(t, err)
	_, err = r.Put(servicetest.Mara, c.Number, quay, contact, "new")
	require.NoError(t, err)
	require.NoError(t, r.Begin("mara", c.Number, order.Order{Hold: 10 * time.Minute}, r.Ready("mara", c.Number)))
	r.Until(c.Number, guard.Awaiting)
	r.Close()
	r.Opened = func(s *store.Store) {
		require.NoError(t, s.Settle(t.Context(), time.Now(), func(tx *store.Tx, e ledger.Entry) error {
			e.At, e.Actor = time.Now().UTC(), audit.Service
			_, err := tx.AppendLedger(e)
			return err
		}))
	}
	r.Open()
	d := counterOf(t, r)
	var list []wire.Unsettled
	d.ok("abel", "GET", "/changes/1/unsettled", nil, &list)
	require.Len(t, list, 1)
	assert.Equal(t, "change", list[0].Holds)
	var ch wire.Change
	d.ok("abel", "POST", "/changes/1/settle", wire.Settle{}, &ch)
	assert.NotEqual(t, lifecycle.Unsettled, ch.State)
}

// The record is proved, and its keys are told.
func TestAnswersOfTheRecord(t *testing.T) {
	t.Parallel()
	d := newCounter(t)
	require.NoError(t, d.Log.UseKey(t.Context(), ed25519.NewKeyFromSeed(make([]byte, ed25519.SeedSize))))
	var point wire.Checkpoint
	d.ok("vera", "POST", "/audit/checkpoint", nil, &point)
	assert.Positive(t, point.Entries)
	d.ok("nell", "POST", "/changes", wire.NewChange{Title: "Lamps"}, nil)
	var verified wire.Verified
	d.ok("vera", "POST", "/audit/verify", wire.Against{Checkpoint: point.Checkpoint}, &verified)
	assert.Equal(t, "vouched", verified.Answer)
	var proof wire.Proof
	d.ok("vera", "POST", "/audit/entries/1/proof", nil, &proof)
	assert.Greater(t, proof.Entries, point.Entries)
	d.ok("vera", "POST", "/audit/extends", wire.Against{Checkpoint: point.Checkpoint}, &proof)
	assert.NotEmpty(t, proof.Proof)
	var ledgers bytes.Buffer
	hook := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = ledgers.ReadFrom(r.Body)
	}))
	defer hook.Close()
	d.ok("abel", "POST", "/receivers", wire.NewReceiver{
		Name: "hook", Kind: "webhook", Place: hook.URL, Secret: "a long enough secret",
	}, nil)
	d.ok("abel", "POST", "/receivers/hook/try", nil, nil)
	assert.NotZero(t, ledgers.Len())
}

// Copies are read back, put in a damaged one's place, and made into devices again.
func TestAnswersOfArchives(t *testing.T) {
	t.Parallel()
	d := newCounter(t, "saltern-quay")
	work := func(who, path string, in any) {
		t.Helper()
		var j wire.Job
		d.ok(who, "POST", path, in, &j)
		d.ok(who, "GET", fmt.Sprintf("/jobs/%d?wait=20", j.ID), nil, &j)
		require.Equal(t, wire.JobDone, j.State, j.Trouble)
	}
	d.ok("abel", "POST", "/archives", wire.NewArchive{Name: "office", Kind: "folder", Place: t.TempDir()}, nil)
	d.ok("nell", "GET", "/devices/saltern-quay/config", nil, nil)
	work("nell", "/copies", wire.NewCopy{Archive: "office"})
	work("abel", "/archives/office/verify", nil)
	work("abel", "/archives/office/rebuild", nil)
	var copies []wire.Copy
	d.ok("abel", "GET", "/copies", nil, &copies)
	require.NotEmpty(t, copies)
	var text wire.CopyText
	d.ok("abel", "GET", fmt.Sprintf("/copies/%d", copies[0].ID), nil, &text)
	assert.Contains(t, text.Text, "saltern-quay")
	d.ok("abel", "POST", fmt.Sprintf("/copies/%d/mend", copies[0].ID), nil, nil)
}

// Under a rule about administration what an administrator does waits for another; and a second factor is set up,
// shown, and taken away.
func TestAnswersOfAccounts(t *testing.T) {
	t.Parallel()
	d := newCounter(t, "saltern-quay")
	require.NoError(t, d.Accounts.Add(t.Context(), "x", "anna", "anna's password", servicetest.Admin))
	var err error
	d.tokens["anna"], _, _, err = d.Accounts.Login(t.Context(), "anna", "anna's password", "test", access.Site{})
	require.NoError(t, err)
	d.ok("abel", "POST", "/rules", wire.NewRule{Scope: access.Administration, Needed: 1}, nil)
	waits := func(method, path string, in any) {
		t.Helper()
		status, p, _ := d.do("abel", method, path, in, nil)
		require.Equal(t, http.StatusAccepted, status, "%s %s: %s", method, path, p.Detail)
	}
	may := []string{"read"}
	waits("POST", "/accounts", wire.NewAccount{Name: "zoe", Password: "a long enough password", May: may})
	waits("PATCH", "/accounts/otto", wire.AccountSettings{May: &may})
	site := "Northmole"
	waits("PATCH", "/devices/saltern-quay", wire.Settings{Site: &site})
	waits("DELETE", "/rules/1", nil)
	var list []wire.Proposal
	d.ok("anna", "GET", "/proposals", nil, &list)
	require.Len(t, list, 4)
	var agreed wire.Agreed
	d.ok("anna", "POST", fmt.Sprintf("/proposals/%d/agreement", list[0].Number), nil, &agreed)
	assert.True(t, agreed.Done)
	d.ok("abel", "DELETE", fmt.Sprintf("/proposals/%d", list[1].Number), nil, nil)

	var begun wire.FactorBegun
	d.ok(
		"nell", "POST", "/me/factors", wire.NewFactor{Kind: "code", Name: "phone", Password: "nell's password"}, &begun,
	)
	code := func(ahead time.Duration) string {
		c, err := totp.GenerateCode(begun.Secret, time.Now().Add(ahead))
		require.NoError(t, err)
		return c
	}
	var added wire.FactorAdded
	d.ok(
		"nell", "POST", "/me/factors/added", wire.Shown{Ticket: begun.Ticket, Code: code(-30 * time.Second)}, &added,
	)
	require.Len(t, added.Codes, 10)
	_, p, _ := d.do("", "POST", "/login", wire.Login{Account: "nell", Password: "nell's password"}, nil)
	require.NotNil(t, p.Second)
	var session wire.Session
	d.ok("", "POST", "/login/second", wire.Shown{Ticket: p.Second.Ticket, Code: code(0)}, &session)
	d.tokens["nell"] = session.Token
	d.ok("nell", "POST", "/me/proof", wire.Shown{Code: added.Codes[0]}, nil)
	d.ok("nell", "POST", "/me/recovery-codes", nil, nil)
	d.ok("nell", "DELETE", "/me/factors/"+added.Factor.ID, nil, nil)
}
