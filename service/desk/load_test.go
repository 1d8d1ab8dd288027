package desk_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/lab"
	"oakenlatch/service/access"
	"oakenlatch/service/desk"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/test/pace"
	"oakenlatch/test/servicetest"
)

const (
	quay = "saltern-quay"
	slip = "saltern-slip"
	hall = "gannet-hall"
)

func load(t *testing.T, r *servicetest.Room, n int64, l desk.Load, devices ...string) []desk.Loaded {
	t.Helper()
	out, err := r.Desk.Load(t.Context(), servicetest.Mara, n, devices, l)
	require.NoError(t, err)
	return out
}

// verdict previews one part of a change.
func verdict(t *testing.T, r *servicetest.Room, p access.Person, n int64, device string) desk.Verdict {
	t.Helper()
	list, _, err := r.Desk.Preview(t.Context(), p, n, desk.Options{Device: device})
	require.NoError(t, err)
	require.Len(t, list, 1)
	return list[0]
}

// The same piece in each format, told by its content, in each mode; the effect
// is told.
func TestLoad(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, quay, slip)
	n := open(t, r, servicetest.Mara)
	for _, text := range []string{
		"vlans\n  vlan [40]\n    name: lamps\n",
		`{"oaken-lab-vlans:vlans": {"vlan": [{"id": 40, "name": "lamps"}]}}`,
		`<vlans xmlns="urn:oaken-latch:lab:vlans"><vlan><id>40</id><name>lamps</name></vlan></vlans>`,
	} {
		got := load(t, r, n, desk.Load{Mode: desk.Merge, Text: []byte(text), Name: "misnamed.xml"}, quay, slip)
		require.Len(t, got, 2)
		assert.Equal(t, 1, got[0].Difference.Count(), text)
		assert.Contains(t, got[1].Notes[0], "everything else stays; 1 added")
		again := load(t, r, n, desk.Load{Mode: desk.Merge, Text: []byte(text)}, quay)
		assert.Zero(t, again[0].Edit.ID, "nothing is staged twice")
		_, err := r.Desk.Drop(t.Context(), servicetest.Mara, n, desk.Which{})
		require.NoError(t, err)
	}
	at := load(
		t, r, n, desk.Load{Mode: desk.ReplaceAt, Path: "/vlans/vlan=30", Text: []byte("vlans\n  vlan [30]\n")}, quay,
	)
	assert.Contains(t, at[0].Difference.Text(0), "−     name: cameras\n")
	assert.Equal(t, 1, at[0].Difference.Count())
	whole := load(t, r, n, desk.Load{Mode: desk.Replace, Text: []byte("system\n  hostname: saltern-slip\n")}, slip)
	assert.Contains(t, whole[0].Notes[0], "what it does not hold goes")
	assert.Contains(t, whole[0].Notes[0], "removed")
	assert.Equal(t, "system\n  hostname: saltern-slip\n", outline(t, r, n, slip))
	patch := `{"ietf-yang-patch:yang-patch": {"patch-id": "p", "edit": [{"edit-id": "1", "operation": "replace", "target": "/ietf-system:system/contact", "value": {"ietf-system:contact": "Lamps"}}]}}`
	assert.Equal(t, 1, load(t, r, n, desk.Load{Mode: desk.Patch, Text: []byte(patch)}, quay)[0].Difference.Count())
}

func outline(t *testing.T, r *servicetest.Room, n int64, device string) string {
	t.Helper()
	w, err := r.Desk.Part(t.Context(), servicetest.Mara, n, device)
	require.NoError(t, err)
	return outlineOf(w.Mine)
}

