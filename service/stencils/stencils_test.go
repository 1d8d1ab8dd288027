package stencils_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/service/access"
	"oakenlatch/service/desk"
	"oakenlatch/service/stencils"
	"oakenlatch/service/store"
	"oakenlatch/test/servicetest"
)

const (
	router = "northmole-harbour"
	quay   = "saltern-quay"
)

func open(t *testing.T, r *servicetest.Room, p access.Person) int64 {
	t.Helper()
	c, err := r.Desk.Open(t.Context(), p, "a change", "")
	require.NoError(t, err)
	return c.Number
}

// preview gives the verdict on one part of a change.
func preview(t *testing.T, r *servicetest.Room, p access.Person, n int64, device string) desk.Verdict {
	t.Helper()
	list, _, err := r.Desk.Preview(t.Context(), p, n, desk.Options{Device: device})
	require.NoError(t, err)
	require.Len(t, list, 1)
	return list[0]
}

const clock = `system
  location: {place}
  ntp
    server [{@time}]
      udp
        address: {@time}
`

// A stencil is bound, follows its text and its shared values, and tells what
// was changed by hand since.
func TestStencil(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, quay, router)
	ctx := t.Context()
	shared := func(items ...string) stencils.Follow {
		_, f, err := r.Stencils.SaveShared(ctx, servicetest.Mara, "time", items, "")
		require.NoError(t, err)
		return f
	}
	_, f, err := r.Stencils.Save(ctx, servicetest.Mara, "clock", clock, "first", nil, 0)
	require.NoError(t, err)
	assert.Zero(t, f.Change, "nobody uses it yet")
	n := open(t, r, servicetest.Mara)
	_, err = r.Stencils.Bind(ctx, servicetest.Mara, n, "clock", []string{quay}, map[string]string{"place": "Hut"})
	require.ErrorContains(t, err, "there is no shared value time")
	shared("203.0.113.1", "203.0.113.2")
	_, err = r.Stencils.Bind(ctx, servicetest.Mara, n, "clock", []string{quay, router}, nil)
	require.ErrorContains(t, err, "left unfilled: place")
	_, err = r.Stencils.Bind(ctx, servicetest.Mara, n, "clock", []string{quay}, map[string]string{"place": "Hut"})
	require.NoError(t, err)
	r.Keep(servicetest.Mara, n)
	uses, err := r.Stencils.Uses(ctx, servicetest.Mara, "clock")
	require.NoError(t, err)
	require.Len(t, uses, 1)
	assert.Empty(t, uses[0].Strayed)

	// Somebody changes it by hand: told apart from what the stencil set.
	require.NoError(t, r.Devices[quay].Console("/system/location", "By hand"))
	_, err = r.History.Read(ctx, store.Everything, quay, "mara")
	require.NoError(t, err)
	uses, err = r.Stencils.Uses(ctx, servicetest.Mara, "clock")
	require.NoError(t, err)
	require.Len(t, uses[0].Strayed, 1)
	assert.Equal(t, "Hut", uses[0].Strayed[0].Set)
	assert.Equal(t, "By hand", uses[0].Strayed[0].Now)

	// A shared value opens a change for those that use it, and nothing for others.
	f = shared("203.0.113.2", "203.0.113.3")
	assert.Equal(t, []string{quay}, f.Devices)
	v := preview(t, r, servicetest.Mara, f.Change, quay)
	text := v.Difference.Text(0)
	assert.Contains(t, text, "server [203.0.113.3]")
	assert.Contains(t, text, "−     server [203.0.113.1]")
	assert.NotContains(t, text, "tide-clock", "what the stencil did not set stays")
	assert.Contains(t, strings.Join(f.Notes, ";"), "changed by hand since the stencil set it (Hut → By hand)")
	r.Keep(servicetest.Mara, f.Change)

	// A new version with a new blank needs its value; then it follows too.
	_, _, err = r.Stencils.Save(ctx, servicetest.Mara, "clock", clock+"  contact: {who}\n", "", nil, 0)
	require.ErrorContains(t, err, "saltern-quay: stencil clock: left unfilled: who")
	saved, f, err := r.Stencils.Save(
		ctx, servicetest.Mara, "clock", clock+"  contact: {who}\n", "", map[string]string{"who": "Wren"}, 0,
	)
	require.NoError(t, err)
	assert.Equal(t, int64(2), saved.Version)
	assert.Contains(t, preview(t, r, servicetest.Mara, f.Change, quay).Difference.Text(0), "→ Wren")
	_, _, err = r.Stencils.Save(ctx, servicetest.Mara, "clock", "system\n  {x}: y\n", "", nil, 0)
	require.ErrorContains(t, err, "a blank stands for a value or a key, not for a name")
	_, _, err = r.Stencils.Save(ctx, servicetest.Joss, "clock", clock, "made of the first", nil, 1)
	require.ErrorContains(t, err, "stencil clock is no longer version 1: mara saved version 2")
	r.Keep(servicetest.Mara, f.Change)

	// Taken off, what it set goes; what was set by hand since stays.
	off := open(t, r, servicetest.Mara)
	_, err = r.Stencils.Unbind(ctx, servicetest.Mara, off, "clock", []string{router})
	require.ErrorContains(t, err, "does not use stencil clock")
	require.NoError(t, r.Devices[quay].Console("/system/contact", "By hand too"))
	_, err = r.Stencils.Unbind(ctx, servicetest.Mara, off, "clock", []string{quay})
	require.NoError(t, err)
	text = preview(t, r, servicetest.Mara, off, quay).Difference.Text(0)
	assert.Contains(t, text, "− "+"    server [203.0.113.2]")
	assert.NotContains(t, text, "contact")
	r.Keep(servicetest.Mara, off)
	uses, err = r.Stencils.Uses(ctx, servicetest.Mara, "clock")
	require.NoError(t, err)
	assert.Empty(t, uses)
}

