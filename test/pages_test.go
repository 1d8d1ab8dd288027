package test

import (
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/test/pace"
	"oakenlatch/test/tour"
)

// What the README shows of the client is what it says on the tour through the demo; make docs writes it again.
func TestPagesShowWhatIsSo(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	const at = "127.0.0.1:8671"
	daemon := exec.Command(filepath.Join(bin, "oaken-latchd"), "demo", "--data", t.TempDir(), "--listen", at)
	require.NoError(t, daemon.Start())
	defer func() {
		_ = daemon.Process.Signal(os.Interrupt)
		_ = daemon.Wait()
	}()
	require.Eventually(t, func() bool {
		res, err := http.Get("http://" + at + "/healthz")
		if err != nil {
			return false
		}
		_ = res.Body.Close()
		return res.StatusCode == http.StatusOK
	}, 2*time.Minute, 300*time.Millisecond)
	time.Sleep(3 * time.Second) // until the demo has made what it tells of
	guide := exec.Command("bash", "scripts/tour.sh", "http://"+at)
	guide.Dir = ".."
	guide.Env = append(os.Environ(), "BIN="+bin)
	said, err := guide.CombinedOutput()
	require.NoError(t, err, "%s", said)
	text, err := os.ReadFile("../README.md")
	require.NoError(t, err)
	list, compared := tour.Compare(string(text), tour.Transcript(string(said)))
	for _, d := range list {
		t.Errorf(
			"README.md, line %d: %s\nshows\n%s\nit answers\n%s\nmake docs writes it again", d.Line(), d.Command,
			strings.Join(d.Lines, "\n"), strings.Join(d.Now, "\n"),
		)
	}
	assert.Greater(t, compared, 15)
}
