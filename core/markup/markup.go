// Package markup reads and writes XML elements with their names resolved.
//
// It sits below both the configuration codec and the NETCONF messages. Unlike
// encoding/xml's own structures it keeps the namespace bindings in scope at
// each element (values such as identityrefs carry prefixes, RFC 7950 section
// 9.10.3) and the exact source bytes (content nobody understands must travel
// on unchanged).
package markup

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"sort"
	"strings"
)

// Name is an XML name after its prefix was resolved.
type Name struct{ Space, Local string }

// Attr is an attribute; namespace declarations are not among them.
type Attr struct {
	Name  Name
	Value string
}

// Element is one XML element. Text is the concatenation of its direct
// character data. Raw is the span of the source from its start tag to its end
// tag and shares the source's memory.
type Element struct {
	Name     Name
	Attrs    []Attr
	Children []*Element
	Text     string
	Raw      []byte

	scope    *scope
	declares bool // scope was made by this element's own start tag
}

// scope is one element's namespace declarations, chained to its parent's.
type scope struct {
	outer  *scope
	prefix []string
	space  []string
}

func (s *scope) lookup(prefix string) (string, bool) {
	for ; s != nil; s = s.outer {
		for i := len(s.prefix) - 1; i >= 0; i-- {
			if s.prefix[i] == prefix {
				return s.space[i], true
			}
		}
	}
	switch prefix {
	case "":
		return "", true
	case "xml":
		return "http://www.w3.org/XML/1998/namespace", true
	}
	return "", false
}

// Limits bound what Parse accepts; zero fields mean the defaults.
type Limits struct {
	Bytes int // whole document, default 64 MiB
	Depth int // nesting of elements, default 128
}

// Default limits of Parse.
const (
	DefaultBytes = 64 << 20
	DefaultDepth = 128
)

// ErrTooLarge is wrapped by errors for documents over a limit.
var ErrTooLarge = errors.New("document over the limit")

// SyntaxError says where a document stops being XML.
type SyntaxError struct {
	Line, Column int
	Msg          string
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, e.Msg)
}

// Parse reads a document of exactly one element.
func Parse(src []byte, lim Limits) (*Element, error) {
	if lim.Bytes == 0 {
		lim.Bytes = DefaultBytes
	}
	if lim.Depth == 0 {
		lim.Depth = DefaultDepth
	}
	if len(src) > lim.Bytes {
		return nil, fmt.Errorf("%w: %d bytes, at most %d are read", ErrTooLarge, len(src), lim.Bytes)
	}
	p := parser{src: src, lim: lim, dec: xml.NewDecoder(bytes.NewReader(src))}
	return p.document()
}

type parser struct {
	src   []byte
	lim   Limits
	dec   *xml.Decoder
	stack []*Element
	tags  []xml.Name // raw names, to match end tags
	start []int64
	root  *Element
	text  [][]byte
}

func (p *parser) fail(at int64, format string, args ...any) error {
	before := p.src[:min(int(at), len(p.src))]
	line := 1 + bytes.Count(before, []byte{'\n'})
	column := len(before) - bytes.LastIndexByte(before, '\n')
	return &SyntaxError{Line: line, Column: column, Msg: fmt.Sprintf(format, args...)}
}

func (p *parser) document() (*Element, error) {
	for {
		at := p.dec.InputOffset()
		tok, err := p.dec.RawToken()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			var syn *xml.SyntaxError
			if errors.As(err, &syn) {
				return nil, p.fail(p.dec.InputOffset(), "%s", syn.Msg)
			}
			return nil, p.fail(p.dec.InputOffset(), "%s", err)
		}
		switch t := tok.(type) {
		case xml.StartElement:
			err = p.open(at, t)
		case xml.EndElement:
			err = p.close(at, t)
		case xml.CharData:
			if n := len(p.stack); n > 0 {
				p.text[n-1] = append(p.text[n-1], t...)
			} else if len(bytes.TrimSpace(t)) > 0 {
				err = p.fail(at, "text outside the document's element")
			}
		case xml.Directive:
			err = p.fail(at, "document type declarations are not accepted")
		}
		if err != nil {
			return nil, err
		}
	}
	if len(p.stack) > 0 {
		return nil, p.fail(int64(len(p.src)), "the document ends inside <%s>", p.stack[len(p.stack)-1].Name.Local)
	}
	if p.root == nil {
		return nil, p.fail(int64(len(p.src)), "no element in the document")
	}
	return p.root, nil
}

