package main

import (
	"fmt"
	"strings"

	"oakenlatch/core/check"
	"oakenlatch/core/codec"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// lint measures how the lint against a base grows with a list whose order the user
// gives, of which the last entry became the first.
func (b *bench) lint() error {
	s := schema.Compile([]schema.Source{{Name: "quay", Text: `module quay { namespace "urn:q"; prefix q;
  container quay { list berth { key name; ordered-by user; leaf name { type string; } leaf note { type string; } } } }`}},
		schema.Options{})
	sides := func(size int) (base, result *tree.Node, err error) {
		read := func(first int) (*tree.Node, error) {
			var out strings.Builder
			out.WriteString(`<config><quay xmlns="urn:q">`)
			for i := range size {
				fmt.Fprintf(&out, "<berth><name>b%d</name><note>x</note></berth>", (i+first)%size)
			}
			return codec.Decoder{Schema: s}.ParseTree([]byte(out.String() + "</quay></config>"))
		}
		if base, err = read(0); err == nil {
			result, err = read(size - 1)
		}
		return base, result, err
	}
	base, result, err := sides(1000)
	if err != nil {
		return err
	}
	large, moved, err := sides(16_000)
	if err != nil {
		return err
	}
	small := best(9, func() { check.Lint(s, base, result) })
	b.figure("lint-ordered-growth", best(9, func() { check.Lint(s, large, moved) }), small, 24)
	return nil
}
