package desk_test

import (
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/advice"
	"oakenlatch/service/access"
	"oakenlatch/service/desk"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/test/servicetest"
)

const (
	router = "northmole-harbour"
	mtu    = "/interfaces/interface=port1/ipv4/mtu"
)

func kind(err error) refusal.Kind {
	if no, ok := err.(*refusal.Error); ok { //nolint:errorlint // the rooms give it bare
		return no.Kind
	}
	return ""
}

// next gives what an action that a refusal advises is done to.
func next(err error, a advice.Action) map[string]string {
	if no, ok := err.(*refusal.Error); ok { //nolint:errorlint // the rooms give it bare
		for _, s := range no.Steps {
			if s.Action == a {
				return s.Args
			}
		}
	}
	return nil
}

func open(t *testing.T, r *servicetest.Room, p access.Person) int64 {
	t.Helper()
	c, err := r.Desk.Open(t.Context(), p, "a change", "TF-1")
	require.NoError(t, err)
	return c.Number
}

// A value put where there is one already: beside it or instead of it is the person's to say, and how is advised.
func TestBesideOrInstead(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, router)
	n := open(t, r, servicetest.Mara)
	_, err := r.Put(servicetest.Mara, n, router, "/system/dns-resolver/search", "b.example")
	require.ErrorContains(t, err, "search keeps several values and holds tidewell.example already")
	want := map[string]string{
		"change": strconv.FormatInt(n, 10), "device": router, "path": "/system/dns-resolver/search",
		"value": "b.example",
	}
	assert.Equal(t, want, next(err, advice.StageAlso))
	assert.Equal(t, want, next(err, advice.StageOnly))
}

// What staging tells: before, after, and what a person might not expect.
func TestStaging(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, router)
	n := open(t, r, servicetest.Mara)
	for _, c := range []struct{ op, path, value, before, after, note string }{
		{"put", mtu, "9000", "1500", "9000", ""},
		{"put", mtu, "0x2328", "9000", "9000", "this changes nothing"}, // 9000, written otherwise
		{
			"put", "/system/dns-resolver/search", "b.example", "", "b.example",
			"keeps several values; this adds one, they are now: tidewell.example, b.example",
		},
		{"put", "/interfaces/interface=port9/type", "ethernetCsmacd", "", "iana-if-type:ethernetCsmacd", ""},
		{"put", "/interfaces/interface=port9/ipv4", "", "", "ipv4", ""},
		{
			"delete", "/interfaces/interface=port9", "",
			"interface [port9]\n  type: iana-if-type:ethernetCsmacd\n  ipv4", "", "",
		},
		{"put", "/system/clock/timezone-utc-offset", "60", "", "60", ""},
		{"delete", "/system/ntp/server", "", "server [tide-clock]\n  udp\n    address: 203.0.113.123", "", ""},
	} {
		value := &c.value
		if c.value == "" {
			value = nil
		}
		mode := ""
		if strings.HasSuffix(c.path, "/search") {
			mode = desk.Add
		}
		st, err := r.Stage(servicetest.Mara, n, router, desk.Act{Op: c.op, Path: c.path, Value: value, Mode: mode})
		require.NoError(t, err, c.path)
		assert.Equal(t, c.before, st.Before, c.path)
		assert.Equal(t, c.after, st.After, c.path)
		assert.Contains(t, strings.Join(st.Notes, "; "), c.note, c.path)
	}
	verdicts, _, err := r.Desk.Preview(t.Context(), servicetest.Mara, n, desk.Options{})
	require.NoError(t, err)
	require.Len(t, verdicts, 1)
	text := verdicts[0].Difference.Text(0)
	assert.NotContains(t, text, "port9", "put and deleted is nothing")
	assert.Contains(t, text, "−     timezone-name: Europe/Lisbon\n", "the other case of a choice goes")
	assert.Equal(t, "1500", r.Value(router, mtu))
}

