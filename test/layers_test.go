package test

import (
	"bytes"
	"fmt"
	"go/ast"
	"go/parser"
	"go/scanner"
	"go/token"
	"iter"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Imports go down only: what each room may use of ours.
func TestImportsGoDown(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}}`, "oakenlatch/...").Output()
	require.NoError(t, err)
	may := map[string][]string{
		"core": {"core"}, "netconf": {"core", "netconf"}, "lab": {"core", "netconf", "lab"}, "wire": {"core"},
		"service": {"core", "netconf", "wire", "service"}, "witness": {"core"}, "client": {"core", "wire"},
		"cli":     {"client", "core", "wire", "witness"},
		"console": {}, "cmd": {"cli", "service", "lab", "console", "netconf", "wire", "witness"},
		"test": {"test", "service", "lab", "client", "core", "wire"},
	}
	// Within the service: who may know whom.
	rooms := map[string]string{
		"refusal": "", "store": "", "hostkey": "", "syslog": "", "control": "", "folder": "store", "spare": "",
		"underway": "",
		"order":    "store", "audit": "refusal store", "access": "audit folder store refusal",
		"fleet":               "access audit hostkey refusal spare store",
		"outside/attribution": "fleet store",
		"history":             "audit fleet outside/attribution refusal store underway",
		"approval":            "access audit fleet refusal store",
		"reservation":         "access audit refusal store",
		"backup":              "access audit control folder store",
		"doctor":              "access approval audit backup control fleet folder history store underway",
		"archive":             "access audit fleet history hostkey refusal store",
		"desk":                "access approval audit fleet history order refusal reservation store",
		"engine":              "audit fleet folder history order refusal spare store underway",
		"stencils":            "access audit desk fleet history refusal store",
		"restore":             "access audit desk history refusal store",
		"commit":              "access audit desk engine order refusal store",
		"outside":             "access audit fleet history refusal restore store",
		"witness":             "audit store",
		"report":              "access audit desk fleet history store",
		"notify":              "access audit refusal store syslog",
		"documents": "access approval archive audit desk engine fleet history notify refusal report reservation " +
			"restore store witness",
		"api": "access approval archive audit commit desk documents engine fleet history hostkey notify order " +
			"outside refusal report reservation restore stencils store syslog witness",
	}
	seen := 0
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		words := strings.Fields(line)
		room := strings.TrimPrefix(words[0], "oakenlatch/")
		top, _, _ := strings.Cut(room, "/")
		allowed, known := may[top]
		require.True(t, known, "room %s has no place in this test", top)
		for _, imp := range words[1:] {
			ours, ok := strings.CutPrefix(imp, "oakenlatch/")
			if !ok {
				continue
			}
			seen++
			target, _, _ := strings.Cut(ours, "/")
			assert.Contains(t, allowed, target, "%s imports %s", room, ours)
			if inner, ok := strings.CutPrefix(room, "service/"); ok && target == "service" {
				assert.Contains(
					t, strings.Fields(rooms[inner]), strings.TrimPrefix(ours, "service/"), "%s imports %s", room, ours,
				)
			}
		}
	}
	assert.Greater(t, seen, 50, "the imports were read")
}

// outward are the packages by which code gets at what is outside it: files, the network, the environment, other
// goroutines, chance.
var outward = []string{
	"context", "crypto/rand", "database/sql", "io/fs", "io/ioutil", "log", "log/slog", "math/rand", "net", "net/http",
	"os", "os/exec", "os/signal", "runtime", "sync", "sync/atomic", "syscall", "testing", "unsafe",
}

// impurities finds what makes the outcome of a file's code rest on more than what it is given: packages that
// look outward, the clock, chance that nobody gave a seed, goroutines.
func impurities(files *token.FileSet, file *ast.File) (found []string) {
	names := map[string]string{}
	for _, imp := range file.Imports {
		path := strings.Trim(imp.Path.Value, `"`)
		if slices.Contains(outward, path) {
			found = append(found, fmt.Sprintf("%s imports %s", files.Position(imp.Pos()), path))
		}
		name := path[strings.LastIndexByte(path, '/')+1:]
		if path == "math/rand/v2" {
			name = "rand"
		}
		if imp.Name != nil {
			name = imp.Name.Name
		}
		names[name] = path
	}
	ast.Inspect(file, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.GoStmt:
			found = append(found, fmt.Sprintf("%s begins a goroutine", files.Position(n.Pos())))
		case *ast.SelectorExpr:
			id, ok := n.X.(*ast.Ident)
			if !ok {
				return true
			}
			clock := names[id.Name] == "time" && slices.Contains(
				[]string{
					"Now", "Since", "Until", "Sleep", "After", "AfterFunc", "Tick", "NewTimer", "NewTicker", "Local",
					"LoadLocation",
				},
				n.Sel.Name,
			)
			chance := names[id.Name] == "math/rand/v2" && !slices.Contains(
				[]string{"New", "NewPCG", "NewChaCha8", "NewZipf", "Rand", "Source", "PCG"}, n.Sel.Name,
			)
			if clock || chance {
				found = append(found, fmt.Sprintf("%s uses %s.%s", files.Position(n.Pos()), id.Name, n.Sel.Name))
			}
		}
		return true
	})
	return found
}

