package test

import (
	"go/ast"
	"go/parser"
	"go/token"
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
		"service": {"core", "netconf", "wire", "service"}, "witness": {"core"}, "cli": {"core", "wire", "witness"}, "console": {},
		"cmd": {"cli", "service", "lab", "console", "netconf", "wire", "witness"}, "test": {"test", "service", "lab", "core", "wire"},
	}
	// Within the service: who may know whom.
	rooms := map[string]string{
		"refusal": "", "store": "", "hostkey": "", "syslog": "", "control": "", "folder": "store", "audit": "refusal store", "access": "audit folder store refusal", "fleet": "access audit hostkey refusal store",
		"history": "audit fleet refusal store", "backup": "access audit control folder store", "doctor": "access audit backup control desk fleet folder history store", "archive": "access audit fleet history hostkey refusal store", "desk": "access audit fleet history refusal store", "engine": "audit fleet folder history refusal store",
		"outside": "access audit desk fleet history refusal store", "witness": "audit store", "report": "access audit desk fleet history store", "tell": "access audit refusal store syslog",
		"api": "access archive audit hostkey desk engine fleet history outside refusal report store tell witness",
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

// No message ends in <nil>: where a branch is taken with an error or for another reason,
// it does not speak of the error.
func TestNoErrorOfNothing(t *testing.T) {
	out, err := exec.Command("git", "-C", "..", "ls-files", "*.go").Output()
	require.NoError(t, err)
	branches := 0
	for _, name := range strings.Fields(string(out)) {
		files := token.NewFileSet()
		file, err := parser.ParseFile(files, "../"+name, nil, 0)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			branch, ok := n.(*ast.IfStmt)
			if !ok {
				return true
			}
			either, ok := branch.Cond.(*ast.BinaryExpr)
			if !ok || either.Op != token.LOR {
				return true
			}
			maybe := ""
			for _, side := range []ast.Expr{either.X, either.Y} {
				if x, ok := side.(*ast.BinaryExpr); ok && x.Op == token.NEQ {
					if id, ok := x.X.(*ast.Ident); ok && strings.HasSuffix(strings.ToLower(id.Name), "err") {
						maybe = id.Name
					}
				}
			}
			if maybe == "" {
				return true
			}
			branches++
			ast.Inspect(branch.Body, func(n ast.Node) bool {
				call, ok := n.(*ast.CallExpr)
				if !ok || len(call.Args) < 2 {
					return true
				}
				format, ok := call.Args[0].(*ast.BasicLit)
				if !ok || !strings.Contains(format.Value, "%v") && !strings.Contains(format.Value, "%w") {
					return true
				}
				for _, arg := range call.Args[1:] {
					if id, ok := arg.(*ast.Ident); ok && id.Name == maybe {
						t.Errorf("%s: it may be said of no error", files.Position(call.Pos()))
					}
				}
				return true
			})
			return true
		})
	}
	assert.Greater(t, branches, 50, "the branches were found")
}