func TestStagingRefused(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, router)
	n := open(t, r, servicetest.Mara)
	value := "9000"
	for _, c := range []struct {
		p                access.Person
		n                int64
		device, op, path string
		value            *string
		kind             refusal.Kind
		says             string
	}{
		{servicetest.Joss, n, router, "put", mtu, &value, refusal.Forbidden, "private"},
		{servicetest.Mara, 77, router, "put", mtu, &value, refusal.NotFound, "no change 77"},
		{servicetest.Mara, n, "none", "put", mtu, &value, refusal.NotFound, `no device "none"`},
		{servicetest.Mara, n, router, "patch", mtu, &value, refusal.Invalid, "none of put, delete, move"},
		{servicetest.Mara, n, router, "put", mtu, nil, refusal.Invalid, "needs a value"},
		{
			servicetest.Mara, n, router, "put", "/interfaces/interface", nil, refusal.Invalid,
			"name the entry by its key: interface=NAME",
		},
		{servicetest.Mara, n, router, "put", "/system/dns-resolver/search", nil, refusal.Invalid, "needs a value"},
		{
			servicetest.Mara, n, router, "put", "/system/dns-resolver/search=a.example", &value, refusal.Invalid,
			"takes no value",
		},
		{
			servicetest.Mara, n, router, "delete", "/interfaces/interface=port1/name", nil, refusal.Invalid,
			"key of its entry",
		},
		{servicetest.Mara, n, router, "delete", "/system/ntp/server=none", nil, refusal.Invalid, "not there"},
	} {
		_, err := r.Desk.Stage(
			t.Context(), c.p, c.n, []string{c.device}, desk.Act{Op: c.op, Path: c.path, Value: c.value},
		)
		require.ErrorContains(t, err, c.says)
		assert.Equal(t, c.kind, kind(err), c.says)
	}
	edits, err := r.Store.Edits(t.Context(), n)
	require.NoError(t, err)
	assert.Empty(t, edits, "nothing is half done")
	for _, bad := range []string{"", "   ", strings.Repeat("x", 201)} {
		_, err := r.Desk.Open(t.Context(), servicetest.Mara, bad, "")
		assert.Equal(t, refusal.Invalid, kind(err))
	}
}

func TestTakingBack(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, router)
	n := open(t, r, servicetest.Mara)
	first, err := r.Put(servicetest.Mara, n, router, mtu, "9000")
	require.NoError(t, err)
	second, err := r.Put(servicetest.Mara, n, router, "/system/contact", "x")
	require.NoError(t, err)
	drop := func(p access.Person, id int64) error {
		_, err := r.Desk.Drop(t.Context(), p, n, desk.Which{ID: id})
		return err
	}
	assert.Equal(t, refusal.Forbidden, kind(drop(servicetest.Joss, first.Edit.ID)))
	assert.Equal(t, refusal.NotFound, kind(drop(servicetest.Mara, 99)))
	require.NoError(t, drop(servicetest.Mara, first.Edit.ID))
	parts, err := r.Desk.Parts(t.Context(), store.Everything, n)
	require.NoError(t, err)
	require.Len(t, parts, 1)
	assert.Equal(t, second.Edit.ID, parts[0].Edits[0].ID)
	require.NoError(t, r.Desk.Abandon(t.Context(), servicetest.Mara, n))
	assert.Equal(t, refusal.Conflict, kind(r.Desk.Abandon(t.Context(), servicetest.Mara, n)))
	_, err = r.Put(servicetest.Mara, n, router, mtu, "9000")
	assert.Equal(t, refusal.Conflict, kind(err), "what is dropped stays dropped")
}

// An edit that others build on is not taken from under them.
func TestEditThatOthersBuildOn(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, router)
	n := open(t, r, servicetest.Mara)
	made, err := r.Put(servicetest.Mara, n, router, "/interfaces/interface=port9/type", "ethernetCsmacd")
	require.NoError(t, err)
	_, err = r.Stage(servicetest.Mara, n, router, desk.Act{Op: "delete", Path: "/interfaces/interface=port9/type"})
	require.NoError(t, err)
	_, err = r.Desk.Drop(t.Context(), servicetest.Mara, n, desk.Which{ID: made.Edit.ID})
	assert.Equal(t, refusal.Conflict, kind(err))
	assert.ErrorContains(t, err, "edit 2, by mara, builds on what would go")
	assert.Equal(t, map[string]string{"change": "1", "edit": "2"}, next(err, advice.TakeBack))
	_, err = r.Desk.Drop(t.Context(), servicetest.Mara, n, desk.Which{})
	require.NoError(t, err, "all at once is no trouble")
}

