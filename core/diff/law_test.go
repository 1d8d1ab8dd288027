package diff_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/markup"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/test/pace"
)

// The law of order, written on lists of names alone, apart from what merges them.

var orders = schema.Compile([]schema.Source{{Name: "orders",
	Text: `module orders { yang-version 1.1; namespace "urn:o"; prefix o;
  leaf-list word { type string; ordered-by user; }
  list rule { key name; ordered-by user; leaf name { type string; } leaf note { type string; } } }`}}, schema.Options{})

// inOrder makes a configuration of names in an order: values of a leaf-list, or
// entries of a list.
func inOrder(t testing.TB, names []string, list bool) *tree.Node {
	var b strings.Builder
	for _, n := range names {
		if list {
			fmt.Fprintf(&b, `<rule xmlns="urn:o"><name>%s</name></rule>`, n)
		} else {
			fmt.Fprintf(&b, `<word xmlns="urn:o">%s</word>`, n)
		}
	}
	n, err := codec.Decoder{Schema: orders, Strict: true}.ParseTree([]byte("<config>" + b.String() + "</config>"))
	require.NoError(t, err)
	return n
}

// read gives the names back, from the text that a device would get.
func readOrder(t testing.TB, n *tree.Node) (out []string) {
	el, err := markup.Parse(codec.XML(orders, n, markup.Name{Local: "config"}), markup.Limits{})
	require.NoError(t, err)
	for _, c := range el.Children {
		if c.Name.Local == "rule" {
			c = c.Children[0]
		}
		out = append(out, c.Text)
	}
	return out
}

// said gives what a side says of two names: -1 the first comes first, 1 the second,
// 0 nothing; and whether it set that, other than base had it.
func said(base, side []string, p, q string) (order int, set bool) {
	at := func(list []string, n string) int { return slices.Index(list, n) }
	if at(side, p) < 0 || at(side, q) < 0 {
		return 0, false
	}
	order = 1
	if at(side, p) < at(side, q) {
		order = -1
	}
	had := 0
	if at(base, p) >= 0 && at(base, q) >= 0 {
		had = 1
		if at(base, p) < at(base, q) {
			had = -1
		}
	}
	return order, order != had
}

// wanted gives what the law wants of two names: an order, 2 where the sides set it
// differently, 0 where nothing is said.
func wanted(base, mine, theirs []string, p, q string) int {
	x, setX := said(base, mine, p, q)
	t, setT := said(base, theirs, p, q)
	switch {
	case setX && setT && x != t:
		return 2
	case setX:
		return x
	case setT:
		return t
	case x != 0:
		return x
	}
	return t
}

// broken gives what of the law a merge breaks; "" if nothing.
func broken(base, mine, theirs, result []string, among [][]string) string {
	together := func(p, q string) bool {
		return slices.ContainsFunc(
			among, func(g []string) bool { return slices.Contains(g, p) && slices.Contains(g, q) },
		)
	}
	survivors := map[string]bool{}
	for _, n := range slices.Concat(base, mine, theirs) {
		b, x, t := slices.Contains(base, n), slices.Contains(mine, n), slices.Contains(theirs, n)
		if x && t || !b && (x || t) {
			survivors[n] = true
		}
	}
	if len(survivors) != len(result) || slices.ContainsFunc(result, func(n string) bool { return !survivors[n] }) {
		return "others are there than are to be"
	}
	for i, p := range result {
		for _, q := range result[i+1:] {
			if want := wanted(base, mine, theirs, p, q); (want == 1 || want == 2) && !together(p, q) {
				return fmt.Sprintf("%s comes before %s, and nobody is told", p, q)
			}
		}
	}
	if len(result) > 6 {
		return ""
	}
	// Whether there was anything to tell: is there one order, and no other, in which
	// each two stand as is wanted?
	free := map[[2]string]int{}
	fitting := 0
	permute(slices.Clone(result), 0, func(list []string) {
		for i, p := range list {
			for _, q := range list[i+1:] {
				if want := wanted(base, mine, theirs, p, q); want == 1 || want == 2 {
					return
				}
			}
		}
		fitting++
		for i, p := range list {
			for _, q := range list[i+1:] {
				if p < q {
					free[[2]string{p, q}] |= 1
				} else {
					free[[2]string{q, p}] |= 2
				}
			}
		}
	})
	open := fitting == 0
	for pair, ways := range free {
		if ways == 3 {
			open = true
			if !together(pair[0], pair[1]) {
				return fmt.Sprintf("nothing says which of %s comes first, and nobody is told", pair)
			}
		}
	}
	if !open && len(among) > 0 {
		return "there was nothing to tell"
	}
	return ""
}

func permute(list []string, n int, f func([]string)) {
	if n == len(list) {
		f(list)
		return
	}
	for i := n; i < len(list); i++ {
		list[n], list[i] = list[i], list[n]
		permute(list, n+1, f)
		list[n], list[i] = list[i], list[n]
	}
}

