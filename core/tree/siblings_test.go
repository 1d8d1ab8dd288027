package tree

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/schema"
)

const shelf = `module shelf { namespace "urn:shelf"; prefix s; list book { key id; leaf id { type uint32; } leaf title { type string; } }
  list loan { key id; ordered-by user; leaf id { type uint32; } } }`

var shelfSchema = schema.Compile([]schema.Source{{Name: "shelf", Text: shelf}}, schema.Options{})

func entry(list string, id int, title string) *Node {
	s := shelfSchema.Named(list)[0]
	kids := []*Node{NewLeaf(s.Named("id")[0], fmt.Sprint(id))}
	if title != "" {
		kids = append(kids, NewLeaf(s.Named("title")[0], title))
	}
	return New(s, kids)
}

func structure(s *stretch) string {
	if s == nil {
		return "flat"
	}
	if s.height == 0 {
		return fmt.Sprint(len(s.nodes), " ")
	}
	out := "("
	for _, p := range s.parts {
		out += structure(p)
	}
	return out + ")"
}

// However a long list came to be, it is cut the same way: splicing gives
// exactly what making it anew gives, and shares what was not touched.
func TestSpliceIsLikeMakingAnew(t *testing.T) {
	for seed := range uint64(40) {
		r := rand.New(rand.NewPCG(seed, 2))
		var list []*Node
		for i := range r.IntN(3000) {
			list = append(list, entry("book", i*10, ""))
		}
		kids := gather(list)
		for range 8 {
			var all []splice
			want := slices.Clone(list)
			at := 0
			shift := 0
			for at <= len(list) && r.IntN(8) > 0 {
				from := at + r.IntN(len(list)-at+1)
				to := from + r.IntN(min(3, len(list)-from+1))
				if r.IntN(10) == 0 {
					to = from + r.IntN(len(list)-from+1)
				}
				var with []*Node
				for i := range r.IntN(3) {
					with = append(with, entry("book", from*10+i, "new"))
				}
				all = append(all, splice{from, to, with})
				want = slices.Replace(want, from+shift, to+shift, with...)
				shift += len(with) - (to - from)
				at = to + 1
			}
			got := kids.splice(all)
			fresh := gather(want)
			require.Equal(t, want, got.list(), "seed %d", seed)
			require.Equal(t, structure(fresh.top), structure(got.top), "seed %d", seed)
			if fresh.top != nil {
				require.Equal(t, fresh.top.digest, got.top.digest)
			}
			for _, i := range []int{0, len(want) / 2, len(want) - 1} {
				if i >= 0 && i < len(want) {
					require.Same(t, want[i], got.at(i))
				}
			}
			kids, list = got, want
		}
	}
}

func TestUnsharedFindsJustWhatDiffers(t *testing.T) {
	var list []*Node
	for i := range 20000 {
		list = append(list, entry("book", i, ""))
	}
	a := Root(list)
	changed := slices.Clone(list)
	changed[777] = entry("book", 777, "Tides")
	changed = slices.Delete(changed, 12000, 12001)
	b := Root(changed)
	as, bs := Unshared(a, b)
	assert.Contains(t, as, list[777])
	assert.Contains(t, as, list[12000])
	assert.Contains(t, bs, changed[777])
	assert.Less(t, len(as)+len(bs), 400, "a few stretches, not the list")
	as, bs = Unshared(a, Root(list))
	assert.Empty(t, append(as, bs...))
	_, bs = Unshared(Empty, a)
	assert.Len(t, bs, 20000)
}

// A list of many entries is searched, edited and ordered like one of few.
func TestLongLists(t *testing.T) {
	var list []*Node
	for i := range 5000 {
		list = append(list, entry("book", i*2, ""), entry("loan", 5000-i, ""))
	}
	root := Root(list)
	book, loan := shelfSchema.Named("book")[0], shelfSchema.Named("loan")[0]
	assert.Len(t, root.All(book), 5000)
	assert.Equal(t, []string{"5000"}, root.All(loan)[0].Keys(), "as they were given")
	assert.NotNil(t, root.Find(book, []string{"9998"}))
	assert.Nil(t, root.Find(book, []string{"9999"}))
	assert.NotNil(t, root.Find(loan, []string{"1"}))
	edited, err := Apply(root, &Edit{Children: []*Edit{
		{Schema: book, Op: Merge, Keys: []string{"4001"}},
		{Schema: book, Op: Delete, Keys: []string{"4000"}},
		{Schema: loan, Op: Merge, Keys: []string{"1"}, Insert: "first"},
		{Schema: loan, Op: Delete, Keys: []string{"4999"}},
	}}, None)
	require.NoError(t, err)
	assert.NotNil(t, edited.Find(book, []string{"4001"}))
	assert.Nil(t, edited.Find(book, []string{"4000"}))
	assert.Equal(t, []string{"1"}, edited.All(loan)[0].Keys())
	assert.Equal(t, 9999, edited.Len())
	assert.Equal(t, edited.Digest(), Root(edited.Children()).Digest())
}
