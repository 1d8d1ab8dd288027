package tree_test

import (
	"fmt"

	"oakenlatch/core/codec"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

var lamps = schema.Compile([]schema.Source{{Name: "lamps", Text: `module lamps {
	namespace "urn:example:lamps"; prefix l;
	container lamps { list lamp { key name; leaf name { type string; } leaf lit { type boolean; default false; } } }
}`}}, schema.Options{})

func quay(outline string) *tree.Node {
	n, err := codec.Decoder{Schema: lamps, Strict: true}.ParseOutline(outline)
	if err != nil {
		panic(err)
	}
	return n
}

// An edit makes another tree; the one it was carried out on stays as it was, and shares what was not touched.
func ExampleApply() {
	before := quay("lamps\n  lamp [east]\n  lamp [west]\n")
	path, err := tree.ParsePath(lamps, "/lamps/lamp=east/lit")
	if err != nil {
		panic(err)
	}
	after, err := tree.Apply(before, tree.Put(path, "true"), tree.None)
	if err != nil {
		panic(err)
	}
	fmt.Print(codec.OutlineText(after))
	fmt.Println("before:", before.At(path) != nil)
	west, _ := tree.ParsePath(lamps, "/lamps/lamp=west")
	fmt.Println("the other lamp is the same:", before.At(west) == after.At(west))
	// Output:
	// lamps
	//   lamp [east]
	//     lit: true
	//   lamp [west]
	// before: false
	// the other lamp is the same: true
}

// A tree has one digest, however its source was ordered: equal digests are equal configurations.
func ExampleNode_Digest() {
	one := quay("lamps\n  lamp [east]\n  lamp [west]\n    lit: true\n")
	other := quay("lamps\n  lamp [west]\n    lit: true\n  lamp [east]\n")
	fmt.Println(one.Digest() == other.Digest())
	fmt.Println(one.Digest() == quay("lamps\n  lamp [east]\n").Digest())
	// Output:
	// true
	// false
}

// What is wrong with a path is told with what would be right.
func ExampleParsePath() {
	for _, text := range []string{"/lamps/lamp=east", "/lamps/lamp", "/lamps/lmap=east"} {
		p, err := tree.ParsePath(lamps, text)
		fmt.Println(p, err)
	}
	// Output:
	// /lamps/lamp=east <nil>
	// /lamps/lamp <nil>
	// / path /lamps/lmap=east: lmap is not under lamps; there is lamp
}