// What is wrong with a load is told, for every device at once, and nothing of
// it is staged on any.
func TestLoadRefused(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, quay, router)
	n := open(t, r, servicetest.Mara)
	vlan := []byte("vlans\n  vlan [40]\n")
	for _, c := range []struct {
		l    desk.Load
		says string
	}{
		{desk.Load{Text: vlan}, "none of merge, replace, replace-at, patch"},
		{desk.Load{Mode: desk.ReplaceAt, Text: vlan}, "needs a path"},
		{desk.Load{Mode: desk.Merge, Path: "/vlans", Text: vlan}, "takes no path"},
		{desk.Load{Mode: desk.ReplaceAt, Path: "/vlans/vlan=50", Text: vlan}, "outside of"},
		{desk.Load{Mode: desk.ReplaceAt, Path: "/system", Text: []byte("")}, "holds nothing at /system; to delete"},
		{desk.Load{Mode: desk.Replace, Text: []byte("# nothing\n")}, "without any configuration"},
		{desk.Load{Mode: desk.Merge, Text: []byte("vlans\n  vlan [9999]\n")}, "line 2, column 9"},
		{desk.Load{Mode: desk.Patch, Text: vlan}, "is no YANG Patch"},
		{desk.Load{Mode: desk.Merge, FromDevice: "none", From: "running"}, `no device "none"`},
		{desk.Load{Mode: desk.Merge, FromDevice: quay, From: "rev:9"}, "no revision 9"},
		{
			desk.Load{Mode: desk.Merge, FromDevice: quay, From: "running", Path: "/vlans/vlan=99"},
			"nothing at /vlans/vlan=99",
		},
	} {
		_, err := r.Desk.Load(t.Context(), servicetest.Mara, n, []string{quay}, c.l)
		require.ErrorContains(t, err, c.says)
	}
	_, err := r.Desk.Load(
		t.Context(), servicetest.Mara, n, []string{quay, router}, desk.Load{Mode: desk.Merge, Text: vlan},
	)
	require.ErrorContains(t, err, "northmole-harbour: ")
	value := "a.example"
	_, err = r.Desk.Stage(
		t.Context(), servicetest.Mara, n, []string{quay, router, "none"},
		desk.Act{Op: "put", Path: "/vlans/vlan=40/name", Value: &value},
	)
	require.ErrorContains(t, err, "2 of 3 devices do not take it")
	edits, err := r.Store.Edits(t.Context(), n)
	require.NoError(t, err)
	assert.Empty(t, edits)
}

// A copy of what another device, an older revision or another change holds.
func TestCopy(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, quay, router)
	n := open(t, r, servicetest.Mara)
	_, err := r.Put(servicetest.Mara, n, quay, "/system/contact", "Copied")
	require.NoError(t, err)
	m := open(t, r, servicetest.Mara)
	got := load(
		t, r, m,
		desk.Load{Mode: desk.ReplaceAt, Path: "/system/contact", FromDevice: quay, From: fmt.Sprintf("change:%d", n)},
		router,
	)
	assert.Contains(t, got[0].Difference.Text(0), `→ Copied`)
	require.NoError(t, r.Devices[router].Console("/system/location", "moved"))
	_, err = r.History.Read(t.Context(), store.Everything, router, "mara")
	require.NoError(t, err)
	back := load(
		t, r, open(t, r, servicetest.Mara), desk.Load{Mode: desk.Replace, FromDevice: router, From: "rev:1"}, router,
	)
	assert.Contains(t, back[0].Difference.Text(0), "~   location: moved → ")
	_, err = r.Desk.Load(
		t.Context(), servicetest.Mara, m, []string{router},
		desk.Load{Mode: desk.Merge, FromDevice: quay, From: "running", Path: "/vlans"},
	)
	require.ErrorContains(t, err, "what saltern-quay@running holds does not fit here")
}

// One line, or one person's, is taken back; what goes as a whole says so.
func TestTakingBackLines(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, quay)
	n := open(t, r, servicetest.Mara)
	load(
		t, r, n,
		desk.Load{
			Mode: desk.Merge,
			Text: []byte(
				"vlans\n  vlan [40]\n    name: lamps\n  vlan [50]\n    name: signs\nsystem\n  contact: Lamps\n",
			),
		},
		quay,
	)
	drop := func(w desk.Which) error {
		_, err := r.Desk.Drop(t.Context(), servicetest.Mara, n, w)
		return err
	}
	require.NoError(t, drop(desk.Which{Device: quay, Path: "/vlans/vlan=40/name"}))
	require.NoError(t, drop(desk.Which{Device: quay, Path: "/system/contact"}))
	assert.Equal(t, "+ vlan [40]\n+ vlan [50]\n+   name: signs\n", added(verdict(t, r, servicetest.Mara, n, quay)))
	require.NoError(t, drop(desk.Which{Device: quay, Path: "/vlans"}))
	assert.Equal(t, refusal.NotFound, kind(drop(desk.Which{Device: quay, Path: "/vlans"})))
	load(t, r, n, desk.Load{Mode: desk.ReplaceAt, Path: "/vlans", Text: []byte("vlans\n  vlan [10]\n")}, quay)
	err := drop(desk.Which{Device: quay, Path: "/vlans/vlan=20/name"})
	require.ErrorContains(t, err, "takes all of /vlans/vlan=20 away")
	assert.Equal(t, refusal.Invalid, kind(drop(desk.Which{Path: "/vlans"})))
	value := "only.example"
	_, err = r.Stage(
		servicetest.Mara, n, quay,
		desk.Act{Op: "put", Path: "/system/dns-resolver/search", Value: &value, Mode: desk.Only},
	)
	require.NoError(t, err)
	require.ErrorContains(
		t, drop(desk.Which{Device: quay, Path: "/system/dns-resolver/search=tidewell.example"}),
		"stages that line together with others",
	)
	require.NoError(t, drop(desk.Which{Device: quay, Path: "/system/dns-resolver/search"}))
}

