// Command bench measures the core against yardsticks taken in the same run and
// ends with one line a figure. What each figure means is in
// docs/performance.md. It needs diff, yanglint and the modules that Debian
// ships; make bench sees to that.
package main

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"github.com/openconfig/goyang/pkg/yang"

	"oakenlatch/core/check"
	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/markup"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/core/treetest"
)

const modules = "/usr/share/yuma/modules/ietf"

var standard = []string{
	"ietf-interfaces@2014-05-08", "ietf-ip@2014-06-16", "ietf-inet-types@2013-07-15", "ietf-yang-types@2013-07-15",
	"iana-if-type@2014-05-08",
}

func main() {
	if len(os.Args) > 2 && os.Args[1] == "flow-part" {
		flowPart(os.Args[2])
		return
	}
	b := &bench{}
	if err := b.run(); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
	fmt.Println()
	for _, f := range b.figures {
		verdict := "ok"
		if f.ratio > f.goal {
			verdict = "short"
		}
		fmt.Printf("figure %s %.3f goal %g %s\n", f.name, f.ratio, f.goal, verdict)
	}
}

type figure struct {
	name        string
	ratio, goal float64
}

type bench struct {
	dir     string
	schema  *schema.Schema
	sources []schema.Source
	files   []string
	figures []figure
}

func (b *bench) figure(name string, value, yardstick time.Duration, goal float64) {
	b.figures = append(b.figures, figure{name, value.Seconds() / yardstick.Seconds(), goal})
	fmt.Printf("%-28s %12s   yardstick %12s\n", name, value.Round(time.Microsecond), yardstick.Round(time.Microsecond))
}

// ratio is a figure that was measured by itself.
func (b *bench) ratio(name string, value, goal float64) {
	b.figures = append(b.figures, figure{name, value, goal})
}

// best times f several times and gives the shortest; prepare is not counted.
func best(times int, f func()) time.Duration {
	shortest := time.Duration(1 << 62)
	for range times {
		runtime.GC()
		start := time.Now()
		f()
		shortest = min(shortest, time.Since(start))
	}
	return shortest
}

// paired times two things by turns, so that both meet the same machine.
func paired(times int, f, g func()) (a, b time.Duration) {
	a, b = 1<<62, 1<<62
	for range times {
		b = min(b, best(1, g))
		a = min(a, best(1, f))
	}
	return a, b
}

// each times f, which is quick, over many runs in a row.
func each(f func()) time.Duration {
	const runs = 200
	return best(7, func() {
		for range runs {
			f()
		}
	}) / runs
}

func (b *bench) run() error {
	dir, err := os.MkdirTemp("", "oaken-latch-bench")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	b.dir = dir
	if len(os.Args) > 1 && os.Args[1] == "fleet" {
		return b.fleet()
	}
	if len(os.Args) > 1 && os.Args[1] == "crowd" {
		return b.crowd()
	}
	if len(os.Args) > 1 && os.Args[1] == "ledger" {
		return b.ledger()
	}
	if len(os.Args) > 1 && os.Args[1] == "lists" {
		return b.lists()
	}
	if len(os.Args) > 1 && os.Args[1] == "lint" {
		return b.lint()
	}
	if len(os.Args) > 1 && os.Args[1] == "flow" {
		return b.flow()
	}
	if err := b.load(); err != nil {
		return err
	}
	only := ""
	if len(os.Args) > 1 {
		only = os.Args[1]
	}
	if only != "core" {
		if err := b.history(); err != nil || only == "history" {
			return err
		}
	}
	if err := b.reading(10_000, 100_000); err != nil {
		return err
	}
	small, large := b.pair(10_000), b.pair(100_000)
	if err := b.comparing(small, large); err != nil {
		return err
	}
	b.editing()
	b.merging(small, large)
	if err := b.checking(small, large); err != nil {
		return err
	}
	if only == "core" {
		return nil
	}
	for _, rest := range []func() error{b.fleet, b.ledger, b.lists, b.flow} {
		if err := rest(); err != nil {
			return err
		}
	}
	return nil
}

