package cli

import (
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"oakenlatch/client"
	"oakenlatch/core/check"
	"oakenlatch/core/clip"
	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/markup"
	"oakenlatch/core/redact"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/wire"
)

// yang is where the meaning of files is taken from: a device's own modules or
// a folder of them.
type yang struct {
	app            *app
	device, folder *string
	features       *string
}

func (a *app) yangFlags(fs *flag.FlagSet) *yang {
	return &yang{
		app: a, device: fs.String("device", "", "take the YANG modules of this device"),
		folder: fs.String("modules", "", "take the YANG modules in this folder; no service is needed then"),
		features: fs.String(
			"features", "", "with --modules: the features that are there, MODULE:FEATURE,...; all if left out",
		),
	}
}

// schema compiles the modules; some is a device that is asked if no flag names
// one.
func (y *yang) schema(some string) (*schema.Schema, error) {
	device := *y.device
	if device == "" && *y.folder == "" {
		device = some
	}
	switch {
	case *y.folder != "" && *y.device != "":
		return nil, wrongUse("give --device or --modules, not both")
	case *y.folder != "":
		return y.fromFolder()
	case device == "":
		return nil, wrongUse("whose YANG modules? Give --device NAME, or --modules FOLDER")
	}
	m, err := y.app.api().DeviceModules(y.app.ctx, device)
	if err != nil {
		return nil, err
	}
	opt := schema.Options{Features: m.Features, ImportOnly: map[string]bool{}}
	for _, name := range m.ImportOnly {
		opt.ImportOnly[name] = true
	}
	var sources []schema.Source
	for _, mod := range m.Modules {
		sources = append(sources, schema.Source{Name: mod.Name, Revision: mod.Revision, Text: mod.Text})
	}
	return schema.Compile(sources, opt), nil
}

func (y *yang) fromFolder() (*schema.Schema, error) {
	var sources []schema.Source
	err := filepath.WalkDir(*y.folder, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || filepath.Ext(path) != ".yang" {
			return err
		}
		text, err := os.ReadFile(path)
		sources = append(
			sources, schema.Source{Name: strings.TrimSuffix(filepath.Base(path), ".yang"), Text: string(text)},
		)
		return err
	})
	if err != nil {
		return nil, wrongUse("modules: %v", err)
	}
	if len(sources) == 0 {
		return nil, wrongUse("there is no .yang file in %s", *y.folder)
	}
	opt := schema.Options{AllFeatures: *y.features == "", Features: map[string][]string{}}
	for _, f := range strings.FieldsFunc(*y.features, func(r rune) bool { return r == ',' }) {
		module, feature, ok := strings.Cut(f, ":")
		if !ok {
			return nil, wrongUse("feature %q: write MODULE:FEATURE", f)
		}
		opt.Features[module] = append(opt.Features[module], feature)
	}
	s := schema.Compile(sources, opt)
	s.Problems = append(s.Problems, check.Conditions(s)...)
	y.problems(s)
	return s, nil
}

// problems tells what of a folder's modules is not understood.
func (y *yang) problems(s *schema.Schema) {
	const most = 10
	for i, p := range s.Problems {
		if i == most {
			_, _ = fmt.Fprintf(y.app.err, "latch: and %d more\n", len(s.Problems)-most)
			break
		}
		_, _ = fmt.Fprintf(y.app.err, "latch: not understood: %s\n", p)
	}
}

// read gives the text of a file; - is standard input.
func (a *app) read(name string) ([]byte, error) {
	var text []byte
	var err error
	if name == "-" {
		text, err = io.ReadAll(io.LimitReader(a.in, markup.DefaultBytes+1))
	} else {
		text, err = os.ReadFile(name)
	}
	if err != nil {
		return nil, wrongUse("%v", err)
	}
	return text, nil
}

// decoder reads configurations, in which names may stand for values that the service hides.
func (a *app) decoder(s *schema.Schema) codec.Decoder {
	return codec.Decoder{Schema: s, Stands: redact.IsName}
}

// document reads a configuration from a file, in whatever format it is.
func (a *app) document(s *schema.Schema, name string) (*codec.Document, error) {
	text, err := a.read(name)
	if err != nil {
		return nil, err
	}
	doc, err := a.decoder(s).Read(text)
	if err != nil {
		return nil, &exit{WrongUse, fmt.Errorf("%s (read as %s): %w", name, codec.Recognise(text), err)}
	}
	return doc, nil
}

// read reads a file with the modules that the flags name.
func (y *yang) read(name string) (*schema.Schema, *codec.Document, error) {
	s, err := y.schema("")
	if err != nil {
		return nil, nil, err
	}
	doc, err := y.app.document(s, name)
	return s, doc, err
}

