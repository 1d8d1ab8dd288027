// Package stencil reads pieces of configuration with blanks, and fills them in.
//
// A stencil is an outline (docs/outline.md) in which {name} is a blank that is
// filled in for each device, and {@name} a shared value, defined once for all.
// A shared value may have several items: the outermost line that names it then
// stands once for each item, with all that is below it. {{ is a brace.
package stencil

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"oakenlatch/core/codec"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// Error is a stencil that cannot be read or filled in. Line counts from 1; it
// is 0 where the whole is meant.
type Error struct {
	Line int
	Msg  string
}

func (e *Error) Error() string {
	if e.Line == 0 {
		return e.Msg
	}
	return fmt.Sprintf("line %d: %s", e.Line, e.Msg)
}

func fail(line int, format string, args ...any) *Error {
	return &Error{line, fmt.Sprintf(format, args...)}
}

// Blank is something to be filled in. Shared ones are named without the @.
type Blank struct {
	Name   string `json:"name"`
	Shared bool   `json:"shared,omitempty"`
	Lines  []int  `json:"lines"`
}

// Stencil is a piece of configuration with blanks. It never changes.
type Stencil struct {
	lines  []line
	blanks []Blank
}

// line is one line: its text, cut at the blanks.
type line struct {
	indent int
	text   string // without indent, as written
	block  bool   // of a text block: begins with a bar
	idle   bool   // blank, or a comment
}

var blankForm = regexp.MustCompile(`\{\{|\{(@?)([a-zA-Z][a-zA-Z0-9_-]{0,62})\}`)

// Name reports whether a text may name a stencil, a blank or a shared value.
func Name(text string) bool { return nameForm.MatchString(text) }

var nameForm = regexp.MustCompile(`^[a-zA-Z][a-zA-Z0-9_-]{0,62}$`)

// Limits of a stencil.
const (
	MostLines = 200_000
	mostItems = 10_000
)

// Parse reads a stencil. What its lines mean depends on the schema, and is
// seen when it is filled in.
func Parse(text string) (*Stencil, error) {
	st := &Stencil{}
	at := map[string]int{}
	all := strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n")
	if len(all) > MostLines {
		return nil, fail(0, "it has %d lines, %d are the most", len(all), MostLines)
	}
	said := false
	for i, raw := range all {
		body := strings.TrimLeft(raw, " ")
		l := line{
			indent: len(raw) - len(body), text: strings.TrimRight(body, " \t"), block: strings.HasPrefix(body, "|"),
		}
		l.idle = l.text == "" || l.text[0] == '#'
		st.lines = append(st.lines, l)
		if l.idle {
			continue
		}
		said = true
		if l.text[0] == '\t' {
			return nil, fail(i+1, "the line begins with a tab; indent with two spaces a level")
		}
		for _, m := range blankForm.FindAllStringSubmatch(l.text, -1) {
			if m[0] == "{{" {
				continue
			}
			key := m[1] + m[2]
			n, there := at[key]
			if !there {
				n = len(st.blanks)
				at[key] = n
				st.blanks = append(st.blanks, Blank{Name: m[2], Shared: m[1] == "@"})
			}
			if b := &st.blanks[n]; !slices.Contains(b.Lines, i+1) {
				b.Lines = append(b.Lines, i+1)
			}
		}
		if rest := blankForm.ReplaceAllString(l.text, ""); strings.Contains(withoutSpaces(rest), "{") {
			return nil, fail(
				i+1, "a brace is neither a blank like {name} or {@name}, nor doubled: write {{ for a brace",
			)
		}
	}
	if !said {
		return nil, fail(0, "it says nothing: write a piece of configuration as an outline")
	}
	return st, nil
}

// withoutSpaces drops the braces that hold namespaces of metadata.
func withoutSpaces(text string) string { return strings.ReplaceAll(text, "@{", "") }

// Blanks lists what is to be filled in, in the order it stands there.
func (st *Stencil) Blanks() []Blank { return slices.Clone(st.blanks) }

// Uses reports whether a shared value stands in the stencil.
func (st *Stencil) Uses(shared string) bool {
	return slices.ContainsFunc(st.blanks, func(b Blank) bool { return b.Shared && b.Name == shared })
}

// Filled is a stencil filled in: an outline, and for each of its lines the one
// of the stencil that it came from.
type Filled struct {
	Text string
	From []int
}