// load compiles the modules and measures that.
func (b *bench) load() error {
	var sources []schema.Source
	for _, m := range standard {
		file := filepath.Join(modules, m+".yang")
		text, err := os.ReadFile(file)
		if err != nil {
			return fmt.Errorf("%w (package libyuma-base)", err)
		}
		b.files = append(b.files, file)
		sources = append(sources, schema.Source{Name: m, Text: string(text)})
	}
	pier := filepath.Join(b.dir, "pier-ports.yang")
	if err := os.WriteFile(pier, []byte(treetest.PierModule), 0o600); err != nil {
		return err
	}
	b.files = append(b.files, pier)
	sources = append(sources, schema.Source{Name: "pier-ports", Text: treetest.PierModule})
	b.sources = sources
	b.schema = schema.Compile(sources, schema.Options{AllFeatures: true})
	if len(b.schema.Problems) > 0 {
		return fmt.Errorf("the modules do not compile: %v", b.schema.Problems)
	}
	whole := sources
	all, err := filepath.Glob(filepath.Join(modules, "*.yang"))
	if err != nil {
		return err
	}
	for _, file := range all {
		text, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		whole = append(whole, schema.Source{Name: filepath.Base(file), Text: string(text)})
	}
	compile, parse := paired(5,
		func() { schema.Compile(whole, schema.Options{AllFeatures: true}) },
		func() {
			for _, s := range whole {
				if _, err := yang.Parse(s.Text, s.Name); err != nil {
					panic(err)
				}
			}
		})
	b.figure("schema-compile", compile, parse, 3)
	return nil
}

// inputs are a configuration and its changed copy.
type inputs struct {
	n             int
	doc, changed  []byte
	before, after *tree.Node
}

func (b *bench) pair(n int) *inputs {
	in := &inputs{n: n, doc: treetest.Interfaces(n), changed: treetest.InterfacesChanged(n)}
	in.before, in.after = b.parse(in.doc), b.parse(in.changed)
	return in
}

func (b *bench) parse(doc []byte) *tree.Node {
	n, err := codec.Decoder{Schema: b.schema}.ParseTree(doc)
	if err != nil {
		panic(err)
	}
	return n
}

func tokens(doc []byte) {
	dec := xml.NewDecoder(bytes.NewReader(doc))
	for {
		if _, err := dec.RawToken(); err != nil {
			return
		}
	}
}

func (b *bench) reading(sizes ...int) error {
	var doc []byte
	var parse, raw time.Duration
	for _, n := range sizes {
		doc = treetest.Interfaces(n)
		parse, raw = paired(9, func() { b.parse(doc) }, func() { tokens(doc) })
		b.figure(fmt.Sprintf("parse-%d", n), parse, raw, 1.5)
	}
	theirs, err := b.yanglint("edit", doc) // what is read as an edit is not validated
	if err != nil {
		return err
	}
	b.figure("parse-100000-libyang", parse, theirs, 1.5)
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	n := b.parse(doc)
	runtime.GC()
	runtime.ReadMemStats(&after)
	held := float64(after.HeapAlloc-before.HeapAlloc) / float64(len(doc))
	fmt.Printf(
		"%-28s %9.1f MB   document  %9.1f MB\n", "memory-100000", held*float64(len(doc))/1e6, float64(len(doc))/1e6,
	)
	b.figures = append(b.figures, figure{"memory-100000", held, 3})
	runtime.KeepAlive(n)
	return nil
}

// yanglint gives the time of a run of libyang's own tool over a document.
func (b *bench) yanglint(kind string, doc []byte) (time.Duration, error) {
	args := append([]string{"-p", filepath.Dir(modules), "-t", kind}, b.files...)
	return process("yanglint", append(args, b.write("doc.xml", inner(doc)))...)
}

// run gives the time of a process that may end with status 1.
func process(name string, args ...string) (time.Duration, error) {
	shortest := time.Duration(1 << 62)
	for range 3 {
		start := time.Now()
		err := exec.Command(name, args...).Run()
		if exit, ok := err.(*exec.ExitError); err != nil && (!ok || exit.ExitCode() > 1) {
			return 0, fmt.Errorf("%s: %w", name, err)
		}
		shortest = min(shortest, time.Since(start))
	}
	return shortest, nil
}