func checkFile(a *app, fs *flag.FlagSet) func([]string) error {
	y := a.yangFlags(fs)
	return func(args []string) error {
		s, doc, err := y.read(args[0])
		if err != nil {
			return err
		}
		res, hidden := check.Document(s, doc.Content), redact.Names(doc.Content)
		answer := struct {
			File      string          `json:"file"`
			Format    codec.Format    `json:"format"`
			Nodes     int             `json:"nodes"`
			Findings  []check.Finding `json:"findings"`
			Unread    []string        `json:"unread"`
			Unchecked int             `json:"unchecked"`
			Reasons   []string        `json:"reasons,omitempty"`
		}{
			args[0], doc.Format, doc.Content.Count(), append([]check.Finding{}, res.Findings...),
			append([]string{}, doc.Content.Undescribed()...), res.Unchecked, res.Reasons,
		}
		err = a.show(answer, func() {
			for _, f := range res.Findings {
				a.finding(f)
				if f.Fix != nil {
					a.printf("    %s\n", fixText(f.Fix))
				}
			}
			for _, p := range answer.Unread {
				a.printf("  %s %s: no module describes it; carried unread\n", a.paint(dim, "note"), p)
			}
			for _, why := range res.Reasons {
				a.printf("  %s %s\n", a.paint(dim, "left to the device:"), why)
			}
			if len(hidden) > 0 {
				a.printf(
					"  %s %s by name, and cannot be judged: where this is loaded, what the device holds "+
						"there is meant\n",
					a.paint(dim, "note"), count(len(hidden), "hidden value stands", "hidden values stand"),
				)
			}
			a.printf(
				"%s (%s, %s): %s\n", args[0], doc.Format, count(answer.Nodes, "value", "values"), verdict(res.Findings),
			)
		})
		if err == nil && slices.ContainsFunc(
			res.Findings, func(f check.Finding) bool { return f.Severity != check.Hint },
		) {
			err = &exit{status: AnswerNo}
		}
		return err
	}
}

func verdict(list []check.Finding) string {
	by := map[check.Severity]int{}
	for _, f := range list {
		by[f.Severity]++
	}
	if len(list) == 0 {
		return "nothing wrong was found"
	}
	return fmt.Sprintf(
		"%s, %s, %s", count(by[check.Error], "error", "errors"), count(by[check.Warning], "warning", "warnings"),
		count(by[check.Hint], "hint", "hints"),
	)
}

func (a *app) finding(f check.Finding) {
	a.printf("  %s %s: %s\n", a.paint(severityStyle[f.Severity], string(f.Severity)), f.Path, f.Message)
}

var severityStyle = map[check.Severity]string{check.Error: alarm, check.Warning: alarm, check.Hint: dim}

func fixText(f *check.Fix) string {
	return strings.TrimSpace(fmt.Sprintf("fixed by: %s %s %s", f.Edit, f.Path, f.Value))
}

// side is one of two configurations to compare.
type side struct {
	name, device, from string // device "" is a file
}

func sideOf(arg string) side {
	if _, err := os.Stat(arg); err == nil || arg == "-" {
		return side{name: arg}
	}
	return deviceSide(arg)
}

// deviceSide reads NAME or NAME@PLACE.
func deviceSide(arg string) side {
	device, from, ok := strings.Cut(arg, "@")
	if !ok {
		from = "running"
	}
	return side{arg, device, from}
}

func (a *app) load(s *schema.Schema, x side) (*tree.Node, error) {
	if x.device == "" {
		doc, err := a.document(s, x.name)
		if err != nil {
			return nil, err
		}
		return doc.Content, nil
	}
	c, err := a.api().DeviceConfig(a.ctx, x.device, client.DeviceConfigQuery{From: x.from})
	var p *wire.Problem
	if errors.As(err, &p) && strings.HasPrefix(p.Detail, "there is no device") {
		return nil, wrongUse("%s is neither a file nor a device: %w", x.name, err)
	}
	if err != nil {
		return nil, err
	}
	return a.decoder(s).ParseTree([]byte(c.XML))
}

// renderings are the forms of a difference beside the readable one.
var renderings = []string{"lines", "sides", "groups", "unified", "edit-config", "yang-patch", "yang-patch-json"}

func compare(a *app, fs *flag.FlagSet) func([]string) error {
	y := a.yangFlags(fs)
	as := fs.String("as", "lines", strings.Join(renderings, ", ")+"; --json is the list of changes")
	context := fs.Int("context", 1, "unchanged neighbours, or lines, shown around each change")
	path := fs.String("path", "", "only what lies at or below this path")
	defaults := fs.Bool("defaults", false, "take a value set to its default as different from one not set")
	return func(args []string) error {
		if !slices.Contains(renderings, *as) {
			return wrongUse("--as %q is not one of %s", *as, strings.Join(renderings, ", "))
		}
		sides := [2]side{sideOf(args[0]), sideOf(args[1])}
		some := sides[0].device
		if some == "" {
			some = sides[1].device
		}
		s, err := y.schema(some)
		if err != nil {
			return err
		}
		var trees [2]*tree.Node
		for i, x := range sides {
			if trees[i], err = a.load(s, x); err != nil {
				return err
			}
			if !*defaults {
				trees[i] = trees[i].WithoutDefaults()
			}
		}
		p, err := tree.ParsePath(s, *path)
		if err != nil {
			return wrongUse("%v", err)
		}
		d := diff.Compare(trees[0], trees[1]).Below(p)
		if err := a.show(
			append([]diff.Item{}, d.Items()...), func() { a.rendering(s, d, p, sides, *as, *context) },
		); err != nil {
			return err
		}
		if !d.Empty() {
			return &exit{status: AnswerNo}
		}
		return nil
	}
}

