package markup

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
)

// Event is what a Reader came upon.
type Event uint8

// The events. Done is the end of a whole document.
const (
	Start Event = iota + 1
	End
	Done
)

// Reader reads a document of one element, event by event, without keeping it.
type Reader struct {
	src   []byte
	lim   Limits
	dec   *xml.Decoder
	stack []open
	begun bool
	count int   // elements so far
	cur   *open // the element just opened or closed; one closed lasts until the next is opened
	attrs []Attr
	text  []byte

	scopes  map[binding]*scope
	known   map[string]string // what prefixes stand for in knownIn
	knownIn *scope
}

// open is an element whose end tag was not read yet.
type open struct {
	prefix   string // to match the end tag
	name     Name
	space    string // the default namespace in force
	scope    *scope
	declares bool
	start    int64
}

// NewReader gives a Reader of a document; the error is that of a limit.
func NewReader(src []byte, lim Limits) (*Reader, error) {
	lim = lim.Filled()
	if err := lim.Fits(len(src)); err != nil {
		return nil, err
	}
	return &Reader{src: src, lim: lim, dec: xml.NewDecoder(&source{src: src}), cur: &open{}}, nil
}

// Reader reads an element anew, from its start tag on, with the namespaces
// that are in scope there.
func (e *Element) Reader() *Reader {
	r := &Reader{
		src: e.Raw, lim: Limits{Bytes: len(e.Raw), Depth: DefaultDepth, Nodes: len(e.Raw)},
		dec: xml.NewDecoder(&source{src: e.Raw}),
	}
	outer := e.scope
	if e.declares {
		outer = e.scope.outer
	}
	r.cur = &open{scope: outer}
	r.cur.space, _ = outer.lookup("")
	return r
}

// source hands bytes to the XML decoder, which takes them one by one: it is
// bytes.Reader without what costs time in this place.
type source struct {
	src []byte
	at  int
}

func (s *source) ReadByte() (byte, error) {
	if s.at >= len(s.src) {
		return 0, io.EOF
	}
	c := s.src[s.at]
	s.at++
	return c, nil
}

func (s *source) Read(p []byte) (int, error) {
	if s.at >= len(s.src) {
		return 0, io.EOF
	}
	n := copy(p, s.src[s.at:])
	s.at += n
	return n, nil
}

func (r *Reader) fail(at int64, format string, args ...any) error {
	before := r.src[:min(int(at), len(r.src))]
	line := 1 + bytes.Count(before, []byte{'\n'})
	column := len(before) - bytes.LastIndexByte(before, '\n')
	return &SyntaxError{Line: line, Column: column, Msg: fmt.Sprintf(format, args...)}
}

// Where says at which line and column the element just opened or closed began.
func (r *Reader) Where() (line, column int) {
	before := r.src[:r.cur.start]
	return 1 + bytes.Count(before, []byte{'\n'}), len(before) - bytes.LastIndexByte(before, '\n')
}

// Name is the name of the element just opened or closed.
func (r *Reader) Name() Name { return r.cur.name }

// Attrs are the attributes of the element just opened, namespace declarations
// not among them. They are overwritten by the next event.
func (r *Reader) Attrs() []Attr { return r.attrs }

// Text is the character data since the event before. It is overwritten by the
// next event.
func (r *Reader) Text() []byte { return r.text }

// Resolve gives the namespace that a prefix stands for at the element just
// opened or closed.
func (r *Reader) Resolve(prefix string) (space string, ok bool) { return r.cur.scope.lookup(prefix) }

// Next goes on to the next start or end tag.
func (r *Reader) Next() (Event, error) {
	r.text = r.text[:0]
	for {
		at := r.dec.InputOffset()
		tok, err := r.dec.RawToken()
		if err != nil {
			return r.finish(err)
		}
		switch t := tok.(type) {
		case xml.StartElement:
			return Start, r.open(at, t)
		case xml.EndElement:
			return End, r.close(at, t)
		case xml.CharData:
			if len(r.stack) == 0 && len(bytes.TrimSpace(t)) > 0 {
				return 0, r.fail(at, "text outside the document's element")
			}
			r.text = append(r.text, t...)
		case xml.Directive:
			return 0, r.fail(at, "document type declarations are not accepted")
		}
	}
}

func (r *Reader) finish(err error) (Event, error) {
	var syn *xml.SyntaxError
	switch {
	case errors.As(err, &syn):
		return 0, r.fail(r.dec.InputOffset(), "%s", syn.Msg)
	case !errors.Is(err, io.EOF):
		return 0, r.fail(r.dec.InputOffset(), "%s", err)
	case len(r.stack) > 0:
		return 0, r.fail(int64(len(r.src)), "the document ends inside <%s>", r.stack[len(r.stack)-1].name.Local)
	case !r.begun:
		return 0, r.fail(int64(len(r.src)), "no element in the document")
	}
	return Done, nil
}

