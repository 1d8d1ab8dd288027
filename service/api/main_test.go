package api

import (
	"flag"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/test/pace"
)

// answered are the statuses that requests of these tests were answered with, by operation.
var answered = struct {
	sync.Mutex
	by map[string]map[int]bool
}{by: map[string]map[int]bool{}}

// judge notes an answer, and fails where it is not as it is described.
func judge(t testing.TB, method, path string, rec *httptest.ResponseRecorder) {
	t.Helper()
	path = strings.TrimPrefix(path, prefix)
	r := routeOf(method, path)
	if r != nil {
		answered.Lock()
		if answered.by[r.id] == nil {
			answered.by[r.id] = map[int]bool{}
		}
		answered.by[r.id][rec.Code] = true
		answered.Unlock()
	}
	require.NoError(
		t, fitsDescription(method, path, rec.Code, rec.Header(), rec.Body.Bytes()),
		"%s %s answers other than its description says: %.600s", method, path, rec.Body,
	)
	if r != nil && rec.Code < 300 {
		assert.Contains(t, r.promised(), rec.Code, "%s %s", method, path)
	}
}

// promised is what the description promises of an operation where it is done.
func (r route) promised() (out []int) {
	out = append(out, r.done())
	if r.waits != nil {
		out = append(out, http.StatusAccepted)
	}
	return out
}

// elsewhere are operations that only a test with a real SSH server can have answered: test/history_test.go has one.
var elsewhere = []string{"archiveHostKey", "trustArchive"}

// TestMain runs the tests, and looks whether every operation was answered as it is described: an answer that is
// described and never given would fail no test else.
func TestMain(m *testing.M) {
	pace.Parallel()
	code := m.Run()
	if code == 0 && !testing.Short() && flag.Lookup("test.run").Value.String() == "" {
		for _, r := range (&API{}).routes() {
			for _, status := range r.promised() {
				if !answered.by[r.id][status] && !slices.Contains(elsewhere, r.id) {
					fmt.Printf("%s %s was never answered with %d: %v\n", r.method, r.path, status, answered.by[r.id])
					code = 1
				}
			}
		}
	}
	os.Exit(code)
}
