package cli

import (
	"bytes"
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/check"
	"oakenlatch/core/clip"
	"oakenlatch/core/diff"
	"oakenlatch/core/guard"
	"oakenlatch/core/ledger"
	"oakenlatch/core/lifecycle"
	"oakenlatch/wire"
)

var at = time.Date(2026, 11, 23, 2, 0, 0, 0, time.UTC)

// everything is a preview with every verdict there is.
var everything = wire.Preview{
	Against: "running",
	Change:  wire.Change{Number: 7, Title: "Bigger frames", Author: "mara", State: "draft", Ticket: "TF-2"},
	Parts: []wire.PartPreview{{
		Device: "northmole", Base: 3, Count: 1, Guard: wire.Guard{
			Guard: "none", GuardWhy: "the device has no candidate datastore", Untried: "it takes effect at once",
		}, Trouble: "northmole (a:1): no answer",
		Lines: []diff.Line{
			{Mark: " ", Text: "interfaces"}, {Mark: "~", Depth: 1, Text: "mtu: 1500 → 9000"},
		}, Unsaved: true, Unchecked: 2,
		Edits:  []wire.Edit{{ID: 4, Op: "put", Path: "/x/mtu", Value: "9000", Actor: "mara", At: at}},
		Behind: true, Moved: []diff.Line{{Mark: "+", Text: "contact: x"}},
		Conflicts: []wire.Conflict{
			{Path: "/x/mtu", Base: "1500", Mine: "9000", Theirs: "1400", Why: "changed here and on the device"},
		},
		Findings: []check.Finding{{Severity: check.Error, Path: "/x", Message: "is mandatory and not set"}},
		Since: []wire.Revision{
			{Number: 4, At: at, Source: lifecycle.ByChange, Change: 6, Author: "joss"},
			{Number: 5, At: at, Source: lifecycle.ByOutside},
		},
		Decided: []wire.Conflict{
			{Path: "/x/name", Base: "a", Mine: "b", Theirs: "c", Keep: "theirs", Actor: "joss", At: at},
		},
		Forecasts: []wire.Forecast{
			{
				Device: "northmole", Answer: "cuts", Path: "/interfaces/interface=m/enabled",
				Because: "interface m is shut down",
			},
			{
				Device: "gannet", Answer: "unknown", Path: "/odd",
				Because: "it touches /odd, which this forecast does not understand",
			},
		},
		MovesTo: "192.0.2.22:830", Tried: true, Said: "frames too large", Helpless: true, HeldBy: 9,
		Reserved: &wire.Reservation{
			Holder: "joss", Until: at, Reason: "new fibre",
		}, Blocker: "northmole cannot be changed",
	}},
	Level: "not-ready", Verdict: "Not ready: 1 change on northmole. 2 things stop a commit.",
	Trouble: []wire.Trouble{
		{Stops: true, Device: "northmole", Path: "/x", Text: "is mandatory and not set"},
		{Stops: true, Text: "1 approval is missing"}, {Device: "northmole", Text: "reverting it is not tested"},
	},
	Digest: "abc123", At: at, Steps: []string{"prepare: lock northmole"}, EstimateSeconds: 3,
}

