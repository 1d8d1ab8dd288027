package cli

import (
	"flag"
	"fmt"
	"slices"
	"strings"

	"oakenlatch/client"
	"oakenlatch/core/clip"
	"oakenlatch/wire"
)

func paths(a *app, fs *flag.FlagSet) func([]string) error {
	change := fs.Int64("change", 0, "as this change makes it")
	return func(args []string) error {
		text := "/"
		if len(args) == 2 {
			text = args[1]
		}
		list, err := a.hints(args[0], text, *change)
		if err != nil {
			return err
		}
		return a.paged(func() error {
			return a.show(list, func() {
				for _, h := range list {
					a.hint(h)
				}
				if len(list) == 0 {
					a.printf("Nothing of %s begins with %s.\n", args[0], text)
				}
			})
		})
	}
}

func (a *app) hints(device, text string, change int64) ([]wire.Hint, error) {
	return a.api().CompletePath(a.ctx, device, client.CompletePathQuery{Path: text, Change: change})
}

func (a *app) hint(h wire.Hint) {
	kind := h.Kind
	if h.Type != "" {
		kind = h.Type
		if h.Several {
			kind += ", several"
		}
	}
	if h.Units != "" {
		kind += ", in " + h.Units
	}
	a.printf("%s  %s\n", a.paint(strong, h.Path), kind)
	if h.Help != "" {
		a.printf("    %s\n", h.Help)
	}
	switch {
	case h.Current != "" && h.Exists:
		a.printf("    now: %s\n", clip.Line(h.Current, 100))
	case h.Exists:
		a.printf("    is there now\n")
	}
	if h.Default != "" {
		a.printf("    default: %s\n", h.Default)
	}
	if len(h.Values) > 0 && len(h.Keys) == 0 {
		a.printf("    may be: %s\n", clip.Line(strings.Join(h.Values, ", "), 160))
	}
}

// shells are the shells that completion is written for.
var shells = map[string]string{
	"bash": `_latch() {
  local line=${COMP_LINE:0:COMP_POINT} real cut
  local -a words
  read -ra words <<<"$line"
  [[ $line == *[[:space:]] ]] && words+=("")
  real=${words[-1]}
  local IFS=$'\n'
  COMPREPLY=($(latch complete -- "${words[@]:1}" 2>/dev/null | cut -f1))
  # bash breaks words at = and :, and wants only what follows the last of them.
  if [[ $real == *[=:]* ]]; then
    cut=${real%"${real##*[=:]}"}
    COMPREPLY=("${COMPREPLY[@]#"$cut"}")
  fi
  [[ ${#COMPREPLY[@]} == 1 && ${COMPREPLY[0]} == *[=/] ]] && compopt -o nospace
}
complete -o default -F _latch latch
`,
	"zsh": `#compdef latch
_latch() {
  local -a found
  local line
  while IFS=$'\t' read -r line help; do
    found+=("${line//:/\\:}:${help}")
  done < <(latch complete -- "${words[@]:1}" 2>/dev/null)
  _describe latch found -S '' -Q
}
compdef _latch latch
`,
	"fish": `complete -c latch -f -a '(latch complete -- (commandline -opc)[2..-1] (commandline -ct) 2>/dev/null)'
`,
}

func completion(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		script, ok := shells[args[0]]
		if !ok {
			return wrongUse("there is completion for bash, zsh and fish, not for %q", args[0])
		}
		_ = a.exact(script)
		return nil
	}
}

// complete tells what a word on the command line may become, with a word of
// help, a tab between them. Shells ask it; it is quiet where it knows nothing.
func complete(a *app, _ *flag.FlagSet) func([]string) error {
	return func(words []string) error {
		if len(words) == 0 {
			words = []string{""}
		}
		for _, c := range a.completions(words) {
			a.printf("%s\n", strings.TrimRight(c[0]+"\t"+c[1], "\t"))
		}
		return nil
	}
}

// completions gives what the last word may become.
func (a *app) completions(words []string) [][2]string {
	last := words[len(words)-1]
	cmd, rest := find(words[:len(words)-1])
	var out [][2]string
	if cmd == nil || len(rest) == 0 && !strings.HasPrefix(last, "-") {
		out = verbs(words)
	}
	if cmd == nil {
		return out
	}
	if strings.HasPrefix(last, "-") {
		return flagNames(a, cmd, last)
	}
	rest = slices.DeleteFunc(slices.Clone(rest), func(w string) bool { return strings.HasPrefix(w, "-") })
	kinds := strings.Fields(strings.NewReplacer("[", "", "]", "").Replace(cmd.args))
	for n := len(kinds); n > 0 && len(rest) >= n && strings.HasSuffix(kinds[n-1], "..."); n++ {
		kinds = append(kinds, kinds[n-1])
	}
	if len(rest) >= len(kinds) {
		return out
	}
	return append(out, a.fitting(kinds, rest, last)...)
}

func verbs(words []string) [][2]string {
	var out [][2]string
	for _, c := range commands() {
		parts := strings.Fields(c.name)
		n := len(words) - 1
		if n < len(parts) && slices.Equal(parts[:n], words[:n]) && strings.HasPrefix(parts[n], words[n]) {
			help := c.summary
			if n < len(parts)-1 {
				help = ""
			}
			if !slices.ContainsFunc(out, func(o [2]string) bool { return o[0] == parts[n] }) {
				out = append(out, [2]string{parts[n], help})
			}
		}
	}
	return out
}

