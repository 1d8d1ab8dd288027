package check_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/check"
	"oakenlatch/core/codec"
	"oakenlatch/core/markup"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/test/pace"
)

// zoo has what the standard modules have little of.
const zoo = `module z { yang-version 1.1; namespace "urn:z"; prefix z; import m { prefix m; }
  typedef level { type decimal64 { fraction-digits 2; range "0..10 | 20..30"; } }
  typedef tag { type string { length "1..4"; pattern "[a-d]*"; pattern "a.*" { modifier invert-match; } } }
  container zoo {
    leaf level { type level { range "1..9 | 21..25"; } } leaf tag { type tag; } leaf raw { type binary { length "0..3"; } }
    leaf flags { type bits { bit a; bit b { position 5; } } } leaf many { type union { type uint8 { range "0..9"; } type level; type enumeration { enum x; } } }
    list cage { key "row place"; ordered-by user; min-elements 1; unique "owner/name size"; leaf row { type uint8; } leaf place { type tag; }
      container owner { leaf name { type string; } leaf age { type uint8; must ". > 17 or ../../size < 3"; } } leaf size { type int8; default 2; }
      leaf next { type leafref { path "../../cage[row = current()/../row]/place"; } }
      must "not(preceding-sibling::cage[row = current()/row]) or place" ; must "count(../cage[size = current()/size]) < 3"; }
    choice mood { default calm; case calm { leaf calm { type uint8; default 1; } } case wild { leaf wild { type uint8; } leaf roar { type empty; mandatory true; } } }
    leaf heard { when "../roar"; type string; } leaf quiet { when "../calm = 1"; type string; }
    container pond { presence p; leaf deep { type boolean; mandatory true; } leaf-list fish { type tag; min-elements 1; max-elements 2; } when "../level > 3"; }
  }
  augment "/m:c" { when "m:some = 'a'"; leaf extra { type string; } }
  augment "/m:c/m:way" { case z { leaf zz { type uint8; must "../m:must-be"; } } }
}`

// The judge is yanglint, a validator that nobody here wrote, over the modules
// that Debian ships.
const modulesDir = "/usr/share/yuma/modules"

// standardSets are sets of modules to judge documents of.
var standardSets = map[string][]string{
	"interfaces and routes": {
		"ietf-interfaces@2014-05-08", "iana-if-type@2014-05-08", "ietf-ip@2014-06-16", "ietf-routing@2016-11-04",
		"ietf-ipv4-unicast-routing@2016-11-04", "ietf-ipv6-unicast-routing@2016-11-04",
	},
	"system":         {"ietf-system@2014-08-06", "iana-crypt-hash@2014-08-06"},
	"access control": {"ietf-netconf-acm@2018-02-14"},
	"hardware":       {"ietf-hardware@2018-03-13", "iana-hardware@2018-03-13"},
	"networks":       {"ietf-network@2018-02-26", "ietf-network-topology@2018-02-26"},
	"alarms":         {"ietf-alarms@2019-09-11"}, "our own": nil,
}

func TestTheJudgeAgrees(t *testing.T) {
	if _, err := exec.LookPath("yanglint"); err != nil {
		t.Skip("yanglint (libyang2-tools) is not installed")
	}
	for name, modules := range standardSets {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			var files []string
			for _, m := range modules {
				files = append(files, filepath.Join(modulesDir, "ietf", m+".yang"))
			}
			if modules == nil {
				// What the judge does not know: deref() in a path, and unheard-of().
				known := strings.NewReplacer("deref(../other)/../u", "../u", "unheard-of(.)", ".").Replace(module)
				for name, text := range map[string]string{"m": known, "z": zoo} {
					files = append(files, filepath.Join(dir, name+".yang"))
					require.NoError(t, os.WriteFile(files[len(files)-1], []byte(text), 0o600))
				}
			}
			slices.Sort(files)
			s := load(t, files)
			j := &judge{t: t, s: s, dir: dir, files: files}
			for seed := range uint64(pace.Rounds(100)) {
				j.round(rand.New(rand.NewPCG(seed, 11)), seed)
			}
			t.Logf(
				"%d documents: %d valid, %d not, %d left to the device, %d to JSON and back", j.valid+j.invalid,
				j.valid, j.invalid, j.left, j.translated,
			)
			assert.Greater(t, j.valid, pace.Rounds(100)*2/5, "valid documents were among them")
		})
	}
}

