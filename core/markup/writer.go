package markup

import (
	"bytes"
	"strings"
)

// Writer builds a document. The zero value is ready to use. It declares
// default namespaces where they change and writes plain text only: comments
// and CDATA are lost by some servers.
type Writer struct {
	Indent string // per level; "" writes no white space between elements

	buf   bytes.Buffer
	stack []frame
	empty bool // the last start tag is still open
}

type frame struct {
	name     Name
	children bool
}

var textEscaper = strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", "\r", "&#xD;")
var attrEscaper = strings.NewReplacer(
	"&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;", "\n", "&#xA;", "\t", "&#x9;", "\r", "&#xD;",
)

// EscapeText escapes character data.
func EscapeText(s string) string { return textEscaper.Replace(s) }

// EscapeAttr escapes an attribute's value.
func EscapeAttr(s string) string { return attrEscaper.Replace(s) }

func (w *Writer) closeStart() {
	if w.empty {
		w.buf.WriteByte('>')
		w.empty = false
	}
}

func (w *Writer) newline() {
	if w.Indent != "" && w.buf.Len() > 0 {
		w.buf.WriteByte('\n')
		for range w.stack {
			w.buf.WriteString(w.Indent)
		}
	}
}

// Space is the default namespace in force.
func (w *Writer) Space() string {
	if n := len(w.stack); n > 0 {
		return w.stack[n-1].name.Space
	}
	return ""
}

// Start opens an element. Attributes are given as name, value pairs, their
// names written as they are: declare any prefix among them with "xmlns:p".
func (w *Writer) Start(name Name, attrs ...string) {
	w.closeStart()
	outer := w.Space()
	if n := len(w.stack); n > 0 {
		w.stack[n-1].children = true
	}
	w.newline()
	w.buf.WriteByte('<')
	w.buf.WriteString(name.Local)
	if name.Space != outer {
		w.buf.WriteString(` xmlns="`)
		w.buf.WriteString(EscapeAttr(name.Space))
		w.buf.WriteByte('"')
	}
	for i := 0; i+1 < len(attrs); i += 2 {
		w.buf.WriteByte(' ')
		w.buf.WriteString(attrs[i])
		w.buf.WriteString(`="`)
		w.buf.WriteString(EscapeAttr(attrs[i+1]))
		w.buf.WriteByte('"')
	}
	w.stack = append(w.stack, frame{name: name})
	w.empty = true
}

// Text adds character data.
func (w *Writer) Text(s string) {
	if s == "" {
		return
	}
	w.closeStart()
	w.buf.WriteString(EscapeText(s))
}

// Raw adds a fragment that is already XML and declares what it uses.
func (w *Writer) Raw(fragment []byte) {
	w.closeStart()
	if n := len(w.stack); n > 0 {
		w.stack[n-1].children = true
	}
	w.newline()
	w.buf.Write(fragment)
}

// RawText adds already escaped content without touching white space.
func (w *Writer) RawText(content []byte) {
	w.closeStart()
	w.buf.Write(content)
}

// End closes the innermost element.
func (w *Writer) End() {
	n := len(w.stack) - 1
	f := w.stack[n]
	w.stack = w.stack[:n]
	if w.empty {
		w.buf.WriteString("/>")
		w.empty = false
		return
	}
	if f.children {
		w.newline()
	}
	w.buf.WriteString("</")
	w.buf.WriteString(f.name.Local)
	w.buf.WriteByte('>')
}

// Leaf writes an element that holds only text.
func (w *Writer) Leaf(name Name, text string, attrs ...string) {
	w.Start(name, attrs...)
	w.Text(text)
	w.End()
}

// Bytes gives what was written so far.
func (w *Writer) Bytes() []byte {
	w.closeStart()
	return w.buf.Bytes()
}
