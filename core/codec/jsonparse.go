package codec

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"oakenlatch/core/markup"
)

// value is one JSON value with the place where it begins, counted from 1.
type value struct {
	at      int64
	scalar  any // string, json.Number, bool or nil; unset for the others
	members []member
	array   []*value
	kind    byte // '{', '[' or 0
}

type member struct {
	name  string
	value *value
}

// parseJSON reads a document into values, keeping order and refusing names
// that stand twice (RFC 8259 leaves them undefined).
func parseJSON(doc []byte, lim markup.Limits) (*value, error) {
	lim = lim.Filled()
	if err := lim.Fits(len(doc)); err != nil {
		return nil, err
	}
	p := &jsonParser{dec: json.NewDecoder(bytes.NewReader(doc)), doc: doc, lim: lim}
	p.dec.UseNumber()
	v, err := p.value(0)
	if err != nil {
		return nil, err
	}
	if _, err := p.dec.Token(); !errors.Is(err, io.EOF) {
		return nil, p.fail(p.dec.InputOffset(), "something follows after the document's own value")
	}
	return v, nil
}

type jsonParser struct {
	dec   *json.Decoder
	doc   []byte
	lim   markup.Limits
	count int
}

func place(doc []byte, at int64) (line, column int) {
	before := doc[:max(0, min(int(at), len(doc)))]
	return 1 + bytes.Count(before, []byte{'\n'}), max(1, len(before)-bytes.LastIndexByte(before, '\n')-1)
}

func (p *jsonParser) fail(at int64, format string, args ...any) error {
	line, column := place(p.doc, at)
	return &Error{Tag: "malformed-message", Msg: fmt.Sprintf(format, args...), Line: line, Column: column}
}

// token gives the next token and where it begins, counted from 1.
func (p *jsonParser) token() (json.Token, int64, error) {
	start := p.dec.InputOffset()
	tok, err := p.dec.Token()
	for int(start) < len(p.doc) && strings.IndexByte(" \t\r\n:,", p.doc[start]) >= 0 {
		start++
	}
	var syn *json.SyntaxError
	switch {
	case err == nil:
		return tok, start + 1, nil
	case errors.As(err, &syn):
		err = p.fail(syn.Offset, "not JSON: %s", syn.Error())
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		err = p.fail(int64(len(p.doc)), "the document ends too early")
	default:
		err = p.fail(p.dec.InputOffset(), "not JSON: %s", err)
	}
	return nil, 0, err
}

func (p *jsonParser) value(depth int) (*value, error) {
	if depth > p.lim.Depth {
		return nil, fmt.Errorf("%w: values nested deeper than %d", markup.ErrTooLarge, p.lim.Depth)
	}
	if p.count++; p.count > p.lim.Nodes {
		return nil, p.lim.Counts(p.count)
	}
	tok, at, err := p.token()
	if err != nil {
		return nil, err
	}
	v := &value{at: at}
	delim, ok := tok.(json.Delim)
	if !ok {
		v.scalar = tok
		return v, nil
	}
	v.kind = byte(delim)
	seen := map[string]bool{}
	for p.dec.More() {
		if v.kind == '[' {
			item, err := p.value(depth + 1)
			if err != nil {
				return nil, err
			}
			v.array = append(v.array, item)
			continue
		}
		key, at, err := p.token()
		if err != nil {
			return nil, err
		}
		name, _ := key.(string)
		if seen[name] {
			return nil, p.fail(at, "member %q stands twice", name)
		}
		seen[name] = true
		item, err := p.value(depth + 1)
		if err != nil {
			return nil, err
		}
		v.members = append(v.members, member{name, item})
	}
	if _, err := p.dec.Token(); err != nil {
		return nil, p.fail(p.dec.InputOffset(), "the document ends inside a value or is not JSON: %s", err)
	}
	return v, nil
}
