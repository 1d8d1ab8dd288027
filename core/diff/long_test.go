package diff_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/test/pace"
)

const depot = `module depot { yang-version 1.1; namespace "urn:depot"; prefix d; container depot {
  list crate { key id; leaf id { type uint32; } leaf label { type string; } container seal { presence p; leaf by { type string; } } }
  list queue { key "lane ship"; ordered-by user; leaf lane { type uint8; } leaf ship { type string; } leaf note { type string; } }
  leaf-list word { type string; ordered-by user; } leaf-list number { type uint32; } leaf name { type string; }
  choice way { leaf road { type string; } list rail { key id; leaf id { type uint32; } } } } }`

var depotSchema = schema.Compile([]schema.Source{{Name: "depot", Text: depot}}, schema.Options{})

// long is a configuration whose lists are long enough to be kept in stretches.
type long struct {
	r    *rand.Rand
	kids map[string][]*tree.Node // of the depot, by name
}

func (l *long) child(name string) *schema.Node {
	return depotSchema.Named("depot")[0].Named(name)[0]
}

func (l *long) entry(name string, i int, note string) *tree.Node {
	s := l.child(name)
	if s.IsLeaf() {
		return tree.NewLeaf(s, fmt.Sprint(i))
	}
	var kids []*tree.Node
	for _, k := range s.Keys {
		v := fmt.Sprint(i)
		if k == "lane" {
			v = fmt.Sprint(i % 7)
		}
		kids = append(kids, tree.NewLeaf(s.Named(k)[0], v))
	}
	if last := s.Data()[min(len(s.Keys), len(s.Data())-1)]; note != "" && last.KeyIndex() < 0 {
		kids = append(kids, tree.NewLeaf(last, note))
	}
	return tree.New(s, kids)
}

func newLong(r *rand.Rand) *long {
	l := &long{r: r, kids: map[string][]*tree.Node{}}
	for _, name := range []string{"crate", "queue", "word", "number"} {
		for i := range r.IntN(400) {
			l.kids[name] = append(l.kids[name], l.entry(name, i*3, ""))
		}
	}
	for i := range 100 {
		l.kids["unknown"] = append(
			l.kids["unknown"],
			tree.NewOpaque(
				nil, tree.Opaque{Space: "urn:x", Local: "x", XML: fmt.Appendf(nil, `<x xmlns="urn:x">%d</x>`, i)},
			),
		)
	}
	return l
}

func (l *long) tree() *tree.Node {
	var all []*tree.Node
	for _, name := range []string{"crate", "queue", "word", "number", "rail", "road", "unknown"} {
		all = append(all, l.kids[name]...)
	}
	return tree.Root([]*tree.Node{tree.New(depotSchema.Named("depot")[0], all)})
}

// changed gives another one, changed in a few places.
func (l *long) changed() *long {
	out := &long{r: l.r, kids: map[string][]*tree.Node{}}
	for k, v := range l.kids {
		out.kids[k] = slices.Clone(v)
	}
	for range 1 + l.r.IntN(6) {
		name := []string{"crate", "queue", "word", "number", "unknown"}[l.r.IntN(5)]
		list := out.kids[name]
		if len(list) == 0 {
			continue
		}
		i := l.r.IntN(len(list))
		switch l.r.IntN(4) {
		case 0:
			list = slices.Delete(list, i, min(len(list), i+1+l.r.IntN(3)))
		case 1:
			if name != "unknown" {
				list = slices.Insert(list, i, l.entry(name, 3*l.r.IntN(5000)+1+l.r.IntN(2), "new"))
			}
		case 2:
			if s := list[i].Schema(); s != nil && !s.IsLeaf() {
				list[i] = tree.New(
					s,
					append(
						slices.Clone(list[i].Children()[:len(s.Keys)]),
						l.entry(name, 0, fmt.Sprint(l.r.IntN(3))).Children()[len(s.Keys):]...,
					),
				)
			}
		case 3:
			n := list[i]
			list = slices.Insert(slices.Delete(list, i, i+1), l.r.IntN(len(list)), n)
		}
		out.kids[name] = dedupe(list)
	}
	switch l.r.IntN(6) {
	case 0:
		out.kids["rail"], out.kids["road"] = []*tree.Node{l.entry("rail", l.r.IntN(3), "")}, nil
	case 1:
		out.kids["road"], out.kids["rail"] = []*tree.Node{tree.NewLeaf(l.child("road"), fmt.Sprint(l.r.IntN(3)))}, nil
	}
	return out
}

func dedupe(list []*tree.Node) []*tree.Node {
	seen := map[string]bool{}
	return slices.DeleteFunc(list, func(n *tree.Node) bool {
		k := fmt.Sprint(n.Keys())
		if n.Schema() == nil {
			k = string(n.Opaque().XML)
		}
		was := seen[k]
		seen[k] = true
		return was
	})
}

// What holds for small trees holds for long lists, which are compared, merged
// and edited by stretches.
func TestLongListsAreLikeShortOnes(t *testing.T) {
	pace.Long(t)
	require.Empty(t, depotSchema.Problems)
	clean := 0
	for seed := range uint64(150) {
		l := newLong(rand.New(rand.NewPCG(seed, 21)))
		one, two := l.changed(), l.changed()
		base, a, b := l.tree(), one.tree(), two.tree()
		d := diff.Compare(base, a)
		require.Equal(t, base.Digest() == a.Digest(), d.Empty(), "seed %d", seed)
		for name, e := range map[string]*tree.Edit{"edits": d.Edits(), "rebuilt": d.Rebuilt()} {
			got, err := tree.Apply(base, e, tree.None)
			require.NoError(t, err, "seed %d, %s", seed, name)
			require.Equal(t, a.Digest(), got.Digest(), "seed %d, %s:\n%s", seed, name, d.Text(0))
			require.Equal(t, got.Digest(), tree.Root(got.Children()).Digest())
		}
		back, err := tree.Apply(a, d.Invert().Edits(), tree.None)
		require.NoError(t, err, "seed %d", seed)
		require.Equal(t, base.Digest(), back.Digest(), "seed %d", seed)
		var items []diff.Item
		require.NoError(t, json.Unmarshal(d.JSON(), &items))
		got, err := diff.ApplyItems(depotSchema, base, items)
		require.NoError(t, err, "seed %d", seed)
		require.Equal(t, a.Digest(), got.Digest(), "seed %d", seed)
		got, err = diff.ApplyYangPatch(depotSchema, base, d.YangPatchJSON(depotSchema, "p"))
		require.NoError(t, err, "seed %d", seed)
		require.Equal(t, a.Digest(), got.Digest(), "seed %d", seed)
		require.Equal(t, d.Empty(), d.Unified("a", "b", 3) == "")

		ab, conflicts := diff.Merge(base, a, b)
		ba, mirrored := diff.Merge(base, b, a)
		require.Equal(t, len(conflicts), len(mirrored), "seed %d", seed)
		require.Equal(t, ab.Digest(), tree.Root(ab.Children()).Digest())
		if len(conflicts) == 0 {
			clean++
			require.Equal(t, ab.Digest(), ba.Digest(), "seed %d:\n%s", seed, diff.Compare(ab, ba).Text(0))
			require.Equal(t, codec.OutlineText(ab), codec.OutlineText(ba))
		}
		same, none := diff.Merge(base, a, base)
		require.Empty(t, none)
		require.Equal(t, a.Digest(), same.Digest())
	}
	assert.Greater(t, clean, 30, "merges without conflict were among them")
}