// load compiles modules and all they import, with every feature.
func load(t testing.TB, files []string) *schema.Schema {
	t.Helper()
	var sources []schema.Source
	have := map[string]bool{}
	imported := map[string]bool{}
	var add func(file string)
	add = func(file string) {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		name, _, _ := strings.Cut(strings.TrimSuffix(filepath.Base(file), ".yang"), "@")
		if have[name] {
			return
		}
		have[name] = true
		sources = append(sources, schema.Source{Name: name, Text: string(text)})
		for _, dep := range schema.Dependencies(string(text)) {
			found, err := filepath.Glob(filepath.Join(modulesDir, "*", dep+"*.yang"))
			require.NoError(t, err)
			for _, f := range found {
				if base := filepath.Base(f); base == dep+".yang" || strings.HasPrefix(base, dep+"@") {
					if !have[dep] {
						imported[dep] = true
					}
					add(f)
				}
			}
		}
	}
	for _, f := range files {
		add(f)
	}
	for _, f := range files {
		name, _, _ := strings.Cut(strings.TrimSuffix(filepath.Base(f), ".yang"), "@")
		delete(imported, name)
	}
	s := schema.Compile(sources, schema.Options{AllFeatures: true, ImportOnly: imported})
	require.Empty(t, s.Problems)
	return s
}

type judge struct {
	t                    *testing.T
	s                    *schema.Schema
	dir                  string
	files                []string
	valid, invalid, left int
	translated           int
}

// round makes a document, mends it as far as the findings say how, and breaks
// it in one place; the judge is asked about all three.
func (j *judge) round(r *rand.Rand, seed uint64) {
	n := document(r, j.s)
	j.ask(n, seed)
	for range 40 {
		found := check.Tree(j.s, n).Findings
		if len(found) == 0 {
			break
		}
		next := n
		for _, f := range found {
			path := f.Path
			if f.Fix != nil {
				path = f.Fix.Path
			}
			p, err := tree.ParsePath(j.s, path)
			require.NoError(j.t, err)
			if out, err := tree.Apply(next, tree.DeleteAt(p), tree.None); err == nil {
				next = out
			} else if len(p) > 1 { // something is missing there: away with what needs it
				if out, err := tree.Apply(next, tree.DeleteAt(p[:len(p)-1]), tree.None); err == nil {
					next = out
				}
			}
		}
		n = next
	}
	j.ask(n, seed)
	j.ask(broken(r, j.s, n), seed)
}

func (j *judge) ask(n *tree.Node, seed uint64) {
	w := &markup.Writer{}
	codec.Encode(w, j.s, n)
	doc := w.Bytes()
	if len(doc) == 0 {
		return
	}
	res := check.Tree(j.s, n)
	if res.Unchecked > 0 {
		j.left++
		return
	}
	file := filepath.Join(j.dir, "doc.xml")
	require.NoError(j.t, os.WriteFile(file, doc, 0o600))
	args := append([]string{"-p", modulesDir, "-p", j.dir, "-t", "config"}, j.files...)
	out, err := exec.Command("yanglint", append(args, file)...).CombinedOutput()
	theirs := err == nil
	if ours := len(res.Findings) == 0; ours != theirs {
		var b strings.Builder
		for _, f := range res.Findings {
			fmt.Fprintf(&b, "  %s: %s\n", f.Path, f.Message)
		}
		j.t.Errorf(
			"seed %d: valid here: %v, there: %v\nours:\n%stheirs:\n%s\n%s", seed, ours, theirs, b.String(), out,
			bytes.ReplaceAll(doc, []byte("><"), []byte(">\n<")),
		)
	}
	if theirs {
		j.valid++
		if j.valid%4 == 0 {
			j.translate(n, file, seed)
		}
	} else {
		j.invalid++
	}
}

