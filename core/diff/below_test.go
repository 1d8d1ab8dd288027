package diff_test

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/tree"
)

// What is told of a narrowed difference is what the whole one tells at and below that path, and its edits bring that
// about.
func TestBelow(t *testing.T) {
	carried := 0
	for seed := range uint64(rounds()) {
		r := rand.New(rand.NewPCG(seed, 77))
		a := random(r, nil)
		b := random(r, a)
		d := diff.Compare(a, b)
		if d.Empty() {
			continue
		}
		var paths []tree.Path
		d.Walk(func(c *diff.Change) {
			if p := c.Path(); p.Last() != nil {
				paths = append(paths, p)
			}
		})
		if len(paths) == 0 {
			continue
		}
		whole := paths[r.IntN(len(paths))]
		p := whole[:1+r.IntN(len(whole))]
		some := d.Below(p)
		require.False(t, some.Empty(), "seed %d: %s", seed, p)

		var want, got []string
		for _, l := range d.Lines(0) {
			if l.Path == p.String() || strings.HasPrefix(l.Path, p.String()+"/") {
				want = append(want, l.Mark+l.Path+l.Text)
			}
		}
		for _, l := range some.Lines(0) {
			if l.Path == p.String() || strings.HasPrefix(l.Path, p.String()+"/") {
				got = append(got, l.Mark+l.Path+l.Text)
				continue
			}
			above := l.Mark == diff.MarkSame || strings.HasPrefix(p.String(), l.Path)
			require.True(t, above, "seed %d: %s is not below %s", seed, l.Path, p)
		}
		require.Equal(t, want, got, "seed %d: %s", seed, p)
		var sides []string
		// What the path leads to is then as it is on the new side; in lists whose order counts, too.
		made, err := tree.Apply(a, some.Edits(), some.Edits().Op)
		if err != nil { // the rest of the change was needed for it, as another case of a choice
			continue
		}
		for _, n := range []*tree.Node{b.At(p), made.At(p)} { // what leads there may have metadata of its own
			there := "nothing"
			if n != nil {
				there = codec.WholeText(n)
			}
			sides = append(sides, there)
		}
		require.Equal(t, sides[0], sides[1], "seed %d: %s", seed, p)
		carried++
	}
	require.Greater(t, carried, rounds()/3, "edits that could be carried out were among them")
}

func TestBelowOneEntry(t *testing.T) {
	a := parse(t, `<berth><name>b1</name><ropes>1</ropes></berth><berth><name>b2</name><ropes>1</ropes></berth>`)
	b := parse(t, `<berth><name>b1</name><ropes>3</ropes></berth><berth><name>b2</name><ropes>4</ropes></berth>`)
	d := diff.Compare(a, b)
	p, err := tree.ParsePath(s, "/harbour/berth=b2")
	require.NoError(t, err)
	some := d.Below(p)
	assert.Equal(t, 1, some.Count())
	assert.Equal(
		t, "  harbour\n    …\n    berth [b2]\n~     ropes: 1 → 4\n", indented(some.Lines(3)),
		"what else changes is not shown as if it did not",
	)
	elsewhere, err := tree.ParsePath(s, "/harbour/depth")
	require.NoError(t, err)
	assert.True(t, d.Below(elsewhere).Empty())
	assert.Nil(t, d.Below(elsewhere).Lines(1))
}

func indented(lines []diff.Line) string {
	var b strings.Builder
	for _, l := range lines {
		b.WriteString(l.Mark + " " + strings.Repeat("  ", l.Depth) + l.Text + "\n")
	}
	return b.String()
}

// A removed entry of a list whose order the user gives is told where it stood.
func TestRemovedStandsWhereItStood(t *testing.T) {
	a := parse(t, `<words>a</words><words>b</words><words>c</words><words>d</words>`)
	for _, c := range []struct{ name, now, want string }{
		{
			"the first", `<words>b</words><words>c</words><words>d</words>`,
			"  harbour\n−   words: a\n    words: b\n    words: c\n    words: d\n",
		},
		{
			"one between", `<words>a</words><words>c</words><words>d</words>`,
			"  harbour\n    words: a\n−   words: b\n    words: c\n    words: d\n",
		},
		{
			"one for another", `<words>a</words><words>x</words><words>c</words><words>d</words>`,
			"  harbour\n    words: a\n−   words: b\n+   words: x\n    words: c\n    words: d\n",
		},
		{
			"two, apart", `<words>b</words><words>d</words>`,
			"  harbour\n−   words: a\n    words: b\n−   words: c\n    words: d\n",
		},
		{
			"beside one that moved", `<words>d</words><words>a</words><words>c</words>`,
			"  harbour\n↕   words: d (moved to the front)\n    words: a\n−   words: b\n    words: c\n",
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := diff.Compare(a, parse(t, c.now))
			assert.Equal(t, c.want, indented(d.Lines(9)))
		})
	}
}

func TestSupersededSteps(t *testing.T) {
	zero := parse(t, `<depth>1</depth>`)
	one := parse(t, `<depth>2</depth>`)
	two := parse(t, `<depth>2</depth><berth><name>b1</name><ropes>1</ropes></berth>`)
	three := parse(t, `<depth>3</depth><berth><name>b1</name><ropes>1</ropes></berth>`)
	four := parse(t, `<depth>3</depth>`)
	assert.Equal(t, []int{0, 1}, diff.Trace([]*tree.Node{zero, one, two, three, four}).Superseded)
	assert.Empty(t, diff.Trace([]*tree.Node{zero, one, two}).Superseded)
	assert.Empty(t, diff.Trace([]*tree.Node{zero, zero}).Superseded, "what did nothing was not superseded")
}