// edited makes a side of a base: names added, taken away and moved.
func edited(r *rand.Rand, base []string, letters string) []string {
	out := slices.Clone(base)
	for range r.IntN(4) {
		switch r.IntN(3) {
		case 0:
			n := string(letters[r.IntN(len(letters))])
			if !slices.Contains(out, n) {
				out = slices.Insert(out, r.IntN(len(out)+1), n)
			}
		case 1:
			if len(out) > 0 {
				i := r.IntN(len(out))
				out = slices.Delete(out, i, i+1)
			}
		default:
			if len(out) > 1 {
				i := r.IntN(len(out))
				n := out[i]
				out = slices.Delete(out, i, i+1)
				out = slices.Insert(out, r.IntN(len(out)+1), n)
			}
		}
	}
	return out
}

// 100,000 random merges of lists and leaf-lists keep the law of order.
func TestLawOfOrder(t *testing.T) {
	rounds := pace.Rounds(100_000)
	r := rand.New(rand.NewPCG(17, 2))
	told, clean := 0, 0
	for n := range rounds {
		var base []string
		for _, c := range r.Perm(8)[:r.IntN(7)] {
			base = append(base, string(rune('a'+c)))
		}
		mine, theirs := edited(r, base, "abcdefghmnop"), edited(r, base, "abcdefghtuvw")
		list := n%2 == 0
		got, conflicts := diff.Merge(inOrder(t, base, list), inOrder(t, mine, list), inOrder(t, theirs, list))
		var among [][]string
		for _, c := range conflicts {
			require.NotNil(t, c.Order)
			among = append(among, c.Order.Among...)
			for _, g := range c.Order.Among {
				for _, name := range g[:min(len(g), 12)] {
					require.Contains(t, c.Why, name, "it names them")
				}
			}
		}
		if len(among) > 0 {
			told++
		} else if !slices.Equal(mine, base) && !slices.Equal(theirs, base) {
			clean++
		}
		result := readOrder(t, got)
		require.Empty(
			t, broken(base, mine, theirs, result, among), "base %v, mine %v, theirs %v gave %v, told %v", base, mine,
			theirs, result, among,
		)
	}
	t.Logf(
		"%d merges: %d had something to tell, %d were clean though both sides changed the order", rounds, told, clean,
	)
	require.Greater(t, told, rounds/50)
	require.Greater(t, clean, rounds/50)
}

func TestOrderByHand(t *testing.T) {
	for _, c := range []struct {
		base, mine, theirs, want, told string
	}{
		{"", "any x", "x any", "x any", "x, any"},
		{"a b c", "a b c p", "t a b c", "t a b c p", ""},
		{"a b c", "c a b", "b a c", "c b a", ""},
		{"a b c", "b a c", "a c b", "a c b", "c, b, a"},
		{"a b c d", "d a b c", "a b c t d", "a b c t d", "t, d, a, b, c"},
		{"a b c", "c a b", "a b", "a b", ""},
		{"a b c", "a c b", "b c", "c b", ""},
		{"a b", "a p b", "a t b", "a t p b", "p, t"},
		{"a b c d e f", "b a c d e f", "a b c d f e", "b a c d f e", ""},
	} {
		got, conflicts := diff.Merge(
			inOrder(t, strings.Fields(c.base), true), inOrder(t, strings.Fields(c.mine), true),
			inOrder(t, strings.Fields(c.theirs), true),
		)
		require.Equal(t, c.want, strings.Join(readOrder(t, got), " "), "%+v", c)
		if c.told == "" {
			require.Empty(t, conflicts, "%+v", c)
			continue
		}
		require.Len(t, conflicts, 1, "%+v", c)
		require.Equal(t, "the order was changed here and on the device: which comes first of "+c.told, conflicts[0].Why)
	}
}

// A long list of which each side changed little costs little.
func TestOrderOfLongLists(t *testing.T) {
	pace.Long(t)
	var base []string
	for n := range 20_000 {
		base = append(base, fmt.Sprint("r", n))
	}
	mine := slices.Insert(slices.Clone(base[1:]), 100, base[0])
	theirs := slices.Insert(slices.Clone(base), 5000, "new")
	got, conflicts := diff.Merge(inOrder(t, base, true), inOrder(t, mine, true), inOrder(t, theirs, true))
	require.Empty(t, conflicts)
	result := readOrder(t, got)
	require.Equal(t, base[0], result[100])
	require.Equal(t, "new", result[5000])

	// Moved past what the other side added: the two that it is about stand first.
	mine = append(slices.Clone(base[1:]), base[0])
	_, conflicts = diff.Merge(inOrder(t, base, true), inOrder(t, mine, true), inOrder(t, theirs, true))
	require.Len(t, conflicts, 1)
	require.Contains(t, conflicts[0].Why, "which comes first of r0, new, ")
	require.Contains(t, conflicts[0].Why, "others")
}

