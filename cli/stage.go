package cli

import (
	"bytes"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"oakenlatch/client"
	"oakenlatch/core/diff"
	"oakenlatch/wire"
)

// names reads an argument that names devices: one, or several with commas.
func names(arg string) []string {
	return strings.FieldsFunc(arg, func(r rune) bool { return r == ',' || r == ' ' })
}

func put(a *app, fs *flag.FlagSet) func([]string) error {
	add := fs.Bool("add", false, "where the device keeps several values: one more")
	only := fs.Bool("only", false, "where the device keeps several: the only one, the others go")
	file := fs.String(
		"value-file", "",
		"file with the value, - for standard input: a secret on the command line is seen by others on this machine",
	)
	ask := fs.Bool("ask", false, "ask for the value, and show nothing of it")
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		in := wire.NewEdit{Devices: names(args[1]), Op: "put", Path: args[2]}
		if len(args) == 4 {
			in.Value = &args[3]
		}
		if *ask || *file != "" {
			if in.Value != nil || *ask && *file != "" {
				return wrongUse("give the value once: as VALUE, with --value-file, or with --ask")
			}
			if *ask && !a.ask {
				return wrongUse(
					"there is no terminal to ask at; give the value with --value-file FILE, - for standard input",
				)
			}
			value, err := a.secretFrom(*file, "Value for "+args[2])
			if err != nil {
				return err
			}
			in.Value = &value
		}
		switch {
		case *add && *only:
			return wrongUse("give --add or --only, not both")
		case *add:
			in.Several = "add"
		case *only:
			in.Several = "only"
		}
		return a.stage(n, in)
	}
}

func deletePath(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		return a.stage(n, wire.NewEdit{Devices: names(args[1]), Op: "delete", Path: args[2]})
	}
}

func move(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		where := strings.Join(args[3:], " ")
		return a.stage(n, wire.NewEdit{Devices: names(args[1]), Op: "move", Path: args[2], Value: &where})
	}
}

func (a *app) stage(n int64, in wire.NewEdit) error {
	list, err := a.api().StageEdit(a.ctx, n, in)
	if err != nil {
		return err
	}
	return a.show(list, func() {
		for _, st := range list {
			a.printf("Staged in change %d (edit %d), nothing sent:\n", n, st.Edit.ID)
			a.stagedText(st)
		}
		a.printf("Next: latch preview %d\n", n)
	})
}

func (a *app) stagedText(st wire.Staged) {
	a.printf("  %s %s\n", st.Edit.Device, st.Edit.Path)
	switch {
	case st.Edit.Op == "move":
		a.printf("    %s\n", a.paint(markStyle[diff.MarkMoved], diff.MarkMoved+" moved "+st.Edit.Value))
	case st.Before == "" && st.After == "":
		a.printf("    %s\n", st.Edit.Op)
	case st.Before == st.After:
		a.value(" ", st.After)
	case st.Before == "":
		a.value("+", st.After)
	case st.After == "":
		a.value("−", st.Before)
	case strings.Contains(st.Before+st.After, "\n"):
		a.value("−", st.Before)
		a.value("+", st.After)
	default:
		a.printf("    %s\n", a.paint(markStyle["~"], "~ "+st.Before+" → "+st.After))
	}
	for _, note := range st.Notes {
		a.printf("  note: %s\n", note)
	}
}

func (a *app) value(mark, text string) {
	for _, l := range strings.Split(text, "\n") {
		a.printf("    %s\n", a.paint(markStyle[mark], mark+" "+l))
	}
}

// modes are how a piece of configuration may be loaded.
const modes = "merge (what it holds is set, everything else stays), replace (it is the whole configuration), " +
	"replace-at (just what is at --at), patch (a YANG Patch)"

