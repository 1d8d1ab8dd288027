package fleet

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
	"oakenlatch/service/store"
)

func trusted(t *testing.T, f *Fleet, name, address string) {
	t.Helper()
	require.NoError(t, f.Add(t.Context(), "mara", NewDevice{Name: name, Address: address, Account: "u", Password: "p"}))
	key, err := f.ScanHostKey(t.Context(), store.Everything, name)
	require.NoError(t, err)
	_, err = f.Trust(t.Context(), store.Everything, "mara", name, key.Fingerprint)
	require.NoError(t, err)
}

// Reading goes through the session that stands, and through a new one where
// that is broken or too slow; a refusal is an answer and is not asked twice.
func TestWatched(t *testing.T) {
	f, _ := newFleet(t)
	trusted(t, f, "d", serve(t, &talker{modules: modules}, "urn:top?module=top"))
	require.NoError(t, f.Watch(t.Context()))
	t.Cleanup(f.Stop)
	require.Eventually(t, func() bool { return f.Standing() == 1 }, 90*time.Second, 10*time.Millisecond)
	opened := f.Traffic.Sessions.Load()
	read := func(ask func(context.Context, *Session) error) error {
		return f.Reading(t.Context(), store.Everything, "d", ask)
	}
	id := ""
	require.NoError(t, read(func(ctx context.Context, s *Session) error {
		id = s.SessionID
		_, err := s.Read(ctx, netconf.Running)
		return err
	}))
	assert.True(t, f.Stands("d", id))
	asked := 0
	require.Error(
		t, read(func(ctx context.Context, s *Session) error { asked++; return s.DiscardChanges(ctx) }), "refused",
	)
	assert.Equal(t, 1, asked)
	assert.Equal(t, opened, f.Traffic.Sessions.Load(), "no new session was needed")
	asked = 0
	require.NoError(t, read(func(_ context.Context, s *Session) error {
		if asked++; asked == 1 {
			s.Abort() // it breaks just now
			return &netconf.NoReplyError{Op: "get-config", Err: netconf.ErrClosed}
		}
		return nil
	}))
	assert.Equal(t, 2, asked, "once more, in a new session")

	// A device trusted later is watched from then on.
	trusted(t, f, "late", serve(t, &talker{modules: modules}, "urn:top?module=top"))
	require.Eventually(
		t, func() bool { return f.standing(t.Context(), store.Everything, "late") != nil }, 90*time.Second,
		10*time.Millisecond,
	)
	f.Stop()
	assert.Zero(t, f.Standing())
}

// Devices that announce the very same, down to each revision, share what one of
// them handed out; those that do not say their revisions are asked.
func TestModulesAreShared(t *testing.T) {
	f, _ := newFleet(t)
	for _, c := range []struct {
		site, caps string
		each       bool // is asked for its own
	}{{"north", "urn:top?module=top&revision=2026-01-01", false}, {"south", "urn:top?module=top", true}} {
		first, second := &talker{modules: modules}, &talker{modules: modules}
		for name, d := range map[string]*talker{c.site + "-a": first, c.site + "-b": second} {
			trusted(t, f, name, serve(t, d, c.caps))
			s, err := f.Dial(t.Context(), store.Everything, name)
			require.NoError(t, err)
			assert.NotNil(t, s.Schema)
			s.Abort()
		}
		assert.Equal(t, c.each, len(first.asked) > 0 && len(second.asked) > 0, c.caps)
	}
	assert.True(
		t, tellsAll([]string{"urn:ietf:params:netconf:capability:yang-library:1.1?revision=2019-01-04&content-id=7"}),
	)
	assert.False(
		t,
		tellsAll(
			[]string{"urn:ietf:params:netconf:capability:yang-library:1.1", "urn:top?module=top&revision=2026-01-01"},
		),
	)
}

// The same bytes are read once, as long as there is room for them.
func TestRecent(t *testing.T) {
	r := newRecent()
	s := &schema.Schema{}
	reads := 0
	read := func(size int) func() (*tree.Node, int, error) {
		return func() (*tree.Node, int, error) { reads++; return tree.Empty, size, nil }
	}
	for _, c := range []struct {
		source string
		size   int
		reads  int
	}{
		{"a", 10, 1}, {"a", 10, 1}, {"b", 10, 2}, {"a", 10, 2}, {"huge", recentBytes, 3}, {"huge", recentBytes, 4},
		{"c", recentBytes / 4, 5}, {"d", recentBytes / 4, 6}, {"e", recentBytes / 4, 7}, {"f", recentBytes / 4, 8},
		{"f", 1, 8}, {"b", 10, 9},
	} {
		_, err := r.Tree(s, c.source, read(c.size))
		require.NoError(t, err)
		assert.Equal(t, c.reads, reads, c.source)
	}
	assert.LessOrEqual(t, r.held, recentBytes)
	boom := errors.New("boom")
	_, err := r.Tree(s, "x", func() (*tree.Node, int, error) { return nil, 0, boom })
	require.ErrorIs(t, err, boom)
	_, err = r.Tree(&schema.Schema{}, "f", read(1))
	require.NoError(t, err)
	assert.Equal(t, 10, reads, "another schema reads otherwise")
}

const visitors = `<netconf-state xmlns="` + netconf.MonitoringNS +
	`"><sessions><session><session-id>7</session-id><username>joss</username><source-host>198.51.100.7</source-host>
	<login-time>2026-11-23T02:00:00Z</login-time></session><session><session-id>8</session-id></session></sessions>
	<datastores><datastore><name>running</name><locks><global-lock><locked-by-session>7</locked-by-session><locked-time>2026-11-23T02:05:00Z</locked-time></global-lock></locks></datastore></datastores></netconf-state>`

// Who stands in the way is named as far as the device tells, and no further.
func TestDenied(t *testing.T) {
	denied := func(id string) error {
		return netconf.RPCErrors{{Type: "protocol", Tag: "lock-denied", Info: "<session-id>" + id + "</session-id>"}}
	}
	for _, c := range []struct {
		get, id string
		store   netconf.Datastore
		want    string
	}{
		{
			visitors, "7", netconf.Running,
			"running is locked by session 7 of account joss from 198.51.100.7, there since 2026-11-23T02:00:00Z, " +
				"holding the lock on running since 2026-11-23T02:05:00Z",
		},
		{visitors, "8", netconf.Candidate, "a confirmed commit is pending, by session 8"},
		{
			visitors, "9", netconf.Candidate,
			"candidate is locked, or a confirmed commit is pending, by session 9, which is there no more",
		},
		{visitors, "0", netconf.Candidate, "the device does not say by whom, there are: session 7 of account joss"},
		{"", "7", netconf.Running, "by session 7, which is there no more or of which the device tells no more"},
		{"", "", netconf.Running, "by someone the device does not name"},
	} {
		f, _ := newFleet(t)
		trusted(t, f, "d", serve(t, &talker{modules: modules, get: c.get}, "urn:top?module=top"))
		s, err := f.Dial(t.Context(), store.Everything, "d")
		require.NoError(t, err)
		assert.Contains(t, s.Denied(t.Context(), c.store, denied(c.id)), c.want)
		_, err = s.Clock(t.Context())
		require.ErrorIs(t, err, ErrNotTold)
		if c.get == "" {
			_, err = s.Visitors(t.Context())
			require.ErrorIs(t, err, ErrNotTold)
		}
		s.Abort()
	}
}