func TestPreviewTellsEverything(t *testing.T) {
	t.Setenv("TZ", "UTC")
	status, out, _ := run(t, answer(200, everything), nil, "preview", "7")
	assert.Equal(t, AnswerNo, status)
	assert.Equal(t, `Change 7  Bigger frames  draft, by mara, TF-2
Not ready: 1 change on northmole. 2 things stop a commit.

  stops   northmole /x: is mandatory and not set
  stops   1 approval is missing
  careful northmole: reverting it is not tested
      was     1500
      mine    9000
      theirs  1400
    choose one: latch decide 7 northmole /x/mtu mine|theirs

northmole  against what was last known (revision 3)
    interfaces
  ~   mtu: 1500 → 9000

  ~ changed; unmarked: unchanged, … more of the same

northmole, details
  edit 4: put /x/mtu 9000 (mara, `+when(at)+`)
  not reached: northmole (a:1): no answer
  behind: the device moved on since revision 3, where this started (latch rebase 7 northmole):
  + contact: x
    revision 4, `+when(at)+`: change 6 of joss
    revision 5, `+when(at)+`: changed outside of this service; by whom is not known
  decided by joss, `+when(at)+`: /x/name
      was     a
      mine    b
    * theirs  c
  lockout forecast: cuts: interface m is shut down (/interfaces/interface=m/enabled)
  way to gannet: unknown: it touches /odd, which this forecast does not understand
  new management address 192.0.2.22:830: the hold's proof of management access goes there
  the device itself says no: frames too large
  reserved by joss until `+when(at)+`: new fibre
  busy: the commit of change 9 is under way on it
  note: running here is not saved to startup; see it with: latch device save northmole
  guard: none: the device has no candidate datastore
  revert not tested: it takes effect at once
  warning: it would be cut off, and nobody could revert it; a commit must say so: --cut-off northmole

A commit would, in about 3s until it is on hold:
  1. prepare: lock northmole
Preview abc123, `+when(at)+`: what is committed is this, or it is refused.

Not ready: 1 change on northmole. 2 things stop a commit.
  northmole cannot be changed
`, out)
	status, out, _ = run(t, answer(200, everything), nil, "preview", "7", "--json")
	assert.Equal(t, AnswerNo, status)
	var back wire.Preview
	require.NoError(t, json.Unmarshal([]byte(out), &back))
	assert.Equal(t, everything, back)
}

func TestPreviewEndings(t *testing.T) {
	part := []wire.PartPreview{{Device: "d", Read: true, Guard: wire.Guard{Guard: "device"}}}
	for want, p := range map[string]wire.Preview{
		"Ready: 1 change on d.\nNext: latch commit 7": {
			Against: "running", Ready: true, Parts: part, Level: "ready", Verdict: "Ready: 1 change on d.",
		},
		"holds it already": {Against: "running", Empty: true, Parts: part, Verdict: "d holds it already."},
		"The change is empty": {
			Against: "running", Empty: true, Verdict: "The change is empty: nothing is staged.",
		},
		"what it did, from the record": {Against: "record", Parts: part},
		"nothing was sent to it yet":   {Against: "record", Parts: part},
	} {
		p.Change = wire.Change{Number: 7}
		status, out, _ := run(t, answer(200, p), nil, "preview", "7")
		assert.Contains(t, out, want)
		assert.Equal(t, p.Against == "running" && !p.Ready, status == AnswerNo, want)
	}
}

// A commit that is followed prints each step once, and ends with what is next.
func TestFollowing(t *testing.T) {
	phases := []guard.Phase{guard.Preparing, guard.Preparing, guard.Applying, guard.Probing, guard.Awaiting}
	asked := 0
	h := func(w http.ResponseWriter, r *http.Request) {
		c := wire.Change{
			Number: 7, State: "applying",
			Commit: &wire.Commit{
				Phase: phases[min(asked, len(phases)-1)], Deadline: at, SecondsLeft: 90,
				Devices: []guard.Device{{Name: "d"}},
			},
		}
		if c.Commit.Phase == guard.Probing {
			c.Commit.Devices[0].Said = "slow today"
		}
		if c.Commit.Phase == guard.Awaiting {
			c.State = "holding"
		}
		if r.Method == http.MethodGet {
			asked++
		}
		_ = json.NewEncoder(w).Encode(c)
	}
	status, out, _ := run(t, h, nil, "commit", "7", "--hold", "90s")
	assert.Zero(t, status)
	lines := strings.Split(strings.TrimSpace(out), "\n")
	require.Len(t, lines, 7, out)
	assert.Equal(t, "preparing: locking, writing and validating the candidate", lines[0])
	assert.Equal(
		t, "active; opening a new session to each device, running the probes; d: slow today", lines[2],
	)
	assert.Contains(t, lines[5], "(in 1m 30s)")
	assert.Equal(
		t, "Confirm: latch confirm 7    More time: latch extend 7 20m    Revert now: latch revert 7", lines[6],
	)
}

