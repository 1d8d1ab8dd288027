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
	"crypto/sha256"
	"errors"
	"fmt"
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
	outer   *scope
	prefix  []string
	space   []string
	inForce int // declarations, the outer ones among them
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
	Nodes int // elements, values or lines in all, default 2 million

	// Closed names elements of which only the source bytes are kept: Open gives
	// what is in them, Reader reads it.
	Closed Name
}

// Of one element no more is read than any document needs: what a lookup costs is bounded by it.
const (
	MostAttributes   = 256  // of an element, namespace declarations among them
	MostDeclarations = 1024 // of namespaces in force at an element
)

// Default limits of Parse.
const (
	DefaultBytes = 64 << 20
	DefaultDepth = 128
	DefaultNodes = 2_000_000
)

// Filled gives the limits with the defaults where none are set.
func (l Limits) Filled() Limits {
	if l.Bytes == 0 {
		l.Bytes = DefaultBytes
	}
	if l.Depth == 0 {
		l.Depth = DefaultDepth
	}
	if l.Nodes == 0 {
		l.Nodes = DefaultNodes
	}
	return l
}

// Fits refuses a document that is too long.
func (l Limits) Fits(size int) error {
	if size > l.Bytes {
		return fmt.Errorf("%w: %d bytes, at most %d are read", ErrTooLarge, size, l.Bytes)
	}
	return nil
}

// Counts refuses a document that has too much in it.
func (l Limits) Counts(nodes int) error {
	if nodes > l.Nodes {
		return fmt.Errorf("%w: more than %d elements or values", ErrTooLarge, l.Nodes)
	}
	return nil
}

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
	r, err := NewReader(src, lim)
	if err != nil {
		return nil, err
	}
	if _, err := r.Next(); err != nil {
		return nil, err
	}
	root, err := r.Element()
	if err != nil {
		return nil, err
	}
	_, err = r.Next() // nothing may follow
	return root, err
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

// Open gives an element with all that is in it, where it was closed.
func (e *Element) Open() (*Element, error) {
	r := e.Reader()
	if _, err := r.Next(); err != nil {
		return nil, err
	}
	return r.Element()
}

// Compact gives the element standing by itself as Standalone does, without the
// white space between elements: for content of which only elements matter.
func (e *Element) Compact() []byte {
	raw := e.Standalone()
	again, err := Parse(raw, Limits{Bytes: len(raw)})
	if err != nil {
		return raw // cannot be: it was read once already
	}
	return again.compact(nil)
}

func (e *Element) compact(out []byte) []byte {
	if len(e.Children) == 0 {
		return append(out, e.Raw...)
	}
	at := 0 // children share the memory of what they stand in
	for _, c := range e.Children {
		start := cap(e.Raw) - cap(c.Raw)
		out = append(out, trimGap(e.Raw[at:start])...)
		out = c.compact(out)
		at = start + len(c.Raw)
	}
	return append(out, trimGap(e.Raw[at:])...)
}

// trimGap drops white space between tags, not that around text.
func trimGap(gap []byte) []byte {
	if left := bytes.TrimLeft(gap, " \t\r\n"); len(left) == 0 || left[0] == '<' {
		gap = left
	}
	if right := bytes.TrimRight(gap, " \t\r\n"); len(right) == 0 || right[len(right)-1] == '>' {
		gap = right
	}
	return gap
}

// Fingerprint is a digest of everything an element's reading depends on: its
// source and the namespaces in scope around it.
func (e *Element) Fingerprint() [sha256.Size]byte {
	h := sha256.New()
	outer := e.scope
	if e.declares {
		outer = e.scope.outer
	}
	for s := outer; s != nil; s = s.outer {
		for i := range s.prefix {
			_, _ = fmt.Fprintf(h, "%q=%q ", s.prefix[i], s.space[i])
		}
	}
	_, _ = h.Write(e.Raw)
	return [sha256.Size]byte(h.Sum(nil))
}