// added gives the added lines of a part, from the margin.
func added(v desk.Verdict) string {
	var b strings.Builder
	base := -1
	for _, l := range v.Difference.Lines(0) {
		if l.Mark == "+" {
			if base < 0 {
				base = l.Depth
			}
			b.WriteString("+ " + strings.Repeat("  ", max(0, l.Depth-base)) + l.Text + "\n")
		}
	}
	return b.String()
}

// Two saves of the same part at once: the second is refused and nothing lost.
func TestTwoSavesAtOnce(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, quay)
	n := open(t, r, servicetest.Mara)
	first, err := r.Put(servicetest.Mara, n, quay, "/system/contact", "one")
	require.NoError(t, err)
	seen := first.Tag
	text := func(s string) desk.Load {
		return desk.Load{
			Mode: desk.ReplaceAt, Path: "/system/location", Text: []byte("system\n  location: " + s + "\n"),
			IfTag: seen,
		}
	}
	load(t, r, n, text("here"), quay)
	_, err = r.Desk.Load(t.Context(), servicetest.Mara, n, []string{quay}, text("there"))
	assert.Equal(t, refusal.Moved, kind(err))
	require.ErrorContains(t, err, "the last edit is 2, load, by mara")
	value := "x"
	_, err = r.Stage(
		servicetest.Mara, n, quay, desk.Act{Op: "put", Path: "/system/contact", Value: &value, IfTag: seen},
	)
	assert.Equal(t, refusal.Moved, kind(err))
	assert.Contains(t, outline(t, r, n, quay), "location: here")
}

// A load of 200,000 lines is staged, previewed and dropped by line in good time
// and in full.
func TestVeryLargeLoad(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	r := servicetest.New(t, router)
	n := open(t, r, servicetest.Mara)
	var b strings.Builder
	b.WriteString("acls\n  acl [long]\n    aces\n")
	rules := 22_000
	if pace.Raced {
		rules = 500
	}
	for i := range rules {
		fmt.Fprintf(
			&b,
			"      ace [rule-%d]\n        matches\n          ipv4\n            source-ipv4-network: 10.%d.%d.0/24\n  "+
				"        tcp\n            destination-port\n              port: %d\n        actions\n          "+
				"forwarding: ietf-access-control-list:accept\n",
			i, i/200, i%200, 1024+i%60000,
		)
	}
	require.Greater(t, strings.Count(b.String(), "\n"), rules*9)
	got := load(t, r, n, desk.Load{Mode: desk.Merge, Text: []byte(b.String())}, router)
	assert.Equal(t, 1, got[0].Difference.Count(), "one filter more")
	v := verdict(t, r, servicetest.Mara, n, router)
	assert.Len(
		t,
		v.Difference.New.Known("acls").Known("acl").Known("aces").All(
			v.Difference.New.Known("acls").Known("acl").Known("aces").Known("ace").Schema(),
		),
		rules,
	)
	_, err := r.Desk.Drop(
		t.Context(), servicetest.Mara, n, desk.Which{Device: router, Path: "/acls/acl=long/aces/ace=rule-17"},
	)
	require.NoError(t, err)
	assert.False(t, strings.Contains(outline(t, r, n, router), "ace [rule-17]\n"))
	_, err = r.Desk.Load(
		t.Context(), servicetest.Mara, n, []string{router},
		desk.Load{Mode: desk.Merge, Text: []byte(b.String()[:len(b.String())-30])},
	)
	require.ErrorContains(t, err, fmt.Sprintf("line %d", 3+9*rules), "cut off in the middle, it says where")
}

