package diff_test

import (
	"encoding/json"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/markup"
	"oakenlatch/core/tree"
	"oakenlatch/core/treetest"
	"oakenlatch/test/pace"
)

var s = treetest.Schema()

// rounds is how many random trees are tried.
func rounds() int { return pace.Rounds(3000) }

// random gives a tree; mostly a small variation of another.
func random(r *rand.Rand, like *tree.Node) *tree.Node {
	if like == nil || r.IntN(4) == 0 {
		return treetest.Tree(r, s)
	}
	return treetest.Mutate(r, s, like)
}

func parse(t *testing.T, body string) *tree.Node {
	t.Helper()
	n, err := codec.Decoder{Schema: s, Strict: true}.ParseTree(
		[]byte(`<config><harbour xmlns="urn:example:quay">` + body + `</harbour></config>`),
	)
	require.NoError(t, err)
	return n
}

// apply carries out an edit document as a device gets it: as XML.
func apply(t *testing.T, base *tree.Node, e *tree.Edit) *tree.Node {
	t.Helper()
	w := &markup.Writer{}
	w.Start(markup.Name{Space: codec.NetconfNS, Local: "config"})
	codec.EncodeEdit(w, s, e)
	w.End()
	el, err := markup.Parse(w.Bytes(), markup.Limits{})
	require.NoError(t, err)
	doc, err := codec.Decoder{Schema: s}.Edit(el)
	require.NoError(t, err, "%s", w.Bytes())
	out, err := tree.Apply(base, doc, e.Op)
	require.NoError(t, err, "%s", w.Bytes())
	return out
}

func encoded(e *tree.Edit) string {
	w := &markup.Writer{}
	codec.EncodeEdit(w, s, e)
	return string(w.Bytes())
}

func TestProperties(t *testing.T) {
	for seed := range uint64(rounds()) {
		r := rand.New(rand.NewPCG(seed, 3))
		a := random(r, nil)
		b := random(r, a)
		d := diff.Compare(a, b)
		require.Equal(t, a.Digest() == b.Digest(), d.Empty(), "seed %d: empty exactly when the digests agree", seed)
		require.Equal(
			t, b.Digest(), apply(t, a, d.Edits()).Digest(), "seed %d: the edits make b of a:\n%s", seed, d.Text(0),
		)
		for n, form := range d.Forms() {
			require.Equal(t, b.Digest(), apply(t, a, form).Digest(), "seed %d: so does form %d", seed, n)
		}
		short := apply(t, a, d.Tails())
		rest := diff.Compare(short, b)
		require.NotContains(
			t, encoded(rest.Edits()), "insert=", "seed %d: once the tails are gone all goes to the end", seed,
		)
		require.Equal(t, b.Digest(), apply(t, short, rest.Edits()).Digest(), "seed %d", seed)
		require.Equal(
			t, a.Digest(), apply(t, b, d.Invert().Edits()).Digest(), "seed %d: inverted, they lead back", seed,
		)
		if int(seed) < rounds()/4 {
			readable(t, a, b, d, seed)
		}
		old, _ := d.Where(a)
		_, now := d.Where(b)
		require.True(t, old && now, "seed %d: both sides are recognised", seed)
		if !d.Empty() {
			_, now = d.Where(a)
			require.False(t, now, "seed %d: the old side is not taken for the new", seed)
		}
	}
}

// readable checks the renderings that machines read: each makes b of a.
func readable(t *testing.T, a, b *tree.Node, d *diff.Difference, seed uint64) {
	t.Helper()
	var items []diff.Item
	require.NoError(t, json.Unmarshal(d.JSON(), &items))
	got, err := diff.ApplyItems(s, a, items)
	require.NoError(t, err, "seed %d\n%s", seed, d.JSON())
	require.Equal(t, b.Digest(), got.Digest(), "seed %d: the JSON makes b of a\n%s", seed, d.JSON())
	for _, doc := range [][]byte{d.YangPatchXML(s, "p"), d.YangPatchJSON(s, "p")} {
		got, err := diff.ApplyYangPatch(s, a, doc)
		require.NoError(t, err, "seed %d\n%s", seed, doc)
		require.Equal(t, b.Digest(), got.Digest(), "seed %d: the YANG Patch makes b of a\n%s", seed, doc)
	}
	groups := 0
	for _, g := range d.Groups() {
		groups += g.Count
	}
	require.Equal(t, d.Count(), groups)
	if seed%10 > 0 {
		return // a process each
	}
	if _, err := exec.LookPath("patch"); err != nil {
		t.Log("patch is not installed: the unified rendering is not applied")
		return
	}
	dir := t.TempDir()
	file := filepath.Join(dir, "a")
	require.NoError(t, os.WriteFile(file, []byte(codec.OutlineText(a)), 0o600))
	for context := range 4 {
		out := filepath.Join(dir, "b")
		cmd := exec.Command("patch", "--quiet", "--force", "--fuzz=0", "--output="+out, file)
		cmd.Stdin = strings.NewReader(d.Unified("a", "b", context))
		if !d.Empty() {
			msg, err := cmd.CombinedOutput()
			require.NoError(t, err, "seed %d: %s\n%s", seed, msg, d.Unified("a", "b", context))
			text, err := os.ReadFile(out)
			require.NoError(t, err)
			require.Equal(t, codec.OutlineText(b), string(text), "seed %d, context %d", seed, context)
		}
	}
}

