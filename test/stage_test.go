// Package test holds the whole-system tests: the built binaries on loopback,
// driven through client, API and browser, against the lab's devices and against
// netconfd behind OpenSSH.
package test

import (
	"encoding/json"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	set "oakenlatch/test/stage"
	"oakenlatch/wire"
)

var bin string // folder of the binaries under test

func TestMain(m *testing.M) { os.Exit(set.Main(m, &bin)) }

// stage is what the tests here stand on.
type stage struct{ *set.Stage }

const (
	adminPassword = set.AdminPassword
	maraPassword  = set.MaraPassword
)

func newStage(t *testing.T, devices ...string) *stage { return &stage{set.New(t, devices...)} }

func newStageAt(t *testing.T, dir, data string, devices ...string) *stage {
	return &stage{set.NewAt(t, dir, data, devices...)}
}

// stateOf reads a change's state from what latch show --json printed.
func stateOf(t *testing.T, out string) string {
	t.Helper()
	var c wire.Change
	require.NoError(t, json.Unmarshal([]byte(out), &c))
	return string(c.State)
}
