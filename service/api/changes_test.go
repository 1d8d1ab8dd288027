package api

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"

	"oakenlatch/wire"
)

// Changes are listed page by page, narrowed and counted, each as its person may see it.
func TestChangesAreListed(t *testing.T) {
	t.Parallel()
	d := newCounter(t)
	for i := range 12 {
		who := []string{"nell", "otto"}[i%2]
		d.ok(who, "POST", "/changes", wire.NewChange{Title: fmt.Sprintf("Berth %d, 100 %%", i), Ticket: "TF-9"}, nil)
	}
	d.ok("nell", "POST", "/changes/1/drop", nil, nil)
	d.ok("nell", "POST", "/changes/3/coworkers", wire.Share{Account: "otto"}, nil)
	numbers := func(who, query string) []int64 {
		var list []wire.Change
		d.ok(who, "GET", "/changes"+query, nil, &list)
		out := []int64{}
		for _, c := range list {
			out = append(out, c.Number)
		}
		return out
	}
	assert.Equal(t, []int64{11, 9, 7, 5, 3, 1}, numbers("nell", ""), "others' drafts are theirs")
	assert.Equal(t, []int64{12, 10, 8, 6, 4, 3, 2}, numbers("otto", ""), "and of those that one was added to")
	assert.Equal(t, []int64{9, 7}, numbers("nell", "?before=11&limit=2"))
	assert.Equal(t, []int64{1}, numbers("nell", "?state=dropped"))
	assert.Equal(t, []int64{11, 9, 7, 5, 3, 1}, numbers("nell", "?state=dropped,draft"))
	assert.Equal(t, []int64{3}, numbers("otto", "?author=nell"))
	assert.Equal(t, []int64{11, 1}, numbers("nell", "?number=1"))
	assert.Empty(t, numbers("nell", "?number=01"), "no number begins so")
	assert.Equal(t, []int64{11}, numbers("nell", "?text=BERTH%2010,%20100%20%25"), "whatever the case, and % is itself")
	assert.Empty(t, numbers("nell", "?text=B_rth"))
	h := d.ok("nell", "GET", "/changes?count=true&limit=1", nil, nil)
	assert.Equal(t, "6", h.Get(wire.CountHeader))
	h = d.ok("nell", "GET", "/changes?count=true&limit=1&state=draft&number=1", nil, nil)
	assert.Equal(t, "1", h.Get(wire.CountHeader))
	for _, bad := range []string{"?state=draught", "?limit=501", "?before=x"} {
		status, _, _ := d.do("nell", "GET", "/changes"+bad, nil, nil)
		assert.Equal(t, http.StatusUnprocessableEntity, status, bad)
	}
	var hints wire.SearchHints
	d.ok("nell", "GET", "/audit/complete?q=change:1", nil, &hints)
	assert.Equal(t, []wire.SearchHint{{Value: "11"}, {Value: "1"}}, hints.Hints)
	d.ok("nell", "GET", "/audit/complete?q=ticket:tf", nil, &hints)
	assert.Equal(t, []wire.SearchHint{{Value: "TF-9"}}, hints.Hints)
	var needs wire.Attention
	d.ok("otto", "GET", "/attention", nil, &needs)
	assert.Len(t, needs.Drafts, 7)
}
