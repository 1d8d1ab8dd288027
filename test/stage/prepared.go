package stage

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"oakenlatch/test/port"
)

// prepared is a data folder as a new service has it once it knows mara and joss: made once, and copied, for that takes
// seconds with the race detector. Records that were copied twice are the same record under the same key, so a test gets
// it for its first service only.
var prepared struct {
	sync.Mutex
	dir string
	had map[string]bool // by test
}

// prepare puts a copy of it in place, unless this test had one, or records are there. It reports whether it did.
func prepare(t *testing.T, data string) bool {
	t.Helper()
	prepared.Lock()
	defer prepared.Unlock()
	name, _, _ := strings.Cut(t.Name(), "/")
	if _, err := os.Stat(data); err == nil || prepared.had[name] {
		return false
	}
	if prepared.dir == "" {
		dir, err := os.MkdirTemp(Bin, "prepared-")
		require.NoError(t, err)
		s := &Stage{T: t, Dir: dir, Data: filepath.Join(dir, "data"), Listen: port.Address(t)}
		s.Start()
		s.addPeople()
		s.Do("admin", 0, "logout")
		s.Stop()
		prepared.dir, prepared.had = s.Data, map[string]bool{}
	}
	prepared.had[name] = true
	// With what may be read by whom; and on the disk, for some of these disks fail next.
	out, err := exec.Command("sh", "-c", `cp -a "$0" "$1" && sync -f "$1"`, prepared.dir, data).CombinedOutput()
	require.NoError(t, err, "%s", out)
	return true
}

// addPeople makes accounts for mara and joss.
func (s *Stage) addPeople() {
	s.T.Helper()
	for name, password := range map[string]string{"mara": MaraPassword, "joss": jossPassword} {
		s.Do(
			"admin", 0, "account", "add", name, "--may", "read,stage,commit,approve,audit", "--password-file",
			s.File("pw-"+name, password),
		)
	}
}