func flagNames(a *app, cmd *command, last string) [][2]string {
	fs := flag.NewFlagSet("", flag.ContinueOnError)
	a.globals(fs)
	cmd.setup(a, fs)
	var out [][2]string
	fs.VisitAll(func(f *flag.Flag) {
		if strings.HasPrefix("--"+f.Name, last) {
			out = append(out, [2]string{"--" + f.Name, f.Usage})
		}
	})
	return out
}

// fitting completes an argument by what it is: the kinds are the words of the
// command's usage.
func (a *app) fitting(kinds, rest []string, last string) [][2]string {
	var out [][2]string
	add := func(word, help string) {
		if strings.HasPrefix(word, last) {
			out = append(out, [2]string{word, clip.Line(help, 90)})
		}
	}
	given := func(kind string) string {
		if i := slices.Index(kinds, kind); i >= 0 && i < len(rest) {
			return rest[i]
		}
		return ""
	}
	device, change := given("DEVICE"), int64(0)
	if kinds[0] == "NAME" && len(rest) > 0 {
		device = rest[0]
	}
	_, _ = fmt.Sscan(given("CHANGE"), &change)
	switch kind := strings.TrimSuffix(kinds[len(rest)], "..."); kind {
	case "SEARCH":
		if hints, err := a.api().CompleteSearch(a.ctx, client.CompleteSearchQuery{Search: last}); err == nil {
			for _, h := range hints.Hints {
				add(last[:hints.From]+h.Value, h.Says)
			}
		}
	case "SNAPSHOT":
		for _, s := range a.snapshotHints() {
			add(strings.TrimPrefix(s[0], "snapshot:"), s[1])
		}
	case "PLACE":
		for _, p := range a.places(device) {
			add(p[0], p[1])
		}
	case "FROM", "TO":
		add("running", "now")
		for _, s := range a.snapshotHints() {
			add(s[0], s[1])
		}
	case "ARCHIVE":
		if list, err := a.api().ListArchives(a.ctx); err == nil {
			for _, x := range list {
				add(x.Name, x.Kind+" "+x.Place)
			}
		}
	case "A", "B", "DEVICE@PLACE":
		if name, _, ok := strings.Cut(last, "@"); ok {
			for _, p := range a.places(name) {
				add(name+"@"+p[0], p[1])
			}
			break
		}
		if list, err := a.api().ListDevices(a.ctx); err == nil {
			for _, d := range list {
				add(d.Name, d.Site)
				add(d.Name+"@", "")
			}
		}
	case "CHANGE", "CHANGE|DEVICE":
		if list, err := a.api().ListChanges(a.ctx, client.ListChangesQuery{Limit: 50, Number: last}); err == nil {
			for _, c := range list {
				add(fmt.Sprint(c.Number), string(c.State)+": "+c.Title)
			}
		}
	case "DEVICE", "NAME", "DEVICES":
		if list, err := a.api().ListDevices(a.ctx); err == nil {
			for _, d := range list {
				add(d.Name, strings.TrimSpace(d.Site+" "+d.Role))
			}
		}
	case "STENCIL":
		if list, err := a.api().ListStencils(a.ctx); err == nil {
			for _, s := range list {
				add(s.Name, s.Note)
			}
		}
	case "PATH":
		if all := names(device); len(all) > 0 {
			device = all[0]
		}
		list, err := a.hints(device, last, change)
		if err != nil {
			return nil
		}
		for _, h := range list {
			word := h.Path
			if h.Kind == "container" || h.Kind == "entry" {
				word += "/"
			}
			help := h.Type
			if h.Current != "" {
				help += " now: " + h.Current
			}
			add(word, strings.TrimSpace(help+" "+h.Help))
		}
	case "VALUE":
		list, err := a.hints(device, given("PATH"), change)
		if err != nil || len(list) == 0 {
			return nil
		}
		h := list[0]
		for _, v := range h.Values {
			add(v, "")
		}
		if len(h.Values) == 0 {
			if h.Current != "" {
				add(h.Current, "now")
			}
			if h.Default != "" {
				add(h.Default, "default")
			}
		}
	}
	return out
}

// snapshotHints are the snapshots by number, with their names.
func (a *app) snapshotHints() (out [][2]string) {
	list, err := a.api().ListSnapshots(a.ctx, client.ListSnapshotsQuery{})
	if err != nil {
		return nil
	}
	for _, s := range list {
		out = append(out, [2]string{fmt.Sprintf("snapshot:%d", s.Number), s.Name})
	}
	return out
}

// places are those that a device's configuration can be read from.
func (a *app) places(device string) [][2]string {
	out := [][2]string{{"running", "now"}, {"startup", "what it boots"}}
	for _, line := range []struct{ name, place string }{{"running", "rev"}, {"startup", "startup"}} {
		list, err := a.api().ListRevisions(a.ctx, device, client.ListRevisionsQuery{Line: line.name})
		if err == nil {
			for _, r := range list[:min(len(list), 30)] {
				out = append(
					out, [2]string{fmt.Sprintf("%s:%d", line.place, r.Number), when(r.At) + " " + revisionCause(r)},
				)
			}
		}
	}
	return append(out, a.snapshotHints()...)
}
