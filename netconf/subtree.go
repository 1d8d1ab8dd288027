package netconf

import (
	"strings"

	"oakenlatch/core/markup"
)

// Subtree writes what a subtree filter selects of a data tree (RFC 6241
// section 6): the children of data that the children of filter ask for.
func Subtree(w *markup.Writer, filter, data *markup.Element) {
	subtree(w, filter.Children, data)
}

// match reports whether a filter element is about a data element.
func match(f, d *markup.Element) bool {
	if f.Name.Local != d.Name.Local || f.Name.Space != "" && f.Name.Space != BaseNS && f.Name.Space != d.Name.Space {
		return false
	}
	for _, a := range f.Attrs {
		if v, ok := d.Attr(a.Name.Space, a.Name.Local); !ok || v != a.Value {
			return false
		}
	}
	return true
}

// content reports whether a filter element is a content match node (section 6.2.5).
func content(f *markup.Element) bool {
	return len(f.Children) == 0 && strings.TrimSpace(f.Text) != ""
}

// subtree writes the selected children of d and reports whether there were any.
func subtree(w *markup.Writer, filters []*markup.Element, d *markup.Element) bool {
	only := true // only content match nodes: they select all siblings
	for _, f := range filters {
		if !content(f) {
			only = false
			continue
		}
		found := false
		for _, c := range d.Children {
			found = found || match(f, c) && c.Value() == f.Value()
		}
		if !found {
			return false
		}
	}
	any := false
	for _, c := range d.Children {
		any = selected(w, filters, c, only) || any
	}
	return any
}

// selected writes a data element, whole or in part, where a filter asks for it.
func selected(w *markup.Writer, filters []*markup.Element, c *markup.Element, all bool) bool {
	var parts []*markup.Element
	whole := all && len(filters) > 0
	for _, f := range filters {
		switch {
		case !match(f, c):
		case content(f):
			whole = whole || c.Value() == f.Value()
		case len(f.Children) == 0:
			whole = true
		default:
			parts = append(parts, f)
		}
	}
	if whole {
		w.Raw(c.Standalone())
		return true
	}
	any := false
	for _, f := range parts {
		inner := &markup.Writer{}
		inner.Start(c.Name)
		if subtree(inner, f.Children, c) {
			inner.End()
			w.Raw(inner.Bytes())
			any = true
			break // further filters of the same node would repeat it
		}
	}
	return any
}