// An entry whose order matters is put in another place.
func TestMove(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, hall)
	n := open(t, r, servicetest.Mara)
	path := "/acls/acl=management-in/aces/ace="
	act := func(what, where string) (desk.Staged, error) {
		return r.Stage(servicetest.Mara, n, hall, desk.Act{Op: "move", Path: path + what, Value: &where})
	}
	for _, c := range []struct{ what, where, order string }{
		{"ping", "first", "ping, operations-room, nothing-else"},
		{"ping", "after nothing-else", "operations-room, nothing-else, ping"},
		{"nothing-else", "before operations-room", "nothing-else, operations-room, ping"},
		{"nothing-else", "last", "operations-room, ping, nothing-else"},
	} {
		st, err := act(c.what, c.where)
		require.NoError(t, err)
		assert.Contains(t, strings.Join(st.Notes, ";"), "the order is now: "+c.order)
	}
	for _, c := range []struct{ what, where, says string }{
		{"none", "first", "is not there"}, {"ping", "second", "is no place"}, {"ping", "before none", "bad-attribute"},
		{"ping", "before ping", "cannot stand before itself"}, {"ping", "first x", "goes without a key"},
	} {
		_, err := act(c.what, c.where)
		if c.says == "bad-attribute" {
			require.Error(t, err)
			continue
		}
		require.ErrorContains(t, err, c.says)
	}
	odd := "two words, and a/slash"
	_, err := r.Stage(
		servicetest.Mara, n, hall,
		desk.Act{
			Op: "put", Path: "/acls/acl=management-in/aces/ace=two%20words%2C%20and%20a%2Fslash/actions/forwarding",
			Value: &[]string{"drop"}[0],
		},
	)
	require.NoError(t, err)
	st, err := act("ping", "before two%20words%2C%20and%20a%2Fslash")
	require.NoError(t, err)
	assert.Contains(t, st.Notes[0], "ping, "+odd)
	assert.Contains(
		t, verdict(t, r, servicetest.Mara, n, hall).Difference.Text(0), odd,
		"and it is carried out again as it was kept",
	)
	first := "first"
	_, err = r.Stage(
		servicetest.Mara, n, hall, desk.Act{Op: "move", Path: "/interfaces/interface=mgmt0", Value: &first},
	)
	require.ErrorContains(t, err, "means nothing")
}

// A device that handed out other modules since: what no longer fits is told,
// edit by edit, and nothing is lost.
func TestSchemaReplaced(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, quay)
	n := open(t, r, servicetest.Mara)
	load(t, r, n, desk.Load{Mode: desk.Merge, Text: []byte("vlans\n  vlan [40]\n")}, quay)
	_, err := r.Put(servicetest.Mara, n, quay, "/system/location", "still fits")
	require.NoError(t, err)
	old := r.Devices[quay]
	old.Stop()
	spec := old.Spec
	spec.Management = lab.Management{}
	spec.Listen, spec.Modules, spec.Factory = old.Address, nil, []byte(
		`<config xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><contact>new software</contact><location>Saltern terminal, quay cabinet 3</location></system></config>`,
	)
	fresh, err := lab.Start(spec)
	require.NoError(t, err)
	t.Cleanup(fresh.Stop)
	require.NoError(t, r.Trust(quay))
	v := verdict(t, r, servicetest.Mara, n, quay)
	require.Len(t, v.Unfit, 1)
	assert.Contains(t, v.Blocker(), "can no longer be carried out")
	assert.Contains(t, v.Difference.Text(0), "still fits")
	edits, err := r.Store.Edits(t.Context(), n)
	require.NoError(t, err)
	assert.Len(t, edits, 2)
	_, err = r.Put(servicetest.Mara, n, quay, "/system/contact", "x")
	require.ErrorContains(t, err, "edit 1 of change 1 no longer fits")
	_, err = r.Desk.Drop(t.Context(), servicetest.Mara, n, desk.Which{ID: 1})
	require.NoError(t, err)
	assert.Empty(t, verdict(t, r, servicetest.Mara, n, quay).Unfit)
}

// One server is wanted, and one it is: the others go, and it keeps what it has.
func TestOnly(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, hall)
	n := open(t, r, servicetest.Mara)
	st, err := r.Stage(
		servicetest.Mara, n, hall, desk.Act{Op: "put", Path: "/system/dns-resolver/server=pier-two", Mode: desk.Only},
	)
	require.NoError(t, err)
	assert.Contains(t, strings.Join(st.Notes, ";"), "the only one, 1 other goes: pier-one")
	assert.Contains(
		t, outline(t, r, n, hall), "    server [pier-two]\n      udp-and-tcp\n        address: 203.0.113.54\n",
	)
	assert.NotContains(t, outline(t, r, n, hall), "pier-one")
	value := "x"
	for _, a := range []desk.Act{
		{Op: "put", Path: "/system/contact", Value: &value, Mode: desk.Only},
		{Op: "delete", Path: "/system/contact", Mode: desk.Only},
		{Op: "put", Path: "/system/contact", Value: &value, Mode: "some"},
	} {
		_, err := r.Stage(servicetest.Mara, n, hall, a)
		assert.Equal(t, refusal.Invalid, kind(err))
	}
}
