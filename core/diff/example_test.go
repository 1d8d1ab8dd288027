package diff_test

import (
	"fmt"

	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

var boat = schema.Compile([]schema.Source{{Name: "boat", Text: `module boat {
	namespace "urn:example:boat"; prefix b;
	container deck { leaf colour { type string; } leaf-list flag { type string; ordered-by user; } }
}`}}, schema.Options{})

func deck(body string) *tree.Node {
	n, err := codec.Decoder{Schema: boat, Strict: true}.ParseTree(
		[]byte(`<config><deck xmlns="urn:example:boat">` + body + `</deck></config>`),
	)
	if err != nil {
		panic(err)
	}
	return n
}

// A difference is read by people as lines, and carried out as edits.
func ExampleCompare() {
	was := deck(`<colour>white</colour><flag>ferry</flag><flag>home</flag>`)
	is := deck(`<colour>blue</colour><flag>home</flag><flag>ferry</flag>`)
	d := diff.Compare(was, is)
	fmt.Print(d.Text(1))
	got, err := tree.Apply(was, d.Edits(), tree.None)
	fmt.Println(got.Digest() == is.Digest(), err)
	// Output:
	//   deck
	// ~   colour: white → blue
	// ↕   flag: home (moved to the front)
	//     flag: ferry
	// true <nil>
}

// Merging puts what one side changed on top of the other; what both changed is
// a conflict and never decided unseen.
func ExampleMerge() {
	base := deck(`<colour>white</colour>`)
	mine := deck(`<colour>blue</colour><flag>home</flag>`)
	theirs := deck(`<colour>red</colour>`)
	result, conflicts := diff.Merge(base, mine, theirs)
	fmt.Print(codec.OutlineText(result))
	for _, c := range conflicts {
		fmt.Printf(
			"%s: %s, was %s, mine %s, theirs %s\n", c.Path, c.Why, c.Base.Value(), c.Mine.Value(), c.Theirs.Value(),
		)
	}
	// Output:
	// deck
	//   colour: red
	//   flag: home
	// /deck/colour: changed here and on the device, was white, mine blue, theirs red
}