// A preview of a device that does not answer uses what was last known, and
// says so.
func TestPreviewWithoutTheDevice(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, router)
	n := open(t, r, servicetest.Mara)
	_, err := r.Put(servicetest.Mara, n, router, mtu, "9000")
	require.NoError(t, err)
	r.Devices[router].Stop()
	verdicts, _, err := r.Desk.Preview(t.Context(), servicetest.Mara, n, desk.Options{})
	require.NoError(t, err)
	assert.False(t, verdicts[0].Read)
	assert.Contains(t, verdicts[0].Trouble, "cannot be reached")
	assert.Equal(t, 1, verdicts[0].Difference.Count())
}

// A value set to its default is shown, and told to mean nothing new.
func TestOnlyDefaults(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, router)
	n := open(t, r, servicetest.Mara)
	_, err := r.Put(servicetest.Mara, n, router, "/interfaces/interface=port1/enabled", "true")
	require.NoError(t, err)
	verdicts, _, err := r.Desk.Preview(t.Context(), servicetest.Mara, n, desk.Options{})
	require.NoError(t, err)
	assert.True(t, verdicts[0].Idle)
	assert.Equal(t, 1, verdicts[0].Difference.Count())
	assert.Contains(t, verdicts[0].Check.Findings[0].Message, "the default already")
	_, err = r.Put(servicetest.Mara, n, router, mtu, "9000")
	require.NoError(t, err)
	verdicts, _, err = r.Desk.Preview(t.Context(), servicetest.Mara, n, desk.Options{})
	require.NoError(t, err)
	assert.False(t, verdicts[0].Idle)
}

// Many saves at once: each is there once, none is lost.
func TestConcurrentStaging(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, router)
	n := open(t, r, servicetest.Mara)
	var wg sync.WaitGroup
	for i := range 12 {
		wg.Go(func() {
			value := string(rune('a'+i)) + ".example"
			_, err := r.Stage(
				servicetest.Mara, n, router,
				desk.Act{Op: "put", Path: "/system/dns-resolver/search", Value: &value, Mode: desk.Add},
			)
			assert.NoError(t, err)
		})
	}
	wg.Wait()
	parts, err := r.Desk.Parts(t.Context(), store.Everything, n)
	require.NoError(t, err)
	assert.Len(t, parts[0].Edits, 12)
	list := r.Found(0, "change:%v", n)
	assert.Len(t, list, 13)
	v, err := r.Log.Verify(t.Context(), nil)
	require.NoError(t, err)
	assert.Empty(t, v.Findings)
}

// A preview tells what the change makes wrong, with the edit that mends it,
// and what was staged for nothing; not what was so before.
func TestPreviewFindings(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, router)
	n := open(t, r, servicetest.Mara)
	stage := func(op, path, value string) {
		t.Helper()
		v := &value
		if value == "" {
			v = nil
		}
		_, err := r.Stage(servicetest.Mara, n, router, desk.Act{Op: op, Path: path, Value: v})
		require.NoError(t, err, path)
	}
	stage("delete", "/interfaces/interface=port3/type", "")
	stage("put", "/interfaces/interface=port3/ipv4/address=10.64.0.1/prefix-length", "30")
	stage("put", mtu, "1500")
	parts, _, err := r.Desk.Preview(t.Context(), servicetest.Mara, n, desk.Options{})
	require.NoError(t, err)
	require.Len(t, parts, 1)
	var told []string
	for _, f := range parts[0].Check.Findings {
		line := string(f.Severity) + " " + f.Path + ": " + f.Message
		if f.Fix != nil {
			line += " [" + strings.TrimSpace(f.Fix.Edit+" "+f.Fix.Path+" "+f.Fix.Value) + "]"
		}
		told = append(told, line)
	}
	assert.Equal(t, []string{
		"error /interfaces/interface=port3/type: is mandatory and not set [put /interfaces/interface=port3/type " +
			"iana-if-type:ethernetCsmacd]",
		"warning /interfaces/interface=port3/ipv4/address=10.64.0.1: the address 10.64.0.1 is on port1 already " +
			"[delete /interfaces/interface=port3/ipv4/address=10.64.0.1]",
		"hint /ietf-interfaces:interfaces/interface=port1/ietf-ip:ipv4/mtu: edit 3 sets what it was already; it can " +
			"be removed",
	}, told)
	assert.Zero(t, parts[0].Check.Unchecked, "the router's conditions are all decided here")
}
