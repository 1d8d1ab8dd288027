package check

import (
	"slices"

	"oakenlatch/core/redact"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// Document judges a configuration that stands by itself, as a file holds it: Tree and Lint. What the name of a hidden
// value stands for is not known there, and not judged: a device's own values take its place when it is loaded.
func Document(s *schema.Schema, content *tree.Node) Result {
	res := Tree(s, content)
	res.Findings = append(res.Findings, Lint(s, nil, content)...)
	hidden := redact.Names(content)
	res.Findings = slices.DeleteFunc(res.Findings, func(f Finding) bool { return hidden[f.Path] })
	return res
}
