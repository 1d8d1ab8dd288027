package documents_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/service/access"
	"oakenlatch/service/desk"
	"oakenlatch/service/documents"
	"oakenlatch/service/report"
	"oakenlatch/service/store"
	"oakenlatch/test/servicetest"
	"oakenlatch/wire"
)

const (
	router = "northmole-harbour"
	quay   = "saltern-quay"

	contact = "/system/contact"
	secret  = "/keystore/symmetric-keys/symmetric-key=night/cleartext-symmetric-key"
)

var (
	viewer   = access.Person{Name: "vera", Grants: servicetest.Viewer}
	revealer = access.Person{Name: "abel", Grants: servicetest.Admin}
	// northmole may read what is at one site only.
	northmole = access.Person{Name: "nora", Grants: access.Grants{
		{Role: access.Read, By: "site", Is: "Northmole"}, {Role: access.Stage, By: "site", Is: "Northmole"},
	}}
)

// staged opens a change with values put alternately on both devices.
func staged(t *testing.T, r *servicetest.Room, edits int) int64 {
	t.Helper()
	c, err := r.Desk.Open(t.Context(), servicetest.Mara, "a change", "TF-1")
	require.NoError(t, err)
	for i := range edits {
		device := []string{router, quay}[i%2]
		_, err := r.Put(servicetest.Mara, c.Number, device, contact, fmt.Sprintf("value %d of %d", i, c.Number))
		require.NoError(t, err)
	}
	return c.Number
}

// A page takes as many queries for many as for one.
func TestHandfulOfQueries(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, router, quay)
	ctx := t.Context()
	var numbers []int64
	for range 3 {
		n := staged(t, r, 4)
		r.Keep(servicetest.Mara, n)
		_, err := r.Desk.Note(ctx, servicetest.Mara, n, "done")
		require.NoError(t, err)
		numbers = append(numbers, n)
	}
	for range 5 {
		numbers = append(numbers, staged(t, r, 2))
	}
	edits, err := r.Store.Edits(ctx, numbers[0])
	require.NoError(t, err)
	require.Len(t, edits, 4)
	dev, err := r.Store.Device(ctx, store.Everything, quay)
	require.NoError(t, err)
	revisions, err := r.Store.Revisions(ctx, dev.ID)
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(revisions), 4)
	snapshots, err := r.Store.Snapshots(ctx, 0)
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(snapshots), 3, "each commit takes one")
	reports := &report.Reports{Store: r.Store, Log: r.Log, Fleet: r.Fleet, History: r.History, Desk: r.Desk}
	commits, _, err := reports.Commits(
		ctx, store.Everything, report.Filter{CommitQuery: store.CommitQuery{Limit: 10}},
	)
	require.NoError(t, err)
	require.Len(t, commits, 3)

	for name, c := range map[string]struct {
		all, most int
		make      func(p *documents.Page, n int) (int, error)
	}{
		"changes": {len(numbers), 10, func(p *documents.Page, n int) (int, error) {
			list, err := p.Changes(ctx, servicetest.Mara, numbers[:n])
			return len(list), err
		}},
		"edits on a device": {2, 2, func(p *documents.Page, n int) (int, error) {
			list, err := p.Edits([]store.Edit{edits[1], edits[3]}[:n])
			return len(list), err
		}},
		"revisions": {len(revisions), 1, func(p *documents.Page, n int) (int, error) {
			list, err := p.Revisions(revisions[:n])
			return len(list), err
		}},
		"snapshots of one site's": {len(snapshots), 1, func(_ *documents.Page, n int) (int, error) {
			list, err := r.Documents.Page(ctx, northmole).Snapshots(snapshots[:n])
			return len(list), err
		}},
		"commits": {len(commits), 1, func(p *documents.Page, n int) (int, error) {
			list, err := p.CommitRecords(commits[:n])
			return len(list), err
		}},
		"staged": {2, 1, func(p *documents.Page, n int) (int, error) {
			return len(p.Staged([]desk.Staged{
				{Device: quay, Edit: edits[1]}, {Device: quay, Edit: edits[3]},
			}[:n])), nil
		}},
	} {
		asked := func(n int) int64 {
			before := r.Store.Asked()
			made, err := c.make(r.Documents.Page(ctx, servicetest.Mara), n)
			require.NoError(t, err, name)
			require.Equal(t, n, made, name)
			return r.Store.Asked() - before
		}
		one := asked(1)
		assert.Equal(t, one, asked(c.all), "%s: %d take more queries than one", name, c.all)
		assert.LessOrEqual(t, one, int64(c.most), name)
		assert.Positive(t, one, name)
	}
	before := r.Store.Asked()
	moments, err := r.Documents.Page(ctx, servicetest.Mara).Timeline(dev)
	require.NoError(t, err)
	assert.LessOrEqual(t, r.Store.Asked()-before, int64(5), "a timeline of %d", len(moments))
	var kinds []string
	for i, m := range moments {
		kinds = append(kinds, string(m.Kind))
		assert.True(t, i == 0 || !m.At.After(moments[i-1].At), "newest first")
	}
	assert.Equal(t, []string{"saved", "change", "saved", "change", "saved", "change", "first"}, kinds)
}