// Blanks are typed by the schema of the place they stand in.
func TestBlanks(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, quay)
	_, err := r.History.Read(t.Context(), store.Everything, quay, "mara")
	require.NoError(t, err)
	blanks, err := r.Desk.Blanks(
		t.Context(), servicetest.Mara,
		"interfaces\n  interface [{port}]\n    enabled: {on}\n    bridge-port\n      untagged: {vlan}\n", quay,
	)
	require.NoError(t, err)
	require.Len(t, blanks, 3)
	assert.Equal(t, "string (length 1..64)", blanks[0].Type)
	assert.Equal(t, []string{"true", "false"}, blanks[1].Values)
	assert.Equal(t, []string{"10", "20", "30"}, blanks[2].Values)
	hints, err := r.Desk.Next(
		t.Context(), servicetest.Mara, quay, "/interfaces/interface=mgmt0/ipv4/address=192.0.2.12/pre", 0,
	)
	require.NoError(t, err)
	require.Len(t, hints, 1)
	assert.Equal(t, "uint8 (0..32)", hints[0].Type)
	assert.Equal(t, "24", hints[0].Current)
}

// Two stencils on one device that hold the same shared value both follow it, in
// one change.
func TestTwoStencilsOneValue(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, quay)
	ctx := t.Context()
	shared := func(item string) stencils.Follow {
		_, f, err := r.Stencils.SaveShared(ctx, servicetest.Mara, "who", []string{item}, "")
		require.NoError(t, err)
		return f
	}
	shared("Nell")
	n := open(t, r, servicetest.Mara)
	for name, text := range map[string]string{
		"contact": "system\n  contact: {@who}\n", "place": "system\n  location: of {@who}\n",
	} {
		_, _, err := r.Stencils.Save(
			ctx, servicetest.Mara, name, strings.ReplaceAll(text, "of {@who}", "\"of {@who}\""), "", nil, 0,
		)
		require.NoError(t, err)
		_, err = r.Stencils.Bind(ctx, servicetest.Mara, n, name, []string{quay}, nil)
		require.NoError(t, err)
	}
	r.Keep(servicetest.Mara, n)
	f := shared("Otto")
	assert.Equal(t, []string{quay}, f.Devices)
	text := preview(t, r, servicetest.Mara, f.Change, quay).Difference.Text(0)
	assert.Contains(t, text, "contact: Nell → Otto")
	assert.Contains(t, text, `location: "of Nell" → "of Otto"`)
	r.Keep(servicetest.Mara, f.Change)
	uses, err := r.Stencils.Uses(ctx, servicetest.Mara, "")
	require.NoError(t, err)
	assert.Len(t, uses, 2)
	_, _, err = r.Stencils.SaveShared(ctx, servicetest.Mara, "who", []string{"Otto"}, "")
	require.ErrorContains(t, err, "is so already")
}