// Fill fills the blanks in. Every blank needs a value, every shared value its
// items; a value for which there is no blank is refused.
func (st *Stencil) Fill(values map[string]string, shared map[string][]string) (Filled, error) {
	var missing []string
	known := map[string]bool{}
	for _, b := range st.blanks {
		if b.Shared {
			items, ok := shared[b.Name]
			switch {
			case !ok:
				return Filled{}, fail(b.Lines[0], "there is no shared value %s", b.Name)
			case len(items) > mostItems:
				return Filled{}, fail(
					b.Lines[0], "shared value %s has %d items, %d are the most", b.Name, len(items), mostItems,
				)
			}
			continue
		}
		known[b.Name] = true
		if _, ok := values[b.Name]; !ok {
			missing = append(missing, b.Name)
		}
	}
	if len(missing) > 0 {
		return Filled{}, fail(0, "left unfilled: %s", strings.Join(missing, ", "))
	}
	for _, name := range slices.Sorted(maps.Keys(values)) {
		if !known[name] {
			return Filled{}, fail(0, "has no blank %q", name)
		}
	}
	f := &filler{st: st, values: values, shared: shared, now: map[string]string{}}
	if err := f.lines(0, len(st.lines)); err != nil {
		return Filled{}, err
	}
	return Filled{f.out.String(), f.from}, nil
}

type filler struct {
	st     *Stencil
	values map[string]string
	shared map[string][]string
	now    map[string]string // the item that a repetition is at
	out    strings.Builder
	from   []int
}

// lines writes a range of lines, each with its block as often as it is to stand.
func (f *filler) lines(i, end int) error {
	for i < end {
		l := f.st.lines[i]
		stop := i + 1
		if l.idle {
			i = stop
			continue
		}
		for stop < end && (f.st.lines[stop].idle || f.st.lines[stop].indent > l.indent) {
			stop++
		}
		if err := f.repeat(i, stop, f.pending(l)); err != nil {
			return err
		}
		i = stop
	}
	return nil
}

// pending lists the shared values of a line that no repetition is at yet.
func (f *filler) pending(l line) []string {
	var out []string
	for _, m := range blankForm.FindAllStringSubmatch(l.text, -1) {
		if _, at := f.now[m[2]]; m[1] == "@" && !at && !slices.Contains(out, m[2]) {
			out = append(out, m[2])
		}
	}
	return out
}

func (f *filler) repeat(i, stop int, names []string) error {
	if len(names) == 0 {
		if err := f.line(i); err != nil {
			return err
		}
		return f.lines(i+1, stop)
	}
	for _, item := range f.shared[names[0]] {
		f.now[names[0]] = item
		if err := f.repeat(i, stop, names[1:]); err != nil {
			return err
		}
	}
	delete(f.now, names[0])
	return nil
}

const mostText = 64 << 20

func (f *filler) line(i int) error {
	l := f.st.lines[i]
	if f.out.Len() > mostText {
		return fail(i+1, "filled in it is larger than %d MiB", mostText>>20)
	}
	pad := strings.Repeat(" ", l.indent)
	if l.block {
		for _, part := range strings.Split(f.plain(l.text), "\n") {
			if !strings.HasPrefix(part, "|") {
				part = "| " + part
			}
			f.write(pad+part, i)
		}
		return nil
	}
	var b strings.Builder
	for _, t := range tokens(l.text) {
		switch {
		case !blankForm.MatchString(t):
			b.WriteString(t)
		case strings.HasPrefix(t, `"`):
			b.WriteString(blankForm.ReplaceAllStringFunc(t, func(m string) string {
				quoted := fmt.Sprintf("%q", f.value(m))
				return quoted[1 : len(quoted)-1]
			}))
		default:
			b.WriteString(codec.Quote(f.plain(t)))
		}
	}
	f.write(pad+b.String(), i)
	return nil
}

func (f *filler) write(text string, from int) {
	f.out.WriteString(text + "\n")
	f.from = append(f.from, from+1)
}

func (f *filler) plain(text string) string { return blankForm.ReplaceAllStringFunc(text, f.value) }

// value gives what stands for a blank.
func (f *filler) value(blank string) string {
	m := blankForm.FindStringSubmatch(blank)
	switch {
	case m[0] == "{{":
		return "{"
	case m[1] == "@":
		return f.now[m[2]]
	}
	return f.values[m[2]]
}

