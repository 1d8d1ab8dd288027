package cli

import (
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"flag"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/advice"
)

// Every action that is advised has a command that exists, takes its flags and as many arguments, and says all that the
// action is done to.
func TestAdvisedCommandsExist(t *testing.T) {
	assert.Len(t, advised, len(advice.Actions()))
	for _, action := range advice.Actions() {
		args := map[string]string{}
		for _, p := range action.Params() {
			args[p] = "7"
		}
		for _, step := range []advice.Step{{Action: action}, {Action: action, Args: args}} {
			line := commandFor(step)
			words := strings.Fields(line)
			require.Greater(t, len(words), 1, "%s has no command", action)
			c, rest := find(words[1:])
			if words[1] == "login" {
				continue // no row of the table: it is asked for before there is a service
			}
			require.NotNil(t, c, "%s: there is no command %q", action, line)
			fs := flag.NewFlagSet(c.name, flag.ContinueOnError)
			a := &app{}
			a.globals(fs)
			c.setup(a, fs)
			pos, err := interspersed(fs, rest)
			if strings.HasSuffix(line, "--help") {
				assert.ErrorIs(t, err, flag.ErrHelp)
				continue
			}
			require.NoError(t, err, "%s: %q", action, line)
			assert.GreaterOrEqual(t, len(pos), c.min, "%s: %q", action, line)
			assert.True(t, c.max < 0 || len(pos) <= c.max, "%s: %q takes %d arguments", action, line, c.max)
			said := strings.Count(line, "7")
			assert.Equal(t, len(step.Args), said, "%s: %q", action, line)
		}
	}
}

func TestAdviceInCommands(t *testing.T) {
	list := advice.Words("look").Do(advice.ReadConfig, "quay", "/system/contact='a b'").
		Or("or read all", advice.ReadConfig, "quay").Or("or list", advice.ListDevices)
	assert.Equal(
		t, `look: latch config quay '/system/contact='\''a b'\'''; or read all: latch config quay; or list: latch devices`,
		InCommands(list),
	)
	assert.Equal(t, "wait", InCommands(advice.Words("wait")))
	assert.Equal(t, "see it", InCommands(advice.Steps{{Text: "see it", Action: "of a later release"}}))
}

// Every command in the docs is one, with flags that it has.
func TestCommandsInDocs(t *testing.T) {
	pages, err := filepath.Glob("../docs/*.md")
	require.NoError(t, err)
	command := regexp.MustCompile("(?m)^ {4,}(?:\\$ )?latch ([a-z][^#;\n]*?)(?:  .*|[#;].*)?$|`latch ([a-z][^`\n]*)`")
	looked := 0
	for _, page := range append(pages, "../README.md") {
		if strings.HasSuffix(page, "architecture.md") {
			continue
		}
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, m := range command.FindAllStringSubmatch(string(text), -1) {
			line := strings.TrimSpace(m[1] + m[2])
			words := strings.Fields(line)
			if slices.Contains([]string{"login", "complete", "completion"}, words[0]) {
				continue
			}
			if words[0] == "help" { // of a theme, a group or a command
				var out strings.Builder
				_ = (&app{out: &out, err: io.Discard, getenv: os.Getenv}).run(t.Context(), words)
				assert.Contains(t, out.String(), "latch", "%s: %q", page, line)
				continue
			}
			c, rest := find(words)
			if !assert.NotNil(t, c, "%s: there is no command %q", page, line) {
				continue
			}
			fs := flag.NewFlagSet(c.name, flag.ContinueOnError)
			fs.SetOutput(io.Discard)
			a := &app{}
			a.globals(fs)
			c.setup(a, fs)
			for _, w := range rest {
				if name, ok := strings.CutPrefix(w, "--"); ok && name != "" && name != "help" {
					name, _, _ = strings.Cut(strings.TrimRight(name, ",.;]"), "=")
					assert.NotNil(t, fs.Lookup(name), "%s: %q has no --%s", page, line, name)
				}
			}
			looked++
		}
	}
	assert.Greater(t, looked, 150)
}