func TestMergeProperties(t *testing.T) {
	clean := 0
	for seed := range uint64(rounds()) {
		r := rand.New(rand.NewPCG(seed, 4))
		base := random(r, nil)
		a := random(r, base)
		b := random(r, base)
		for _, c := range []struct{ mine, theirs, want *tree.Node }{{a, a, a}, {base, b, b}, {a, base, a}} {
			got, conflicts := diff.Merge(base, c.mine, c.theirs)
			require.Empty(t, conflicts, "seed %d", seed)
			require.Equal(t, c.want.Digest(), got.Digest(), "seed %d", seed)
		}
		ab, one := diff.Merge(base, a, b)
		ba, two := diff.Merge(base, b, a)
		require.Equal(t, len(one), len(two), "seed %d: conflicts do not depend on who is called mine", seed)
		if len(one) == 0 {
			clean++
			require.Equal(t, ab.Digest(), ba.Digest(), "seed %d", seed)
		}
		require.ElementsMatch(t, places(one), places(two), "seed %d", seed)
	}
	require.Greater(t, clean, rounds()/50, "merges without conflict were among them")
}

func places(list []diff.Conflict) (out []string) {
	for _, c := range list {
		if !strings.HasPrefix(c.Why, "another case") { // that names the side's own case
			out = append(out, c.Path.String())
		}
	}
	return out
}

func TestMerge(t *testing.T) {
	base := parse(
		t,
		`<depth>8</depth><berth><name>b1</name><ropes>1</ropes></berth><words>a</words><words>b</words><words>c</words>`,
	)
	for _, c := range []struct{ name, mine, theirs, want, conflict string }{
		{
			"far apart",
			`<depth>9</depth><berth><name>b1</name><ropes>1</ropes></berth><words>a</words><words>b</words><words>c</words>`,
			`<depth>8</depth><berth><name>b1</name><ropes>2</ropes></berth><words>a</words><words>b</words><words>c</words>`,
			"harbour\n  depth: 9.0\n  words: a\n  words: b\n  words: c\n  berth [b1]\n    ropes: 2\n", "",
		},
		{"the same place", `<depth>9</depth>`, `<depth>7</depth>`, "", "/harbour/depth changed here and on the device"},
		{
			"deleted against changed", `<depth>8</depth>`,
			`<depth>8</depth><berth><name>b1</name><ropes>2</ropes></berth>`, "",
			"/harbour/berth=b1 deleted here, changed on the device",
		},
		{
			"changed against deleted", `<depth>8</depth><berth><name>b1</name><ropes>2</ropes></berth>`,
			`<depth>8</depth>`, "", "/harbour/berth=b1 changed here, deleted on the device",
		},
		{
			"one side orders", `<words>c</words><words>a</words><words>b</words>`,
			`<words>a</words><words>b</words><words>c</words><words>d</words>`,
			"harbour\n  words: c\n  words: a\n  words: b\n  words: d\n", "",
		},
		{
			"both sides order", `<words>c</words><words>a</words><words>b</words>`,
			`<words>b</words><words>a</words><words>c</words>`, "harbour\n  words: c\n  words: b\n  words: a\n", "",
		},
		{
			"in a circle", `<words>b</words><words>a</words><words>c</words>`,
			`<words>a</words><words>c</words><words>b</words>`, "",
			"/harbour/words the order was changed here and on the device: which comes first of c, b, a",
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, conflicts := diff.Merge(base, parse(t, c.mine), parse(t, c.theirs))
			if c.conflict == "" {
				require.Empty(t, conflicts)
				assert.Equal(t, c.want, codec.OutlineText(got))
				return
			}
			var texts []string
			for _, x := range conflicts {
				texts = append(texts, x.Path.String()+" "+x.Why)
			}
			assert.Contains(t, texts, c.conflict)
		})
	}
}

func TestRenderings(t *testing.T) {
	a := parse(
		t,
		`<name>old</name><depth>8</depth><words>a</words><words>b</words><words>c</words><words>d</words><berth><name>b1</name><ropes>1</ropes></berth><berth><name>b2</name><lamp/></berth><berth><name>b3</name></berth>`,
	)
	b := parse(
		t,
		`<name>new</name><depth>8</depth><words>d</words><words>a</words><words>b</words><words>c</words><berth><name>b1</name><ropes>1</ropes></berth><berth><name>b3</name></berth><berth><name>b4</name><lamp><colour>green</colour></lamp></berth>`,
	)
	d := diff.Compare(a, b)
	assert.Equal(t, `  harbour
~   quay:name: old → new
    depth: 8.0
↕   words: d (moved to the front)
    words: a
    …
    berth [b1] …
−   berth [b2]
−     lamp
    berth [b3]
+   berth [b4]
+     lamp
+       colour: green
`, d.Text(1))
	assert.Equal(t, 4, d.Count())
	var items []diff.Item
	require.NoError(t, json.Unmarshal(d.JSON(), &items))
	assert.Equal(t, diff.Item{Kind: diff.Changed, Path: "/quay:harbour/name", Old: "old", New: "new"}, items[0])
	assert.Equal(t, diff.Item{Kind: diff.Removed, Path: "/quay:harbour/berth=b2", Old: "berth [b2]\n  lamp"}, items[2])
	assert.Equal(t, "[]", string(diff.Compare(a, a).JSON()))
	assert.NotContains(t, d.Text(0), "depth")
	assert.Equal(t, len(strings.Split(d.Text(100), "\n")), len(strings.Split(d.Text(9), "\n")))
}

func TestFewestMoves(t *testing.T) {
	a := parse(t, `<words>1</words><words>2</words><words>3</words><words>4</words><words>5</words>`)
	b := parse(t, `<words>2</words><words>3</words><words>5</words><words>4</words><words>1</words>`)
	assert.Equal(t, 2, diff.Compare(a, b).Count(), "three keep their order")
	assert.True(t, diff.OrderOnly(diff.Compare(a, b)))
}