// tokens cuts a line into words, quoted texts, and what stands between them.
func tokens(text string) []string {
	var out []string
	for i := 0; i < len(text); {
		j := i + 1
		switch {
		case text[i] == '"':
			for j < len(text) && text[j] != '"' {
				if text[j] == '\\' {
					j++
				}
				j++
			}
			j = min(j+1, len(text))
		case strings.IndexByte(" \t,[]", text[i]) < 0:
			for j < len(text) && strings.IndexByte(" \t,[]\"", text[j]) < 0 {
				j++
			}
		}
		out = append(out, text[i:j])
		i = j
	}
	return out
}

// Place is where a blank stands by a schema.
type Place struct {
	Node  *schema.Node // the leaf, leaf-list or key
	Whole bool         // the blank is its whole value
}

// Places finds where the blanks stand; shared ones are named with the @.
func (st *Stencil) Places(s *schema.Schema) (map[string]Place, error) {
	out := map[string]Place{}
	type level struct {
		indent int
		node   *schema.Node
	}
	var way []level
	for i, l := range st.lines {
		if l.idle || l.text[0] == '?' {
			continue
		}
		for len(way) > 0 && way[len(way)-1].indent >= l.indent {
			way = way[:len(way)-1]
		}
		var parent *schema.Node
		if len(way) > 0 {
			parent = way[len(way)-1].node
		}
		if l.block {
			note(out, l.text[1:], parent)
			continue
		}
		name, rest := head(l.text)
		if blankForm.MatchString(name) {
			return nil, fail(i+1, "a blank stands for a value or a key, not for a name")
		}
		n, err := tree.ChildNamed(s, parent, name)
		if err != nil {
			return nil, fail(i+1, "%s", err.Reason())
		}
		way = append(way, level{l.indent, n})
		if n.Kind != schema.List {
			note(out, strings.TrimSpace(strings.TrimPrefix(rest, ":")), n)
			continue
		}
		key := 0
		for _, t := range tokens(rest) {
			switch {
			case t == ",":
				key++
			case key < len(n.Keys):
				note(out, t, n.Child(n.Module, n.Keys[key]))
			}
		}
	}
	return out, nil
}

func note(out map[string]Place, text string, n *schema.Node) {
	for _, m := range blankForm.FindAllStringSubmatch(text, -1) {
		key := m[1] + m[2]
		if _, there := out[key]; m[0] == "{{" || there || n == nil || n.Type == nil {
			continue
		}
		out[key] = Place{Node: n, Whole: strings.Trim(text, `"`) == m[0]}
	}
}

// head cuts a line behind its name.
func head(text string) (name, rest string) {
	for i := range text {
		switch b := text[i]; {
		case b == ' ', b == '\t', b == '[':
			return text[:i], text[i:]
		case b == ':' && (i+1 == len(text) || text[i+1] == ' ' || text[i+1] == '\t'):
			return text[:i], text[i:]
		}
	}
	return text, ""
}

// Read fills the stencil in and reads that by a schema. Errors name the line
// of the stencil.
func (st *Stencil) Read(s *schema.Schema, values map[string]string, shared map[string][]string) (*tree.Node, error) {
	places, err := st.Places(s)
	if err != nil {
		return nil, err
	}
	filled, err := st.Fill(values, shared)
	if err != nil {
		return nil, err
	}
	for _, b := range st.blanks {
		at, ok := places[b.Name]
		if b.Shared || !ok || !at.Whole {
			continue
		}
		if _, err := s.Canonical(at.Node.Type, values[b.Name], s.NameResolver(at.Node.Module)); err != nil {
			return nil, fail(b.Lines[0], "blank %s: %s", b.Name, err)
		}
	}
	n, err := codec.Decoder{Schema: s, Strict: true}.ParseOutline(filled.Text)
	if e, ok := err.(*codec.Error); ok && e.Line > 0 && e.Line <= len(filled.From) {
		msg := e.Msg
		if e.Path != "" {
			msg = e.Path + ": " + msg
		}
		if e.Hint != "" {
			msg += "; " + e.Hint
		}
		return nil, fail(
			filled.From[e.Line-1], "%s (filled in: %s)", msg,
			strings.TrimSpace(strings.Split(filled.Text, "\n")[e.Line-1]),
		)
	}
	return n, err
}