func (p *parser) open(at int64, t xml.StartElement) error {
	if len(p.stack) == 0 && p.root != nil {
		return p.fail(at, "a second element <%s> after the document's own", t.Name.Local)
	}
	if len(p.stack) >= p.lim.Depth {
		return fmt.Errorf("%w: elements nested deeper than %d", ErrTooLarge, p.lim.Depth)
	}
	e := &Element{}
	if n := len(p.stack); n > 0 {
		e.scope = p.stack[n-1].scope
	}
	var own *scope
	for _, a := range t.Attr {
		prefix, isDecl := "", false
		switch {
		case a.Name.Space == "xmlns":
			prefix, isDecl = a.Name.Local, true
		case a.Name.Space == "" && a.Name.Local == "xmlns":
			isDecl = true
		}
		if isDecl {
			if own == nil {
				own = &scope{outer: e.scope}
			}
			own.prefix = append(own.prefix, prefix)
			own.space = append(own.space, a.Value)
		}
	}
	if own != nil {
		e.scope, e.declares = own, true
	}
	var err error
	if e.Name, err = p.resolve(at, e, t.Name, true); err != nil {
		return err
	}
	for _, a := range t.Attr {
		if a.Name.Space == "xmlns" || (a.Name.Space == "" && a.Name.Local == "xmlns") {
			continue
		}
		name, err := p.resolve(at, e, a.Name, false)
		if err != nil {
			return err
		}
		for _, have := range e.Attrs {
			if have.Name == name {
				return p.fail(at, "attribute %s twice on <%s>", name.Local, e.Name.Local)
			}
		}
		e.Attrs = append(e.Attrs, Attr{Name: name, Value: a.Value})
	}
	if n := len(p.stack); n > 0 {
		p.stack[n-1].Children = append(p.stack[n-1].Children, e)
	} else {
		p.root = e
	}
	p.stack = append(p.stack, e)
	p.tags = append(p.tags, t.Name)
	p.start = append(p.start, at)
	p.text = append(p.text, nil)
	return nil
}

func (p *parser) resolve(at int64, e *Element, n xml.Name, element bool) (Name, error) {
	if n.Space == "" && !element {
		return Name{Local: n.Local}, nil
	}
	space, ok := e.scope.lookup(n.Space)
	if !ok {
		return Name{}, p.fail(at, "prefix %q of %s is not declared", n.Space, n.Local)
	}
	return Name{Space: space, Local: n.Local}, nil
}

func (p *parser) close(at int64, t xml.EndElement) error {
	n := len(p.stack) - 1
	if n < 0 {
		return p.fail(at, "end tag </%s> without a start", t.Name.Local)
	}
	if p.tags[n] != t.Name {
		return p.fail(at, "end tag </%s> closes <%s>", t.Name.Local, p.tags[n].Local)
	}
	e := p.stack[n]
	e.Text = string(p.text[n])
	e.Raw = p.src[p.start[n]:p.dec.InputOffset()]
	p.stack, p.tags, p.start, p.text = p.stack[:n], p.tags[:n], p.start[:n], p.text[:n]
	return nil
}

// Resolve gives the namespace that a prefix stands for at this element; the
// empty prefix is the default namespace.
func (e *Element) Resolve(prefix string) (space string, ok bool) { return e.scope.lookup(prefix) }

// Attr gives the value of an attribute.
func (e *Element) Attr(space, local string) (string, bool) {
	for _, a := range e.Attrs {
		if a.Name.Space == space && a.Name.Local == local {
			return a.Value, true
		}
	}
	return "", false
}

// Child gives the first child of that name, or nil.
func (e *Element) Child(space, local string) *Element {
	if e == nil {
		return nil
	}
	for _, c := range e.Children {
		if c.Name.Space == space && c.Name.Local == local {
			return c
		}
	}
	return nil
}

// Find follows local names down from e through the first child of each name,
// whatever its namespace; nil where one is missing.
func (e *Element) Find(path ...string) *Element {
	for _, local := range path {
		if e == nil {
			return nil
		}
		var next *Element
		for _, c := range e.Children {
			if c.Name.Local == local {
				next = c
				break
			}
		}
		e = next
	}
	return e
}

// Value is the element's text without surrounding white space; "" for nil.
func (e *Element) Value() string {
	if e == nil {
		return ""
	}
	return strings.TrimSpace(e.Text)
}

// Standalone gives the element's source bytes with the namespace bindings that
// were in scope declared on its start tag, so that it means the same wherever
// it is put. Prefixes that appear nowhere in it are left out.
func (e *Element) Standalone() []byte {
	have := map[string]bool{}
	need := map[string]string{}
	for s := e.scope; s != nil; s = s.outer {
		own := e.declares && s == e.scope
		for i := len(s.prefix) - 1; i >= 0; i-- {
			if have[s.prefix[i]] {
				continue
			}
			have[s.prefix[i]] = true
			used := s.prefix[i] == "" || bytes.Contains(e.Raw, []byte(s.prefix[i]+":"))
			if !own && used {
				need[s.prefix[i]] = s.space[i]
			}
		}
	}
	if !have[""] {
		need[""] = ""
	}
	if len(need) == 0 {
		return e.Raw
	}
	prefixes := make([]string, 0, len(need))
	for p := range need {
		prefixes = append(prefixes, p)
	}
	sort.Strings(prefixes)
	end := 1
	for end < len(e.Raw) && !strings.ContainsRune(" \t\r\n/>", rune(e.Raw[end])) {
		end++
	}
	var b bytes.Buffer
	b.Write(e.Raw[:end])
	for _, p := range prefixes {
		attr := "xmlns"
		if p != "" {
			attr += ":" + p
		}
		fmt.Fprintf(&b, " %s=\"%s\"", attr, EscapeAttr(need[p]))
	}
	b.Write(e.Raw[end:])
	return b.Bytes()
}
