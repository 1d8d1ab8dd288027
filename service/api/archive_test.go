package api

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/wire"
)

// An archive from being added to being retired: what is told of it, and of what lies in it, is counted, and who
// retires it is told how it was.
func TestArchivesByAPI(t *testing.T) {
	t.Parallel()
	d := newCounter(t, "saltern-quay")
	place := t.TempDir()
	var at wire.Archive
	d.ok("abel", "POST", "/archives", wire.NewArchive{Name: "office", Kind: "folder", Place: place}, &at)
	assert.Equal(t, []any{"office", place, true, 0}, []any{at.Name, at.Place, at.Trusted, at.Copies})
	d.ok("nell", "GET", "/devices/saltern-quay/config", nil, nil) // it is read, and has a revision
	var standing []wire.Standing
	d.ok("nell", "GET", "/standing", nil, &standing)
	require.Len(t, standing, 1)
	assert.Contains(t, standing[0].Behind, "copy", "its first revision lies nowhere else yet")

	var j wire.Job
	d.ok("nell", "POST", "/copies", wire.NewCopy{Archive: "office"}, &j)
	d.ok("nell", "GET", fmt.Sprintf("/jobs/%d?wait=20", j.ID), nil, &j)
	require.Equal(t, wire.JobDone, j.State, j.Trouble)
	var list []wire.Archive
	d.ok("nell", "GET", "/archives", nil, &list)
	require.Len(t, list, 1)
	assert.Positive(t, list[0].Copies)
	assert.Zero(t, list[0].Damaged)
	d.ok("nell", "GET", "/standing", nil, &standing)
	assert.NotContains(t, standing[0].Behind, "copy")
	assert.Equal(t, "office", standing[0].Archive)

	last := 5
	d.ok("abel", "PATCH", "/archives/office", wire.ArchiveSettings{KeepLast: &last}, &at)
	assert.Equal(t, 5, at.KeepLast)
	gone := true
	d.ok("abel", "PATCH", "/archives/office", wire.ArchiveSettings{Retired: &gone}, &at)
	assert.Equal(t, "office", at.Name)
	d.ok("nell", "GET", "/archives", nil, &list)
	assert.Empty(t, list, "it is in use no more")
	status, _, _ := d.do("abel", "PATCH", "/archives/nowhere", wire.ArchiveSettings{Retired: &gone}, nil)
	assert.Equal(t, http.StatusNotFound, status)
}
