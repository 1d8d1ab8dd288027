// Package complete helps a person write paths and values: what may come next by
// the device's own schema, what it means, and what is there now.
package complete

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// Hint is one way on: a path that goes on from what was written, or a value.
type Hint struct {
	Path    string `json:"path"`              // as it is written, module names only where needed
	Kind    string `json:"kind"`              // container, list, leaf, leaf-list, ...
	Type    string `json:"type,omitempty"`    // of a leaf, with its restrictions
	Default string `json:"default,omitempty"` // in use where nothing is set
	Units   string `json:"units,omitempty"`
	Help    string `json:"help,omitempty"` // the module's own description
	Current string `json:"current,omitempty"`
	Several bool   `json:"several,omitempty"` // it keeps several values or entries
	Exists  bool   `json:"exists,omitempty"`  // it is there now

	Values []string `json:"values,omitempty"` // what a leaf may hold, where that can be listed
	Keys   []string `json:"keys,omitempty"`   // of a list: the names of its keys
}

// most is how many hints are given.
const most = 200

// Next lists the ways on from what was written of a path: the names that begin
// so, or the keys of entries that are there. Only configuration is offered.
func Next(s *schema.Schema, now *tree.Node, text string) ([]Hint, error) {
	if text == "" {
		text = "/"
	}
	if !strings.HasPrefix(text, "/") {
		return nil, &tree.PathError{Path: text, Msg: "a path starts with /"}
	}
	cut := strings.LastIndexByte(text, '/')
	parent, err := tree.ParsePath(s, text[:cut])
	if err != nil {
		return nil, err
	}
	at := text[:cut+1]
	name, key, entry := strings.Cut(text[cut+1:], "=")
	if entry {
		n, perr := tree.ChildNamed(s, parent.Last(), name)
		if perr != nil {
			perr.Path = text
			return nil, perr
		}
		return entries(s, now.At(parent), n, at+name, key), nil
	}
	var out []Hint
	for _, n := range children(s, parent) {
		written := n.Name
		if n.Ambiguous {
			written = n.Module.Name + ":" + n.Name
		}
		if !n.Config || n.KeyIndex() >= 0 || !strings.HasPrefix(written, name) && !strings.HasPrefix(
			n.Module.Name+":"+n.Name, name,
		) {
			continue
		}
		out = append(out, hint(s, now, below(now, parent), n, at+written))
		if len(out) == most {
			break
		}
	}
	return out, nil
}

func below(now *tree.Node, p tree.Path) *tree.Node {
	if len(p) == 0 {
		return now
	}
	return now.At(p)
}

func children(s *schema.Schema, p tree.Path) []*schema.Node {
	if len(p) == 0 {
		return s.Roots()
	}
	if p.Last() == nil {
		return nil
	}
	return p.Last().Data()
}

// hint describes one child of a node, which may not be there.
func hint(s *schema.Schema, root, parent *tree.Node, n *schema.Node, path string) Hint {
	h := Hint{
		Path: path, Kind: n.Kind.String(), Help: strings.Join(strings.Fields(n.Description), " "), Units: n.Units,
		Default: strings.Join(n.Defaults, ", "), Several: n.Kind == schema.List || n.Kind == schema.LeafList,
		Keys: n.Keys,
	}
	if n.Kind == schema.List && len(n.Keys) > 0 {
		h.Path += "="
	}
	if n.Type != nil {
		h.Type, h.Values = Describe(s, n.Type), Values(s, root, n.Type)
		if h.Units == "" {
			h.Units = n.Type.Units
		}
	}
	if parent != nil {
		var now []string
		for _, c := range parent.All(n) {
			h.Exists = true
			switch {
			case n.IsLeaf():
				now = append(now, c.Value())
			case n.Kind == schema.List:
				now = append(now, strings.Join(c.Keys(), ","))
			}
		}
		h.Current = short(now)
	}
	return h
}

func short(list []string) string {
	const some = 8
	if len(list) > some {
		return fmt.Sprintf("%s, and %d more", strings.Join(list[:some], ", "), len(list)-some)
	}
	return strings.Join(list, ", ")
}

