package test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Imports go down only: what each room may use of ours.
func TestImportsGoDown(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}}`, "oakenlatch/...").Output()
	require.NoError(t, err)
	may := map[string][]string{
		"core": {"core"}, "netconf": {"core", "netconf"}, "lab": {"core", "netconf", "lab"}, "wire": {"core"},
		"service": {"core", "netconf", "wire", "service"}, "cli": {"core", "wire"}, "console": {},
		"cmd": {"cli", "service", "lab", "console", "netconf"}, "test": {"test", "service", "lab", "core"},
	}
	// Within the service: who may know whom.
	rooms := map[string]string{
		"refusal": "", "store": "", "hostkey": "", "syslog": "", "audit": "refusal store", "access": "audit store refusal", "fleet": "access audit hostkey refusal store",
		"history": "audit fleet refusal store", "backup": "access audit store", "doctor": "access audit store", "archive": "access audit fleet history hostkey refusal store", "desk": "access audit fleet history refusal store", "engine": "audit fleet history refusal store",
		"outside": "access audit desk fleet history refusal store", "report": "access audit desk fleet history store", "tell": "access audit refusal store syslog",
		"api": "access archive audit hostkey desk engine fleet history outside refusal report store tell",
	}
	io := []string{"net", "net/http", "os", "os/exec", "database/sql", "time.Now", "io/fs", "log", "log/slog", "sync"}
	seen := 0
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		words := strings.Fields(line)
		room := strings.TrimPrefix(words[0], "oakenlatch/")
		top, _, _ := strings.Cut(room, "/")
		allowed, known := may[top]
		require.True(t, known, "room %s has no place in this test", top)
		for _, imp := range words[1:] {
			ours, ok := strings.CutPrefix(imp, "oakenlatch/")
			if top == "core" && !ok {
				assert.NotContains(t, io, imp, "%s: core does no I/O", room)
			}
			if !ok {
				continue
			}
			seen++
			target, _, _ := strings.Cut(ours, "/")
			assert.Contains(t, allowed, target, "%s imports %s", room, ours)
			if inner, ok := strings.CutPrefix(room, "service/"); ok && target == "service" {
				assert.Contains(t, strings.Fields(rooms[inner]), strings.TrimPrefix(ours, "service/"), "%s imports %s", room, ours)
			}
		}
	}
	assert.Greater(t, seen, 50, "the imports were read")
}

// The core knows no module by name: everything it does, it does for any. Only
// the canonical forms that RFC 6991 gives in words stand beside their types
// (forms.go), and standard documents have names (instance.go, yangpatch.go).
func TestCoreKnowsNoModule(t *testing.T) {
	for _, room := range []string{"schema", "tree", "codec", "diff"} {
		out, err := exec.Command("grep", "-rlE", `"(/?ietf|iana|openconfig)-[a-z]`, "--include=*.go", "--exclude=forms.go", "--exclude=instance.go", "--exclude=secret.go", "--exclude=yangpatch.go", "--exclude=*_test.go", "../core/"+room).CombinedOutput()
		assert.Error(t, err, "core/%s names a module: %s", room, out)
	}
}