// What the core computes follows from what it is given alone.
func TestCoreIsPure(t *testing.T) {
	parse := func(name string, text any) []string {
		files := token.NewFileSet()
		file, err := parser.ParseFile(files, name, text, 0)
		require.NoError(t, err)
		return impurities(files, file)
	}
	for body, want := range map[string]int{
		`import "time"; var x = time.Now()`: 1, `import clock "time"; var x = clock.Now`: 1,
		`import "time"; var x = time.Local`: 1, `import "time"; var x time.Duration = time.Second`: 0,
		`import "os"; var x = os.Getenv("HOME")`: 1, `import "math/rand/v2"; var x = rand.IntN(3)`: 1,
		`import "math/rand/v2"; var x = rand.New(rand.NewPCG(1, 2))`: 0, `func f() { go f() }`: 1,
		`import ("net"; "net/netip")`: 1,
	} {
		assert.Len(t, parse("x.go", "package x; "+body), want, body)
	}
	out, err := exec.Command("git", "-C", "..", "ls-files", "core/*.go").Output()
	require.NoError(t, err)
	read := 0
	for _, name := range strings.Fields(string(out)) {
		if !strings.HasSuffix(name, "_test.go") {
			read++
			assert.Empty(t, parse("../"+name, nil))
		}
	}
	assert.Greater(t, read, 80, "the files were read")
}

// Lines are short enough to be read beside another file: 120 characters, a tab being four; but for texts in
// backquotes, and words that are longer than half a line by themselves, like paths.
func TestLinesAreShort(t *testing.T) {
	const most = 120
	out, err := exec.Command("git", "-C", "..", "ls-files", "*.go").Output()
	require.NoError(t, err)
	read := 0
	for _, name := range strings.Fields(string(out)) {
		text, err := os.ReadFile("../" + name)
		require.NoError(t, err)
		if bytes.HasPrefix(text, []byte("// Code generated")) {
			continue
		}
		quoted := map[int]bool{}
		files := token.NewFileSet()
		file := files.AddFile(name, -1, len(text))
		var s scanner.Scanner
		s.Init(file, text, nil, 0)
		for {
			pos, tok, lit := s.Scan()
			if tok == token.EOF {
				break
			}
			if tok == token.STRING && (lit[0] == '`' || len(lit) > most/2 && !strings.Contains(lit, " ")) {
				first := files.Position(pos).Line
				for line := first; line <= first+strings.Count(lit, "\n"); line++ {
					quoted[line] = true
				}
			}
		}
		for i, line := range strings.Split(string(text), "\n") {
			read++
			if n := utf8.RuneCountInString(strings.ReplaceAll(line, "\t", "    ")); n > most && !quoted[i+1] {
				t.Errorf("%s:%d has %d characters", name, i+1, n)
			}
		}
	}
	assert.Greater(t, read, 50_000, "the lines were read")
}