func (a *app) rendering(
	s *schema.Schema, d *diff.Difference, path tree.Path, sides [2]side, as string, context int,
) {
	switch as {
	case "unified":
		there := diff.Compare(d.Old.Cut(path), d.New.Cut(path))
		_ = a.exact(there.Unified(sides[0].name, sides[1].name, max(context, 0)))
		return
	case "edit-config":
		w := &markup.Writer{Indent: "  "}
		w.Start(markup.Name{Space: codec.NetconfNS, Local: "config"})
		codec.EncodeEdit(w, s, d.Edits())
		w.End()
		_ = a.exact(string(w.Bytes()) + "\n")
		return
	case "yang-patch":
		_ = a.exact(string(d.YangPatchXML(s, "compare")))
		return
	case "yang-patch-json":
		_ = a.exact(string(d.YangPatchJSON(s, "compare")))
		return
	case "groups":
		a.groups(d.Groups())
	case "sides":
		a.sides(d.Lines(context), sides[0].name, sides[1].name)
	default:
		a.difference(d.Lines(context))
	}
	if d.Empty() {
		a.printf("No difference between %s and %s.\n", sides[0].name, sides[1].name)
		return
	}
	a.printf("%s from %s to %s.\n", count(d.Count(), "difference", "differences"), sides[0].name, sides[1].name)
}

var kindMark = map[diff.Kind]string{
	diff.Added: diff.MarkAdded, diff.Removed: diff.MarkRemoved, diff.Changed: diff.MarkChanged,
	diff.Moved: diff.MarkMoved,
}

// groups tells like changes together.
func (a *app) groups(list []diff.Group) {
	for _, g := range list {
		text := g.Place
		switch {
		case g.Old != "" && g.New != "" && g.Kind == diff.Changed:
			text += ": " + clip.Line(g.Old, 40) + " → " + clip.Line(g.New, 40)
		case g.New != "":
			text += ": " + clip.Line(g.New, 60)
		case g.Old != "":
			text += ": " + clip.Line(g.Old, 60)
		}
		mark := kindMark[g.Kind]
		a.printf("  %s\n", a.paint(markStyle[mark], fmt.Sprintf("%s %6d× %s", mark, g.Count, text)))
		if g.Count > 1 {
			more := ""
			if g.Count > len(g.Examples) {
				more = ", …"
			}
			a.printf("            %s\n", a.paint(dim, strings.Join(g.Examples, ", ")+more))
		}
	}
}

func convert(a *app, fs *flag.FlagSet) func([]string) error {
	y := a.yangFlags(fs)
	to := fs.String("to", "outline", "xml, json or outline")
	instance := fs.String("instance", "", "write an instance data file (RFC 9195) of this name; with xml and json")
	defaults := fs.String("with-defaults", "explicit", "explicit, trim, report-all or report-all-tagged (RFC 6243)")
	return func(args []string) error {
		modes := []tree.DefaultsMode{tree.Explicit, tree.Trim, tree.ReportAll, tree.ReportAllTagged}
		if !slices.Contains(modes, tree.DefaultsMode(*defaults)) {
			return wrongUse("--with-defaults %q is not one of explicit, trim, report-all, report-all-tagged", *defaults)
		}
		if *instance != "" && *to == "outline" {
			return wrongUse("an instance data file is XML or JSON: give --to xml or --to json")
		}
		s, doc, err := y.read(args[0])
		if err != nil {
			return err
		}
		text, err := written(s, doc, codec.Format(*to), *instance, tree.DefaultsMode(*defaults))
		if err != nil {
			return err
		}
		err = a.exact(string(text))
		return err
	}
}

// written gives a document in another format.
func written(
	s *schema.Schema, doc *codec.Document, to codec.Format, instance string, mode tree.DefaultsMode,
) ([]byte, error) {
	n := doc.Content.WithDefaults(s, mode)
	d := codec.Decoder{Schema: s}
	in := doc.Instance
	if instance != "" {
		if in == nil {
			in = &codec.Instance{Timestamp: time.Now().UTC().Format(time.RFC3339)}
			for _, m := range n.Modules() {
				in.Modules = append(in.Modules, strings.TrimSuffix(m.Name+"@"+m.Revision, "@"))
			}
		}
		in.Name, in.Content = instance, n
	}
	switch {
	case to == codec.FormatXML && instance != "":
		return d.InstanceXML(in), nil
	case to == codec.FormatJSON && instance != "":
		return d.InstanceJSON(in), nil
	case to == codec.FormatXML:
		return codec.XML(s, n, markup.Name{Space: codec.NetconfNS, Local: "config"}), nil
	case to == codec.FormatJSON:
		return codec.JSON(s, n), nil
	case to == codec.FormatOutline:
		return []byte(codec.OutlineText(n)), nil
	}
	return nil, wrongUse("--to %q is not one of xml, json, outline", to)
}