func TestWhatIsSaidOfDevices(t *testing.T) {
	for want, d := range map[string]guard.Device{
		"confirmed and saved to startup":                 {Settled: true, Saved: true},
		"confirmed; not saved to startup yet":            {},
		"confirmed, but NOT saved to startup: disk full": {Settled: true, Said: "disk full"},
		"confirmed; it has no startup to save to":        {Settled: true},
	} {
		assert.Equal(t, want, savedText(d))
	}
	assert.Equal(
		t, "reverting, unreachable: no answer",
		standingText(guard.Device{Standing: guard.IsReverting, Unreachable: true, Said: "no answer"}),
	)
	for want, d := range map[string]wire.Device{
		"host key not accepted": {Trouble: "x"}, "held by change 4": {Trusted: true, HeldBy: 4, Trouble: "x"},
		"trouble": {Trusted: true, Trouble: "x"}, "running not saved": {Trusted: true, Unsaved: true, Seen: at},
		"never reached": {Trusted: true}, "OK": {Trusted: true, Seen: at},
	} {
		assert.Equal(t, want, standing(d))
	}
}

func TestAuditText(t *testing.T) {
	page := wire.Audit{Next: 3, Entries: []ledger.Entry{
		{
			Seq: 5, At: at, Actor: "mara", Action: "config.changed", Device: "d", Change: 7, Path: "/a", Before: "1",
			After: "2",
		},
		{Seq: 4, At: at, Actor: "service", Action: "device.seen", Device: "d", Note: "holds the change"},
		{Seq: 3, At: at, Actor: "mara", Action: "config.added", Path: "/b", After: "x\ny"},
	}}
	_, out, _ := run(t, answer(200, page), nil, "audit")
	for _, want := range []string{"/a 1 → 2", "change 7 d", "holds the change", "/b + x y", "latch audit --before 3"} {
		assert.Contains(t, out, want)
	}
	status, out, _ := run(
		t,
		answer(
			200,
			wire.Verified{
				Answer: wire.Altered, Entries: 9, Wrong: 3, Findings: []ledger.Finding{{Seq: 7, Msg: "was altered"}},
				ClockBack: []int64{4}, Held: 5, HeldAt: at, Key: "K",
			},
		),
		nil, "audit", "verify",
	)
	assert.Equal(t, AnswerNo, status)
	for _, want := range []string{
		"The record was altered, first at entry 7; 3 findings", "entry 7: was altered", "and 2 more",
		"signed at entry 5", "with key K", "set back before entry 4",
	} {
		assert.Contains(t, out, want)
	}
	for _, c := range []struct {
		v      wire.Verified
		status int
		want   []string
	}{
		{
			wire.Verified{
				Answer: wire.Vouched, Entries: 9, Last: 9, Vouched: 7, VouchedAt: at,
				VouchedBy: []string{"tidewell/saltern"}, Witnesses: []wire.Witness{{Name: "w", Trouble: "no route"}},
			},
			Done,
			[]string{
				"what was seen from outside, up to entry 7 of 9", "seen by tidewell/saltern, ",
				"behind it 2 entries are consistent", "witness w did not sign it as it is now: no route",
			},
		},
		{
			wire.Verified{Answer: wire.Consistent, Entries: 9, Last: 9}, Unvouched,
			[]string{"consistent in itself: 9 entries. Nobody outside vouches for it.", "latch witness"},
		},
	} {
		status, out, _ := run(t, answer(200, c.v), nil, "audit", "verify")
		assert.Equal(t, c.status, status)
		for _, want := range c.want {
			assert.Contains(t, out, want)
		}
	}
}

// On a terminal marks are coloured; elsewhere, and with NO_COLOR, they are not.
func TestColour(t *testing.T) {
	var out bytes.Buffer
	env := map[string]string{}
	a := &app{out: &screen{&out}, tty: true, getenv: func(k string) string { return env[k] }}
	a.difference([]diff.Line{{Mark: "+", Text: "x"}})
	assert.Equal(t, "  \x1b[38;5;33m+ x\x1b[0m\n", out.String())
	env["NO_COLOR"] = "1"
	out.Reset()
	a.difference([]diff.Line{{Mark: "+", Text: "x"}})
	assert.Equal(t, "  + x\n", out.String())
	assert.Equal(t, "long te…", clip.Line("long\n text that goes on", 8))
	assert.Equal(t, "1 edit, 2 edits", count(1, "edit", "edits")+", "+count(2, "edit", "edits"))
}