func (r *Reader) open(at int64, t xml.StartElement) error {
	if len(r.stack) == 0 && r.begun {
		return r.fail(at, "a second element <%s> after the document's own", t.Name.Local)
	}
	if len(r.stack) >= r.lim.Depth {
		return fmt.Errorf("%w: elements nested deeper than %d", ErrTooLarge, r.lim.Depth)
	}
	if r.count++; r.count > r.lim.Nodes {
		return r.lim.Counts(r.count)
	}
	if n := len(t.Attr); n > MostAttributes {
		return fmt.Errorf(
			"%w: <%s> has %d attributes, at most %d are read", ErrTooLarge, t.Name.Local, n, MostAttributes,
		)
	}
	outer := r.cur
	if n := len(r.stack); n > 0 {
		outer = &r.stack[n-1]
	}
	r.stack = append(r.stack, open{prefix: t.Name.Space, start: at, scope: outer.scope, space: outer.space})
	o := &r.stack[len(r.stack)-1]
	r.cur, r.begun = o, true
	if r.declare(o, t.Attr); o.scope != nil && o.scope.inForce > MostDeclarations {
		return fmt.Errorf(
			"%w: more than %d namespace declarations are in force at <%s>", ErrTooLarge, MostDeclarations, t.Name.Local,
		)
	}
	o.name = Name{Space: o.space, Local: t.Name.Local}
	if t.Name.Space != "" {
		var err error
		if o.name, err = r.resolve(at, o, t.Name); err != nil {
			return err
		}
	}
	return r.attributes(at, t.Attr)
}

// declare opens the scope of an element's namespace declarations. Documents
// declare the same ones over and over: those of one are made only once.
func (r *Reader) declare(o *open, attrs []xml.Attr) {
	outer, count := o.scope, 0
	var one binding
	for _, a := range attrs {
		if prefix, ok := declaration(a.Name); ok {
			one = binding{outer, prefix, a.Value}
			if count++; prefix == "" {
				o.space = a.Value
			}
		}
	}
	if count == 0 {
		return
	}
	o.declares = true
	if o.scope = r.scopes[one]; count == 1 && o.scope != nil {
		return
	}
	o.scope = &scope{outer: outer, inForce: count}
	if outer != nil {
		o.scope.inForce += outer.inForce
	}
	for _, a := range attrs {
		if prefix, ok := declaration(a.Name); ok {
			o.scope.prefix = append(o.scope.prefix, prefix)
			o.scope.space = append(o.scope.space, a.Value)
		}
	}
	if count == 1 && len(r.scopes) < mostScopes {
		if r.scopes == nil {
			r.scopes = map[binding]*scope{}
		}
		r.scopes[one] = o.scope
	}
}

// binding is one namespace declaration where it stands.
type binding struct {
	outer         *scope
	prefix, space string
}

// mostScopes bounds the scopes remembered.
const mostScopes = 1024

func declaration(n xml.Name) (prefix string, ok bool) {
	switch {
	case n.Space == "xmlns":
		return n.Local, true
	case n.Space == "" && n.Local == "xmlns":
		return "", true
	}
	return "", false
}

func (r *Reader) attributes(at int64, attrs []xml.Attr) error {
	r.attrs = r.attrs[:0]
	for _, a := range attrs {
		if _, isDecl := declaration(a.Name); isDecl {
			continue
		}
		name := Name{Local: a.Name.Local}
		if a.Name.Space != "" {
			var err error
			if name, err = r.resolve(at, r.cur, a.Name); err != nil {
				return err
			}
		}
		for _, have := range r.attrs {
			if have.Name == name {
				return r.fail(at, "attribute %s twice on <%s>", name.Local, r.cur.name.Local)
			}
		}
		r.attrs = append(r.attrs, Attr{Name: name, Value: a.Value})
	}
	return nil
}

func (r *Reader) resolve(at int64, o *open, n xml.Name) (Name, error) {
	space, ok := r.lookup(o.scope, n.Space)
	if !ok {
		return Name{}, r.fail(at, "prefix %q of %s is not declared", n.Space, n.Local)
	}
	return Name{Space: space, Local: n.Local}, nil
}

// lookup finds what a prefix stands for; where many are in force, each once in a scope.
func (r *Reader) lookup(in *scope, prefix string) (string, bool) {
	if in == nil || in.inForce < 16 {
		return in.lookup(prefix)
	}
	if r.knownIn != in {
		r.known, r.knownIn = map[string]string{}, in
	}
	space, ok := r.known[prefix]
	if !ok {
		if space, ok = in.lookup(prefix); ok {
			r.known[prefix] = space
		}
	}
	return space, ok
}

func (r *Reader) close(at int64, t xml.EndElement) error {
	n := len(r.stack) - 1
	if n < 0 {
		return r.fail(at, "end tag </%s> without a start", t.Name.Local)
	}
	r.cur = &r.stack[n]
	if r.cur.name.Local != t.Name.Local || r.cur.prefix != t.Name.Space {
		return r.fail(at, "end tag </%s> closes <%s>", t.Name.Local, r.cur.name.Local)
	}
	r.stack = r.stack[:n]
	return nil
}

// Element reads the rest of the element just opened and gives it whole.
func (r *Reader) Element() (*Element, error) {
	o := *r.cur
	e := &Element{Name: o.name, scope: o.scope, declares: o.declares, Attrs: append([]Attr(nil), r.attrs...)}
	if o.name == r.lim.Closed && o.name.Local != "" {
		if err := r.skip(); err != nil {
			return nil, err
		}
		e.Raw = r.src[o.start:r.dec.InputOffset()]
		return e, nil
	}
	var text []byte
	for {
		ev, err := r.Next()
		if err != nil {
			return nil, err
		}
		text = append(text, r.text...)
		if ev == End {
			e.Text = string(text)
			e.Raw = r.src[o.start:r.dec.InputOffset()]
			return e, nil
		}
		c, err := r.Element()
		if err != nil {
			return nil, err
		}
		e.Children = append(e.Children, c)
	}
}

// skip reads up to the end of the element just opened.
func (r *Reader) skip() error {
	for depth := 1; depth > 0; {
		ev, err := r.Next()
		if err != nil {
			return err
		}
		if ev == Start {
			depth++
		} else {
			depth--
		}
	}
	return nil
}
