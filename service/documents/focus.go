package documents

import (
	"oakenlatch/core/diff"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/service/refusal"
)

// focus is a path on which what several devices hold is looked at, by the schema of each.
type focus struct {
	path  string
	found bool
	wrong error // what the first device that does not know it said
}

// on gives the path by the schema of a device, and whether that has it.
func (f *focus) on(s *schema.Schema, device string) (tree.Path, bool) {
	path, err := tree.ParsePath(s, f.path)
	if err != nil {
		if f.wrong == nil {
			f.wrong = refusal.New(refusal.Invalid, "", "%s: %v", device, err)
		}
		return nil, false
	}
	f.found = true
	return path, true
}

// nowhere says why the path is one of no device; nil where it is one of some.
func (f *focus) nowhere() error {
	if f.found {
		return nil
	}
	return f.wrong
}

// narrowed gives what of a difference is at a path of its schema or below; nothing where the schema has no such path.
func narrowed(d *diff.Difference, path tree.Path, there bool) *diff.Difference {
	if !there {
		return diff.Compare(d.New, d.New)
	}
	return d.Below(path)
}