// A configuration is taken for one side of a difference only if each two entries, of
// which the difference says anything, stand there as on that side; and a side is taken
// for itself whatever somebody adds at the end.
func TestWhereHeedsOrder(t *testing.T) {
	pace.Long(t)
	off, like := 0, 0
	for seed := range uint64(20000) {
		r := rand.New(rand.NewPCG(seed, 11))
		old := edited(r, nil, "abcdef")
		new := edited(r, old, "abcdef")
		now := edited(r, [][]string{old, new}[r.IntN(2)], "abcdefg")
		list := seed%2 == 0
		d := diff.Compare(inOrder(t, old, list), inOrder(t, new, list))
		isOld, isNew := d.Where(inOrder(t, now, list))
		holds := func(side, other []string) bool {
			for _, p := range slices.Concat(old, new) {
				if slices.Contains(old, p) != slices.Contains(new, p) &&
					slices.Contains(now, p) != slices.Contains(side, p) {
					return false
				}
				for _, q := range slices.Concat(old, new) {
					has, _ := said(now, now, p, q)
					if want, set := said(other, side, p, q); p != q && set && has != 0 && want != has {
						return false
					}
				}
			}
			return true
		}
		if isOld {
			like++
			require.True(t, holds(old, new), "seed %d: %v to %v, and %v is taken for the former", seed, old, new, now)
		} else if !holds(old, new) {
			off++
		}
		if isNew {
			require.True(t, holds(new, old), "seed %d: %v to %v, and %v is taken for the latter", seed, old, new, now)
		}
		if isOld, _ = d.Where(inOrder(t, append(slices.Clone(old), "z"), list)); !isOld {
			t.Fatalf("seed %d: %v to %v, and the former with z at its end is not taken for it", seed, old, new)
		}
		if _, isNew = d.Where(inOrder(t, append(slices.Clone(new), "z"), list)); !isNew {
			t.Fatalf("seed %d: %v to %v, and the latter with z at its end is not taken for it", seed, old, new)
		}
	}
	require.NotZero(t, off)
	require.NotZero(t, like)
}

// An entry whose key has both kinds of quotes is nobody's neighbour by name: no predicate
// can say it. Every form of an edit reaches the order all the same.
func TestOrderBesideBothQuotes(t *testing.T) {
	pace.Long(t)
	odd := func(names []string) (out []string) {
		for _, n := range names {
			if n < "d" {
				n += `'"`
			}
			out = append(out, n)
		}
		return out
	}
	named := 0
	for seed := range uint64(4000) {
		r := rand.New(rand.NewPCG(seed, 5))
		var base []string
		for _, c := range r.Perm(8)[:r.IntN(8)] {
			base = append(base, string(rune('a'+c)))
		}
		old, new := odd(base), odd(edited(r, base, "abcdefgh"))
		a, b := inOrder(t, old, true), inOrder(t, new, true)
		for n, form := range diff.Compare(a, b).Forms() {
			w := &markup.Writer{}
			w.Start(markup.Name{Space: codec.NetconfNS, Local: "config"})
			codec.EncodeEdit(w, orders, form)
			w.End()
			el, err := markup.Parse(w.Bytes(), markup.Limits{})
			require.NoError(t, err)
			doc, err := codec.Decoder{Schema: orders, Strict: true}.Edit(el)
			require.NoError(t, err, "seed %d, form %d: %v to %v\n%s", seed, n, old, new, w.Bytes())
			got, err := tree.Apply(a, doc, form.Op)
			require.NoError(t, err)
			require.Equal(t, new, readOrder(t, got), "seed %d, form %d: %v\n%s", seed, n, old, w.Bytes())
			if n == 0 && strings.Contains(string(w.Bytes()), "yang:key") {
				named++
			}
		}
	}
	require.Greater(t, named, 100, "others are named")
}

// Only where the place of mine's own entries is open is it nobody's business but mine.
func TestUnmoved(t *testing.T) {
	for name, c := range map[string]struct {
		order diff.Order
		want  bool
	}{
		"came back at the end": {
			diff.Order{
				Base: []string{"y"}, Mine: []string{"x", "y"}, Theirs: []string{"y", "x"},
				Among: [][]string{{"x", "y"}},
			},
			true,
		},
		"somebody's own entry": {
			diff.Order{
				Base: []string{"y"}, Mine: []string{"x", "y"}, Theirs: []string{"z", "y"},
				Among: [][]string{{"x", "z"}},
			},
			false,
		},
		"somebody moved others": {
			diff.Order{
				Base: []string{"y", "w"}, Mine: []string{"x", "y", "w"}, Theirs: []string{"w", "y", "x"},
				Among: [][]string{{"x", "y"}},
			},
			false,
		},
	} {
		require.Equal(t, c.want, c.order.Unmoved(), name)
	}
}