// entries lists the entries of a list whose keys begin so.
func entries(s *schema.Schema, parent *tree.Node, n *schema.Node, at, begun string) []Hint {
	if parent == nil {
		parent = tree.Empty
	}
	var out []Hint
	for _, e := range parent.All(n) {
		keys := slices.Clone(e.Keys())
		for i := range keys {
			keys[i] = escape(keys[i])
		}
		text := strings.Join(keys, ",")
		if !strings.HasPrefix(text, begun) {
			continue
		}
		h := Hint{Path: at + "=" + text, Kind: "entry", Exists: true}
		if n.Kind == schema.LeafList {
			h.Kind = "value"
		}
		for _, about := range []string{"description", "name", "hostname"} {
			if d := e.Known(about); d != nil && d.Opaque() == nil && d.Schema().KeyIndex() < 0 {
				h.Current = d.Value()
				break
			}
		}
		if out = append(out, h); len(out) == most {
			break
		}
	}
	return out
}

// escape writes a key as paths have it (RFC 8040 section 3.5.3).
func escape(key string) string { return strings.ReplaceAll(url.QueryEscape(key), "+", "%20") }

// Values lists what a leaf of a type may hold, as far as that can be listed:
// the names of an enumeration, identities, or what a leafref may point at.
func Values(s *schema.Schema, root *tree.Node, t *schema.Type) []string {
	var out []string
	switch t.Base {
	case schema.Boolean:
		return []string{"true", "false"}
	case schema.Enumeration:
		for _, e := range t.Enums {
			out = append(out, e.Name)
		}
	case schema.IdentityRef:
		out = s.Identities(t)
	case schema.Union:
		for _, m := range t.Members {
			out = append(out, Values(s, root, m)...)
		}
	case schema.LeafRef:
		if t.Target != nil {
			out = held(root, t.Target)
		}
	}
	if len(out) > most {
		out = out[:most]
	}
	return out
}

// held gathers the values that a schema node has anywhere in a configuration.
func held(root *tree.Node, target *schema.Node) []string {
	var way []*schema.Node
	for n := target; n != nil; n = n.DataParent() {
		way = append(way, n)
	}
	var out []string
	var walk func(n *tree.Node, depth int)
	walk = func(n *tree.Node, depth int) {
		for _, c := range n.All(way[depth]) {
			switch {
			case len(out) >= most:
				return
			case depth == 0:
				if !slices.Contains(out, c.Value()) {
					out = append(out, c.Value())
				}
			default:
				walk(c, depth-1)
			}
		}
	}
	if root != nil {
		walk(root, len(way)-1)
	}
	return out
}

// Describe tells a type with its restrictions in one line.
func Describe(s *schema.Schema, t *schema.Type) string {
	text := t.Name
	var more []string
	if i := strings.IndexByte(text, ':'); i >= 0 || text != base(t) {
		more = append(more, base(t))
	}
	if len(t.Ranges) > 0 && t.Base != schema.Decimal64 {
		more = append(more, spans(t.Ranges))
	}
	if len(t.Lengths) > 0 {
		more = append(more, "length "+spans(t.Lengths))
	}
	if t.Base == schema.Enumeration {
		var names []string
		for _, e := range t.Enums {
			names = append(names, e.Name)
		}
		more = append(more, short(names))
	}
	if t.Base == schema.LeafRef && t.Path != "" {
		to := t.Path
		if t.Target != nil {
			to = t.Target.Path()
		}
		more = append(more, "one of "+to)
	}
	if t.Base == schema.Union {
		var names []string
		for _, m := range t.Members {
			names = append(names, m.Name)
		}
		more = append(more, strings.Join(names, " or "))
	}
	more = slices.DeleteFunc(more, func(m string) bool { return m == "" || m == text })
	if len(more) == 0 {
		return text
	}
	return text + " (" + strings.Join(more, "; ") + ")"
}

func base(t *schema.Type) string { return fmt.Sprint(t.Base) }

func spans(list []schema.Span) string {
	var out []string
	for _, s := range list {
		if s.Lo == s.Hi {
			out = append(out, s.Lo.String())
			continue
		}
		out = append(out, s.Lo.String()+".."+s.Hi.String())
	}
	return strings.Join(out, ", ")
}
