package documents

import (
	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/markup"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/wire"
)

// manyChanges is from where on like changes are also told together.
const manyChanges = 50

// shownLines is how many lines are told at once of what was only staged; the rest is in the preview.
const shownLines = 400

// Lines are those of a difference, with so many unchanged neighbours; never nil.
func Lines(d *diff.Difference, context int) []diff.Line {
	if out := d.Lines(context); out != nil {
		return out
	}
	return []diff.Line{}
}

// Items are those of a difference; never nil.
func Items(d *diff.Difference) []diff.Item {
	if out := d.Items(); out != nil {
		return out
	}
	return []diff.Item{}
}

// Rendered gives a difference that was narrowed to a path, or not, in another form; "" for one there is not.
func Rendered(d *diff.Difference, path tree.Path, s *schema.Schema, as, old, now string, context int) string {
	switch as {
	case "unified": // a patch of the outlines of what lies there
		return diff.Compare(d.Old.Cut(path), d.New.Cut(path)).Unified(old, now, context)
	case "edit-config":
		w := &markup.Writer{Indent: "  "}
		w.Start(markup.Name{Space: codec.NetconfNS, Local: "config"})
		codec.EncodeEdit(w, s, d.Edits())
		w.End()
		return string(w.Bytes()) + "\n"
	case "yang-patch":
		return string(d.YangPatchXML(s, "difference"))
	case "yang-patch-json":
		return string(d.YangPatchJSON(s, "difference"))
	}
	return ""
}

// Conflict tells a place that a change and its device both changed, with what a person kept of it, if they did.
func Conflict(x diff.Conflict) wire.Conflict {
	doc := wire.Conflict{Path: x.Path.String(), Why: x.Why}
	doc.Base, doc.Mine, doc.Theirs = x.Texts(side)
	return doc
}

func side(n *tree.Node) string {
	if n == nil {
		return "(absent)"
	}
	return codec.Text(n)
}
