package test

import (
	"go/ast"
	"go/token"
	"os"
	"os/exec"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// wording is what a person reads, and where it stands.
type wording struct{ where, says string }

// notWritten reads what docs/words.md says is not written.
func notWritten(t *testing.T) *regexp.Regexp {
	t.Helper()
	page, err := os.ReadFile("../docs/words.md")
	require.NoError(t, err)
	var list []string
	for line := range strings.Lines(string(page)) {
		cells := strings.Split(line, "|")
		if len(cells) != 5 || strings.Contains(cells[3], "---") || strings.TrimSpace(cells[3]) == "not" {
			continue
		}
		for _, phrase := range strings.Split(cells[3], ",") {
			if phrase = strings.TrimSpace(phrase); phrase != "" {
				list = append(list, strings.ReplaceAll(regexp.QuoteMeta(phrase), " ", `\s+`))
			}
		}
	}
	require.Greater(t, len(list), 30)
	return regexp.MustCompile(`(?i)\b(` + strings.Join(list, "|") + `)\b`)
}

// query is what is no text though it has words.
var query = regexp.MustCompile(`\b(SELECT|UPDATE|INSERT|DELETE FROM|WHERE|COALESCE|coalesce)\b`)

// textsOf reads the texts of files: strings of Go, joined where they are put together; all but comments of TypeScript;
// pages whole.
func textsOf(t *testing.T) (out []wording) {
	t.Helper()
	for name, file := range goFiles(
		t, "cli/*.go", "cmd/*.go", "core/*.go", "service/*.go", "wire/*.go", "witness/*.go",
	) {
		ast.Inspect(file, func(n ast.Node) bool {
			e, ok := n.(ast.Expr)
			if !ok {
				return true
			}
			says, ok := joined(e)
			if ok && strings.Contains(says, " ") && !query.MatchString(says) {
				out = append(out, wording{name, says})
			}
			return !ok
		})
	}
	list, err := exec.Command("git", "-C", "..", "ls-files", "*.ts", "*.tsx", "*.md").Output()
	require.NoError(t, err)
	comment := regexp.MustCompile(`(?s)/\*.*?\*/|(?m)^\s*//.*$`)
	inCode := regexp.MustCompile("\"[^\"\\n]* [^\"\\n]*\"|`[^`]* [^`]*`|>[^<>{}=;()]+<|}[^<>{}=;()]+<|>[^<>{}=;()]+{")
	for _, name := range strings.Fields(string(list)) {
		if strings.Contains(name, "/test/") || strings.Contains(name, "generated") ||
			strings.HasPrefix(name, "docs/decisions/") || name == "docs/words.md" || name == "CHANGELOG.md" {
			continue
		}
		b, err := os.ReadFile("../" + name)
		require.NoError(t, err)
		if strings.HasSuffix(name, ".md") {
			out = append(out, wording{name, string(b)})
			continue
		}
		for _, says := range inCode.FindAllString(comment.ReplaceAllString(string(b), ""), -1) {
			out = append(out, wording{name, says})
		}
	}
	require.Greater(t, len(out), 5000)
	return out
}

// joined gives a string, also one that is put together of several; what is no string in it is left out.
func joined(e ast.Expr) (string, bool) {
	switch e := e.(type) {
	case *ast.BasicLit:
		if e.Kind == token.STRING {
			says, err := strconv.Unquote(e.Value)
			return says, err == nil
		}
	case *ast.BinaryExpr:
		left, l := joined(e.X)
		right, r := joined(e.Y)
		return left + right, e.Op == token.ADD && (l || r)
	}
	return "", false
}

// One term for one thing: what docs/words.md says is not written is not.
func TestWords(t *testing.T) {
	not := notWritten(t)
	for _, x := range textsOf(t) {
		for _, at := range not.FindAllStringIndex(x.says, -1) {
			from, to := max(0, at[0]-60), min(len(x.says), at[1]+60)
			assert.Fail(t, "docs/words.md has another word", "%s: %q in …%s…", x.where, x.says[at[0]:at[1]],
				x.says[from:to])
		}
	}
}
