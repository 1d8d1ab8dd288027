package codec_test

import (
	"fmt"

	"oakenlatch/core/codec"
	"oakenlatch/core/schema"
)

var berths = schema.Compile([]schema.Source{{Name: "berths", Text: `module berths {
	namespace "urn:example:berths"; prefix b;
	container berths { list berth { key name; leaf name { type string; } leaf depth { type decimal64 { fraction-digits 1; } } } }
}`}}, schema.Options{})

// What a device sends is read once, and written as people read it, as JSON or as XML again. What no module
// describes comes out as it came in.
func ExampleDecoder_ParseTree() {
	n, err := codec.Decoder{Schema: berths}.ParseTree([]byte(`<config>
		<berths xmlns="urn:example:berths"><berth><name>north</name><depth>+7.00</depth></berth></berths>
		<tide-table xmlns="urn:example:strange"><low>06:14</low></tide-table>
	</config>`))
	if err != nil {
		panic(err)
	}
	fmt.Print(codec.OutlineText(n))
	// Output:
	// berths
	//   berth [north]
	//     depth: 7.0
	// ? tide-table (carried unread, namespace urn:example:strange)
	//   | <tide-table xmlns="urn:example:strange"><low>06:14</low></tide-table>
}

// An error names the path, and what would be right there.
func ExampleDecoder_ParseOutline() {
	_, err := codec.Decoder{Schema: berths, Strict: true}.ParseOutline("berths\n  berth [n]\n    depth: deep\n")
	fmt.Println(err)
	// Output:
	// line 3, column 12: /berths/berth=n/depth: "deep" is not a decimal number with at most 1 digits after the point
}