// translate has the judge turn our XML into JSON and our JSON into XML: both
// mean here what it was.
func (j *judge) translate(n *tree.Node, file string, seed uint64) {
	ours := filepath.Join(j.dir, "doc.json")
	require.NoError(j.t, os.WriteFile(ours, codec.JSON(j.s, n), 0o600))
	for _, c := range []struct{ from, to string }{{file, "json"}, {ours, "xml"}} {
		out, err := exec.Command(
			"yanglint",
			append(append([]string{"-p", modulesDir, "-p", j.dir, "-t", "config", "-f", c.to}, j.files...), c.from)...,
		).Output()
		require.NoError(j.t, err, "seed %d, %s: %s", seed, c.from, out)
		doc, err := codec.Decoder{Schema: j.s}.Read(out)
		require.NoError(j.t, err, "seed %d: %s", seed, out)
		require.Equal(j.t, codec.OutlineText(n), codec.OutlineText(doc.Content), "seed %d, to %s", seed, c.to)
	}
	j.translated++
}

// texts are values to try where a type's patterns decide.
var texts = []string{
	"a", "b", "c", "d", "eth0", "192.0.2.1", "198.51.100.7", "2001:db8::1", "192.0.2.0/24", "2001:db8::/32",
	"host.example", "00:11:22:33:44:55", "2026-11-23T10:00:00Z", "1", "7", "/a/b", "*", "read", "exec", "$0$secret",
	"urn:example:x", "1.2.3", "Europe/Oslo", "", "two words", "0a:1b", "12",
}

// document makes a random document, mostly of valid values.
func document(r *rand.Rand, s *schema.Schema) *tree.Node {
	g := &generator{r: r, s: s}
	var out []*tree.Node
	for _, n := range s.Roots() {
		out = append(out, g.nodes(n, 0)...)
	}
	return tree.Root(out)
}

type generator struct {
	r    *rand.Rand
	s    *schema.Schema
	bad  bool
	made int
}

func (g *generator) nodes(n *schema.Node, depth int) []*tree.Node {
	rare := 3
	if n.Mandatory || n.Min > 0 || depth == 0 {
		rare = 12
	}
	if !n.Config || n.KeyIndex() < 0 && g.r.IntN(rare) == 0 || depth > 8 || g.made > 300 {
		return nil
	}
	g.made++
	switch n.Kind {
	case schema.Leaf:
		if v, ok := g.value(n.Type); ok {
			return []*tree.Node{tree.NewLeaf(n, v)}
		}
	case schema.LeafList:
		var out []*tree.Node
		for range g.r.IntN(3) {
			v, ok := g.value(n.Type)
			if ok && !slices.ContainsFunc(out, func(o *tree.Node) bool { return o.Value() == v }) {
				out = append(out, tree.NewLeaf(n, v))
			}
		}
		return out
	case schema.Container:
		return []*tree.Node{tree.New(n, g.children(n, depth))}
	case schema.List:
		var out []*tree.Node
		for range g.r.IntN(4) {
			kids := g.children(n, depth)
			e := tree.New(n, kids)
			if slices.Contains(e.Keys(), "") || slices.ContainsFunc(
				out, func(o *tree.Node) bool { return slices.Equal(o.Keys(), e.Keys()) },
			) {
				continue
			}
			if len(kids) >= len(n.Keys) && hasKeys(e) {
				out = append(out, e)
			}
		}
		return out
	}
	return nil
}