func load(a *app, fs *flag.FlagSet) func([]string) error {
	mode := fs.String("mode", "", modes)
	at := fs.String("at", "", "with --mode replace-at: the path")
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		if *mode == "" {
			return wrongUse("say how with --mode: %s", modes)
		}
		text, err := a.read(args[2])
		if err != nil {
			return err
		}
		name := "standard input"
		if args[2] != "-" {
			name = filepath.Base(args[2])
		}
		return a.sendLoad(
			n, "", wire.NewLoad{Devices: names(args[1]), Mode: *mode, Path: *at, Text: string(text), Name: name},
		)
	}
}

func copyFrom(a *app, fs *flag.FlagSet) func([]string) error {
	mode := fs.String("mode", "merge", "merge, replace or replace-at, as for latch load")
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		from := sideOf(args[2])
		if from.device == "" {
			return wrongUse("%s is a file: stage it with latch load", args[2])
		}
		in := wire.NewLoad{Devices: names(args[1]), Mode: *mode, FromDevice: from.device, From: from.from}
		if len(args) == 4 {
			in.Path = args[3]
		}
		return a.sendLoad(n, "", in)
	}
}

func (a *app) sendLoad(n int64, tag string, in wire.NewLoad) error {
	list, err := a.api().IfTag(tag).LoadConfiguration(a.ctx, n, in)
	if err != nil {
		return err
	}
	return a.loaded(n, list)
}

func (a *app) loaded(n int64, list []wire.Loaded) error {
	return a.show(list, func() {
		for _, l := range list {
			how := ""
			if l.Format != "" && l.Edit.Source != "" && !strings.Contains(l.Edit.Source, "@") {
				how = ", read as " + l.Format
			}
			switch {
			case l.Edit.ID == 0:
				a.printf("%s: nothing was staged%s\n", l.Device, how)
			default:
				a.printf("Staged in change %d on %s (edit %d)%s, nothing sent:\n", n, l.Device, l.Edit.ID, how)
			}
			if len(l.Groups) > 0 {
				a.groups(l.Groups)
			} else {
				a.difference(l.Lines)
			}
			for _, note := range l.Notes {
				a.printf("  note: %s\n", note)
			}
		}
		a.printf("Next: latch preview %d\n", n)
	})
}

// editText lets a person edit what is staged on a device as an outline.
func editText(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		path := "/"
		if len(args) == 3 {
			path = args[2]
		}
		p, err := a.api().GetPart(a.ctx, n, args[1], client.GetPartQuery{Path: path})
		if err != nil {
			return err
		}
		head := fmt.Sprintf(
			"# Change %d, %s, %s. What stands here when you leave the editor is what will be staged\n# there, and "+
				"nothing else. Lines that begin with # are left out; to stage nothing, empty the file.\n",
			n, p.Device, p.Path,
		)
		text, kept, err := a.inEditor(head + p.Outline)
		if err != nil {
			return err
		}
		switch {
		case text == head+p.Outline:
			return a.show([]wire.Loaded{}, func() { a.printf("Nothing was changed, nothing was staged.\n") })
		case strings.TrimSpace(text) == "":
			return a.show([]wire.Loaded{}, func() {
				a.printf(
					"The file was empty, nothing was staged. To delete what is there: latch delete %d %s %s\n", n,
					p.Device, p.Path,
				)
			})
		}
		in := wire.NewLoad{Devices: []string{p.Device}, Mode: "replace-at", Path: p.Path, Text: text, Name: "an editor"}
		if strings.Trim(p.Path, "/") == "" {
			in.Mode, in.Path = "replace", ""
		}
		if err := a.sendLoad(n, p.Tag, in); err != nil {
			return fmt.Errorf(
				"%w\nWhat you wrote is in %s; stage it with: latch load %d %s %s --mode %s", err, kept, n,
				p.Device, kept, strings.TrimSpace(in.Mode+" "+atFlag(in.Path)),
			)
		}
		return os.RemoveAll(filepath.Dir(kept))
	}
}

func atFlag(path string) string {
	if path == "" {
		return ""
	}
	return "--at " + path
}

