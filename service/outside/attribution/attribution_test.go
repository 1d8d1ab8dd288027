package attribution

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"oakenlatch/netconf"
	"oakenlatch/service/fleet"
	"oakenlatch/service/store"
)

// Nobody is named whom the device did not name, and why it names nobody is told
// by what is known: each kind of evidence comes to its own words.
func TestOf(t *testing.T) {
	at := time.Date(2026, 11, 23, 2, 0, 0, 0, time.UTC)
	told := func(name, account, session string, more func(*fleet.Heard)) fleet.Heard {
		h := fleet.Heard{
			At: at, Heard: at,
			Event: netconf.Event{
				Name: name, Account: account, SessionID: session, Source: "198.51.100.7", Datastore: "running",
			},
		}
		if more != nil {
			more(&h)
		}
		return h
	}
	own := func(h *fleet.Heard) { h.Own = true }
	itself := func(h *fleet.Heard) { h.Event.ByServer, h.Event.Source = true, "" }
	startup := func(h *fleet.Heard) { h.Event.Datastore = "startup" }
	ends := func(what string) func(*fleet.Heard) { return func(h *fleet.Heard) { h.Event.What = what } }
	listening, late := at.Add(-time.Hour), at.Add(time.Minute)
	for name, c := range map[string]struct {
		told      []fleet.Heard
		tells     bool
		listening time.Time
		want      string
		account   string
	}{
		"named": {
			[]fleet.Heard{told("config-change", "ops", "7", nil)}, true, listening,
			"named by the device: ops from 198.51.100.7 in session 7", "ops",
		},
		"named twice": {
			[]fleet.Heard{told("config-change", "ops", "7", nil), told("config-change", "ops", "7", nil)}, true,
			listening, "named by the device: ops from 198.51.100.7 in session 7", "ops",
		},
		"named two": {
			[]fleet.Heard{told("config-change", "ops", "7", nil), told("config-change", "night", "8", nil)}, true,
			listening,
			"named by the device: ops from 198.51.100.7 in session 7; night from 198.51.100.7 in session 8; which of " +
				"them set which line, it does not tell",
			"ops, night",
		},
		"cut off": {
			[]fleet.Heard{told("config-change", "ops", "7", nil), told("session-end", "ops", "7", ends("dropped"))},
			true, listening,
			"named by the device: ops from 198.51.100.7 in session 7; session 7 was cut off afterwards (dropped)",
			"ops",
		},
		"closed": {
			[]fleet.Heard{told("config-change", "ops", "7", nil), told("session-end", "ops", "7", ends("closed"))},
			true, listening, "named by the device: ops from 198.51.100.7 in session 7", "ops",
		},
		"another's end": {
			[]fleet.Heard{told("config-change", "ops", "7", nil), told("session-end", "ops", "9", ends("dropped"))},
			true, listening, "named by the device: ops from 198.51.100.7 in session 7", "ops",
		},
		"itself": {
			[]fleet.Heard{told("config-change", "", "", itself)}, true, listening,
			"not named by the device: it says that it did it itself (a console without sign-in, a timer, a restart)",
			"",
		},
		"of nobody": {
			[]fleet.Heard{told("config-change", "", "", nil)}, true, listening,
			"not named by the device: it told of the change and of nobody; perhaps at a console line that " +
				"takes no sign-in",
			"",
		},
		"ours alone": {
			[]fleet.Heard{told("config-change", "us", "3", own)}, true, listening,
			"not named by the device: it told of our own sessions' changes alone, and this is none of them", "",
		},
		"only a visit": {
			[]fleet.Heard{told("session-start", "ops", "7", nil)}, true, listening,
			"not named by the device: it was listened to without a gap and told of no change: it was made where it " +
				"tells nothing, or what it noted was cleared",
			"",
		},
		"another store": {
			[]fleet.Heard{told("config-change", "ops", "7", startup)}, true, listening,
			"not named by the device: it was listened to without a gap and told of no change: it was made where it " +
				"tells nothing, or what it noted was cleared",
			"",
		},
		"not listened": {nil, true, time.Time{}, "not named by the device: it was not listened to at that time", ""},
		"listened late": {
			nil, true, late, "not named by the device: it was not listened to before 2026-11-23T02:01:00Z", "",
		},
		"does not tell": {nil, false, time.Time{}, "not named by the device: it does not tell of its events", ""},
		"named in a gap": {
			[]fleet.Heard{told("config-change", "ops", "7", nil)}, true, late,
			"named by the device: ops from 198.51.100.7 in session 7", "ops",
		},
	} {
		a := Of(
			Evidence{
				Since: at, Found: at.Add(time.Hour), Tells: c.tells, Listening: c.listening, Told: c.told,
				Datastore: netconf.Running, Clock: &store.Clock{Ahead: time.Minute},
			},
		)
		assert.Equal(t, c.want, a.Who, name)
		assert.Equal(t, c.account, a.Account, name)
		assert.True(t, a.ClockOff, name)
	}
	a := Of(
		Evidence{
			Datastore: netconf.Running,
			Told:      []fleet.Heard{told("config-change", "us", "3", own), told("session-start", "ops", "7", nil)},
		},
	)
	assert.Equal(
		t, []string{"signed in: ops from 198.51.100.7, session 7, 2026-11-23T02:00:00Z by its clock"}, a.Told,
		"of our own nothing is told",
	)
	assert.False(t, a.ClockOff, "not known is not wrong")
}
