package schema_test

import (
	"fmt"

	"oakenlatch/core/schema"
)

// A schema is compiled from the modules a device hands out, and tells what a
// value must be.
func ExampleCompile() {
	s := schema.Compile([]schema.Source{{Name: "boat", Text: `module boat {
		namespace "urn:example:boat"; prefix b;
		typedef knots { type uint8 { range "0..40"; } }
		container engine { leaf speed { type knots; default 12; } leaf lost { type gone; } }
	}`}}, schema.Options{})
	speed := s.Named("engine")[0].Named("speed")[0]
	fmt.Println(speed.Path(), speed.Type.Name, speed.Defaults)
	for _, value := range []string{" 0x10", "41"} {
		fmt.Println(s.Canonical(speed.Type, value, s.NameResolver(speed.Module)))
	}
	for _, p := range s.Problems { // the rest is usable all the same
		fmt.Println(p.Msg)
	}
	// Output:
	// /boat:engine/speed knots [12]
	// 16 <nil>
	//  41 is out of range, allowed is 0 to 40
	// leaf lost is carried unread: type gone: gone is not defined in module boat
}