// inEditor gives a text as a person left it, and the file it is in.
func (a *app) inEditor(text string) (edited, file string, err error) {
	editor := a.getenv("VISUAL")
	if editor == "" {
		editor = a.getenv("EDITOR")
	}
	if editor == "" {
		return "", "", wrongUse("which editor? Set EDITOR, e.g. EDITOR=nano")
	}
	dir, err := os.MkdirTemp("", "latch-edit-")
	if err != nil {
		return "", "", err
	}
	file = filepath.Join(dir, "staged.outline")
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		return "", file, err
	}
	words := append(strings.Fields(editor), file)
	cmd := exec.CommandContext(a.ctx, words[0], words[1:]...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = a.in, raw(a.err), raw(a.err)
	if err := cmd.Run(); err != nil {
		return "", file, &exit{
			WrongUse, fmt.Errorf("the editor %q failed: %w; nothing was staged, the text is in %s", editor, err, file),
		}
	}
	b, err := os.ReadFile(file)
	return string(bytes.ReplaceAll(b, []byte("\r\n"), []byte("\n"))), file, err
}

func unstage(a *app, fs *flag.FlagSet) func([]string) error {
	device := fs.String("device", "", "those on this device")
	by := fs.String("by", "", "those of this person")
	path := fs.String("path", "", "what was staged at this line and below it; with --device")
	all := fs.Bool("all", false, "all of them")
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		if len(args) == 2 {
			id, err := numbered("an edit", args[1], "latch preview "+args[0])
			if err != nil {
				return err
			}
			if err := a.api().UnstageEdit(a.ctx, n, id); err != nil {
				return err
			}
			return a.show(struct{}{}, func() { a.printf("Edit %d is removed.\n", id) })
		}
		if *device == "" && *by == "" && *path == "" && !*all {
			return wrongUse("which? Give the number of an edit, or --by, --device, --path, or --all")
		}
		list, err := a.api().UnstageEdits(a.ctx, n, client.UnstageEditsQuery{Device: *device, By: *by, Path: *path})
		if err != nil {
			return err
		}
		return a.show(list, func() {
			for _, e := range list {
				what := "removed"
				if *path != "" && e.Op == "load" {
					what = "removed below " + *path
				}
				a.printf("%s: %s\n", what, editLine(e))
			}
		})
	}
}

// editLine tells a staged edit in one line.
func editLine(e wire.Edit) string {
	text := fmt.Sprintf("edit %d: %s %s", e.ID, e.Op, e.Path)
	switch {
	case e.Mode == "stencil", e.Mode == "rebase":
		text = fmt.Sprintf("edit %d: %s, %s", e.ID, e.Source, count(e.Lines, "line", "lines"))
	case e.Op == "load":
		text = fmt.Sprintf(
			"edit %d: %s of %s at %s, %s", e.ID, e.Mode, e.Source, e.Path, count(e.Lines, "line", "lines"),
		)
	case e.Value != "":
		text += " " + e.Value
	}
	if e.Op == "put" && e.Mode != "" {
		text += " (" + e.Mode + ")"
	}
	return fmt.Sprintf("%s (%s, %s)", text, e.Actor, when(e.At))
}

// mend stages the edit that a finding offers.
func mend(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		p, err := a.api().PreviewChange(a.ctx, n, client.PreviewChangeQuery{})
		if err != nil {
			return err
		}
		offered := 0
		for _, part := range p.Parts {
			for _, f := range part.Findings {
				if f.Fix == nil {
					continue
				}
				if offered++; fmt.Sprint(offered) != args[1] {
					continue
				}
				in := wire.NewEdit{Devices: []string{part.Device}, Op: f.Fix.Edit, Path: f.Fix.Path}
				if f.Fix.Value != "" {
					in.Value = &f.Fix.Value
				}
				return a.stage(n, in)
			}
		}
		return wrongUse(
			"finding %q offers no edit; change %d has %s with one: latch preview %d", args[1], n,
			count(offered, "finding", "findings"), n,
		)
	}
}