func (b *bench) write(name string, text []byte) string {
	file := filepath.Join(b.dir, name)
	if err := os.WriteFile(file, text, 0o600); err != nil {
		panic(err)
	}
	return file
}

func (b *bench) comparing(small, large *inputs) error {
	goals := map[int]float64{small.n: 0.02, large.n: 0.05}
	var costs []time.Duration
	for _, in := range []*inputs{small, large} {
		cost := best(7, func() { diff.Compare(in.before, in.after) })
		text, err := process("diff", "-u", b.write("a.xml", in.doc), b.write("b.xml", in.changed))
		if err != nil {
			return err
		}
		b.figure(fmt.Sprintf("compare-%d", in.n), cost, text, goals[in.n])
		costs = append(costs, cost)
	}
	b.figure("compare-growth", costs[1], costs[0], 12)
	return nil
}

// tenEdits changes ten leaves spread over a list of n interfaces.
func (b *bench) tenEdits(root *tree.Node, n int) *tree.Node {
	for i := range 10 {
		p, err := tree.ParsePath(b.schema, fmt.Sprintf("/interfaces/interface=port%d/description", i*n/10+3))
		if err != nil {
			panic(err)
		}
		if root, err = tree.Apply(root, tree.Put(p, "repainted"), tree.None); err != nil {
			panic(err)
		}
	}
	return root
}

func (b *bench) editing() {
	var compares, edits [2]time.Duration
	for i, n := range []int{1_000, 100_000} {
		base := b.parse(treetest.Interfaces(n))
		edited := b.tenEdits(base, n)
		compares[i] = each(func() { diff.Compare(base, edited) })
		edits[i] = each(func() { b.tenEdits(base, n) })
	}
	b.figure("compare-after-ten-edits", compares[1], compares[0], 2)
	b.figure("ten-edits", edits[1], edits[0], 3)
}

func (b *bench) merging(small, large *inputs) {
	var costs [2][4]time.Duration
	for i, in := range []*inputs{small, large} {
		mine := b.tenEdits(in.before, in.n)
		d := diff.Compare(in.before, in.after)
		edits := d.Edits()
		costs[i] = [4]time.Duration{
			best(7, func() { diff.Compare(in.before, in.after) }),
			best(7, func() { diff.Merge(in.before, in.after, mine) }),
			best(7, func() {
				w := &markup.Writer{}
				w.Start(markup.Name{Space: codec.NetconfNS, Local: "config"})
				codec.EncodeEdit(w, b.schema, d.Edits())
				w.End()
				_ = w.Bytes()
			}),
			best(7, func() {
				if _, err := tree.Apply(in.before, edits, tree.None); err != nil {
					panic(err)
				}
			}),
		}
	}
	for k, name := range []string{"merge", "edit-config", "apply"} {
		b.figure(name, costs[1][k+1], costs[1][0], 3)
		b.figure(name+"-growth", costs[1][k+1], costs[0][k+1], 15)
	}
}

func (b *bench) checking(small, large *inputs) error {
	whole := func(in *inputs) func() {
		return func() {
			res := check.Tree(b.schema, b.parse(in.doc))
			if res.Unchecked > 0 {
				panic(fmt.Sprint("left undecided: ", res.Reasons))
			}
		}
	}
	theirs, err := b.yanglint("config", small.doc)
	if err != nil {
		return err
	}
	b.figure("check-10000", best(5, whole(small)), theirs, 1)
	b.figure(
		"check-growth", best(3, func() { check.Tree(b.schema, large.before) }),
		best(5, func() { check.Tree(b.schema, small.before) }), 12,
	)
	return b.lint()
}

// inner is a document without its envelope.
func inner(doc []byte) []byte {
	text := string(doc)
	text = text[strings.Index(text, "\n")+1:]
	return []byte(strings.TrimSuffix(text, "</config>\n"))
}