func hasKeys(e *tree.Node) bool {
	for _, k := range e.Schema().Keys {
		if e.Known(k) == nil {
			return false
		}
	}
	return true
}

func (g *generator) children(n *schema.Node, depth int) []*tree.Node {
	picked := map[*schema.Node]*schema.Node{}
	var out []*tree.Node
	for _, c := range n.Data() {
		if !chosen(g.r, picked, c) {
			continue
		}
		out = append(out, g.nodes(c, depth+1)...)
	}
	return out
}

// chosen picks one case of each choice around a node.
func chosen(r *rand.Rand, picked map[*schema.Node]*schema.Node, n *schema.Node) bool {
	for c := n.Parent; c != nil && c.Kind == schema.Case; c = c.Parent.Parent {
		if picked[c.Parent] == nil {
			all := c.Parent.Children()
			picked[c.Parent] = all[r.IntN(len(all))]
		}
		if picked[c.Parent] != c {
			return false
		}
	}
	return true
}

func (g *generator) value(t *schema.Type) (string, bool) {
	resolve := g.s.NameResolver(nil)
	for range 30 {
		v := g.guess(t)
		canon, err := g.s.Canonical(t, v, resolve)
		if g.bad && err != nil {
			return v, true
		}
		if !g.bad && err == nil {
			return canon, true
		}
	}
	return "", false
}

func (g *generator) guess(t *schema.Type) string {
	pick := func(list []string) string { return list[g.r.IntN(len(list))] }
	switch t.Base {
	case schema.Boolean:
		return pick([]string{"true", "false"})
	case schema.Empty:
		return ""
	case schema.Enumeration:
		if len(t.Enums) > 0 {
			return t.Enums[g.r.IntN(len(t.Enums))].Name
		}
	case schema.Bits:
		if len(t.Bits) > 0 {
			return t.Bits[g.r.IntN(len(t.Bits))].Name
		}
	case schema.Binary:
		return pick([]string{"", "AAEC", "cXVheQ=="})
	case schema.Decimal64:
		return pick([]string{"0.5", "1.0", "-3.25", "99"})
	case schema.IdentityRef:
		if list := g.s.Identities(t); len(list) > 0 {
			return pick(list)
		}
	case schema.InstanceIdentifier:
		return pick([]string{"/m:c", "/m:c/m:entry[m:k='a']", "/m:c/m:some[.='a']", "/m:c/m:strict"})
	case schema.LeafRef:
		if t.Target != nil {
			return g.guess(t.Target.Type)
		}
	case schema.Union:
		return g.guess(t.Members[g.r.IntN(len(t.Members))])
	case schema.String:
		return pick(texts)
	default: // the integers
		return pick([]string{"0", "1", "2", "7", "24", "32", "64", "128", "1280", "1500", "65535", "-1"})
	}
	return "nothing"
}

// broken changes a document in one place: a leaf gone, a value that may not
// be, an entry gone that others refer to.
func broken(r *rand.Rand, s *schema.Schema, n *tree.Node) *tree.Node {
	var paths []tree.Path
	var walk func(n *tree.Node, at tree.Path)
	walk = func(n *tree.Node, at tree.Path) {
		for c := range n.Each() {
			if c.Schema() != nil && c.Schema().KeyIndex() < 0 {
				paths = append(paths, at.Down(c))
				walk(c, at.Down(c))
			}
		}
	}
	walk(n, nil)
	if len(paths) == 0 {
		return n
	}
	p := paths[r.IntN(len(paths))]
	edit := tree.DeleteAt(p)
	if leaf := p.Last(); leaf.Kind == schema.Leaf && r.IntN(3) > 0 {
		g := &generator{r: r, s: s, bad: r.IntN(2) == 0}
		if v, ok := g.value(leaf.Type); ok {
			edit = tree.Put(p, v)
		}
	}
	out, err := tree.Apply(n, edit, tree.None)
	if err != nil {
		return n
	}
	return out
}
