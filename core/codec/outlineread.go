package codec

import (
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"oakenlatch/core/markup"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// ParseOutline reads a configuration from its outline (docs/outline.md).
func (d Decoder) ParseOutline(text string) (*tree.Node, error) {
	kids, err := d.OutlineBelow(nil, text)
	if err != nil {
		return nil, err
	}
	root, twice := (&tree.Builder{}).Node(nil, kids, nil)
	if twice != nil {
		return nil, &Error{Tag: "data-exists", Path: tree.Path(nil).Down(twice).String(), Msg: "stands twice"}
	}
	return root, nil
}

// OutlineBelow reads an outline as children of a schema node; nil is the top.
func (d Decoder) OutlineBelow(parent *schema.Node, text string) ([]*tree.Node, error) {
	lim := d.Limits.Filled()
	if err := lim.Fits(len(text)); err != nil {
		return nil, err
	}
	if err := lim.Counts(strings.Count(text, "\n")); err != nil {
		return nil, err
	}
	lines, err := split(text)
	if err != nil {
		return nil, err
	}
	r := &outlineReader{d: d, lines: lines, depth: lim.Depth}
	if len(lines) == 0 {
		return nil, nil
	}
	return r.block(parent, lines[0].indent, 0)
}

// sourceLine is one line that says something.
type sourceLine struct {
	number, indent int
	text           string // without indent
}

func (l sourceLine) fail(offset int, hint, format string, args ...any) *Error {
	column := l.indent + 1 + utf8.RuneCountInString(l.text[:max(0, min(offset, len(l.text)))])
	return &Error{Tag: "invalid-value", Line: l.number, Column: column, Msg: fmt.Sprintf(format, args...), Hint: hint}
}

// split gives the lines that are neither blank nor comments. Lines of a block
// keep whatever they hold.
func split(text string) ([]sourceLine, error) {
	var out []sourceLine
	for i, raw := range strings.Split(text, "\n") {
		body := strings.TrimLeft(raw, " ")
		l := sourceLine{number: i + 1, indent: len(raw) - len(body), text: body}
		if !strings.HasPrefix(body, "|") {
			l.text = strings.TrimRight(body, " \t\r")
			if l.text == "" || l.text[0] == '#' {
				continue
			}
			if l.text[0] == '\t' {
				return nil, l.fail(0, "indent with two spaces a level", "the line begins with a tab")
			}
		}
		out = append(out, l)
	}
	return out, nil
}

type outlineReader struct {
	d     Decoder
	lines []sourceLine
	at    int
	depth int
	path  tree.Path
	build tree.Builder
}

// block reads the lines of one indent as children of a schema node.
func (r *outlineReader) block(parent *schema.Node, indent, depth int) ([]*tree.Node, error) {
	if depth > r.depth {
		return nil, fmt.Errorf("%w: lines nested deeper than %d", markup.ErrTooLarge, r.depth)
	}
	var kids []*tree.Node
	for r.at < len(r.lines) {
		l := r.lines[r.at]
		switch {
		case l.indent < indent:
			return kids, nil
		case l.indent > indent:
			return nil, l.fail(
				0, fmt.Sprintf("indent it by %d spaces, or put its parent above it", indent),
				"is indented deeper than the line above allows",
			)
		case l.text[0] == '|':
			return nil, l.fail(
				0, "a line before it ends with `: |` or begins with `?`", "a line of text belongs to no value",
			)
		}
		r.at++
		n, err := r.line(parent, l, depth)
		if err != nil {
			return nil, err
		}
		if n != nil {
			kids = append(kids, n)
		}
	}
	return kids, nil
}

func (r *outlineReader) line(parent *schema.Node, l sourceLine, depth int) (*tree.Node, error) {
	if l.text[0] == '?' {
		return r.unread(parent, l)
	}
	c := cursor{line: l, text: l.text}
	name := c.name()
	s, perr := tree.ChildNamed(r.d.Schema, parent, name)
	if perr != nil {
		e := l.fail(0, "", "%s", perr.Reason())
		if first, rest, ok := strings.Cut(name, ":"); ok && rest != "" {
			if s, _ := tree.ChildNamed(r.d.Schema, parent, first); s != nil && s.IsLeaf() {
				e.Msg, e.Hint = perr.Msg, fmt.Sprintf("put a space behind the colon: %s: %s", first, rest)
			}
		}
		e.Tag = "unknown-element"
		return nil, e
	}
	r.path = append(r.path, tree.Step{Node: s})
	defer func() { r.path = r.path[:len(r.path)-1] }()
	if r.d.Strict && !s.Config {
		return nil, r.wrong(l.fail(0, "leave it out", "is state, not configuration"))
	}
	if s.IsLeaf() {
		return r.leaf(s, &c)
	}
	var kids []*tree.Node
	if s.Kind == schema.List && len(s.Keys) > 0 {
		keys, err := r.keys(s, &c)
		if err != nil {
			return nil, err
		}
		kids = keys
	} else if s.Kind == schema.List {
		c.blank()
		c.take("[]")
	}
	if c.peek() == ':' {
		return nil, r.wrong(
			c.fail("put what belongs to it on lines below, indented", "is a %s and holds no value", s.Kind),
		)
	}
	notes, err := c.finish(r)
	if err != nil {
		return nil, r.wrong(err)
	}
	if r.at < len(r.lines) && r.lines[r.at].indent > l.indent {
		below, err := r.block(s, r.lines[r.at].indent, depth+1)
		if err != nil {
			return nil, err
		}
		if kids, err = withoutKeys(kids, below, l); err != nil {
			return nil, r.wrong(err)
		}
	}
	n, twice := r.build.Node(s, kids, notes)
	if twice != nil {
		e := l.fail(0, "keep one of them", "holds %s twice", strings.Join(Heads(twice), " "))
		e.Tag = "data-exists"
		return nil, r.wrong(e)
	}
	return n, nil
}

// wrong puts the path of the line being read to an error.
func (r *outlineReader) wrong(err error) error {
	if e, ok := err.(*Error); ok && e.Path == "" {
		e.Path = r.path.String()
	}
	return err
}

// withoutKeys adds what stands below an entry to its keys. A key may be
// written there once more, if it is the same.
func withoutKeys(keys, below []*tree.Node, l sourceLine) ([]*tree.Node, error) {
	out := keys
	for _, n := range below {
		i := -1
		if n.Schema() != nil {
			i = n.Schema().KeyIndex()
		}
		if i < 0 {
			out = append(out, n)
			continue
		}
		if i < len(keys) && keys[i].Value() != n.Value() {
			return nil, l.fail(
				0, "the brackets name the entry: leave the line below out",
				"its key %s is %s in the brackets and %s below", n.Schema().Name, keys[i].Value(), n.Value(),
			)
		}
	}
	return out, nil
}

// keys reads the brackets of a list entry.
func (r *outlineReader) keys(s *schema.Node, c *cursor) ([]*tree.Node, error) {
	hint := fmt.Sprintf("write %s [%s]", Name(s), strings.ToUpper(strings.Join(s.Keys, ", ")))
	c.blank()
	if !c.take("[") {
		return nil, r.wrong(c.fail(hint, "an entry is named by its keys in brackets"))
	}
	var out []*tree.Node
	var texts []string
	for {
		c.blank()
		start := c.at
		text, err := c.value(",]")
		if err != nil {
			return nil, r.wrong(err)
		}
		if len(out) < len(s.Keys) {
			leaf := s.Child(s.Module, s.Keys[len(out)])
			n, err := r.valueNode(leaf, text, c, start)
			if err != nil {
				return nil, r.wrong(err)
			}
			out = append(out, n)
		}
		texts = append(texts, text)
		c.blank()
		if c.take(",") {
			continue
		}
		if !c.take("]") {
			return nil, r.wrong(c.fail(hint, "the brackets are not closed"))
		}
		break
	}
	if len(texts) != len(s.Keys) {
		return nil, r.wrong(c.fail(hint, "has %d keys, got %d", len(s.Keys), len(texts)))
	}
	r.path[len(r.path)-1].Keys = texts
	return out, nil
}

func (r *outlineReader) valueNode(s *schema.Node, text string, c *cursor, start int) (*tree.Node, error) {
	v, err := r.d.Canonical(s, text, r.d.Schema.NameResolver(s.Module))
	if err != nil {
		if s.KeyIndex() >= 0 {
			err = fmt.Errorf("key %s: %w", s.Name, err)
		}
		return nil, c.line.fail(start, "", "%s", err)
	}
	return r.build.Leaf(s, v), nil
}

func (r *outlineReader) leaf(s *schema.Node, c *cursor) (*tree.Node, error) {
	if !c.take(":") {
		return nil, r.wrong(
			c.fail("write "+Name(s)+": VALUE", "%s is a %s and needs a colon and its value", s.Name, s.Kind),
		)
	}
	c.blank()
	start := c.at
	text := ""
	switch {
	case c.take("|"):
		text = r.text(c.line)
	case s.Type.Base == schema.Empty && (c.peek() == 0 || c.peek() == '@' || c.peek() == '#'):
	default:
		var err error
		if text, err = c.value(" \t"); err != nil {
			return nil, r.wrong(err)
		}
	}
	notes, err := c.finish(r)
	if err != nil {
		return nil, r.wrong(err)
	}
	n, err := r.valueNode(s, text, c, start)
	if err != nil {
		return nil, r.wrong(err)
	}
	if r.at < len(r.lines) && r.lines[r.at].indent > c.line.indent {
		return nil, r.lines[r.at].fail(0, "", "stands below %s, which is a %s and has nothing below it", s.Name, s.Kind)
	}
	return set(n.Annotated(notes)), nil
}

// text takes the lines of a block: those that begin with a bar.
func (r *outlineReader) text(head sourceLine) string {
	var parts []string
	for r.at < len(r.lines) && r.lines[r.at].indent > head.indent && r.lines[r.at].text[0] == '|' {
		body := r.lines[r.at].text[1:]
		parts = append(parts, strings.TrimPrefix(body, " "))
		r.at++
	}
	return strings.Join(parts, "\n")
}

// unread reads content that no module describes: its XML stands below.
func (r *outlineReader) unread(parent *schema.Node, l sourceLine) (*tree.Node, error) {
	n, err := r.d.Unread(parent, r.text(l))
	if err != nil {
		return nil, l.fail(0, "its XML stands on the lines below, each after `| `", "%s", err)
	}
	return n, nil
}

// Unread reads an element that no module describes, or that the schema knows
// as anydata or anyxml, as a child of a schema node.
func (d Decoder) Unread(parent *schema.Node, xml string) (*tree.Node, error) {
	el, err := markup.Parse([]byte(xml), d.Limits)
	if err != nil {
		return nil, fmt.Errorf("the content is not XML: %w", err)
	}
	switch s := d.lookup(parent, el.Name); {
	case s == nil:
		return tree.NewOpaque(nil, opaque(el)), nil
	case s.Kind == schema.AnyData || s.Kind == schema.AnyXML:
		return tree.NewOpaque(s, known(s, el)), nil
	default:
		return nil, fmt.Errorf("%s is described by module %s: write it as %s", s.Name, s.Module.Name, Name(s))
	}
}

// cursor reads along one line.
type cursor struct {
	line sourceLine
	text string
	at   int
}

func (c *cursor) fail(hint, format string, args ...any) *Error {
	return c.line.fail(c.at, hint, format, args...)
}

func (c *cursor) peek() byte {
	if c.at < len(c.text) {
		return c.text[c.at]
	}
	return 0
}

func (c *cursor) blank() {
	for c.peek() == ' ' || c.peek() == '\t' {
		c.at++
	}
}

func (c *cursor) take(token string) bool {
	if strings.HasPrefix(c.text[c.at:], token) {
		c.at += len(token)
		return true
	}
	return false
}

// name takes a node's name: up to the colon that ends it, a bracket or white
// space. A colon with more of a name behind it belongs to a module's name.
func (c *cursor) name() string {
	start := c.at
	for c.at < len(c.text) {
		b := c.text[c.at]
		if b == ' ' || b == '\t' || b == '[' {
			break
		}
		if b == ':' && (c.at+1 == len(c.text) || c.text[c.at+1] == ' ' || c.text[c.at+1] == '\t') {
			break
		}
		c.at++
	}
	return c.text[start:c.at]
}

// value takes a value: in quotes, or up to one of the bytes that end it.
func (c *cursor) value(ends string) (string, error) {
	if c.peek() != '"' {
		start := c.at
		for c.at < len(c.text) && !strings.ContainsRune(ends, rune(c.text[c.at])) {
			c.at++
		}
		text := strings.TrimRight(c.text[start:c.at], " \t")
		if text == "" {
			c.at = start
			return "", c.fail(`write "" for an empty one`, "a value belongs here")
		}
		return text, nil
	}
	quoted, err := strconv.QuotedPrefix(c.text[c.at:])
	if err != nil {
		return "", c.fail("", "the quotes are not closed, or an escape in them is wrong")
	}
	c.at += len(quoted)
	return strconv.Unquote(quoted)
}

// finish takes the metadata at the end of a line; nothing else may be there
// but a comment.
func (c *cursor) finish(r *outlineReader) ([]tree.Annotation, error) {
	var out []tree.Annotation
	for {
		c.blank()
		switch c.peek() {
		case 0, '#':
			return out, nil
		case '@':
			c.at++
		default:
			return nil, c.fail("put a value with white space in double quotes", "%q is left over", c.text[c.at:])
		}
		a := tree.Annotation{}
		if c.take("{") {
			end := strings.IndexByte(c.text[c.at:], '}')
			if end < 0 {
				return nil, c.fail("", "the brace of a namespace is not closed")
			}
			a.Space = c.text[c.at : c.at+end]
			c.at += end + 1
		}
		name, _, ok := strings.Cut(c.text[c.at:], "=")
		if !ok || strings.ContainsAny(name, " \"") {
			return nil, c.fail(`write @MODULE:NAME="VALUE"`, "metadata has a name and a value")
		}
		c.at += len(name) + 1
		if a.Name = name; a.Space == "" {
			a.Module, a.Name, _ = strings.Cut(name, ":")
		}
		v, err := c.value(" \t")
		if err != nil {
			return nil, err
		}
		a.Value = v
		if a, err = r.d.annotation(a, out); err != nil {
			return nil, c.fail("", "metadata %s: %s", name, err)
		}
		out = append(out, a)
	}
}