// A secret is told to who may see it, by its name to others, and not at all of a device that is not to be found.
func TestAsEachMaySee(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, router, quay)
	ctx := t.Context()
	e := store.Edit{ID: 1, Op: "put", Path: secret, Value: "Y2FuYXJ5"}
	plain := store.Edit{ID: 2, Op: "put", Path: contact, Value: "pier office"}
	never := r.Documents.Page(ctx, viewer).Edit(quay, plain)
	assert.NotContains(t, never.Value, "pier", "whose modules are not known may have a secret anywhere")
	r.Place(router, "Northmole", "router")
	r.Place(quay, "Saltern", "switch")
	n := staged(t, r, 2) // both are read for it
	told := func(p access.Person, device string, e store.Edit) wire.Edit {
		return r.Documents.Page(ctx, p).Edit(device, e)
	}
	assert.Equal(t, "Y2FuYXJ5", told(revealer, quay, e).Value)
	for _, p := range []access.Person{viewer, servicetest.Mara} {
		assert.Regexp(t, `^hidden:`, told(p, quay, e).Value)
		assert.Equal(t, "pier office", told(p, quay, plain).Value, "what is no secret is told")
	}
	assert.Equal(t, told(viewer, quay, e).Value, told(viewer, quay, e).Value, "the same secret has the same name")
	for _, p := range []access.Person{viewer, revealer} {
		assert.NotContains(t, told(p, "gone", plain).Value, "pier", "of a device that is gone all is hidden")
	}

	r.Keep(servicetest.Mara, n)
	list, err := r.Store.Snapshots(ctx, 0)
	require.NoError(t, err)
	require.NotEmpty(t, list)
	of := func(p access.Person) string {
		doc, err := r.Documents.Page(ctx, p).Snapshot(list[0])
		require.NoError(t, err)
		return doc.Name
	}
	assert.Contains(t, of(viewer), "a change")
	assert.Equal(t, fmt.Sprintf("Before change %d", n), of(northmole), "it is of another site, too")
	edits, err := r.Store.Edits(ctx, n)
	require.NoError(t, err)
	_, err = r.Documents.Page(ctx, northmole).Edits(edits)
	assert.True(t, store.OutOfReach(err), "%v", err)
}

// A preview says what a commit will do, and when it has nothing to do.
func TestPreviewDocument(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, router, quay)
	ctx := t.Context()
	preview := func(n int64, as string) wire.Preview {
		t.Helper()
		verdicts, seen, err := r.Desk.Preview(ctx, servicetest.Mara, n, desk.Options{})
		require.NoError(t, err)
		out, err := r.Documents.Page(ctx, servicetest.Mara).Preview(n, verdicts, seen, documents.Look{As: as})
		require.NoError(t, err)
		return out
	}
	n := staged(t, r, 2)
	p := preview(n, "unified")
	assert.True(t, p.Ready)
	assert.False(t, p.Empty)
	assert.Equal(t, "running", p.Against)
	require.Len(t, p.Parts, 2)
	assert.Contains(t, p.Steps[0], "northmole-harbour, saltern-quay, read running afresh, write 2 edits")
	assert.Positive(t, p.EstimateSeconds)
	assert.Regexp(t, `(?m)^\+ +contact: "value 0 of \d+"$`, p.Parts[0].Rendered)
	for as, want := range map[string]string{
		"edit-config": "<contact", "yang-patch": "<yang-patch", "yang-patch-json": `"ietf-yang-patch:yang-patch"`,
		"outline": `contact: "value 0`, "xml": "<contact>value 0", "json": `"contact": "value 0`,
	} {
		assert.Contains(t, preview(n, as).Parts[0].Rendered, want, as)
	}
	r.Keep(servicetest.Mara, n)
	change, err := r.Store.Change(ctx, n)
	require.NoError(t, err)
	done, err := r.Documents.Page(ctx, servicetest.Mara).Done(change, documents.Look{})
	require.NoError(t, err)
	assert.Equal(t, "record", done.Against)
	require.Len(t, done.Parts, 2)
	assert.Equal(t, p.Parts[1].Items, done.Parts[1].Items, "what was previewed is what the record has")
	assert.Len(t, done.Parts[0].Edits, 1)

	same, err := r.Desk.Open(ctx, servicetest.Mara, "the same again", "")
	require.NoError(t, err)
	_, err = r.Put(servicetest.Mara, same.Number, quay, contact, r.Value(quay, contact))
	require.NoError(t, err)
	p = preview(same.Number, "")
	assert.True(t, p.Empty)
	assert.False(t, p.Ready)
	assert.Empty(t, p.Steps)
	_, err = r.Reservations.Reserve(ctx, servicetest.Joss, router, "works on the pier", time.Hour)
	require.NoError(t, err)
	p = preview(staged(t, r, 1), "")
	assert.False(t, p.Ready)
	assert.Contains(t, p.Parts[0].Blocker, "is reserved by joss")
	assert.Equal(t, "works on the pier", p.Parts[0].Reserved.Reason)
}