// The core knows no module by name: everything it does, it does for any. Only
// the canonical forms that RFC 6991 gives in words stand beside their types
// (forms.go), and standard documents have names (instance.go, yangpatch.go).
func TestCoreKnowsNoModule(t *testing.T) {
	for _, room := range []string{"schema", "tree", "codec", "diff"} {
		out, err := exec.Command(
			"grep", "-rlE", `"(/?ietf|iana|openconfig)-[a-z]`, "--include=*.go", "--exclude=forms.go",
			"--exclude=instance.go", "--exclude=secret.go", "--exclude=yangpatch.go", "--exclude=*_test.go",
			"../core/"+room,
		).CombinedOutput()
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

// goFiles gives the syntax of our Go files by patterns, without tests.
func goFiles(t *testing.T, patterns ...string) iter.Seq2[string, *ast.File] {
	t.Helper()
	out, err := exec.Command("git", append([]string{"-C", "..", "ls-files"}, patterns...)...).Output()
	require.NoError(t, err)
	return func(yield func(string, *ast.File) bool) {
		for _, name := range strings.Fields(string(out)) {
			if strings.HasSuffix(name, "_test.go") || !strings.HasSuffix(name, ".go") {
				continue
			}
			file, err := parser.ParseFile(token.NewFileSet(), "../"+name, nil, 0)
			require.NoError(t, err)
			if !yield(name, file) {
				return
			}
		}
	}
}

// What to do next is data of the service: only who shows it knows commands (core/advice).
func TestCommandsAreTheClients(t *testing.T) {
	command := regexp.MustCompile(`(^|[^-])\blatch [a-z]`)
	looked := 0
	for name, file := range goFiles(t, "core/*.go", "service/*.go", "wire/*.go") {
		ast.Inspect(file, func(n ast.Node) bool {
			if lit, ok := n.(*ast.BasicLit); ok && lit.Kind == token.STRING {
				looked++
				assert.False(t, command.MatchString(lit.Value), "%s names a command: %s", name, lit.Value)
			}
			return true
		})
	}
	assert.Greater(t, looked, 5000)
}

// What is advised has words, and no more arguments than its action has: a mistake there would be met first by somebody
// who is being told what to do.
func TestAdviceIsWellFormed(t *testing.T) {
	params := map[string]int{}
	file, err := parser.ParseFile(token.NewFileSet(), "../core/advice/action.go", nil, 0)
	require.NoError(t, err)
	ast.Inspect(file, func(n ast.Node) bool {
		if kv, ok := n.(*ast.KeyValueExpr); ok {
			params[kv.Key.(*ast.Ident).Name] = 0
			if list, ok := kv.Value.(*ast.CompositeLit); ok {
				params[kv.Key.(*ast.Ident).Name] = len(list.Elts)
			}
		}
		return true
	})
	advised := map[string]bool{}
	for name, file := range goFiles(t, "service/*.go") {
		ast.Inspect(file, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok {
				return true
			}
			for i, arg := range call.Args {
				action, ok := arg.(*ast.SelectorExpr)
				if !ok || fmt.Sprint(action.X) != "advice" {
					continue
				}
				most, known := params[action.Sel.Name]
				if !known {
					continue // no action
				}
				advised[action.Sel.Name] = true
				assert.LessOrEqual(t, len(call.Args)-i-1, most, "%s: %s", name, action.Sel.Name)
				do := call.Fun.(*ast.SelectorExpr)
				words, made := do.X.(*ast.CallExpr)
				if do.Sel.Name == "Do" && made {
					for _, w := range words.Args {
						lit, text := w.(*ast.BasicLit)
						assert.False(t, text && lit.Value == `""`, "%s: %s has no words", name, action.Sel.Name)
					}
				}
			}
			return true
		})
	}
	for action := range params {
		assert.True(t, advised[action], "nothing advises %s", action)
	}
}
