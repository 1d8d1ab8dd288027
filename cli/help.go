package cli

import (
	"flag"
	"sort"
	"strings"
)

// daily are the commands of a day's work, in its order.
var daily = []string{
	"now", "open", "put", "delete", "preview", "commit", "confirm", "extend", "revert", "undo", "compare", "config",
	"blame", "audit",
}

// themes are all commands by what they are about.
var themes = []struct {
	name, about string
	commands    func() []command
}{
	{"changes", "stage, preview, commit, hold, approve, schedule, work together", changeCommands},
	{"history", "configurations as they are and were: compare, restore, undo, files, snapshots", historyCommands},
	{"devices", "devices, reservations, stencils, packet filters, archives, backups", deviceCommands},
	{"record", "commits, reports, outside changes, the record, who is sent what", recordCommands},
	{"access", "accounts, roles, second factors, rules, tokens; this client", accessCommands},
}

const about = `
Every command takes --help (with an example), --json and --server URL, also by
the environment: OAKEN_LATCH_SERVER, OAKEN_LATCH_TOKEN. The release: --version.
Exit status: 0 done, 1 the answer is no, 2 wrong use, 3 refused, 4 not
reachable, 5 reverted, 6 vouched for by nobody outside, 130 interrupted.
`

// overview shows what a day's work needs, and where the rest is.
func (a *app) overview() {
	a.printf(
		"latch: stage changes for network devices, see what they do, commit them on hold\n\n" +
			"First: latch login --server URL --user NAME. A day's work, in its order:\n",
	)
	var list []command
	for _, name := range daily {
		c, _ := find([]string{name})
		c.summary, _, _ = strings.Cut(c.summary, ": ") // the rest is in its own help
		list = append(list, *c)
	}
	a.listed(list)
	a.printf("\nAll commands, by theme:\n")
	for _, t := range themes {
		a.printf("  latch help %-10s %s (%d)\n", t.name, t.about, len(t.commands()))
	}
	a.printf("  latch help %-10s all of them\n  latch help %-10s one of them, with its flags and an example\n", "all",
		"COMMAND")
	a.printf("%s", about)
}

func (a *app) listed(list []command) {
	for _, c := range list {
		a.printf("  %-46s %s\n", strings.TrimSpace("latch "+c.name+" "+c.args), c.summary)
	}
}

// groupOf gives the commands that begin with a word: those of archives, for instance.
func groupOf(word string) (list []command) {
	for _, c := range commands() {
		if first, _, more := strings.Cut(c.name, " "); first == word && more {
			list = append(list, c)
		}
	}
	return list
}

// helpAbout shows the help of a command, a group or a theme.
func (a *app) helpAbout(words []string) error {
	if len(words) == 1 {
		if words[0] == "all" {
			a.listed(commands())
			return nil
		}
		for _, t := range themes {
			if t.name == words[0] {
				a.listed(t.commands())
				return nil
			}
		}
	}
	c, rest := find(words)
	if group := groupOf(words[0]); c == nil && len(words) == 1 && group != nil {
		a.listed(group)
		return nil
	}
	if c == nil || len(rest) > 0 {
		return a.noCommand(words)
	}
	return a.execute(c, []string{"--help"})
}

// noCommand says that there is no such command, and which one may have been meant.
func (a *app) noCommand(args []string) error {
	group := groupOf(args[0])
	if group != nil && (len(args) == 1 || args[1] == "--help" || args[1] == "-h" || args[1] == "-help") {
		a.listed(group)
		if len(args) == 1 {
			return wrongUse("latch %s needs one of these words after it", args[0])
		}
		return nil
	}
	typed, names := args[0], []string{}
	for _, c := range commands() {
		switch {
		case group == nil:
			first, _, _ := strings.Cut(c.name, " ")
			names = append(names, first)
		case strings.HasPrefix(c.name, args[0]+" "):
			typed = args[0] + " " + args[1]
			names = append(names, c.name)
		}
	}
	if near := nearest(typed, names); near != "" {
		return wrongUse("there is no command %q; did you mean latch %s? See latch --help", typed, near)
	}
	return wrongUse("there is no command %q; see latch --help", typed)
}

// nearestFlag gives the flag that may have been meant where one is not known.
func nearestFlag(fs *flag.FlagSet, err error) string {
	_, typed, found := strings.Cut(err.Error(), "flag provided but not defined: -")
	if !found {
		return ""
	}
	var names []string
	fs.VisitAll(func(f *flag.Flag) { names = append(names, f.Name) })
	if near := nearest(strings.TrimPrefix(typed, "-"), names); near != "" {
		return ", did you mean --" + near + "?"
	}
	return ""
}

// nearest gives the name that a word with a slip was meant for: one that begins with it, or the one that is made of it
// by the fewest slips, a third of its letters at most; "" where there is none.
func nearest(typed string, names []string) string {
	best, least := "", max(1, len([]rune(typed))/3)+1
	for _, name := range names {
		if len(typed) > 1 && strings.HasPrefix(name, typed) {
			return name
		}
		if n := slips(typed, name); n < least {
			best, least = name, n
		}
	}
	return best
}

// slips counts the letters that are missing, too many, wrong, or swapped with the next between two words (the optimal
// string alignment distance).
func slips(a, b string) int {
	x, y := []rune(a), []rune(b)
	rows := make([][]int, len(x)+1)
	for i := range rows {
		rows[i] = make([]int, len(y)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(x); i++ {
		for j := 1; j <= len(y); j++ {
			wrong := 1
			if x[i-1] == y[j-1] {
				wrong = 0
			}
			rows[i][j] = min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+wrong)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
			}
		}
	}
	return rows[len(x)][len(y)]
}

func (a *app) help(c *command, fs *flag.FlagSet) {
	a.printf("latch %s\n    %s\n", strings.TrimSpace(c.name+" "+c.args), c.summary)
	var names []string
	fs.VisitAll(func(f *flag.Flag) { names = append(names, f.Name) })
	sort.Strings(names)
	a.printf("\nFlags:\n")
	for _, n := range names {
		f := fs.Lookup(n)
		a.printf("  --%-16s %s\n", f.Name, f.Usage)
	}
	a.printf("\nExample:\n  %s\n", strings.ReplaceAll(c.example, "\n", "\n  "))
}
